/* SPDX-License-Identifier: MIT */
/* Tests of core/device. */
#include "check.h"
#include "device/childreader.h"
#include "device/device.h"
#include "device/model.h"
#include "device/system.h"
#include "fixture.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <signal.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#define MS ((gint64)1000000)

static void make_backing(guint32 sectors)
{
    g_autofree guint8 *data = g_malloc(sectors * (gsize)512);
    fill_noise(data, sectors * (gsize)512, 7);
    write_file("drive.img", data, sectors * (gsize)512);
}

static EkDevice *open_model(const char *text)
{
    GError *error = NULL;
    write_file("drive.model", text, strlen(text));
    EkDevice *device = ek_device_open("sim:drive.model", NULL, &error);
    CHECK_FINE(&error);
    return device;
}

static void check_mistake(const char *text, const char *message)
{
    GError *error = NULL;
    write_file("drive.model", text, strlen(text));
    g_autoptr(EkModel) model = ek_model_read("drive.model", &error);
    CHECK(model == NULL);
    CHECK_ERROR(&error, EK_ERROR_DAMAGED, message);
}

static void mistakes_in_a_model_have_a_line(void)
{
    check_mistake("", "drive.model:1: there is no [drive]");
    check_mistake("backing=x\n", "drive.model:1: a key before [drive]");
    check_mistake("[drive]\nmodel=x\n", "drive.model:1: [drive] has no backing");
    check_mistake("[drive]\nbacking=x\n\nspeed=3\n", "drive.model:4: unknown key speed in [drive]");
    check_mistake("[drive]\nbacking=x\nbacking=y\n", "drive.model:3: duplicate key backing");
    check_mistake("[drive]\nbacking=x\n[drive]\n", "drive.model:3: duplicate group [drive]");
    check_mistake("[drive]\nbacking=x\n[health]\npending=-1\n", "drive.model:4: pending=-1 is not");
    check_mistake("[drive]\nbacking=x\n[health]\nfit=1\n", "drive.model:4: fit=1 is neither");
    check_mistake("[drive]\nbacking=x\n[health]\nchance=1\n",
                  "drive.model:4: unknown key chance in [health]");
    check_mistake("[drive]\nbacking=x\n[health]\n[health]\n",
                  "drive.model:4: duplicate group [health]");
    check_mistake("[drive]\nbacking=x\n[health]\nhours=1\n",
                  "drive.model:4: unknown key hours in [health]");
    check_mistake("[drive]\nbacking=x\n[health]\npending=9999999999\n",
                  "drive.model:4: pending is above");
    check_mistake("[health]\n", "drive.model:1: [drive] comes first");
    check_mistake("[drive]\nbacking=x\n[disk]\n", "drive.model:3: unknown group [disk]");
    check_mistake("[drive]\nbacking=x\nread-rate=3 MiB\n", "drive.model:3: read-rate=3 MiB is not");
    check_mistake("[drive]\nbacking=x\nsector-size=1000\n", "drive.model:3: sector-size is not");
    check_mistake("[drive]\nbacking=x\nrealtime=yes\n", "drive.model:3: realtime=yes is neither");
    check_mistake("[drive]\nbacking=x\nnonsense\n", "drive.model:3: neither [group], key=value");
    check_mistake("[drive]\nbacking=x\n[fault a]\nkind=sticky\n", "drive.model:4: kind=sticky");
    check_mistake("[drive]\nbacking=x\n[fault a]\nkind=slow\n", "drive.model:3: [fault a] needs");
    check_mistake("[drive]\nbacking=x\n[fault a]\nkind=slow\nfirst=1\ncount=0\n",
                  "drive.model:6: count is 0");
    check_mistake("[drive]\nbacking=x\n[fault a]\nkind=slow\nfirst=1\ncount=-1\n",
                  "drive.model:6: count=-1 is not a whole number");
    check_mistake("[drive]\nbacking=x\n[fault a]\nkind=slow\nfirst=1\ncount=9\nrepeat-every=8\n",
                  "drive.model:7: repeat-every is less than count");
    check_mistake("[drive]\nbacking=x\n"
                  "[fault a]\nkind=slow\nfirst=1\ncount=9\n[fault a]\n",
                  "drive.model:7: duplicate group [fault a]");
}

static void a_command_costs_what_the_model_says(void)
{
    guint8 buffer[64 * 512];
    make_backing(64);
    g_autoptr(EkDevice) device =
        open_model("[drive]\nbacking=drive.img\ncommand-time=1\nseek-time=10\nerror-time=100\n"
                   "read-rate=0.5\nmax-transfer=8\n"
                   "[fault bad]\nkind=unreadable\nfirst=40\ncount=2\n"
                   "[fault slow]\nkind=slow\nfirst=60\ncount=4\nrate=0.25\n");
    /* 16 sectors are 8 KiB: one command, 8 KiB at 512 KiB/s take 15.625 ms. */
    CHECK_NUMBER(ek_device_read(device, 0, 16, buffer).good, 16);
    CHECK_NUMBER(ek_device_clock(device), 10 * MS + 1 * MS + 15625000);
    /* It goes on where it stopped, so it pays no seek; 17 sectors are two commands. */
    gint64 before = ek_device_clock(device);
    CHECK_NUMBER(ek_device_read(device, 16, 17, buffer).good, 17);
    CHECK_NUMBER(ek_device_clock(device) - before, 2 * MS + 16601563);
    /* A command that touches a bad sector fails whole. */
    before = ek_device_clock(device);
    EkReadOutcome outcome = ek_device_read(device, 33, 10, buffer);
    CHECK_NUMBER(outcome.good, 0);
    CHECK_NUMBER(outcome.reason, EK_REASON_MEDIUM);
    CHECK_NUMBER(ek_device_clock(device) - before, 101 * MS);
    /* After a failure the heads are somewhere else. */
    before = ek_device_clock(device);
    CHECK_NUMBER(ek_device_read(device, 33, 1, buffer).good, 1);
    CHECK_NUMBER(ek_device_clock(device) - before, 11 * MS + 976563);
    before = ek_device_clock(device);
    CHECK_NUMBER(ek_device_read(device, 60, 4, buffer).good, 4);
    CHECK_NUMBER(ek_device_clock(device) - before, 11 * MS + 7812500);
    ek_device_wait(device, 5 * MS);
    CHECK_NUMBER(ek_device_clock(device) - before, 16 * MS + 7812500);
}

static void what_reads_is_what_stands_there(void)
{
    guint8 buffer[32 * 512];
    gsize length = 0;
    make_backing(32);
    g_autofree guint8 *data = read_file("drive.img", &length);
    g_autoptr(EkDevice) device =
        open_model("[drive]\nbacking=drive.img\nreturns-before-error=true\n"
                   "[fault bad]\nkind=unreadable\nfirst=10\ncount=1\n");
    EkReadOutcome outcome = ek_device_read(device, 4, 20, buffer);
    CHECK_NUMBER(outcome.good, 6);
    CHECK_NUMBER(outcome.reason, EK_REASON_MEDIUM);
    CHECK_BYTES(buffer, data + 4 * 512, 6 * 512);
}

static void a_physical_sector_fails_as_a_whole(void)
{
    guint8 buffer[32 * 512];
    make_backing(32);
    g_autoptr(EkDevice) device =
        open_model("[drive]\nbacking=drive.img\nphysical-sector-size=4096\n"
                   "[fault bad]\nkind=unreadable\nfirst=10\ncount=1\n");
    for (guint32 sector = 0; sector < 32; sector++) {
        gboolean bad = sector >= 8 && sector < 16;
        CHECK_NUMBER(ek_device_read(device, sector, 1, buffer).good, bad ? 0 : 1);
    }
}

static void faults_repeat_and_drift(void)
{
    EkFault fault = {.first = 100, .count = 5, .repeat_every = 50, .drift = 2, .until = 400};
    /* 100, 150, 202, 256, 312, 370: each distance is two longer than the last. */
    const EkSector starts[] = {100, 150, 202, 256, 312, 370};
    EkSector first = 0;
    EkSector count = 0;
    EkSector at = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(starts); i++) {
        CHECK(ek_fault_run(&fault, at, &first, &count));
        CHECK_NUMBER(first, starts[i]);
        CHECK_NUMBER(count, 5);
        CHECK(ek_fault_run(&fault, starts[i] + 4, &first, &count));
        CHECK_NUMBER(first, starts[i]);
        at = starts[i] + 5;
    }
    CHECK(!ek_fault_run(&fault, at, &first, &count));
    EkFault last = {.first = 10, .count = 100, .until = 20};
    CHECK(ek_fault_run(&last, 0, &first, &count));
    CHECK_NUMBER(count, 11);
}

static void the_last_fault_in_the_file_counts(void)
{
    guint8 buffer[512];
    make_backing(32);
    g_autoptr(EkDevice) device =
        open_model("[drive]\nbacking=drive.img\n"
                   "[fault bad]\nkind=unreadable\nfirst=4\ncount=10\n"
                   "[fault island]\nkind=slow\nfirst=8\ncount=2\nrate=100\n");
    CHECK_NUMBER(ek_device_read(device, 7, 1, buffer).good, 0);
    CHECK_NUMBER(ek_device_read(device, 8, 1, buffer).good, 1);
    CHECK_NUMBER(ek_device_read(device, 9, 1, buffer).good, 1);
    CHECK_NUMBER(ek_device_read(device, 10, 1, buffer).good, 0);
}

static void a_drive_dies_of_age(void)
{
    guint8 buffer[512];
    make_backing(32);
    g_autoptr(EkDevice) device = open_model("[drive]\nbacking=drive.img\nlifetime=0.05\n"
                                            "seek-time=20\n");
    CHECK(!ek_device_read(device, 0, 1, buffer).gone);
    ek_device_wait(device, 1000 * MS); /* uses up no life */
    CHECK(!ek_device_read(device, 9, 1, buffer).gone);
    CHECK(!ek_device_read(device, 0, 1, buffer).gone);
    gint64 at = ek_device_clock(device);
    CHECK(ek_device_read(device, 5, 1, buffer).gone);
    CHECK_NUMBER(ek_device_clock(device), at);
}

static void files_know_their_tail_and_their_holes(void)
{
    GError *error = NULL;
    guint8 buffer[4096];
    int fd = g_open("sparse.img", O_RDWR | O_CREAT, 0600);
    CHECK(fd >= 0);
    CHECK(pwrite(fd, "seeds", 5, 1 << 20) == 5);
    CHECK(ftruncate(fd, (2 << 20) + 100) == 0);
    close(fd);
    g_autoptr(EkDevice) device = ek_device_open("sparse.img", NULL, &error);
    CHECK_FINE(&error);
    const EkDeviceInfo *info = ek_device_info(device);
    CHECK_NUMBER(info->sectors, 4097);
    CHECK_NUMBER(ek_device_bytes_of(info, 4096, 1), 100);
    CHECK_NUMBER(ek_device_bytes_of(info, 4095, 2), 612);
    memset(buffer, 0xee, sizeof buffer);
    CHECK_NUMBER(ek_device_read(device, 4095, 2, buffer).good, 2);
    CHECK_NUMBER(buffer[1023], 0);
    EkSector first = 0;
    EkSector count = 0;
    CHECK(ek_device_next_data(device, 0, &first, &count));
    CHECK(first <= 2048 && first + count > 2048);
}

static void what_cannot_be_a_source_is_refused(void)
{
    GError *error = NULL;
    g_mkdir("folder", 0700);
    write_file("empty", "", 0);
    CHECK(ek_device_open("folder", NULL, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "folder is a folder");
    CHECK(ek_device_open("missing", NULL, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_ABSENT, "missing");
    CHECK(ek_device_open("empty", NULL, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_GONE, "size 0");
    CHECK(ek_device_open("sim:missing.model", NULL, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_ABSENT, "missing.model");
    CHECK(ek_device_open("ftp://bench/drive", NULL, &error) == NULL);
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "network");
}

/* --- what the system knows -------------------------------------------------------------------- */

static void put(const char *path, const char *text)
{
    g_autofree char *folder = g_path_get_dirname(path);
    g_mkdir_with_parents(folder, 0700);
    write_file(path, text, strlen(text));
}

static void put_fake_system(void)
{
    put("root/sys/block/sdq/dev", "65:0\n");
    put("root/sys/block/sdq/size", "312581808\n");
    put("root/sys/block/sdq/queue/logical_block_size", "512\n");
    put("root/sys/block/sdq/queue/physical_block_size", "4096\n");
    put("root/sys/block/sdq/queue/discard_max_bytes", "4096\n");
    put("root/sys/block/sdq/device/model", "Corvane R2      \n");
    put("root/sys/block/sdq/sdq1/partition", "1\n");
    put("root/sys/block/sdq/sdq1/dev", "65:1\n");
    put("root/sys/block/sdq/sdq1/start", "2048\n");
    put("root/sys/block/sdq/sdq1/size", "163840\n");
    put("root/sys/block/sdr/dev", "65:16\n");
    put("root/sys/block/sdr/size", "0\n");
    put("root/sys/block/sdr/holders/dm-7/dev", "253:7\n");
    put("root/sys/block/zram0/dev", "252:0\n");
    put("root/sys/block/loop3/dev", "7:3\n");
    put("root/sys/block/loop3/size", "0\n");
    put("root/run/udev/data/b65:0", "I:1\nE:ID_BUS=usb\nE:ID_SERIAL_SHORT=CR2-0042\n"
                                    "E:ID_PART_TABLE_TYPE=dos\n");
    put("root/run/udev/data/b65:1", "E:ID_FS_TYPE=ntfs\nE:ID_FS_LABEL=Catalogue\n");
    put("root/proc/self/mountinfo",
        "30 1 65:1 / /media/fen\\040drive rw,relatime,discard shared:1 - fuseblk /dev/sdq1 rw\n"
        "torn line\n");
}

static void drives_are_known_without_reading_them(void)
{
    put_fake_system();
    g_autoptr(EkSystem) system = ek_system_new("root");
    g_autoptr(GPtrArray) drives = ek_system_drives(system);
    CHECK_NUMBER(drives->len, 2);
    const EkDrive *drive = drives->pdata[0];
    CHECK_TEXT(drive->path, "/dev/sdq");
    CHECK_TEXT(drive->model, "Corvane R2");
    CHECK_TEXT(drive->serial, "CR2-0042");
    CHECK_TEXT(drive->bus, "usb");
    CHECK_TEXT(drive->table, "dos");
    CHECK_NUMBER(drive->bytes, 312581808ll * 512);
    CHECK_NUMBER(drive->sector_size, 512);
    CHECK_NUMBER(drive->physical_sector_size, 4096);
    CHECK(drive->can_discard);
    CHECK_NUMBER(drive->parts->len, 1);
    const EkPart *part = drive->parts->pdata[0];
    CHECK_TEXT(part->filesystem, "ntfs");
    CHECK_NUMBER(part->range.first, 1 << 20);
    g_autoptr(GPtrArray) uses = ek_drive_in_use(drive);
    CHECK_NUMBER(uses->len, 1);
    CHECK_TEXT(uses->pdata[0], "sdq1 is mounted on /media/fen drive");
    CHECK(((const EkUse *)part->uses->pdata[0])->discards);
    const EkDrive *held = drives->pdata[1];
    g_autoptr(GPtrArray) holders = ek_drive_in_use(held);
    CHECK_TEXT(holders->pdata[0], "sdr is held by dm-7");
    CHECK_NUMBER(held->bytes, 0);
}

static void every_call_looks_afresh(void)
{
    put_fake_system();
    g_autoptr(EkSystem) system = ek_system_new("root");
    g_autoptr(GPtrArray) before = ek_system_drives(system);
    put("root/sys/block/sds/dev", "65:32\n");
    put("root/sys/block/sds/size", "8\n");
    g_autoptr(GPtrArray) after = ek_system_drives(system);
    CHECK_NUMBER(after->len, before->len + 1);
}

static void a_file_lies_on_itself(void)
{
    write_file("source.img", "x", 1);
    g_autoptr(EkSystem) system = ek_system_new(NULL);
    CHECK(ek_system_lies_on(system, "source.img", "source.img"));
    CHECK(!ek_system_lies_on(system, "not/there/yet", "source.img"));
}

/* The child that reads: the newest of this process, 0 when there is none. */
static pid_t newest_child(void)
{
    g_autofree char *path = g_strdup_printf("/proc/self/task/%d/children", (int)getpid());
    g_autofree char *text = NULL;
    if (!g_file_get_contents(path, &text, NULL, NULL))
        return 0;
    const char *last = strrchr(g_strstrip(text), ' ');
    return (pid_t)g_ascii_strtoll(last != NULL ? last + 1 : text, NULL, 10);
}

/* A read that hangs is left behind; the next one has another child and other memory, and whoever
 * was left is taken leave of. */
static void an_abandoned_read_disturbs_no_other(void)
{
    guint8 data[8192];
    guint8 back[4096];
    gint cancel = 0;
    fill_noise(data, sizeof data, 3);
    write_file("drive.img", data, sizeof data);
    int fd = open("drive.img", O_RDONLY | O_CLOEXEC);
    EkChildReader *reader = ek_child_reader_new(fd, sizeof back);
    for (int i = 0; i < 3; i++) {
        EkChildReaderAnswer answer = ek_child_reader_read(reader, 0, back, sizeof back, &cancel);
        CHECK_NUMBER(answer.got, sizeof back);
        CHECK_BYTES(back, data, sizeof back);
        pid_t child = newest_child();
        if (child <= 0) {
            skip("this kernel does not tell children");
            break;
        }
        kill(child, SIGSTOP);
        g_atomic_int_set(&cancel, 1);
        gint64 began = g_get_monotonic_time();
        answer = ek_child_reader_read(reader, 4096, back, sizeof back, &cancel);
        CHECK(answer.abandoned);
        CHECK(g_get_monotonic_time() - began < G_USEC_PER_SEC * 5);
        g_atomic_int_set(&cancel, 0);
        answer = ek_child_reader_read(reader, 4096, back, sizeof back, &cancel);
        CHECK_NUMBER(answer.got, sizeof back);
        CHECK_BYTES(back, data + 4096, sizeof back);
        CHECK(newest_child() != child);
    }
    ek_child_reader_free(reader);
    CHECK(waitpid(-1, NULL, WNOHANG) == -1 && errno == ECHILD);
    close(fd);
}

int main(void)
{
    static const Test tests[] = {
        {"an abandoned read disturbs no other", an_abandoned_read_disturbs_no_other},
        {"mistakes in a model have a line", mistakes_in_a_model_have_a_line},
        {"a command costs what the model says", a_command_costs_what_the_model_says},
        {"what reads is what stands there", what_reads_is_what_stands_there},
        {"a physical sector fails as a whole", a_physical_sector_fails_as_a_whole},
        {"faults repeat and drift", faults_repeat_and_drift},
        {"the last fault in the file counts", the_last_fault_in_the_file_counts},
        {"a drive dies of age", a_drive_dies_of_age},
        {"files know their tail and their holes", files_know_their_tail_and_their_holes},
        {"what cannot be a source is refused", what_cannot_be_a_source_is_refused},
        {"drives are known without reading them", drives_are_known_without_reading_them},
        {"every call looks afresh", every_call_looks_afresh},
        {"a file lies on itself", a_file_lies_on_itself},
    };
    return RUN_TESTS("device", tests);
}
