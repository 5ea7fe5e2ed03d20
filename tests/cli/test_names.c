/* SPDX-License-Identifier: MIT */
/* Names that no driver writes, but a disk may hold: they lead nowhere but below the folder that was
 * named, on every file system, and reach the terminal as text. */
#include "check.h"
#include "fixture.h"
#include "program.h"

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

int main(void)
{
    static const Test tests[] = {{"names lead nowhere", names_lead_nowhere}};
    return RUN_TESTS("names", tests);
}
