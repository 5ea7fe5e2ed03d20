/* SPDX-License-Identifier: MIT */
/* Bad input: each gets its error and its exit status, and nothing is lost. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <glib/gstdio.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

static void expect(int status, const char *message, const char *line)
{
    g_auto(Result) result = ektypon("%s", line);
    CHECK_STATUS(result, status);
    CHECK_CONTAINS(result.err, message);
    CHECK(strstr(result.err, "(null)") == NULL);
}

/* A small drive with a FAT volume on it, imaged and hunted. */
static void make_small_case(void)
{
    g_autofree guint8 *drive = g_malloc0(8 << 20);
    g_autoptr(FatVolume) fat = fat_volume_new(16, 2048);
    FatFolder root = fat_root(fat);
    fat_add(fat, &root, "LABELS  TXT", NULL, 0x20, fat_store(fat, (const guint8 *)"Briza", 5, 1),
            5);
    memcpy(drive + (1 << 20), fat->data, fat->length);
    write_file("drive.img", drive, 8 << 20);
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
}

/* Makes a finished case one that has region left, from a sector on. */
static void forget_from(const char *folder, guint sector)
{
    must("sqlite3 %s/map.db 'INSERT INTO boundary VALUES (%u,0); "
         "UPDATE totals SET untouched=1, good=good-1'",
         folder, sector);
}

static void wrong_usage_is_explained(void)
{
    expect(2, "there is no command \"imagine\"", "imagine");
    expect(2, "The nearest one: ektypon extract", "extrat bench");
    expect(2, "Unknown option --speed", "image bench --speed 3");
    expect(2, "The nearest one: --all-rounds", "image bench --all-round");
    expect(2, "The nearest one: pictures", "find bench --kind picture");
    expect(2, "The nearest one: holed", "find bench --condition holled");
    expect(2, "missing argument: SOURCE", "new bench");
    expect(2, "missing argument: CASE", "hunt");
    expect(2, "unexpected argument: other", "image bench other");
    expect(2, "missing argument: TARGET", "clone bench"); /* a target is never implied */
    expect(2, "missing argument: TARGET", "apply bench");
    expect(2, "missing argument: TARGET", "undo bench");
    expect(2, "--to DIR is required", "extract bench 1");
    expect(2, "is not VOLUME or VOLUME:PATH", "ls bench Photos");
    expect(2, "is not VOLUME or VOLUME:PATH", "extract bench 0 --to out");
    expect(2, "is not a volume number", "volumes bench first");
    expect(2, "--if-short takes continue", "image bench --if-short stop");
    expect(2, "--threads -1", "hunt bench --threads=-1");
    expect(2, "--progress takes json", "hunt bench --progress lines");
    expect(2, "there is no command \"imagine\"", "help imagine");
    /* What people write is understood. */
    make_small_case();
    expect(0, "", "find bench --larger 2MB");
    expect(0, "", "find bench --larger '2 MiB' --smaller 10g --modified-after 2024-06");
    expect(0, "", "find bench --modified-before 2025");
    expect(0, "", "image bench --for 10min");
    expect(2, "not \"2Q\"", "find bench --larger 2Q");
    g_auto(Result) part = ektypon("find bench --name label");
    CHECK_CONTAINS(part.out, "LABELS.TXT");
    g_auto(Result) exact = ektypon("find bench --name-is label");
    CHECK_CONTAINS(exact.out, "No file or folder matches.");
    g_auto(Result) nothing = ektypon("%s", "");
    CHECK_STATUS(nothing, 2);
    CHECK_CONTAINS(nothing.out, "Usage: ektypon COMMAND CASE");
}

/* The case is told where its image is now; nothing else is taken for it. */
static void a_moved_image_is_found_again(void)
{
    must("rm -rf bench store && mkdir store && truncate -s 20M drive.img && "
         "mkfs.ntfs -q -F drive.img >/dev/null");
    done("new bench drive.img --image here.raw");
    done("image bench");
    must("mv here.raw store/ && cp drive.img other.img && "
         "printf x | dd of=other.img bs=1 seek=8200 conv=notrunc status=none");
    g_auto(Result) missing = ektypon("status bench");
    CHECK_CONTAINS(missing.out, "here.raw (missing)");
    CHECK_CONTAINS(missing.out, "ektypon set bench --image FILE");
    expect(4, "is not the image of this case", "set bench --image other.img");
    expect(2, "missing option: --image", "set bench");
    done("set bench --image store/here.raw");
    done("hunt bench");
    /* Of an adopted one no data is vouched for: it is named. */
    must("rm -rf bench");
    done("new bench --adopt other.img");
    must("mv other.img store/");
    expect(4, "--confirm other.img", "set bench --image store/other.img");
    done("set bench --image store/other.img --confirm other.img");
    done("hunt bench");
}

/* A drive on which nothing is says what was searched, and what may still help. */
static void nothing_found_is_explained(void)
{
    must("rm -rf bench && truncate -s 5M blank.img");
    done("new bench --adopt blank.img");
    g_auto(Result) hunted = ektypon("hunt bench");
    CHECK_CONTAINS(hunted.out, "No volume was found. The hunt saw 0 boot sectors");
    CHECK_CONTAINS(hunted.err, "Every sector was searched");
    g_auto(Result) volumes = ektypon("volumes bench");
    CHECK_CONTAINS(volumes.out, "No volume was found");
    expect(1, "no volume with files is known", "find bench");
    /* File records that a new, empty volume does not use are named. */
    must("truncate -s 40M blank.img && mkfs.ntfs -q -F -c 4096 blank.img >/dev/null && "
         "dd if=blank.img of=part.bin bs=4096 skip=4 count=16 status=none && "
         "mkfs.ntfs -q -F -c 4096 blank.img >/dev/null && "
         "dd if=part.bin of=blank.img bs=1M seek=30 conv=notrunc status=none; rm -rf bench");
    done("new bench --adopt blank.img");
    g_auto(Result) again = ektypon("hunt bench");
    CHECK_CONTAINS(again.out, "of ntfs between sectors 614");
    CHECK_CONTAINS(again.out, "belong to no volume found");
}

static void every_command_has_its_help(void)
{
    static const char *const names[] = {"drives", "new",     "image", "map",   "hunt",  "volumes",
                                        "ls",     "extract", "plan",  "clone", "apply", "undo",
                                        "status", "log",     "set",   "help"};
    g_auto(Result) list = ektypon("help");
    CHECK_STATUS(list, 0);
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++) {
        g_auto(Result) help = ektypon("help %s", names[i]);
        g_auto(Result) option = ektypon("%s --help", names[i]);
        CHECK_STATUS(help, 0);
        CHECK_TEXT(option.out, help.out);
        CHECK_CONTAINS(help.out, "Example:");
        CHECK_CONTAINS(help.out, "--help");
        CHECK_CONTAINS(list.out, names[i]);
    }
}

static void sources_that_are_none(void)
{
    must("mkdir folder; : > empty; mkfifo pipe");
    expect(1, "missing.img", "new bench missing.img");
    expect(1, "folder is a folder", "new bench folder");
    expect(1, "reports size 0", "new bench empty");
    expect(1, "cannot be read by position", "new bench pipe");
    expect(1, "over the network", "new bench ftp://bench/drive");
    must("printf '[drive]\\nbacking=x\\nspin=1\\n' > odd.model");
    expect(1, "odd.model:3: unknown key spin", "new bench sim:odd.model");
    must("test ! -e bench"); /* nothing is left behind */
}

static void a_case_is_never_written_over(void)
{
    make_small_case();
    expect(4, "already is a case", "new bench drive.img");
    must("mkdir other; echo mine > other/file; echo mine > plain");
    expect(4, "is not an empty folder", "new other drive.img");
    expect(4, "is not an empty folder", "new plain drive.img");
    expect(4, "exists. Name a file", "new third drive.img --image other/file");
    must("test $(cat other/file) = mine; test ! -e third");
    expect(4, "is not an empty folder", "new drive.img drive.img");
    expect(4, "is the source itself", "new fourth drive.img --image drive.img");
}

static void cases_that_are_none(void)
{
    must("mkdir folder");
    static const char *const commands[] = {"image", "map",    "hunt", "volumes",
                                           "plan",  "status", "log"};
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_autofree char *missing = g_strdup_printf("%s nowhere", commands[i]);
        g_autofree char *hollow = g_strdup_printf("%s folder", commands[i]);
        expect(1, "there is no such folder", missing);
        expect(1, "it holds no case.db", hollow);
    }
}

static void what_is_not_in_the_case(void)
{
    make_small_case();
    expect(1, "no such volume: 7", "volumes bench 7");
    expect(1, "no such volume: 7", "ls bench 7");
    expect(1, "no such volume: 7", "extract bench 7 --to out");
    expect(1, "there is no \"none\"", "ls bench 1:none");
    expect(1, "there is no \"none\"", "extract bench 1:none --to out");
    expect(1, "has no plan yet", "plan bench --show");
    expect(1, "has no plan yet", "clone bench clone.raw");
    must("test ! -e clone.raw");
}

static void targets_that_must_not_be(void)
{
    make_small_case();
    done("plan bench");
    must("cp drive.img before.img; mkdir folder; echo mine > mine");
    expect(4, "is the source itself", "clone bench drive.img");
    expect(4, "mine already exists", "clone bench mine");
    expect(1, "folder", "clone bench folder");
    expect(1, "missing.raw", "apply bench missing.raw");
    expect(1, "folder", "apply bench folder");
    expect(4, "counts as the original", "apply bench drive.img");
    expect(1, "nothing to undo", "undo bench mine");
    must("cmp drive.img before.img; test $(cat mine) = mine");
    /* Named as meant, with everything read, it goes. */
    g_auto(Result) meant = ektypon("apply bench drive.img --confirm drive.img");
    CHECK_STATUS(meant, 0);
    done("undo bench drive.img --confirm drive.img");
    must("cmp drive.img before.img");
}

static void a_damaged_case_says_which_file(void)
{
    make_small_case();
    must("cp -r bench kept");
    must("head -c 5000 /dev/urandom | dd of=bench/case.db conv=notrunc status=none");
    expect(1, "case.db is damaged", "status bench");
    expect(1, "case.db is damaged", "image bench");
    must("rm -r bench; cp -r kept bench");
    must("head -c 5000 /dev/urandom | dd of=bench/map.db conv=notrunc status=none");
    expect(1, "map.db is damaged", "map bench");
    must("rm -r bench; cp -r kept bench");
    must("sqlite3 bench/case.db 'PRAGMA user_version=9'");
    expect(1, "made by a newer Ektypon (schema 9", "status bench");
    expect(1, "made by a newer Ektypon (schema 9", "hunt bench");
    must("rm -r bench; cp -r kept bench");
    must("truncate -s -1000 bench/image.raw");
    expect(1, "has 8387608 bytes where the drive has 8388608", "image bench");
    expect(1, "has 8387608 bytes", "hunt bench");
    expect(1, "has 8387608 bytes", "ls bench 1");
    must("rm bench/image.raw");
    expect(1, "image.raw", "hunt bench");
    must("cmp kept/image.raw drive.img");
}

static void another_drive_is_refused(void)
{
    g_autofree guint8 *other = g_malloc(8 << 20);
    fill_noise(other, 8 << 20, 4);
    write_file("drive.img", other, 8 << 20);
    done("new bench drive.img");
    done("image bench");
    must("cp bench/image.raw kept.raw");
    forget_from("bench", 10000);
    fill_noise(other, 8 << 20, 5);
    write_file("drive.img", other, 8 << 20);
    expect(1, "This is another drive, or it has been written to", "image bench");
    must("truncate -s 9M drive.img");
    expect(1, "It is a different drive", "image bench --if-short continue");
    must("cmp bench/image.raw kept.raw");
}

static void a_locked_case_names_who_is_at_work(void)
{
    unpack_demo();
    must("echo realtime=true > slow; sed -e '/^seed=/r slow' -e 's/^error-time=.*/error-time=300/' "
         "drive.model > slow.model");
    done("new bench sim:slow.model");
    pid_t first = ektypon_start("image bench");
    for (int i = 0; i < 200; i++) {
        g_auto(Result) status = ektypon("status bench");
        if (strstr(status.out, "is imaging now") != NULL)
            break;
        g_usleep(10000);
    }
    g_autofree char *number = g_strdup_printf("process %d is at work on it (imaging)", (int)first);
    expect(4, number, "image bench");
    /* Reading is not held up, and Ctrl-C ends in order. */
    done("map bench");
    int status = 0;
    kill(first, SIGINT);
    waitpid(first, &status, 0);
    CHECK_NUMBER(WEXITSTATUS(status), 130);
    g_auto(Result) log = ektypon("log bench");
    CHECK_CONTAINS(log.out, "interrupted");
    must("cp drive.model slow.model");
    done("image bench");
}

static void a_case_that_may_only_be_read(void)
{
    if (!is_root()) {
        skip("only root can become somebody who may not write");
        return;
    }
    make_small_case();
    done("plan bench");
    forget_from("bench", 16000);
    /* As somebody else, for whom the folder is read-only. */
    must("chmod 755 . && chmod -R a+rX bench && install -m 755 %s ./program && mkdir -m 777 out",
         EKTYPON_PROGRAM_PATH);
    static const struct {
        const char *line;
        int status;
    } commands[] = {{"status bench", 0},
                    {"map bench", 0},
                    {"volumes bench 1", 0},
                    {"ls bench 1", 0},
                    {"log bench", 0},
                    {"plan bench --show", 0},
                    {"image bench", 4},
                    {"hunt bench", 4},
                    {"plan bench", 4},
                    {"apply bench x", 4},
                    {"extract bench 1 --to out/files --flat", 0}};
    for (gsize i = 0; i < G_N_ELEMENTS(commands); i++) {
        g_auto(Result) result = shell(
            "setpriv --reuid=65534 --regid=65534 --clear-groups ./program %s", commands[i].line);
        CHECK_STATUS(result, commands[i].status);
        if (commands[i].status == 4)
            CHECK_CONTAINS(result.err, "is read-only");
    }
    must("test $(cat out/files/LABELS.TXT) = Briza");
}

static void a_full_disk_loses_nothing(void)
{
    if (!is_root()) {
        skip("only root can mount a small file system");
        return;
    }
    g_autofree guint8 *data = g_malloc(16 << 20);
    fill_noise(data, 16 << 20, 6);
    write_file("drive.img", data, 16 << 20);
    must("mkdir small && mount -t tmpfs -o size=9m none small");
    g_auto(Result) refused = ektypon("new small/bench drive.img");
    CHECK_STATUS(refused, 1);
    CHECK_CONTAINS(refused.err, "may need 16.0 MiB");
    CHECK_CONTAINS(refused.err, "is missing");
    done("new small/bench drive.img --if-short continue");
    /* Said once, the case keeps it. */
    g_auto(Result) imaged = ektypon("image small/bench");
    CHECK_STATUS(imaged, 1);
    CHECK_CONTAINS(imaged.err, "disk full");
    CHECK_CONTAINS(imaged.err, "more is needed");
    g_auto(Result) map = ektypon("map small/bench --json");
    CHECK_STATUS(map, 0);
    json_t *json = result_json(&map);
    json_t *extents = json_object_get(json, "extents");
    gsize length = 0;
    g_autofree guint8 *image = read_file("small/bench/image.raw", &length);
    for (size_t i = 0; i < json_array_size(extents); i++) {
        json_t *extent = json_array_get(extents, i);
        guint64 first = json_u64(extent, "first");
        if (g_str_equal(json_text(extent, "state"), "good"))
            CHECK_BYTES(image + first * 512, data + first * 512, json_u64(extent, "count") * 512);
        CHECK(!g_str_equal(json_text(extent, "state"), "bad"));
    }
    json_decref(json);
    must("mount -o remount,size=40m small");
    done("image small/bench");
    must("cmp small/bench/image.raw drive.img; umount small");
}

static void a_drive_that_reads_nowhere_is_not_called_bad(void)
{
    must("truncate -s 40M drive.img; printf '[drive]\\nbacking=drive.img\\nerror-time=7000\\n"
         "[fault all]\\nkind=unreadable\\nfirst=0\\ncount=81920\\n' > dead.model");
    done("new bench sim:dead.model");
    expect(1, "no longer reads anywhere", "image bench");
    g_auto(Result) map = ektypon("map bench --json");
    json_t *json = result_json(&map);
    CHECK_NUMBER(json_u64(json_object_get(json, "totals"), "bad"), 0);
    json_decref(json);
}

/* With everything tried, the drive need not be there any more. */
static void a_finished_image_needs_no_drive(void)
{
    make_small_case();
    must("rm drive.img");
    g_auto(Result) again = ektypon("image bench");
    CHECK_STATUS(again, 0);
    CHECK_CONTAINS(again.out, "The drive was not accessed");
    done("plan bench");
    g_auto(Result) clone = ektypon("status bench");
    CHECK_CONTAINS(clone.out, "Next: ektypon clone bench TARGET");
    done("hunt bench");
    g_auto(Result) plan = ektypon("status bench");
    CHECK_CONTAINS(plan.out, "Next: ektypon plan bench");
}

/* More than a pipe holds, read by nobody. */
static void output_that_nobody_reads(void)
{
    make_small_case();
    g_auto(Result) result = shell("%s map bench | head -c 1 >/dev/null", EKTYPON_PROGRAM_PATH);
    CHECK(result.status == 0);
}

int main(void)
{
    static const Test tests[] = {
        {"wrong usage is explained", wrong_usage_is_explained},
        {"a moved image is found again", a_moved_image_is_found_again},
        {"nothing found is explained", nothing_found_is_explained},
        {"every command has its help", every_command_has_its_help},
        {"sources that are none", sources_that_are_none},
        {"a case is never written over", a_case_is_never_written_over},
        {"cases that are none", cases_that_are_none},
        {"what is not in the case", what_is_not_in_the_case},
        {"targets that must not be", targets_that_must_not_be},
        {"a damaged case says which file", a_damaged_case_says_which_file},
        {"another drive is refused", another_drive_is_refused},
        {"a locked case names who is at work", a_locked_case_names_who_is_at_work},
        {"a case that may only be read", a_case_that_may_only_be_read},
        {"a full disk loses nothing", a_full_disk_loses_nothing},
        {"a drive that reads nowhere is not called bad",
         a_drive_that_reads_nowhere_is_not_called_bad},
        {"a finished image needs no drive", a_finished_image_needs_no_drive},
        {"output that nobody reads", output_that_nobody_reads},
    };
    return RUN_TESTS("errors", tests);
}
