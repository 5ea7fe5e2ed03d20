/* SPDX-License-Identifier: MIT */
/* Files and loop devices as sources and targets. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <fcntl.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static void no_loop_device(void)
{
    skip("loop devices need root");
}

static void a_file_is_imaged_and_never_written(void)
{
    gsize length = 3 * 1048576 + 1234;
    g_autofree guint8 *data = g_malloc(length);
    fill_noise(data, length, 8);
    write_file("drive.img", data, length);
    must("chmod 644 drive.img");
    g_auto(Result) made =
        shell("ASAN_OPTIONS=detect_leaks=0 strace -f -e trace=open,openat,openat2,creat "
              "-o trace %s "
              "new bench drive.img",
              EKTYPON_PROGRAM_PATH);
    CHECK_STATUS(made, 0);
    g_auto(Result) imaged =
        shell("ASAN_OPTIONS=detect_leaks=0 strace -f -e trace=open,openat,openat2,creat "
              "-A -o trace %s "
              "image bench",
              EKTYPON_PROGRAM_PATH);
    CHECK_STATUS(imaged, 0);
    g_auto(Result) opened = shell("grep -c 'drive.img.*O_RDONLY' trace");
    CHECK_STATUS(opened, 0);
    g_auto(Result) written = shell("grep 'drive.img' trace | grep -E 'O_WRONLY|O_RDWR|O_CREAT'");
    CHECK_TEXT(written.out, "");
    must("cmp bench/image.raw drive.img");
    g_auto(Result) status = ektypon("status bench --json");
    json_t *json = result_json(&status);
    CHECK_NUMBER(json_u64(json, "sectors"), length / 512 + 1);
    CHECK_TEXT(json_text(json_object_get(json, "source"), "kind"), "file");
    json_decref(json);
}

static void larger_sectors_are_counted_as_asked(void)
{
    must("head -c 1000000 /dev/urandom > drive.img");
    done("new bench drive.img --sector-size 4096");
    done("image bench");
    must("cmp bench/image.raw drive.img");
    g_auto(Result) map = ektypon("map bench --json");
    json_t *json = result_json(&map);
    CHECK_NUMBER(json_u64(json, "sector_size"), 4096);
    CHECK_NUMBER(json_u64(json, "sectors"), 245);
    json_decref(json);
    g_auto(Result) odd = ektypon("new other drive.img --sector-size 1000");
    CHECK_STATUS(odd, 1);
    CHECK_CONTAINS(odd.err, "not a power of two");
}

static void a_loop_device_is_imaged(void)
{
    must("head -c 6M /dev/urandom > drive.img");
    g_autofree char *device = loop_attach("drive.img", "--direct-io=on");
    if (device == NULL)
        device = loop_attach("drive.img", "");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    done("new bench %s", device);
    done("image bench");
    must("cmp bench/image.raw drive.img");
    g_auto(Result) listed = ektypon("drives --json");
    CHECK_CONTAINS(listed.out, device);
    must("blockdev --setrw %s", device);
    g_auto(Result) looked = ektypon("drives --look %s", device);
    CHECK_STATUS(looked, 0);
    CHECK_CONTAINS(looked.out, "first sector: reads; last sector: reads");
    must("test $(blockdev --getro %s) = 0", device); /* a look leaves everything as it is */
    loop_detach(device);
}

static void what_is_in_use_is_refused(void)
{
    must("truncate -s 32M drive.img && mke2fs -q -F drive.img");
    g_autofree char *device = loop_attach("drive.img", "");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    must("mkdir mount && mount %s mount", device);
    g_auto(Result) made = ektypon("new bench %s", device);
    CHECK_STATUS(made, 4);
    CHECK_CONTAINS(made.err, "is mounted on");
    g_auto(Result) listed = ektypon("drives");
    CHECK_CONTAINS(listed.out, "unmount it before imaging");
    /* Not onto the drive that is recovered, also when it is the file below. */
    g_auto(Result) inside = ektypon("new mount/bench drive.img");
    CHECK_STATUS(inside, 4);
    CHECK_CONTAINS(inside.err, "is kept on the source");
    g_auto(Result) image = ektypon("new bench drive.img --image mount/image.raw");
    CHECK_STATUS(image, 4);
    must("umount mount && test ! -e bench");
    done("new bench %s", device);
    /* Mounted meanwhile: refused again at the start. The kernel was told to keep it read-only. */
    must("blockdev --setrw %s && mount %s mount", device, device);
    g_auto(Result) imaged = ektypon("image bench");
    CHECK_STATUS(imaged, 4);
    CHECK_CONTAINS(imaged.err, "is mounted on");
    must("umount mount");
    done("image bench");
    loop_detach(device);
}

static void a_partition_names_its_drive(void)
{
    must("truncate -s 16M drive.img && printf 'label: dos\\n2048,8192,c\\n' | sfdisk -q drive.img");
    g_autofree char *device = loop_attach("drive.img", "-P");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    /* Where the kernel does not read tables itself, it is told. */
    g_auto(Result) part =
        shell("test -b %sp1 || addpart %s 1 2048 8192 && sleep 0.2 && test -b %sp1", device, device,
              device);
    if (part.status != 0) {
        skip("the kernel makes no partitions of loop devices here");
    } else {
        g_auto(Result) made = ektypon("new bench %sp1", device);
        CHECK_STATUS(made, 4);
        g_autofree char *message = g_strdup_printf("%sp1 is a partition of %s", device, device);
        CHECK_CONTAINS(made.err, message);
        g_auto(Result) insisted = ektypon("new bench %sp1 --partition", device);
        CHECK_STATUS(insisted, 0);
    }
    loop_detach(device);
}

static void extraction_stays_off_the_source(void)
{
    gsize length = 32 << 20;
    g_autofree guint8 *drive = g_malloc0(length);
    g_autoptr(FatVolume) fat = fat_volume_new(16, 0);
    FatFolder root = fat_root(fat);
    fat_add(fat, &root, "LABELS  TXT", NULL, 0x20, 0, 0);
    memcpy(drive, fat->data, fat->length);
    write_file("drive.img", drive, length);
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    must("cp drive.img kept.img && mke2fs -q -F drive.img");
    g_autofree char *device = loop_attach("drive.img", "");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    must("mkdir mount && mount %s mount", device);
    g_auto(Result) extracted = ektypon("extract bench 1 --to mount/out");
    CHECK_STATUS(extracted, 4);
    CHECK_CONTAINS(extracted.err, "is kept on the source");
    must("test ! -e mount/out && umount mount");
    loop_detach(device);
}

static void a_device_as_target_wants_to_be_meant(void)
{
    unpack_demo();
    must("truncate -s 200M target.img; truncate -s 100M small.img");
    g_autofree char *device = loop_attach("target.img", "");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    g_autofree char *small = loop_attach("small.img", "");
    done("new bench sim:drive.model");
    done("image bench");
    done("hunt bench");
    done("plan bench");
    g_auto(Result) refused = ektypon("clone bench %s", device);
    CHECK_STATUS(refused, 4);
    CHECK_CONTAINS(refused.err, "To confirm: --confirm");
    g_auto(Result) wrong = ektypon("clone bench %s --confirm nope", device);
    CHECK_STATUS(wrong, 4);
    g_auto(Result) too_small = ektypon("clone bench %s --confirm %s", small, small);
    CHECK_STATUS(too_small, 4);
    CHECK_CONTAINS(too_small.err, "is smaller than the image");
    done("clone bench %s --confirm %s", device, device);
    done("undo bench %s --confirm %s", device, device);
    must("cmp target.img bench/image.raw");
    done("apply bench %s --confirm %s", device, device);
    g_auto(Result) listed = shell("sfdisk -d %s", device);
    CHECK_CONTAINS(listed.out, "size=      163840, type=7");
    must("blockdev --setro %s", device);
    g_auto(Result) kept = ektypon("undo bench %s --confirm %s", device, device);
    CHECK_STATUS(kept, 4);
    CHECK_CONTAINS(kept.err, "blockdev --setrw");
    must("blockdev --setrw %s", device);
    loop_detach(device);
    loop_detach(small);
}

/* The backup of a GPT stands at the end of the drive, however long that is. */
static void a_larger_device_gets_the_backup_at_its_end(void)
{
    must("truncate -s 60M gpt.img && printf 'label: gpt\\nstart=2048,size=40960,name=Catalogue\\n' "
         "| sfdisk -q gpt.img && truncate -s 20M part.img && mke2fs -q -F part.img && "
         "dd if=part.img of=gpt.img bs=1M seek=1 conv=notrunc status=none && "
         "truncate -s 100M larger.img");
    g_autofree char *device = loop_attach("larger.img", "");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    done("new large gpt.img");
    done("image large");
    done("hunt large");
    done("plan large");
    g_auto(Result) clone = ektypon("clone large %s --confirm %s", device, device);
    CHECK_STATUS(clone, 0);
    CHECK_CONTAINS(clone.out, "the backup GPT was moved to its end");
    must(
        "sfdisk -V %s && sfdisk -d %s | grep -q 'start=        2048, size=       40960.*Catalogue'",
        device, device);
    g_auto(Result) again = ektypon("apply large %s --confirm %s", device, device);
    CHECK_CONTAINS(again.out, "already contains all edits of the plan");
    /* It was an edit of its own. */
    done("undo large %s --confirm %s", device, device);
    must("cmp -n 62914560 larger.img gpt.img");
    /* Where an MBR is planned in its place, the old GPT is not brought up to date. */
    done("plan large --scheme mbr");
    done("clone large %s --confirm %s", device, device);
    must("sfdisk -d %s | grep -q 'label: dos' && "
         "sfdisk -d %s | grep -q 'start=        2048, size=       40960, type=83'",
         device, device);
    loop_detach(device);
}

/* Imaged through an adapter that showed 512, for a drive that shows itself in 4096. */
static void a_table_is_written_for_other_sectors(void)
{
    static const char *const schemes[] = {"gpt", "mbr"};
    must("truncate -s 60M wide.img && truncate -s 20M part.img && mke2fs -q -F -b 4096 part.img && "
         "dd if=part.img of=wide.img bs=1M seek=1 conv=notrunc status=none");
    done("new wide wide.img");
    done("image wide");
    done("hunt wide");
    for (gsize i = 0; i < G_N_ELEMENTS(schemes); i++) {
        must("rm -f copy.img");
        done("plan wide --scheme %s --table-sectors 4096", schemes[i]);
        done("clone wide copy.img");
        g_autofree char *device = loop_attach("copy.img", "-b 4096");
        if (device == NULL) {
            no_loop_device();
            return;
        }
        must("sfdisk -d %s | grep -q 'start=         256, size=        5120'", device);
        loop_detach(device);
    }
}

/* What counts in other sectors would be found by no system. */
static void other_sectors_are_refused(void)
{
    must(
        "truncate -s 60M disk.img && truncate -s 20M part.img && mke2fs -q -F part.img && "
        "dd if=part.img of=disk.img bs=1M seek=1 conv=notrunc status=none && cp disk.img wide.img");
    g_autofree char *device = loop_attach("wide.img", "-b 4096");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    done("new narrow disk.img");
    done("image narrow");
    done("hunt narrow");
    done("plan narrow");
    static const char *const commands[] = {"apply", "clone", "clone --as-imaged"};
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_auto(Result) refused = ektypon("%s narrow %s --confirm %s", commands[i], device, device);
        CHECK_STATUS(refused, 4);
        CHECK_CONTAINS(refused.err, "uses 4096-byte sectors");
        must("cmp disk.img wide.img");
    }
    done("plan narrow --table-sectors 4096");
    done("apply narrow %s --confirm %s", device, device);
    must("sfdisk -d %s | grep -q 'start=         256, size=        5120'", device);
    done("undo narrow %s --confirm %s", device, device);
    must("cmp disk.img wide.img");
    loop_detach(device);
}

/* Whoever builds on a device, as a volume manager does, holds it for itself alone. */
static void what_is_held_is_refused(void)
{
    must(
        "truncate -s 60M disk.img && truncate -s 20M part.img && mke2fs -q -F part.img && "
        "dd if=part.img of=disk.img bs=1M seek=1 conv=notrunc status=none && cp disk.img held.img");
    g_autofree char *device = loop_attach("held.img", "");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    done("new free disk.img");
    done("image free");
    done("hunt free");
    done("plan free");
    int holder = open(device, O_RDONLY | O_EXCL | O_CLOEXEC);
    CHECK(holder >= 0);
    static const char *const commands[] = {"apply", "clone", "undo"};
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_auto(Result) refused = ektypon("%s free %s --confirm %s", commands[i], device, device);
        CHECK_STATUS(refused, 4);
        CHECK_CONTAINS(refused.err, "is in use: unmount or release it first");
    }
    close(holder);
    must("cmp disk.img held.img");
    done("apply free %s --confirm %s", device, device);
    loop_detach(device);
}

/* Neither what is mounted is a target, nor a file that lies on the drive that is recovered. */
static void what_is_mounted_is_refused(void)
{
    must("truncate -s 60M disk.img && mke2fs -q -F disk.img && cp disk.img used.img && "
         "mkdir mount");
    g_autofree char *used = loop_attach("used.img", "");
    if (used == NULL) {
        no_loop_device();
        return;
    }
    g_autofree char *source = loop_attach("disk.img", "");
    done("new whole %s", source);
    done("image whole");
    done("hunt whole");
    done("plan whole --scheme none");
    must("mount %s mount", used);
    static const char *const commands[] = {"apply", "clone", "undo"};
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_auto(Result) refused = ektypon("%s whole %s --confirm %s", commands[i], used, used);
        CHECK_STATUS(refused, 4);
        CHECK_CONTAINS(refused.err, "is mounted on");
    }
    must("umount mount && blockdev --setrw %s && mount %s mount", source, source);
    g_auto(Result) inside = ektypon("clone whole mount/clone.raw");
    CHECK_STATUS(inside, 4);
    CHECK_CONTAINS(inside.err, "is kept on the source");
    must("test ! -e mount/clone.raw && umount mount");
    loop_detach(source);
    loop_detach(used);
}

/* All that is planned has room on a smaller one: it is taken, when that is asked for. */
static void a_smaller_device_is_taken_when_all_has_room(void)
{
    static const char *const schemes[] = {"mbr", "gpt"};
    must("truncate -s 90M long.img && truncate -s 20M part.img && mke2fs -q -F part.img && "
         "dd if=part.img of=long.img bs=1M seek=1 conv=notrunc status=none && "
         "truncate -s 20M tight.img");
    g_autofree char *tight = loop_attach("tight.img", "");
    if (tight == NULL) {
        no_loop_device();
        return;
    }
    done("new long long.img");
    done("image long");
    done("hunt long");
    for (gsize i = 0; i < G_N_ELEMENTS(schemes); i++) {
        must("rm -f short.img && truncate -s 40M short.img");
        g_autofree char *device = loop_attach("short.img", "");
        done("plan long --scheme %s", schemes[i]);
        g_auto(Result) needs = ektypon("clone long %s --confirm %s", tight, tight);
        CHECK_STATUS(needs, 4);
        CHECK_CONTAINS(needs.err, "and the planned partitions alone need 21.0 MiB");
        g_auto(Result) asked = ektypon("clone long %s --confirm %s", device, device);
        CHECK_STATUS(asked, 4);
        CHECK_CONTAINS(asked.err, "To skip the rest: --skip-tail");
        g_auto(Result) whole =
            ektypon("clone long %s --as-imaged --skip-tail --confirm %s", device, device);
        CHECK_STATUS(whole, 4);
        g_auto(Result) taken = ektypon("clone long %s --skip-tail --confirm %s", device, device);
        CHECK_STATUS(taken, 0);
        CHECK_CONTAINS(taken.out, "the last 50.0 MiB was not copied");
        must("sfdisk -V %s && sfdisk -d %s | grep -q 'start=        2048, size=       40960'",
             device, device);
        must("dd if=%s of=was.img bs=1M skip=1 count=20 status=none && cmp was.img part.img",
             device);
        /* First the table's backup at this end, then the plan. */
        for (gsize k = 0; k <= i; k++)
            done("undo long %s --confirm %s", device, device);
        must("cmp -n 41943040 long.img short.img");
        loop_detach(device);
    }
    loop_detach(tight);
}

static void drives_are_listed_from_another_root(void)
{
    must("mkdir -p root/sys/block/sdq/queue root/proc/self root/run/udev/data && "
         "cd root/sys/block/sdq && echo 65:0 > dev && echo 312581808 > size && "
         "echo 512 > queue/logical_block_size && echo 512 > queue/physical_block_size && "
         "echo 0 > queue/discard_max_bytes");
    must("printf 'E:ID_SERIAL_SHORT=CR2-0042\\nE:ID_MODEL=Corvane_R2\\nE:ID_BUS=usb\\n' "
         "> root/run/udev/data/b65:0");
    g_auto(Result) listed = shell("EKTYPON_SYSTEM_ROOT=root %s drives", EKTYPON_PROGRAM_PATH);
    CHECK_STATUS(listed, 0);
    CHECK_CONTAINS(listed.out, "160 GB");
    CHECK_CONTAINS(listed.out, "149.1 GiB");
    CHECK_CONTAINS(listed.out, "CR2-0042");
    CHECK_CONTAINS(listed.out, "! the kernel sees no partition table");
    must("echo 9223372036854775807 > root/sys/block/sdq/size");
    g_auto(Result) absurd =
        shell("EKTYPON_SYSTEM_ROOT=root %s drives --json", EKTYPON_PROGRAM_PATH);
    CHECK_CONTAINS(absurd.out, "impossible capacity reported");
    must("echo 0 > root/sys/block/sdq/size");
    g_auto(Result) empty = shell("EKTYPON_SYSTEM_ROOT=root %s drives", EKTYPON_PROGRAM_PATH);
    CHECK_CONTAINS(empty.out, "size 0: no medium");
    must("rm -r root/sys/block/sdq");
    g_auto(Result) none = shell("EKTYPON_SYSTEM_ROOT=root %s drives", EKTYPON_PROGRAM_PATH);
    CHECK_CONTAINS(none.out, "No drives found.");
}

/* The kernel refuses writes to a source while it is read; a loop device gets back what it had,
 * since it will be another file's. */
static void the_kernel_guards_the_source_meanwhile(void)
{
    must("head -c 6M /dev/urandom > drive.img");
    g_autofree char *device = loop_attach("drive.img", "");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    done("new bench %s", device);
    g_auto(Result) after = shell("blockdev --getro %s", device);
    CHECK_TEXT(after.out, "0\n");
    pid_t child = ektypon_start("image bench --rate-limit 4M");
    g_auto(Result) during = shell(
        "for i in $(seq 40); do test $(blockdev --getro %s) = 1 && exit; sleep 0.02; done; exit 1",
        device);
    CHECK_STATUS(during, 0);
    g_auto(Result) status = ektypon("status bench");
    CHECK_CONTAINS(status.out, "the kernel refuses writes to it");
    kill(child, SIGTERM);
    waitpid(child, NULL, 0);
    g_auto(Result) ended = shell("blockdev --getro %s", device);
    CHECK_TEXT(ended.out, "0\n");
    loop_detach(device);
}

/* The node stays, its size is 0 for a while: as with a card in a reader. The program is stopped
 * while the size changes: between the two steps the loop device would give zeros as read. */
static void a_device_that_returns_in_place_is_gone_on_with(void)
{
    must("head -c 12M /dev/urandom > drive.img && cp drive.img truth.img");
    g_autofree char *device = loop_attach("drive.img", "--direct-io=on");
    if (device == NULL) {
        no_loop_device();
        return;
    }
    done("new bench %s", device);
    pid_t child = ektypon_start("image bench --wait --rate-limit 6M");
    must("sleep 0.6; kill -STOP %d && while grep -L 'State:.T' /proc/%d/task/*/status | grep -q .; "
         "do sleep 0.02; done && truncate -s 0 drive.img && losetup -c %s && kill -CONT %d && "
         "sleep 1.5 && cat truth.img > drive.img && losetup -c %s",
         child, child, device, child, device);
    int status = -1;
    for (int i = 0; i < 150 && waitpid(child, &status, WNOHANG) == 0; i++)
        g_usleep(100000);
    CHECK(WIFEXITED(status) && WEXITSTATUS(status) == 0);
    if (!WIFEXITED(status)) {
        kill(child, SIGKILL);
        waitpid(child, NULL, 0);
    }
    must("cmp bench/image.raw truth.img");
    loop_detach(device);
}

int main(void)
{
    static const Test tests[] = {
        {"the kernel guards the source meanwhile", the_kernel_guards_the_source_meanwhile},
        {"a device that returns in place is gone on with",
         a_device_that_returns_in_place_is_gone_on_with},
        {"a file is imaged and never written", a_file_is_imaged_and_never_written},
        {"larger sectors are counted as asked", larger_sectors_are_counted_as_asked},
        {"a loop device is imaged", a_loop_device_is_imaged},
        {"what is in use is refused", what_is_in_use_is_refused},
        {"a partition names its drive", a_partition_names_its_drive},
        {"extraction stays off the source", extraction_stays_off_the_source},
        {"a device as target wants to be meant", a_device_as_target_wants_to_be_meant},
        {"a larger device gets the backup at its end", a_larger_device_gets_the_backup_at_its_end},
        {"a table is written for other sectors", a_table_is_written_for_other_sectors},
        {"other sectors are refused", other_sectors_are_refused},
        {"what is held is refused", what_is_held_is_refused},
        {"what is mounted is refused", what_is_mounted_is_refused},
        {"a smaller device is taken when all has room",
         a_smaller_device_is_taken_when_all_has_room},
        {"drives are listed from another root", drives_are_listed_from_another_root},
    };
    return RUN_TESTS("devices", tests);
}
