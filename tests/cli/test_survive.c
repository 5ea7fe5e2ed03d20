/* SPDX-License-Identifier: MIT */
/* Which single structure, overwritten, makes a volume vanish? None may, where two others stand.
 * Each format is made by the system's tools, one structure after the other is overwritten with
 * zeros and with noise, and the table of what is still found is printed. Nothing may be called
 * whole that is not, and no more volumes be believed than were made. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <CUnit/Basic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define START ((gsize)1 << 20)
#define STRUCTURES_MOST 10u
#define DRIVES 4u
#define MANY 20u

typedef struct {
    const char *name;
    gsize first; /* bytes into the volume */
    gsize bytes;
} Structure;

typedef struct {
    const char *format;
    const char *name; /* as it is listed */
    const char *maker;
    const char *checker; /* of the volume in v.img */
    guint mib;
    gboolean has_files; /* `src` is in it */
    guint (*structures)(EkSpan volume, Structure *found);
} Kind;

static guint fat_structures(EkSpan volume, Structure *found)
{
    gsize reserved = ek_span_le16(volume, 14) * 512ul;
    gsize fat =
        (ek_span_le16(volume, 22) != 0 ? ek_span_le16(volume, 22) : ek_span_le32(volume, 36)) *
        512ul;
    gboolean wide = ek_span_le16(volume, 22) == 0;
    guint count = 0;
    found[count++] = (Structure){"boot sector", 0, 512};
    if (wide) {
        found[count++] = (Structure){"FSInfo", 512, 512};
        found[count++] = (Structure){"backup boot sector", 6 * 512, 512};
    }
    found[count++] = (Structure){"first entries of FATs", reserved, 512};
    found[count++] = (Structure){"FAT 1", reserved, fat};
    found[count++] = (Structure){"FAT 2", reserved + fat, fat};
    found[count++] = (Structure){"root folder", reserved + 2 * fat, 512};
    return count;
}

static guint exfat_structures(EkSpan volume, Structure *found)
{
    gsize size = 1ul << ek_span_u8(volume, 108);
    gsize heap = ek_span_le32(volume, 88) * size;
    gsize cluster = size << ek_span_u8(volume, 109);
    gsize root = heap + (ek_span_le32(volume, 96) - 2) * cluster;
    guint count = 0;
    found[count++] = (Structure){"boot sector", 0, 512};
    found[count++] = (Structure){"main boot region", 0, 12 * size};
    found[count++] = (Structure){"backup boot region", 12 * size, 12 * size};
    found[count++] = (Structure){"both checksums", 11 * size, size};
    found[count++] = (Structure){"FAT", ek_span_le32(volume, 80) * size, 4096};
    found[count++] = (Structure){"bitmap", heap, cluster};
    found[count++] = (Structure){"root folder", root, 512};
    return count;
}

static guint ntfs_structures(EkSpan volume, Structure *found)
{
    gsize cluster = ek_span_le16(volume, 11) * (gsize)ek_span_u8(volume, 13);
    gsize table = (gsize)ek_span_le64(volume, 48) * cluster;
    gsize mirror = (gsize)ek_span_le64(volume, 56) * cluster;
    guint count = 0;
    found[count++] = (Structure){"boot sector", 0, 512};
    found[count++] = (Structure){"backup boot sector", (gsize)ek_span_le64(volume, 40) * 512, 512};
    found[count++] = (Structure){"$MFT record", table, 1024};
    found[count++] = (Structure){"first records", table, 4096};
    found[count++] = (Structure){"root folder record", table + 5 * 1024, 1024};
    found[count++] = (Structure){"$MFT mirror", mirror, 4096};
    return count;
}

static guint ext_structures(EkSpan volume, Structure *found)
{
    EkSpan super = {volume.data + 1024, 1024};
    gsize block = 1024ul << ek_span_le32(super, 24);
    gsize descriptors = (ek_span_le32(super, 20) + 1) * block;
    EkSpan first = {volume.data + descriptors, 64};
    gsize group = ek_span_le32(super, 32) * block;
    guint count = 0;
    found[count++] = (Structure){"superblock", 1024, 1024};
    found[count++] = (Structure){"group descriptors", descriptors, block};
    found[count++] = (Structure){"first copy", group + ek_span_le32(super, 20) * block, 2 * block};
    found[count++] = (Structure){"block bitmap", ek_span_le32(first, 0) * block, block};
    found[count++] = (Structure){"inode bitmap", ek_span_le32(first, 4) * block, block};
    found[count++] = (Structure){"inode table", ek_span_le32(first, 8) * block, 4096};
    return count;
}

static guint xfs_structures(EkSpan volume, Structure *found)
{
    gsize group = (gsize)ek_span_be32(volume, 84) * ek_span_be32(volume, 4);
    guint count = 0;
    found[count++] = (Structure){"superblock", 0, 512};
    found[count++] = (Structure){"first group's headers", 512, 1536};
    found[count++] = (Structure){"second superblock", group, 512};
    found[count++] = (Structure){"root inodes", 64 * 1024, 64 * 1024};
    return count;
}

static guint btrfs_structures(EkSpan volume, Structure *found)
{
    (void)volume;
    guint count = 0;
    found[count++] = (Structure){"superblock", 65536, 4096};
    found[count++] = (Structure){"mirror", 64ul << 20, 4096};
    return count;
}

static guint f2fs_structures(EkSpan volume, Structure *found)
{
    gsize checkpoint = ek_span_le32(volume, 1024 + 0x4c) * 4096ul;
    guint count = 0;
    found[count++] = (Structure){"superblock", 1024, 1024};
    found[count++] = (Structure){"second superblock", 4096 + 1024, 1024};
    found[count++] = (Structure){"checkpoint", checkpoint, 4096};
    return count;
}

static guint iso_structures(EkSpan volume, Structure *found)
{
    (void)volume;
    guint count = 0;
    found[count++] = (Structure){"system area", 0, 512};
    found[count++] = (Structure){"terminator", 18 * 2048, 2048};
    found[count++] = (Structure){"path table", 20 * 2048, 2048};
    return count;
}

static const Kind kinds[] = {
    {"FAT12", "fat12", "mkfs.fat -F 12 -s 2 -n SEEDS", "fsck.fat -n v.img", 4, TRUE,
     fat_structures},
    {"FAT16", "fat16", "mkfs.fat -F 16 -n SEEDS", "fsck.fat -n v.img", 32, TRUE, fat_structures},
    {"FAT32", "fat32", "mkfs.fat -F 32 -s 1 -n SEEDS", "fsck.fat -n v.img", 40, TRUE,
     fat_structures},
    {"exFAT", "exfat", "mkfs.exfat -L SEEDS", "fsck.exfat -n v.img", 40, FALSE, exfat_structures},
    {"NTFS", "ntfs", "mkfs.ntfs -q -F -L SEEDS", "ntfsfix -n v.img", 40, FALSE, ntfs_structures},
    {"ext2", "ext2", "mke2fs -q -F -t ext2 -b 1024 -L SEEDS -d src", "e2fsck -fn v.img", 40, TRUE,
     ext_structures},
    {"ext4", "ext4", "mke2fs -q -F -t ext4 -b 4096 -L SEEDS -d src", "e2fsck -fn v.img", 200, TRUE,
     ext_structures},
    {"XFS", "xfs", "mkfs.xfs -q -L SEEDS", "xfs_repair -f -n v.img", 310, FALSE, xfs_structures},
    {"Btrfs", "btrfs", "mkfs.btrfs -q -L SEEDS", "btrfs check --readonly v.img", 130, FALSE,
     btrfs_structures},
    {"F2FS", "f2fs", "mkfs.f2fs -q -l SEEDS", "fsck.f2fs --dry-run v.img", 60, FALSE,
     f2fs_structures},
    {"ISO 9660", "iso9660", "sh -c 'genisoimage -quiet -R -V SEEDS -o $0 src'", NULL, 0, FALSE,
     iso_structures},
};

/* drive.img: the volume as the second MiB of it, named by the table. The sums of its files are in
 * `truth`. */
static void make_drive(const Kind *kind)
{
    must("rm -rf src v.img older.img && mkdir src && for i in $(seq 20); do head -c $((i * 1500)) "
         "/dev/urandom > src/tray$i.csv; done; cd src && sha256sum * | cut -c1-64 > ../truth");
    if (kind->mib > 0)
        must("truncate -s %uM v.img", kind->mib);
    must("%s v.img >maker.log 2>&1", kind->maker);
    if (strstr(kind->maker, "fat -F") != NULL)
        must("cp v.img older.img && MTOOLS_SKIP_CHECK=1 mcopy -i v.img src/* ::");
    must("rm -f drive.img; truncate -s $(($(stat -c %%s v.img) + 2097152)) drive.img && "
         "printf 'start=2048,size=%%d,type=7\\n' $(($(stat -c %%s v.img) / 512)) | "
         "sfdisk -q drive.img && dd if=v.img of=drive.img bs=1M seek=1 conv=notrunc status=none");
}

/* The confidence of the volume that was made; -1: it was not found. */
static int look(const Kind *kind)
{
    int confidence = -1;
    must("rm -rf bench");
    done("new bench --adopt drive.img");
    done("hunt bench");
    g_auto(Result) result = ektypon("volumes bench --json");
    json_t *json = result_json(&result);
    json_t *list = json_object_get(json, "volumes");
    json_t *volume = NULL;
    gsize index = 0;
    json_array_foreach(list, index, volume)
    {
        gboolean is_it = json_u64(volume, "first_byte") == START &&
                         g_str_equal(json_text(volume, "filesystem"), kind->name);
        if (is_it)
            confidence = MAX(confidence, (int)json_u64(volume, "confidence"));
        /* Nothing else was made. */
        CHECK(is_it || json_u64(volume, "confidence") < 50);
        if (!is_it && json_u64(volume, "confidence") >= 50)
            fprintf(stderr, "\n%s: also %s at %llu\n", kind->format,
                    json_text(volume, "filesystem"),
                    (unsigned long long)json_u64(volume, "first_byte"));
    }
    json_decref(json);
    return confidence;
}

/* What is called whole of its files must be. */
static void check_files(const Kind *kind, const char *what)
{
    gsize length = 0;
    g_autofree guint8 *truth = read_file("truth", &length);
    g_autofree char *sums = g_strndup((const char *)truth, length);
    g_auto(Result) taken =
        shell("rm -rf out; %s extract bench 1 --to out --json 2>/dev/null", EKTYPON_PROGRAM_PATH);
    json_t *json = json_loads(taken.out, 0, NULL);
    json_t *file = NULL;
    gsize index = 0;
    json_array_foreach(json_object_get(json, "files"), index, file)
    {
        const char *sum = json_text(file, "sha256");
        gboolean is_lie = g_str_equal(json_text(file, "condition"), "whole") && sum != NULL &&
                          strstr(sums, sum) == NULL;
        CHECK(!is_lie);
        if (is_lie)
            fprintf(stderr, "\n%s without %s: %s is called whole\n", kind->format, what,
                    json_text(file, "path"));
    }
    json_decref(json);
}

static void overwrite(gsize at, const guint8 *data, gsize length)
{
    FILE *file = fopen("drive.img", "r+b");
    CHECK(file != NULL && fseek(file, (long)at, SEEK_SET) == 0 &&
          fwrite(data, 1, length, file) == length && fclose(file) == 0);
}

static void no_single_structure_makes_a_volume_vanish(void)
{
    g_autoptr(GString) table = g_string_new("\n");
    gboolean is_short = g_getenv("EKTYPON_TEST_KIND") == NULL;
    guint32 seed = is_short ? test_seed() : 0;
    for (gsize k = 0; k < G_N_ELEMENTS(kinds); k++) {
        const Kind *kind = &kinds[k];
        /* A third of them in the short run. */
        if (is_short && k % 3 != seed % 3)
            continue;
        Structure structures[STRUCTURES_MOST];
        gsize length = 0;
        make_drive(kind);
        g_autofree guint8 *drive = read_file("drive.img", &length);
        guint count = kind->structures((EkSpan){drive + START, length - START}, structures);
        for (guint i = 0; i < count; i++) {
            int confidence[2] = {0};
            for (guint way = 0; way < 2; way++) {
                gsize at = START + structures[i].first;
                g_autofree guint8 *other = g_malloc0(structures[i].bytes);
                CHECK(at + structures[i].bytes <= length);
                if (way == 1)
                    fill_noise(other, structures[i].bytes, i + 1);
                overwrite(at, other, structures[i].bytes);
                confidence[way] = look(kind);
                CHECK(confidence[way] >= 0);
                if (kind->has_files && confidence[way] >= 0)
                    check_files(kind, structures[i].name);
                overwrite(at, drive + at, structures[i].bytes);
            }
            g_string_append_printf(table, "  %-9s %-24s zeros %3d, noise %3d\n", kind->format,
                                   structures[i].name, confidence[0], confidence[1]);
        }
    }
    fputs(table->str, stderr);
}

typedef enum { WITH_ZEROS, WITH_NOISE, WITH_OTHERS, WITH_OLDER, WAYS } Way;

/* What may lie where a structure should: nothing, noise, a piece of another format, what stood
 * there before there were files. `at`: bytes into the volume. */
static guint8 *draw_bytes(const Kind *kind, Way way, gsize at, gsize length, guint32 seed)
{
    guint8 *bytes = g_malloc0(length);
    if (way == WITH_NOISE)
        fill_noise(bytes, length, seed);
    if (way == WITH_OLDER && g_file_test("older.img", G_FILE_TEST_EXISTS)) {
        gsize older_bytes = 0;
        g_autofree guint8 *older = read_file("older.img", &older_bytes);
        CHECK(at + length <= older_bytes);
        memcpy(bytes, older + at, length);
    }
    if (way != WITH_OTHERS)
        return bytes;
    gsize other_bytes = 0;
    g_autofree guint8 *other = ntfs_volume_new(2000, 0, &other_bytes);
    g_autoptr(FatVolume) fat = fat_volume_new(16, 0);
    if (g_str_equal(kind->format, "NTFS"))
        memcpy(bytes, fat->data, MIN(length, 512));
    else
        memcpy(bytes, other, MIN(length, 4096));
    return bytes;
}

/* What the file system's own checker says of the volume on a drive: 0 is content. */
static int ask_checker(const Kind *kind, const char *drive)
{
    must("rm -f v.img && dd if=%s of=v.img bs=1M skip=1 count=%u conv=sparse status=none", drive,
         kind->mib);
    g_auto(Result) said = shell("timeout 60 %s", kind->checker);
    return said.status;
}

/* Do all readers of tables see the planned partition? Is the checker as content as it was before,
 * or more? */
static void check_plan(const Kind *kind)
{
    g_auto(Result) plan = ektypon("plan bench");
    CHECK_STATUS(plan, 0);
    if (strstr(plan.out, "Edit 1") == NULL)
        return;
    must("rm -f target.img && cp --sparse=always drive.img target.img");
    done("apply bench target.img --allow-unopened");
    gboolean is_left_out = strstr(plan.out, "is left out") != NULL;
    g_auto(Result) table = shell("sfdisk -d target.img | grep -q 'start= *2048' && "
                                 "parted -sm target.img unit s print | grep -q '^[0-9]*:2048s' && "
                                 "partx -o START -g target.img | grep -qx ' *2048' && "
                                 "sfdisk -V target.img | grep -q '^No errors'");
    CHECK(table.status == 0 || is_left_out);
    int before = kind->checker != NULL ? ask_checker(kind, "drive.img") : 0;
    int after = kind->checker != NULL ? ask_checker(kind, "target.img") : 0;
    CHECK(after == 0 || before != 0);
    if ((table.status != 0 && !is_left_out) || (after != 0 && before == 0))
        fprintf(stderr, "\n%s: checker %d, then %d\n%s", kind->format, before, after, plan.out);
}

/* Two structures at once, and the table at times: what is found is what was made, what is whole is,
 * what is planned is read. */
static void random_damage_invents_nothing(void)
{
    const char *wanted = g_getenv("EKTYPON_TEST_DRIVES");
    guint drives = wanted != NULL ? (guint)atoi(wanted) : DRIVES;
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    guint found = 0;
    for (guint i = 0; i < drives; i++) {
        const Kind *kind = &kinds[g_rand_int_range(random, 0, G_N_ELEMENTS(kinds))];
        Structure structures[STRUCTURES_MOST];
        gsize length = 0;
        make_drive(kind);
        g_autofree guint8 *drive = read_file("drive.img", &length);
        guint count = kind->structures((EkSpan){drive + START, length - START}, structures);
        g_autoptr(GString) what = g_string_new(NULL);
        for (guint k = 0; k < 2; k++) {
            const Structure *one = &structures[g_rand_int_range(random, 0, (gint32)count)];
            Way way = (Way)g_rand_int_range(random, 0, WAYS);
            g_autofree guint8 *bytes = draw_bytes(kind, way, one->first, one->bytes, seed + i + k);
            overwrite(START + one->first, bytes, one->bytes);
            g_string_append_printf(what, "%s (%d) ", one->name, (int)way);
        }
        if (g_rand_boolean(random)) {
            g_autofree guint8 *bytes = draw_bytes(kind, WITH_ZEROS, 0, 512, 0);
            overwrite(0, bytes, 512);
        }
        guint before = CU_get_number_of_failures();
        int confidence = look(kind);
        found += confidence >= 0;
        /* Their trees say themselves where they are. */
        if (g_str_equal(kind->format, "Btrfs") || g_str_equal(kind->format, "F2FS"))
            CHECK(confidence >= 0);
        if (kind->has_files && confidence >= 0)
            check_files(kind, what->str);
        check_plan(kind);
        if (confidence < 0 || CU_get_number_of_failures() != before)
            fprintf(stderr, "\n%s, drive %u: without %s: confidence %d", kind->format, i, what->str,
                    confidence);
    }
    fprintf(stderr, "\n%u of %u found; ", found, drives);
    /* Two structures of few may be all that there are. */
    CHECK(drives < MANY || found * 10 >= drives * 7);
}

/* A small FAT without its boot sector and without one of its FATs. */
static void one_fat_and_the_root_folder_are_enough(void)
{
    for (gsize k = 0; k < 2; k++)
        for (guint fat = 1; fat <= 3; fat++) {
            Structure structures[STRUCTURES_MOST];
            gsize length = 0;
            make_drive(&kinds[k]);
            g_autofree guint8 *drive = read_file("drive.img", &length);
            kinds[k].structures((EkSpan){drive + START, length - START}, structures);
            g_autofree guint8 *noise = g_malloc(structures[fat].bytes);
            fill_noise(noise, structures[fat].bytes, fat);
            overwrite(START + structures[fat].first, noise, structures[fat].bytes);
            memset(noise, 0, 512);
            overwrite(START, noise, 512);
            CHECK(look(&kinds[k]) >= 50);
            check_files(&kinds[k], structures[fat].name);
            done("plan bench");
            done("apply bench drive.img");
            must("dd if=drive.img of=v.img bs=1M skip=1 count=%u status=none", kinds[k].mib);
            g_auto(Result) checked = shell("fsck.fat -n v.img");
            CHECK_STATUS(checked, 0);
            if (checked.status != 0)
                fprintf(stderr, "%s", checked.out);
        }
}

/* The sector behind the root folder's first one is no root folder: all content would be shifted. */
static void a_shifted_root_folder_is_none(void)
{
    for (guint way = 0; way < 2; way++) {
        Structure structures[STRUCTURES_MOST];
        gsize length = 0;
        guint8 bytes[512] = {0};
        make_drive(&kinds[1]);
        g_autofree guint8 *drive = read_file("drive.img", &length);
        kinds[1].structures((EkSpan){drive + START, length - START}, structures);
        overwrite(START, bytes, sizeof bytes);
        if (way == 1)
            memcpy(bytes, "\xeb\x52\x90NTFS    ", 11);
        overwrite(START + structures[4].first, bytes, sizeof bytes);
        if (look(&kinds[1]) >= 0)
            check_files(&kinds[1], "the first sector of the root folder");
    }
}

/* Two boot sectors that agree are a volume, whatever else of it was overwritten; where no table
 * names it, too. */
static void two_boot_sectors_are_a_volume(void)
{
    static const struct {
        gsize kind;
        guint lost[4];
    } cases[] = {{2, {3, 4, 5, 6}}, {3, {4, 5, 6, 6}}, {4, {2, 3, 4, 5}}};
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++) {
        const Kind *kind = &kinds[cases[i].kind];
        Structure structures[STRUCTURES_MOST];
        gsize length = 0;
        make_drive(kind);
        g_autofree guint8 *drive = read_file("drive.img", &length);
        kind->structures((EkSpan){drive + START, length - START}, structures);
        for (guint k = 0; k < 4; k++) {
            const Structure *one = &structures[cases[i].lost[k]];
            g_autofree guint8 *noise = g_malloc(one->bytes);
            fill_noise(noise, one->bytes, k);
            overwrite(START + one->first, noise, one->bytes);
        }
        guint8 none[512] = {0};
        overwrite(0, none, sizeof none);
        int confidence = look(kind);
        CHECK(confidence >= 0 && confidence < 75);
        g_auto(Result) planned = ektypon("plan bench --keep 1");
        CHECK_CONTAINS(planned.out, "does not open: its root folder was not found");
    }
}

/* Two boot regions that are equal and whole but for their checksums get these and nothing else;
 * what a maker keeps there stays. */
static void a_checksum_alone_is_repaired(void)
{
    guint8 noise[512];
    fill_noise(noise, sizeof noise, 4);
    make_drive(&kinds[3]);
    /* A maker's parameters, in both regions, and sums that do not fit any more. */
    for (guint i = 0; i < 2; i++) {
        overwrite(START + (9 + i * 12) * 512, noise, sizeof noise);
        overwrite(START + (11 + i * 12) * 512, noise, sizeof noise);
    }
    CHECK(look(&kinds[3]) >= 50);
    g_auto(Result) plan = ektypon("plan bench");
    CHECK_CONTAINS(plan.out, "Edit 1: 512 bytes in sector 2059: ");
    CHECK_CONTAINS(plan.out, "Edit 2: 512 bytes in sector 2071: ");
    CHECK(strstr(plan.out, "Edit 3") == NULL);
    done("apply bench drive.img");
    must("dd if=drive.img of=v.img bs=1M skip=1 count=40 status=none");
    g_auto(Result) checked = shell("fsck.exfat -n v.img");
    CHECK_STATUS(checked, 0);
}

/* Old and rare kinds of ext: their files, and no volume besides. */
static void rare_kinds_of_ext_are_read(void)
{
    static const char *const options[] = {"-r 0 -b 1024", "-t ext4 -O bigalloc -b 1024",
                                          "-t ext4 -O bigalloc -b 4096 -C 65536",
                                          "-t ext4 -O orphan_file,ea_inode"};
    must("rm -rf src && mkdir src && for i in $(seq 20); do head -c $((i * 1500)) /dev/urandom > "
         "src/tray$i.csv; done");
    for (gsize i = 0; i < 2 * G_N_ELEMENTS(options); i++) {
        must("rm -rf bench out drive.img && truncate -s 64M drive.img && "
             "mke2fs -q -F %s -d src drive.img 2>maker.log",
             options[i / 2]);
        /* By its first superblock, and by a copy where there is one. */
        if (i % 2 == 1 && strstr(options[i / 2], "bigalloc") == NULL)
            must("dd if=/dev/zero of=drive.img bs=1024 seek=1 count=1 conv=notrunc status=none");
        done("new bench --adopt drive.img");
        done("hunt bench");
        g_auto(Result) volumes = ektypon("volumes bench --json");
        json_t *json = result_json(&volumes);
        CHECK_NUMBER(json_array_size(json_object_get(json, "volumes")), 1);
        json_decref(json);
        g_auto(Result) taken = ektypon("extract bench 1 --to out --flat");
        CHECK_CONTAINS(taken.out, "20 whole");
        must("rm -rf out/lost+found out/extracted.csv && diff -r src out");
    }
}

/* A copy of the superblock in a journal is no volume at that place, whether the journal's record of
 * it is there or not. */
static void a_journalled_superblock_is_none(void)
{
    must("truncate -s 256M e.img && mke2fs -q -F -t ext4 -b 4096 -L LEDGER e.img");
    for (int with = 0; with < 2; with++) {
        must("rm -rf bench && truncate -s 0 drive.img && truncate -s 300M drive.img && "
             "dd if=e.img of=drive.img bs=4096 count=1 seek=101 conv=notrunc status=none");
        if (with)
            must("printf "
                 "'\\300\\073\\071\\230\\0\\0\\0\\001\\0\\0\\0\\002\\0\\0\\0\\0\\0\\0\\0\\012' | "
                 "dd of=drive.img bs=4096 seek=100 conv=notrunc status=none");
        done("new bench --adopt drive.img");
        done("hunt bench");
        g_auto(Result) listed = ektypon("volumes bench");
        CHECK_CONTAINS(listed.out, "No volume was found");
    }
}

/* Inodes of noise are no files; one that lost its size is not called whole. */
static void what_cannot_be_is_no_file(void)
{
    make_drive(&kinds[6]);
    must("debugfs -w -R 'sif /tray9.csv size 0' v.img 2>maker.log && "
         "dd if=v.img of=drive.img bs=1M seek=1 conv=notrunc status=none");
    Structure structures[STRUCTURES_MOST];
    gsize length = 0;
    g_autofree guint8 *drive = read_file("drive.img", &length);
    ext_structures((EkSpan){drive + START, length - START}, structures);
    /* Behind the inodes in use. */
    g_autofree guint8 *noise = g_malloc(1 << 20);
    fill_noise(noise, 1 << 20, 5);
    overwrite(START + structures[5].first + 64 * 256, noise, 1 << 20);
    CHECK(look(&kinds[6]) >= 50);
    g_auto(Result) listed = ektypon("ls bench 1 --deleted");
    CHECK_CONTAINS(listed.out, "20 files");
    CHECK_CONTAINS(listed.out, "tray9.csv  [doubtful: place guessed]");
    check_files(&kinds[6], "a size");
}

/* A header of which nothing else is left is shown, with little confidence, and why. */
static void a_contradicted_header_is_shown(void)
{
    const gsize rest = ((gsize)40 << 20) - 512;
    make_drive(&kinds[3]);
    g_autofree guint8 *noise = g_malloc(rest);
    fill_noise(noise, rest, 6);
    overwrite(START + 512, noise, rest);
    int confidence = look(&kinds[3]);
    CHECK(confidence > 0 && confidence < 35);
    g_auto(Result) volume = ektypon("volumes bench 1");
    CHECK_CONTAINS(volume.out, "its header is valid, and the partition table has a partition here");
    CHECK_CONTAINS(volume.out, "the root folder is not at sector");
    g_auto(Result) plan = ektypon("plan bench");
    CHECK(strstr(plan.out, "Edit 1") == NULL);
}

/* An exFAT label may have come after the first cluster of the root folder was full. */
static void a_late_label_is_found(void)
{
    gsize length = 0;
    must("truncate -s 0 v.img && truncate -s 40M v.img && mkfs.exfat v.img >/dev/null");
    g_autofree guint8 *image = read_file("v.img", &length);
    EkSpan span = {image, length};
    gsize cluster = 512ul << ek_span_u8(span, 109);
    guint32 root = ek_span_le32(span, 96);
    guint8 *first = image + ek_span_le32(span, 88) * 512ul + (root - 2) * cluster;
    guint8 *fat = image + ek_span_le32(span, 80) * 512ul;
    for (gsize at = 0; at < cluster; at += 32)
        if (first[at] == 0 || first[at] == 0x83)
            first[at] = 0x05; /* a deleted file */
    ek_put_le32(fat + 4ul * root, root + 1);
    ek_put_le32(fat + 4ul * (root + 1), 0xffffffff);
    memset(first + cluster, 0, cluster);
    first[cluster] = 0x83;
    first[cluster + 1] = 2;
    first[cluster + 2] = 'H';
    first[cluster + 4] = 'F';
    write_file("drive.img", image, length);
    must("rm -rf bench");
    done("new bench --adopt drive.img");
    done("hunt bench");
    g_auto(Result) volumes = ektypon("volumes bench");
    CHECK_CONTAINS(volumes.out, "  HF ");
}

/* Descriptors come from a copy and are counted again, but not by bitmaps and inodes of noise: then
 * the copy's numbers stay, and the file system's checker counts. */
static void noise_counts_nothing(void)
{
    for (guint which = 0; which < 3; which++) {
        make_drive(&kinds[6]);
        gsize length = 0;
        g_autofree guint8 *drive = read_file("drive.img", &length);
        EkSpan volume = {drive + START, length - START};
        Structure structures[STRUCTURES_MOST];
        ext_structures(volume, structures);
        gsize descriptors = structures[1].first;
        gsize wide = ek_span_le16(volume, 1024 + 254);
        g_autofree guint8 *good = g_memdup2(volume.data + descriptors, 64);
        CHECK_NUMBER(wide, 64);
        g_autofree guint8 *noise = g_malloc(1 << 20);
        fill_noise(noise, 1 << 20, 7 + which);
        /* Bitmap of blocks, bitmap of inodes, all inodes of the first group. */
        overwrite(START + structures[3 + which].first, noise, which == 2 ? 1 << 20 : 4096);
        memset(noise, 0, 64);
        overwrite(START + descriptors, noise, 64);
        CHECK(look(&kinds[6]) >= 50);
        done("plan bench");
        done(which == 2 ? "apply bench drive.img --allow-unopened" : "apply bench drive.img");
        g_autofree guint8 *repaired = read_file("drive.img", &length);
        /* Free blocks, free inodes, folders. */
        CHECK(memcmp(good + 12, repaired + START + descriptors + 12, 6) == 0);
        must("dd if=drive.img of=v.img bs=1M skip=1 count=200 conv=sparse status=none");
        g_auto(Result) checked = shell("e2fsck -fy v.img >/dev/null; e2fsck -fn v.img");
        CHECK_STATUS(checked, 0);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"no single structure makes a volume vanish", no_single_structure_makes_a_volume_vanish},
        {"random damage invents nothing", random_damage_invents_nothing},
        {"one FAT and the root folder are enough", one_fat_and_the_root_folder_are_enough},
        {"a shifted root folder is none", a_shifted_root_folder_is_none},
        {"two boot sectors are a volume", two_boot_sectors_are_a_volume},
        {"a checksum alone is mended", a_checksum_alone_is_repaired},
        {"a contradicted header is shown", a_contradicted_header_is_shown},
        {"a late label is found", a_late_label_is_found},
        {"rare kinds of ext are read", rare_kinds_of_ext_are_read},
        {"a journalled superblock is none", a_journalled_superblock_is_none},
        {"what cannot be is no file", what_cannot_be_is_no_file},
        {"noise counts nothing", noise_counts_nothing},
    };
    return RUN_TESTS("survive", tests);
}
