/* SPDX-License-Identifier: MIT */
/* FAT volumes of which one FAT, or both, were overwritten: with zeros, with noise, with an older
 * state of their own. What is called whole is whole, and what is planned leaves the checker
 * content.
 */
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "volume/fat/fat.h"

#include <stdio.h>
#include <string.h>

#define START ((gsize)1 << 20)

typedef enum { WITH_ZEROS, WITH_NOISE, WITH_OLDER, WAYS } Way;

/* drive.img: a FAT volume at 1 MiB with files that came and went; older.img: some time before. The
 * sums of all files are in `truth`. */
static void make_drive(guint bits, guint per_cluster)
{
    must("rm -rf src older.img v.img drive.img truth && mkdir -p src/trays && "
         "truncate -s %uM v.img && mkfs.fat -F %u -s %u -n SEEDS v.img >/dev/null",
         bits == 32   ? 40
         : bits == 16 ? 16
                      : 1,
         bits, per_cluster);
    guint32 seed = test_seed();
    gsize unit = bits == 12 ? 700 : 5000;
    for (guint i = 0; i < 24; i++) {
        g_autofree char *path = g_strdup_printf("src/%stray %u.csv", i > 12 ? "trays/" : "", i);
        g_autofree guint8 *bytes = g_malloc(1 + unit * i);
        fill_noise(bytes, unit * i, seed + i);
        write_file(path, bytes, unit * i);
        if (i == 13)
            must("MTOOLS_SKIP_CHECK=1 mmd -i v.img ::trays");
        must("MTOOLS_SKIP_CHECK=1 mcopy -i v.img '%s' '::%s'", path, path + 4);
        /* So that the rest is in pieces. */
        if (i % 5 == 4) {
            must("MTOOLS_SKIP_CHECK=1 mdel -i v.img '::%s' && rm '%s'", path + 4, path);
            must("cp v.img older.img");
        }
    }
    must("cd src && find -type f -exec sha256sum '{}' + | cut -c1-64 | sort > ../truth");
    must("truncate -s $(($(stat -c %%s v.img) + 2097152)) drive.img && "
         "printf 'start=2048,size=%%d,type=%s\\n' $(($(stat -c %%s v.img) / 512)) | "
         "sfdisk -q drive.img && dd if=v.img of=drive.img bs=1M seek=1 conv=notrunc status=none",
         bits == 32 ? "c" : "e");
}

static void overwrite(guint8 *drive, const EkFatBoot *boot, guint copy, Way way)
{
    guint8 *fat = drive + START + boot->fat_start + copy * boot->fat_bytes;
    gsize length = 0;
    g_autofree guint8 *older = read_file("older.img", &length);
    if (way == WITH_ZEROS)
        memset(fat, 0, boot->fat_bytes);
    else if (way == WITH_NOISE)
        fill_noise(fat, boot->fat_bytes, copy);
    else
        memcpy(fat, older + boot->fat_start + copy * boot->fat_bytes, boot->fat_bytes);
}

/* How many files came out as they were. Whatever is called whole must have. */
static guint count_right(guint *whole)
{
    g_auto(Result) taken =
        shell("rm -rf out; %s extract bench 1 --to out --json", EKTYPON_PROGRAM_PATH);
    json_t *json = result_json(&taken);
    json_t *files = json_object_get(json, "files");
    json_t *file = NULL;
    gsize index = 0;
    gsize length = 0;
    guint right = 0;
    g_autofree guint8 *truth = read_file("truth", &length);
    g_autofree char *sums = g_strndup((const char *)truth, length);
    *whole = 0;
    json_array_foreach(files, index, file)
    {
        gboolean is_right =
            json_text(file, "sha256") != NULL && strstr(sums, json_text(file, "sha256")) != NULL;
        gboolean is_whole = g_str_equal(json_text(file, "condition"), "whole");
        right += is_right ? 1 : 0;
        *whole += is_whole ? 1 : 0;
        CHECK(is_right || !is_whole);
    }
    json_decref(json);
    return right;
}

static void one_bad_fat_costs_nothing(void)
{
    static const guint widths[] = {12, 16, 32};
    for (gsize w = 0; w < G_N_ELEMENTS(widths); w++) {
        gsize length = 0;
        EkFatBoot boot;
        make_drive(widths[w], 1);
        g_autofree guint8 *drive = read_file("drive.img", &length);
        CHECK(ek_fat_boot_read((EkSpan){drive + START, 512}, &boot));
        for (guint variant = 0; variant < 2 * WAYS; variant++) {
            g_autofree guint8 *copy = g_memdup2(drive, length);
            Way way = (Way)(variant / 2);
            guint whole = 0;
            overwrite(copy, &boot, variant % 2, way);
            write_file("damaged.img", copy, length);
            must("rm -rf bench target.img && cp damaged.img target.img");
            done("new bench --adopt damaged.img");
            done("hunt bench");
            g_auto(Result) volumes = ektypon("volumes bench 1");
            CHECK_CONTAINS(volumes.out, "boot sector at sector 2048 is valid");
            CHECK_NUMBER(count_right(&whole), 20);
            CHECK_NUMBER(whole, 20);
            g_auto(Result) plan = ektypon("plan bench");
            CHECK(strstr(plan.out, "boot sector of volume") == NULL);
            /* Systems read the first one; an older second one is nobody's trouble. */
            CHECK(way == WITH_OLDER ||
                  strstr(plan.out, variant % 2 == 0 ? "FAT 1 of volume 1, from FAT 2"
                                                    : "FAT 2 of volume 1, from FAT 1"));
            if (variant % 2 == 0 || way != WITH_OLDER) {
                done("apply bench target.img");
                must("dd if=target.img of=v.img bs=1M skip=1 count=%u status=none && "
                     "truncate -s %u v.img",
                     (guint)(boot.bytes >> 20) + 1, (guint)boot.bytes);
                g_auto(Result) checked = shell("fsck.fat -n v.img");
                CHECK_STATUS(checked, 0);
                if (checked.status != 0)
                    fprintf(stderr, "FAT%u, variant %u:\n%s%s", widths[w], variant, plan.out,
                            checked.out);
            }
        }
    }
}

/* Files in one piece come out by where they begin; none of them is called whole for it. */
static void without_any_fat_all_is_a_guess(void)
{
    static const guint widths[] = {12, 16};
    for (gsize w = 0; w < G_N_ELEMENTS(widths); w++) {
        gsize length = 0;
        EkFatBoot boot;
        make_drive(widths[w], w == 0 ? 1 : 4);
        g_autofree guint8 *drive = read_file("drive.img", &length);
        CHECK(ek_fat_boot_read((EkSpan){drive + START, 512}, &boot));
        for (Way way = WITH_ZEROS; way <= WITH_NOISE; way++) {
            g_autofree guint8 *copy = g_memdup2(drive, length);
            guint whole = 0;
            overwrite(copy, &boot, 0, way);
            overwrite(copy, &boot, 1, way);
            write_file("damaged.img", copy, length);
            must("rm -rf bench");
            done("new bench --adopt damaged.img");
            done("hunt bench");
            CHECK(count_right(&whole) > 5);
            CHECK(whole <= 3); /* of one cluster, or none */
            g_auto(Result) plan = ektypon("plan bench");
            CHECK(strstr(plan.out, "FAT 1 of volume 1") == NULL);
            CHECK(strstr(plan.out, "FAT 2 of volume 1") == NULL);
        }
    }
}

/* A cluster has one owner: where two files claim it, neither is whole, but the one whose chain is
 * as long as it should be. A chain that comes back to itself ends there. */
static void crossed_chains_are_doubted(void)
{
    g_autoptr(FatVolume) fat = fat_volume_new(16, 0);
    FatFolder root = fat_root(fat);
    g_autofree guint8 *content = g_malloc(20 * 512);
    fill_noise(content, 20 * 512, 9);
    guint32 first = fat_store(fat, content, 8 * 512, 1);
    guint32 second = fat_store(fat, content + 8 * 512, 6 * 512, 1);
    guint32 third = fat_store(fat, content + 14 * 512, 4 * 512, 1);
    guint32 alone = fat_store(fat, content, 3 * 512, 1);
    fat_add(fat, &root, "RIGHT   BIN", NULL, 0x20, first, 8 * 512);
    fat_add(fat, &root, "CROSSED BIN", NULL, 0x20, second, 6 * 512);
    fat_add(fat, &root, "CIRCLE  BIN", NULL, 0x20, third, 4 * 512);
    fat_add(fat, &root, "TWIN    BIN", NULL, 0x20, alone, 3 * 512);
    fat_add(fat, &root, "TWIN    TOO", NULL, 0x20, alone, 3 * 512);
    fat_set(fat, second + 2, first + 3); /* then five more follow: eight in all */
    fat_set(fat, third + 1, third);
    write_file("v.img", fat->data, fat->length);
    must("rm -rf bench");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) listed = ektypon("ls bench 1");
    CHECK_CONTAINS(listed.out, "RIGHT.BIN\n");
    CHECK_CONTAINS(listed.out, "CROSSED.BIN  [doubtful: place guessed]");
    CHECK_CONTAINS(listed.out, "CIRCLE.BIN  [doubtful: 1.0 KiB not placed, place guessed]");
    CHECK_CONTAINS(listed.out, "TWIN.BIN  [doubtful: another file claims the same sectors]");
    CHECK_CONTAINS(listed.out, "TWIN.TOO  [doubtful: another file claims the same sectors]");
}

int main(void)
{
    static const Test tests[] = {
        {"one bad FAT costs nothing", one_bad_fat_costs_nothing},
        {"without any FAT all is a guess", without_any_fat_all_is_a_guess},
        {"crossed chains are doubted", crossed_chains_are_doubted},
    };
    return RUN_TESTS("fats", tests);
}
