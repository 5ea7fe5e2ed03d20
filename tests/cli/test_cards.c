/* SPDX-License-Identifier: MIT */
/* Cards and volumes that the system's drivers fill and fill again, so that files lie in pieces, and
 * that are then made over: the files come back by content. */
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "specimens.h"

#include <stdio.h>

typedef struct {
    const char *name;
    const char *make; /* FILE */
    const char *mount;
    guint right; /* of a hundred files that come back as they were */
} Card;

static const Card cards[] = {
    {"exfat", "mkfs.exfat -c 4K FILE",
     "losetup -f --show FILE >loop && mount.exfat-fuse $(cat loop) mnt", 70},
    {"exfat", "mkfs.exfat -c 32K FILE",
     "losetup -f --show FILE >loop && mount.exfat-fuse $(cat loop) mnt", 80},
    {"ntfs", "mkntfs -F -Q -q FILE", "ntfs-3g FILE mnt", 90},
    {"ext4", "mke2fs -q -F -t ext4 -E nodiscard FILE", "mount -o loop FILE mnt", 90},
    {"ext3", "mke2fs -q -F -t ext3 -b 1024 -E nodiscard FILE", "mount -o loop FILE mnt", 80},
    {"ext2", "mke2fs -q -F -t ext2 -b 4096 -E nodiscard FILE", "mount -o loop FILE mnt", 85},
};

static char *with_file(const char *command)
{
    g_auto(GStrv) parts = g_strsplit(command, "FILE", -1);
    return g_strjoinv("card.img", parts);
}

static gboolean mount_card(const Card *card)
{
    g_autofree char *make = with_file(card->make);
    g_autofree char *mount = with_file(card->mount);
    must("rm -rf bench card.img loop mnt out ever && mkdir mnt && truncate -s 64M card.img");
    must("%s >/dev/null 2>&1", make);
    g_auto(Result) mounted = shell("%s >/dev/null 2>&1", mount);
    if (mounted.status != 0)
        must("test ! -e loop || losetup -d $(cat loop)");
    return mounted.status == 0;
}

static void put(const Specimen *specimen, guint number)
{
    g_autofree char *path = g_strdup_printf("mnt/%u.%s", number, specimen->ending);
    write_file(path, specimen->data, specimen->length);
}

/* Fills it, takes a third away here and there, and fills what became free. */
static void fill(guint32 seed)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    guint number = 0;
    for (guint round = 0; round < 3; round++) {
        g_autoptr(GPtrArray) specimens = specimens_new(g_rand_int(random));
        for (guint i = 0; i < specimens->len; i++)
            put(specimens->pdata[i], number++);
        must("sync; (cd mnt && find . -type f -print0 | xargs -0 sha256sum) | cut -c1-64 >>ever");
        for (guint i = 0; round < 2 && i < number; i++)
            if (g_rand_int_range(random, 0, 3) == 0)
                must("rm -f mnt/%u.*", i);
    }
    must("sync; (cd mnt && find . -type f -print0 | xargs -0 sha256sum) >names; cut -c1-64 names | "
         "sort -u >were; sort -u -o ever ever");
}

static void check_card(const Card *card)
{
    g_autofree char *make = with_file(card->make);
    must("umount mnt; test ! -e loop || losetup -d $(cat loop)");
    must("%s >/dev/null 2>&1", make);
    done("new bench --adopt card.img");
    done("hunt bench");
    done("carve bench");
    g_auto(Result) out = ektypon("extract bench carved --to out");
    CHECK(out.status == 0 || out.status == 3);
    must("find out -type f ! -name extracted.csv -print0 | xargs -0 sha256sum | cut -c1-64 | "
         "sort -u >are");
    g_auto(Result) right = shell("comm -12 were are | wc -l");
    g_auto(Result) all = shell("wc -l <were");
    guint64 wanted = g_ascii_strtoull(all.out, NULL, 10) * card->right / 100;
    CHECK(g_ascii_strtoull(right.out, NULL, 10) >= wanted);
    if (g_ascii_strtoull(right.out, NULL, 10) < wanted) {
        g_auto(Result) missing = shell("comm -23 were are >missing; grep -F -f missing names");
        printf("%s: of %s these do not come back:\n%s", card->name, all.out, missing.out);
    }
    /* What is called whole was there at some time. */
    g_auto(Result) lies = shell("find out -path '*/whole/*' -type f -print0 | xargs -0 sha256sum | "
                                "sort | join -v 1 - ever");
    CHECK_TEXT(lies.out, "");
}

static void cards_come_back(void)
{
    guint rounds = test_number("EKTYPON_TEST_DRIVES", 1);
    guint32 seed = test_seed();
    guint tried = 0;
    for (guint i = 0; i < rounds * G_N_ELEMENTS(cards); i++) {
        const Card *card = &cards[i % G_N_ELEMENTS(cards)];
        if (!mount_card(card)) {
            printf("%s cannot be mounted here\n", card->name);
            continue;
        }
        tried++;
        fill(seed + i);
        check_card(card);
    }
    if (tried == 0)
        skip("no file system can be mounted here");
}

int main(void)
{
    static const Test tests[] = {
        {"cards come back", cards_come_back},
    };
    return RUN_TESTS("cards", tests);
}
