/* SPDX-License-Identifier: MIT */
/* Names that no driver writes, but a disk may hold: they lead nowhere but below the folder that was
 * named, on every file system, and reach the terminal as text. */
#include "base/bytes.h"
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Is put in as a name of letters, and patched in the image. */
#define PLACEHOLDER "QQzQQ"

typedef struct {
    const char *filesystem;
    const char *make; /* with the folder src in it, or mounted and copied to */
    gboolean is_mounted;
    guint step;         /* bytes of a character in names */
    guint into;         /* where in them it stands: 1 for big-endian */
    const char *listed; /* "../..", which can be no name */
    const char *written;
} Kind;

static const Kind kinds[] = {
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 v.img", TRUE, 2, 0, "..\\\\x2F\\\\x00..",
     "..\\x2F\\x00.."},
    {"exfat", "mkfs.exfat v.img", TRUE, 2, 0, "..\\\\x2F\\\\x00..", "..\\x2F\\x00.."},
    {"fat32",
     "mkfs.fat -F 32 -s 1 v.img && MTOOLS_SKIP_CHECK=1 mcopy -Q -s -i v.img src/" PLACEHOLDER " ::",
     FALSE, 2, 0, "..\\\\x2F\\\\x00..", "..\\x2F\\x00.."},
    {"ext4", "mke2fs -q -F -t ext4 -O ^metadata_csum -d src v.img", FALSE, 1, 0, "..\\\\x2F..",
     "..\\x2F.."},
    {"hfsplus", "xorriso -as mkisofs -hfsplus -o v.img src && truncate -s 40M v.img", FALSE, 2, 1,
     "..:..", "..:.."},
};

/* Puts `hostile`, as long as the placeholder, wherever that stands. Returns how often. */
static guint patch(guint8 *image, gsize length, const Kind *kind, const char *hostile)
{
    guint8 from[2 * sizeof PLACEHOLDER] = {0};
    guint count = 0;
    gsize bytes = strlen(PLACEHOLDER) * kind->step;
    for (gsize i = 0; PLACEHOLDER[i] != '\0'; i++)
        from[i * kind->step + kind->into] = (guint8)PLACEHOLDER[i];
    for (gsize at = 0; at + bytes <= length; at++) {
        if (image[at] != from[0] || memcmp(image + at, from, bytes) != 0)
            continue;
        for (gsize i = 0; i < strlen(PLACEHOLDER); i++)
            image[at + i * kind->step + kind->into] = (guint8)hostile[i];
        count++;
    }
    return count;
}

static gboolean make_volume(const Kind *kind)
{
    must("rm -rf src v.img && mkdir src && echo seeds > src/" PLACEHOLDER " && "
         "truncate -s 40M v.img && (%s) >maker.log 2>&1",
         kind->make);
    if (!kind->is_mounted)
        return TRUE;
    g_auto(Result) up =
        shell("%s/tests/scripts/mount-volume %s v.img mount", EKTYPON_SOURCE, kind->filesystem);
    if (up.status != 0)
        return FALSE;
    must("cp src/" PLACEHOLDER " mount/ && %s/tests/scripts/mount-volume --down v.img mount",
         EKTYPON_SOURCE);
    return TRUE;
}

/* `wanted`: as it is listed; `written`: as it is written. */
static void check_name(const Kind *kind, const char *hostile, const char *wanted,
                       const char *written)
{
    gsize length = 0;
    g_autofree guint8 *image = read_file("v.img", &length);
    CHECK(patch(image, length, kind, hostile) > 0);
    must("rm -rf lair && mkdir -p lair/deep/er");
    write_file("lair/deep/er/h.img", image, length);
    must("cd lair/deep/er && %s new b --adopt h.img >log 2>&1 && %s hunt b >>log 2>&1",
         EKTYPON_PROGRAM_PATH, EKTYPON_PROGRAM_PATH);
    g_auto(Result) before = shell("cd lair && find . -not -path './deep/er/b*' | sort");
    /* On a hybrid disc it is not the first volume. */
    g_auto(Result) found = shell("cd lair/deep/er && %s volumes b --json | jq '.volumes[] | "
                                 "select(.filesystem != \"iso9660\") | .number' | head -1",
                                 EKTYPON_PROGRAM_PATH);
    guint number = (guint)atoi(found.out);
    g_auto(Result) listed = shell("cd lair/deep/er && %s ls b %u", EKTYPON_PROGRAM_PATH, number);
    CHECK_CONTAINS(listed.out, wanted);
    CHECK(strchr(listed.out, '\033') == NULL);
    g_auto(Result) taken =
        shell("cd lair/deep/er && %s extract b %u --to out --flat", EKTYPON_PROGRAM_PATH, number);
    CHECK_STATUS(taken, 0);
    CHECK(strchr(taken.out, '\033') == NULL);
    g_autofree char *place = g_build_filename("lair/deep/er/out", written, NULL);
    gsize size = 0;
    g_autofree guint8 *content = read_file(place, &size);
    CHECK(size == 6 && memcmp(content, "seeds\n", 6) == 0);
    g_auto(Result) after = shell("cd lair && find . -not -path './deep/er/b*' "
                                 "-not -path './deep/er/out*' | sort");
    CHECK_TEXT(after.out, before.out);
}

static void names_lead_nowhere(void)
{
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        const Kind *kind = &kinds[i];
        if (!make_volume(kind)) {
            skip("no loop device, or no driver");
            continue;
        }
        guint before = CU_get_number_of_failures();
        check_name(kind, "../..", kind->listed, kind->written);
        check_name(kind, "\033[2J!", "\\x1B[2J!", "\033[2J!");
        if (CU_get_number_of_failures() != before)
            fprintf(stderr, "\nthat was: %s\n", kind->filesystem);
    }
}

/* FALSE where none can be mounted. `fill` is run in its root folder. */
static gboolean make_ntfs(const char *fill)
{
    must("rm -rf v.img bench out && truncate -s 40M v.img && mkntfs -q -F v.img >maker.log 2>&1");
    g_auto(Result) up = shell("%s/tests/scripts/mount-volume ntfs v.img mount", EKTYPON_SOURCE);
    if (up.status != 0) {
        fprintf(stderr, " (NTFS cannot be mounted here)");
        return FALSE;
    }
    must("cd mount && %s && sync", fill);
    must("%s/tests/scripts/mount-volume --down v.img mount", EKTYPON_SOURCE);
    return TRUE;
}

/* Zeroes the file records in which a name stands, but no record of more than one. */
static guint zero_record(const char *name, const char *not_with)
{
    g_autofree char *image = NULL;
    gsize length = 0;
    guint count = 0;
    g_autofree gunichar2 *units = g_utf8_to_utf16(name, -1, NULL, NULL, NULL);
    g_autofree gunichar2 *others = g_utf8_to_utf16(not_with, -1, NULL, NULL, NULL);
    CHECK(g_file_get_contents("v.img", &image, &length, NULL));
    for (gsize at = 0; at + 1024 <= length; at += 1024)
        if (memcmp(image + at, "FILE", 4) == 0 &&
            memmem(image + at, 1024, units, strlen(name) * 2) != NULL &&
            memmem(image + at, 1024, others, strlen(not_with) * 2) == NULL) {
            memset(image + at, 0, 1024);
            count++;
        }
    CHECK(g_file_set_contents("v.img", image, (gssize)length, NULL));
    return count;
}

/* Puts a page into the log, which is empty: "pressed.csv" was added to the root folder. */
static void log_addition(void)
{
    static const char name[] = "pressed.csv";
    const gsize entry = 64 + 48 + 40; /* in the page: behind the headers of an operation */
    char *image = NULL;
    gsize length = 0;
    guint8 page[4096] = {'R', 'C', 'R', 'D', 0x28, 0, 9};
    CHECK(g_file_get_contents("v.img", &image, &length, NULL));
    gsize units = strlen(name);
    gsize bytes = (16 + 66 + 2 * units + 7) / 8 * 8;
    ek_put_le64(page + 64, 512 + 8);
    ek_put_le32(page + 64 + 24, (guint32)(40 + bytes));
    ek_put_le32(page + 64 + 32, 1);
    ek_put_le16(page + 64 + 48, 14);
    ek_put_le16(page + 64 + 48 + 4, 40);
    ek_put_le16(page + 64 + 48 + 6, (guint16)bytes);
    ek_put_le64(page + entry, 5000 | (guint64)1 << 48);
    ek_put_le16(page + entry + 8, (guint16)bytes);
    ek_put_le16(page + entry + 10, (guint16)(66 + 2 * units));
    ek_put_le64(page + entry + 16, 5 | (guint64)5 << 48);
    for (gsize i = 0; i < 4; i++)
        ek_put_le64(page + entry + 24 + 8 * i, 0x01DB000000000000);
    page[entry + 80] = (guint8)units;
    for (gsize i = 0; i < units; i++)
        page[entry + 82 + 2 * i] = (guint8)name[i];
    guint8 empty[65536];
    memset(empty, 0xff, sizeof empty);
    const char *log = memmem(image, length, empty, sizeof empty);
    CHECK(log != NULL);
    if (log != NULL)
        memcpy(image + ((gsize)(log - image) + 4095) / 4096 * 4096, page, sizeof page);
    CHECK(g_file_set_contents("v.img", image, (gssize)length, NULL));
    g_free(image);
}

/* Records are gone: what folders say of them is known, and what was in a folder stays in it. */
static void what_has_no_record_is_known_by_name(void)
{
    if (!make_ntfs("mkdir trays && for i in $(seq 60); do echo $i > trays/tray-$i.csv; done && "
                   "mkdir lists && echo sown > lists/sown.txt"))
        return;
    CHECK(zero_record("tray-41.csv", "tray-42.csv") == 1);
    CHECK(zero_record("lists", "trays") == 1);
    log_addition();
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) plain = ektypon("find bench 1");
    CHECK(strstr(plain.out, "tray-42.csv") != NULL && strstr(plain.out, "tray-41.csv") == NULL);
    CHECK_CONTAINS(plain.out, "lists/sown.txt");
    g_auto(Result) tree = ektypon("tree bench 1");
    CHECK_CONTAINS(tree.err, "2 more files are known by name only");
    g_auto(Result) logged = ektypon("ls bench 1: --lost-content");
    CHECK_CONTAINS(logged.out, "pressed.csv  [known by name only]");
    g_auto(Result) lost = ektypon("ls bench 1:trays --lost-content");
    CHECK_CONTAINS(lost.out, "tray-41.csv  [known by name only]");
    g_auto(Result) json = ektypon("find bench 1 --name tray-41 --lost-content --json");
    CHECK_CONTAINS(json.out, "\"name_only\": true");
}

/* Where the file record stands in which a name does. */
static gsize find_record(const char *image, gsize length, const char *name)
{
    g_autofree gunichar2 *units = g_utf8_to_utf16(name, -1, NULL, NULL, NULL);
    for (gsize at = 0; at + 1024 <= length; at += 1024)
        if (memcmp(image + at, "FILE", 4) == 0 &&
            memmem(image + at, 1024, units, strlen(name) * 2) != NULL)
            return at;
    CHECK(FALSE);
    return 0;
}

/* A record of which the second sector was not read, or is of another time: what its first one says
 * holds, but for a doubt where it may be older than the content. */
static void half_a_record_is_a_record(void)
{
    char *image = NULL;
    gsize length = 0;
    if (!make_ntfs("for i in $(seq 10 40); do head -c 50000 /dev/urandom > tray-$i.raw; done && "
                   "echo damp > tray-50.txt && sha256sum tray-21.raw tray-22.raw tray-50.txt | "
                   "cut -c 1-64 | sort >../sums.txt"))
        return;
    CHECK(g_file_get_contents("v.img", &image, &length, NULL));
    gsize unread = find_record(image, length, "tray-21.raw") + 512;
    gsize torn = find_record(image, length, "tray-22.raw") + 1022;
    gsize held = find_record(image, length, "tray-50.txt") + 512;
    image[torn] ^= 0x55;
    CHECK(g_file_set_contents("v.img", image, (gssize)length, NULL));
    g_free(image);
    g_autofree char *list =
        g_strdup_printf("%" G_GSIZE_FORMAT " 1\n%" G_GSIZE_FORMAT " 1\n", unread / 512, held / 512);
    write_file("unread.txt", list, strlen(list));
    done("new bench --adopt v.img --bad-list unread.txt");
    done("hunt bench");
    g_auto(Result) files = ektypon("find bench 1");
    CHECK_CONTAINS(files.out, "tray-21.raw");
    g_auto(Result) taken = ektypon("extract bench 1: --to out");
    CHECK(taken.status == 0 || taken.status == 3);
    must("find out -type f \\( -name tray-21.raw -o -name tray-22.raw -o -name tray-50.txt \\) "
         "-exec sha256sum {} + | cut -c 1-64 | sort "
         ">got.txt && cmp got.txt sums.txt");
    g_auto(Result) whole = ektypon("find bench 1 --condition whole");
    CHECK(strstr(whole.out, "tray-21.raw") != NULL && strstr(whole.out, "tray-22.raw") == NULL);
    g_auto(Result) doubtful = ektypon("find bench 1 --condition doubtful");
    CHECK_CONTAINS(doubtful.out, "tray-22.raw");
}

int main(void)
{
    static const Test tests[] = {
        {"names lead nowhere", names_lead_nowhere},
        {"what has no record is known by name", what_has_no_record_is_known_by_name},
        {"half a record is a record", half_a_record_is_a_record},
    };
    return RUN_TESTS("names", tests);
}
