/* SPDX-License-Identifier: MIT */
/* mount: what other programs read of it is what extraction writes, holes are errors, and nothing
 * stays mounted. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <errno.h>
#include <fcntl.h>
#include <signal.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <sys/xattr.h>
#include <unistd.h>

#define TRIES 600 /* of 100 ms */
#define KILLS 10
#define READ_MOST 200000u

/* The kernel may still answer what it remembers of a folder that nobody serves any more: its table
 * says whether it is mounted. */
static gboolean is_mounted(const char *folder)
{
    gsize length = 0;
    g_autofree char *here = g_get_current_dir();
    g_autofree char *mount = g_strdup_printf(" %s/%s fuse", here, folder);
    g_autofree char *table = NULL;
    return g_file_get_contents("/proc/self/mounts", &table, &length, NULL) &&
           strstr(table, mount) != NULL;
}

/* 1000: it was killed, or did not end and was. */
static int wait_for(pid_t pid)
{
    int status = 0;
    for (guint i = 0; i < TRIES; i++) {
        if (waitpid(pid, &status, WNOHANG) == pid)
            return WIFEXITED(status) ? WEXITSTATUS(status) : 1000;
        g_usleep(100000);
    }
    kill(pid, SIGKILL);
    waitpid(pid, &status, 0);
    return 1000;
}

/* 0: it did not mount. */
static pid_t mount_case(const char *arguments)
{
    pid_t pid = ektypon_start("mount %s", arguments);
    for (guint i = 0; i < TRIES && !is_mounted("m"); i++) {
        int status = 0;
        if (waitpid(pid, &status, WNOHANG) == pid)
            return 0;
        g_usleep(100000);
    }
    return pid;
}

static int end_with(pid_t pid, int signal)
{
    if (pid == 0)
        return 1000;
    kill(pid, signal);
    int status = wait_for(pid);
    for (guint i = 0; i < TRIES && is_mounted("m"); i++)
        g_usleep(100000);
    CHECK(!is_mounted("m"));
    return status;
}

/* A FAT32 with files, some deleted; some of it was not read. */
static void make_case(guint32 seed)
{
    must(
        "mkdir src src/logs src/logs/inner && for i in $(seq 12); do head -c $((i * 9001)) "
        "/dev/urandom >\"src/logs/day $i.csv\"; done && cp src/logs/* src/logs/inner/ 2>/dev/null; "
        ": >src/empty.txt; printf sown >src/short.txt; touch -d '2025-06-14 10:32:00' "
        "src/short.txt");
    must("truncate -s 40M v.img && mkfs.fat -F 32 -s 1 -n RECORDS v.img >/dev/null 2>&1 && export "
         "MTOOLS_SKIP_CHECK=1 && mcopy -s -m -i v.img src/* ::/ && mdel -i v.img '::/logs/day "
         "3.csv' "
         "'::/logs/inner/day 5.csv'");
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    g_autoptr(GString) list = g_string_new(NULL);
    for (guint sector = 2700; sector < 5000; sector += (guint)g_rand_int_range(random, 1, 200))
        g_string_append_printf(list, "%u %d\n", sector, 1 + g_rand_int_range(random, 0, 3));
    write_file("unread.txt", list->str, list->len);
}

static gboolean can_mount(void)
{
    if (access("/dev/fuse", R_OK | W_OK) == 0)
        return TRUE;
    printf("skipped: no /dev/fuse here; ");
    return FALSE;
}

/* --- reading --------------------------------------------------------------------------------- */

typedef struct {
    char *text; /* as in the attribute; NULL: none */
} Holes;

static Holes holes_of(const char *path)
{
    char text[65536] = "";
    gssize length = getxattr(path, "user.ektypon.holes", text, sizeof text - 1);
    return (Holes){length < 0 ? NULL : g_strndup(text, (gsize)length)};
}

/* How many bytes from `offset` on are in no hole, up to `length`. */
static gsize known_from(const Holes *holes, guint64 offset, gsize length)
{
    g_auto(GStrv) lines = g_strsplit(holes->text != NULL ? holes->text : "", " ", -1);
    for (char **line = lines; *line != NULL; line++) {
        guint64 first = 0;
        guint64 bytes = 0;
        if (sscanf(*line, "%" G_GUINT64_FORMAT "+%" G_GUINT64_FORMAT, &first, &bytes) != 2)
            continue;
        if (first + bytes > offset)
            return first <= offset ? 0 : (gsize)MIN(length, first - offset);
    }
    return length;
}

/* Reads anywhere, `count` times: each byte is that of what was extracted, up to the next hole. */
static void read_anywhere(const char *mounted, const char *extracted, guint count, GRand *random)
{
    gsize length = 0;
    g_autofree guint8 *truth = read_file(extracted, &length);
    g_autofree guint8 *buffer = g_malloc(READ_MOST);
    Holes holes = holes_of(mounted);
    int file = open(mounted, O_RDONLY);
    CHECK(file >= 0 && truth != NULL);
    guint wrong = 0;
    for (guint i = 0; file >= 0 && i < count && length > 0; i++) {
        guint64 offset = (guint64)g_rand_double_range(random, 0, (gdouble)length + 10);
        gsize wanted = (gsize)g_rand_int_range(random, 1, (gint32)READ_MOST);
        gsize there = offset < length ? MIN(wanted, length - offset) : 0;
        gsize known = known_from(&holes, offset, there);
        gssize got = pread(file, buffer, wanted, (off_t)offset);
        if (there > 0 && known == 0)
            wrong += got >= 0 || errno != EIO;
        else
            wrong +=
                got != (gssize)known || (got > 0 && memcmp(buffer, truth + offset, known) != 0);
    }
    CHECK_NUMBER(wrong, 0);
    if (file >= 0)
        close(file);
    g_free(holes.text);
}

/* All files that extraction wrote below `out`, as they are mounted. */
static void compare_all(const char *out, guint count)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    g_auto(Result) found = shell("cd %s && find . -type f ! -name extracted.csv", out);
    g_auto(GStrv) lines = g_strsplit(g_strchomp(found.out), "\n", -1);
    for (char **line = lines; *line != NULL; line++) {
        g_autofree char *extracted = g_build_filename(out, *line, NULL);
        g_autofree char *mounted = g_build_filename("m", *line, NULL);
        read_anywhere(mounted, extracted, count, random);
    }
}

static void programs_read_what_is_extracted(void)
{
    if (!can_mount())
        return;
    make_case(test_seed());
    done("new bench --adopt v.img --bad-list unread.txt");
    done("hunt bench");
    done("carve bench");
    g_auto(Result) live = ektypon("extract bench 1 --to out --sums live.txt");
    CHECK_STATUS(live, 3);
    g_auto(Result) deleted = ektypon("extract bench 1 --deleted --to out --sums deleted.txt");
    CHECK_STATUS(deleted, 3);
    must("cat live.txt deleted.txt >sums.txt");
    must("mkdir m");
    pid_t pid = mount_case("bench m");
    CHECK(pid != 0);
    must("test -d 'm/1 RECORDS - deleted/logs/inner' && test -d m/carved");
    must("test ! -e 'm/1 RECORDS - deleted/short.txt' && test -z \"$(cat 'm/1 "
         "RECORDS/empty.txt')\"");
    must("test \"$(TZ=UTC stat -c %%s 'm/1 RECORDS/short.txt')\" = 4");
    compare_all("out", 60);
    /* What is whole has the digest that extraction noted; what has holes cannot be read. */
    g_auto(Result) sums = shell("cd m && sha256sum -c --quiet ../sums.txt 2>&1 | grep -v WARNING | "
                                "grep -vc 'Input/output error\\|open or read'");
    CHECK_TEXT(g_strchomp(sums.out), "0");
    must("test \"$(getfattr --only-values -n user.ektypon.sha256 'm/1 RECORDS/short.txt')\" = "
         "\"$(printf sown | sha256sum | cut -d' ' -f1)\"");
    must("getfattr --only-values -n user.ektypon.condition 'm/1 RECORDS/short.txt' | grep -qx "
         "whole");
    /* Nothing can be written, removed or run. */
    must("! touch 'm/1 RECORDS/new' 2>/dev/null && ! rm -f 'm/1 RECORDS/short.txt' 2>/dev/null && "
         "! sh -c ': >>\"m/1 RECORDS/short.txt\"' 2>/dev/null");
    CHECK_NUMBER(end_with(pid, SIGINT), 0);
    must("test -d m");
    /* With zeros it is what extraction wrote, to the byte. */
    pid = mount_case("bench m --zeros");
    CHECK(pid != 0);
    must("cd m && sha256sum -c --quiet ../sums.txt");
    must("cp -a 'm/1 RECORDS' copy && diff -r copy 'out/1 RECORDS'");
    must("test $(stat -c %%Y copy/short.txt) = $(stat -c %%Y 'm/1 RECORDS/short.txt')");
    CHECK_NUMBER(end_with(pid, SIGTERM), 0);
}

static void packed_files_are_read_anywhere(void)
{
    if (!can_mount())
        return;
    must("truncate -s 60M n.img && mkntfs -q -F -L Catalogue n.img >/dev/null 2>&1");
    g_auto(Result) mounted =
        shell("%s/tests/scripts/mount-volume ntfs n.img drive", EKTYPON_SOURCE);
    if (mounted.status == 3) {
        printf("skipped: no way to fill an NTFS here; ");
        return;
    }
    CHECK_STATUS(mounted, 0);
    must(
        "mkdir drive/packed && setfattr -h -v 0x00080000 -n system.ntfs_attrib drive/packed && "
        "seq 4000000 >drive/packed/table.csv && head -c 300000 /dev/urandom >drive/packed/noise && "
        "cp drive/packed/table.csv .");
    must("%s/tests/scripts/mount-volume --down n.img drive", EKTYPON_SOURCE);
    done("new bench --adopt n.img");
    done("hunt bench");
    done("extract bench 1 --to out");
    must("cmp table.csv 'out/1 Catalogue/packed/table.csv'");
    pid_t pid = mount_case("bench m");
    CHECK(pid != 0);
    must("cmp table.csv 'm/1 Catalogue/packed/table.csv'");
    compare_all("out", 40);
    /* Two at a time, one from its end. */
    must("cmp table.csv 'm/1 Catalogue/packed/table.csv' & tail -c 5000000 table.csv >end && tail "
         "-c "
         "5000000 'm/1 Catalogue/packed/table.csv' | cmp - end && wait");
    CHECK_NUMBER(end_with(pid, SIGHUP), 0);
    /* The folder was made for it, and is gone with it. */
    must("test ! -e m");
}

static void nothing_stays_mounted(void)
{
    if (!can_mount())
        return;
    make_case(test_seed());
    done("new bench --adopt v.img");
    done("hunt bench");
    must("mkdir m");
    pid_t pid = mount_case("bench m");
    CHECK(pid != 0);
    CHECK_NUMBER(end_with(pid, SIGKILL), 1000);
    /* Also while a program has a file of it open. */
    pid = mount_case("bench m");
    int file = open("m/1 RECORDS/short.txt", O_RDONLY);
    CHECK(file >= 0);
    CHECK_NUMBER(end_with(pid, SIGINT), 0);
    close(file);
    pid = mount_case("bench m");
    CHECK(pid != 0);
    must("umount m");
    CHECK_NUMBER(wait_for(pid), 0);
    /* Two of one case at once. */
    pid = mount_case("bench m");
    pid_t other = ektypon_start("mount bench o");
    for (guint i = 0; i < TRIES && !is_mounted("o"); i++)
        g_usleep(100000);
    must("diff -r m o");
    kill(other, SIGINT);
    CHECK_NUMBER(wait_for(other), 0);
    CHECK_NUMBER(end_with(pid, SIGINT), 0);
    /* Killed while a file of it is open, again and again: no moment of its end is a bad one. */
    for (guint i = 0; i < KILLS; i++) {
        pid = mount_case("bench m");
        file = open("m/1 RECORDS/short.txt", O_RDONLY);
        CHECK(pid != 0 && file >= 0);
        CHECK_NUMBER(end_with(pid, SIGKILL), 1000);
        close(file);
    }
}

static void what_cannot_be_is_told(void)
{
    make_case(test_seed());
    done("new bench --adopt v.img");
    must("mkdir m full && touch full/file");
    g_auto(Result) unhunted = ektypon("mount bench m");
    CHECK_STATUS(unhunted, 1);
    CHECK_CONTAINS(unhunted.err, "no volume with files is known");
    done("hunt bench");
    g_auto(Result) full = ektypon("mount bench full");
    CHECK_STATUS(full, 4);
    CHECK_CONTAINS(full.err, "not empty");
    g_auto(Result) file = ektypon("mount bench full/file");
    CHECK_STATUS(file, 4);
    CHECK_CONTAINS(file.err, "not a folder");
    g_auto(Result) nowhere = ektypon("mount bench none/none");
    CHECK_STATUS(nowhere, 1);
    g_auto(Result) no_case = ektypon("mount none m");
    CHECK_STATUS(no_case, 1);
    g_auto(Result) one = ektypon("mount bench");
    CHECK_STATUS(one, 2);
}

int main(void)
{
    static const Test tests[] = {
        {"programs read what is extracted", programs_read_what_is_extracted},
        {"packed files are read anywhere", packed_files_are_read_anywhere},
        {"nothing stays mounted", nothing_stays_mounted},
        {"what cannot be is told", what_cannot_be_is_told},
    };
    return RUN_TESTS("mount", tests);
}
