/* SPDX-License-Identifier: MIT */
/* Drives with a past: up to three layouts of volumes, one over the other, filled, emptied and
 * filled again, with disk images and archives of boot sectors among their files; then wounded, and
 * read in part. Every volume of the last layout is found as it was made, and nothing else is taken
 * for one. blkid says what label and UUID they have, and is not ours. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#define DRIVES 3u
#define LAYOUTS_MOST 3u
#define VOLUMES_MOST 4u
#define SECTOR ((guint64)512)
#define DRIVE_MIB 900u

typedef struct {
    const char *filesystem; /* as ours is called */
    const char *type;       /* of an MBR entry */
    const char *make;       /* FILE and LABEL are put in */
    guint least_mib;
    guint most_mib;
    guint header_first; /* sector in the volume of its first header … */
    guint header_count; /* … and how long it is */
    guint copy_first;   /* sector of a copy; 0: none, or at the end */
    gboolean copy_last; /* the copy is the last sector */
    gboolean composes;  /* it is also found without any of them */
} Maker;

static const Maker makers[] = {
    {"ntfs", "7", "mkntfs -q -Q -F -s 512 -p 0 -H 255 -S 63 -L LABEL FILE", 10, 150, 0, 1, 0, TRUE,
     TRUE},
    {"ntfs", "7", "mkntfs -q -Q -F -s 512 -p 0 -H 255 -S 63 -c 1024 -L LABEL FILE", 10, 60, 0, 1, 0,
     TRUE, TRUE},
    {"ntfs", "7", "mkntfs -q -Q -F -s 512 -p 0 -H 255 -S 63 -c 32768 -L LABEL FILE", 30, 150, 0, 1,
     0, TRUE, TRUE},
    {"fat32", "c", "mkfs.fat -F 32 -s 1 -n LABEL FILE", 40, 120, 0, 1, 6, FALSE, TRUE},
    {"fat32", "c", "mkfs.fat -F 32 -s 4 -n LABEL FILE", 140, 200, 0, 1, 6, FALSE, TRUE},
    {"fat16", "6", "mkfs.fat -F 16 -n LABEL FILE", 16, 120, 0, 1, 0, FALSE, TRUE},
    {"exfat", "7", "mkfs.exfat -L LABEL FILE", 8, 150, 0, 1, 12, FALSE, TRUE},
    {"exfat", "7", "mkfs.exfat -c 32K -L LABEL FILE", 20, 150, 0, 1, 12, FALSE, TRUE},
    {"ext2", "83", "mke2fs -q -F -E nodiscard -t ext2 -b 1024 -L LABEL FILE", 20, 120, 2, 2, 16386,
     FALSE, FALSE},
    {"ext4", "83", "mke2fs -q -F -E nodiscard -t ext4 -b 4096 -L LABEL FILE", 140, 200, 2, 2,
     262144, FALSE, FALSE},
    {"ext3", "83", "mke2fs -q -F -E nodiscard -t ext3 -b 1024 -L LABEL FILE", 20, 120, 2, 2, 16386,
     FALSE, FALSE},
    {"xfs", "83", "mkfs.xfs -q -f -K -L LABEL FILE", 301, 320, 0, 1, 0, FALSE, FALSE},
    {"btrfs", "83", "mkfs.btrfs -q -f -K -L LABEL FILE", 120, 200, 128, 8, 131072, FALSE, FALSE},
};

typedef struct {
    const Maker *maker;
    guint64 first; /* sector */
    guint64 sectors;
    char *uuid;
    char *label;
    gboolean is_last;  /* of the last layout: it stands */
    gboolean header;   /* its first header was left */
    gboolean composed; /* no header was left */
    gboolean was_aged;
    gboolean is_readable; /* its header, or the copy, was read */
    gboolean found;
    guint64 confidence; /* with all of it read */
} Made;

typedef struct {
    GRand *random;
    GArray *made; /* Made: of all layouts */
    guint64 sectors;
    const char *scheme; /* "dos", "gpt", or "": no table */
    gboolean has_table; /* it is still there */
} Drive;

/* Files for the volumes to hold: tables, pictures, and what looks like volumes. */
static void make_pool(void)
{
    must("rm -rf pool && mkdir -p pool/small && "
         "for i in $(seq 20); do seq $((i * 300)) >pool/counts-$i.csv; done && "
         "for i in $(seq 12); do head -c $((i * 30000)) /dev/urandom >pool/photo-$i.raw; done && "
         "for i in $(seq 150); do echo tray $i >pool/small/log-$i; done");
    must("truncate -s 3M pool/old-laptop.img pool/card.img pool/stick.img && "
         "mke2fs -q -F -t ext2 pool/old-laptop.img && mkfs.fat -F 12 pool/card.img >/dev/null && "
         "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 pool/stick.img >/dev/null 2>&1 && "
         "tar -cf pool/images.tar pool/card.img pool/old-laptop.img && "
         "for n in 1 2 3 4 5 6 7 8; do dd if=pool/stick.img bs=512 count=1 status=none; "
         "dd if=pool/card.img bs=512 count=1 status=none; done >pool/boot-sectors.bin && "
         "gzip -k pool/images.tar");
}

/* What older formats left in the same region would make it undecided. */
static char *told_by_blkid(const char *filesystem, const char *what)
{
    const char *type = g_str_has_prefix(filesystem, "fat") ? "vfat" : filesystem;
    g_auto(Result) told = shell("blkid -p -n %s -o value -s %s part.img", type, what);
    return *g_strchomp(told.out) != '\0' ? g_strdup(told.out) : NULL;
}

static char *put_in(const char *text, const char *name, const char *value)
{
    g_auto(GStrv) parts = g_strsplit(text, name, -1);
    return g_strjoinv(value, parts);
}

/* Formats the region of a partition, with what stood there before still in it. */
static void make_volume(Drive *drive, Made *made)
{
    char label[10] = "BRIZA";
    for (guint i = 5; i < 9; i++)
        label[i] = (char)g_rand_int_range(drive->random, 'A', 'Z' + 1);
    g_autofree char *with_label = put_in(made->maker->make, "LABEL", label);
    g_autofree char *command = put_in(with_label, "FILE", "part.img");
    must("dd if=drive.img of=part.img bs=1M iflag=skip_bytes,count_bytes skip=%" G_GUINT64_FORMAT
         " count=%" G_GUINT64_FORMAT " "
         "status=none && %s >maker.log 2>&1 || { cat maker.log >&2; false; }",
         made->first * SECTOR, made->sectors * SECTOR, command);
    made->uuid = told_by_blkid(made->maker->filesystem, "UUID");
    made->label = told_by_blkid(made->maker->filesystem, "LABEL");
    if (g_rand_int_range(drive->random, 0, 4) != 0) {
        g_auto(Result) aged =
            shell("'%s/tests/scripts/age-volume' %s part.img pool %d", EKTYPON_SOURCE,
                  made->maker->filesystem, g_rand_int_range(drive->random, 2, 12));
        CHECK_STATUS(aged, 0);
        made->was_aged = strstr(aged.out, "not aged") == NULL;
    }
    must("dd if=part.img of=drive.img bs=1M oflag=seek_bytes seek=%" G_GUINT64_FORMAT
         " conv=notrunc status=none",
         made->first * SECTOR);
}

/* One layout over whatever is there. */
static void make_layout(Drive *drive, gboolean is_last)
{
    static const guint64 starts[] = {63, 2048, 2048, 2048, 4096};
    static const char *const schemes[] = {"dos", "gpt", "gpt", "dos", ""};
    guint64 at = starts[g_rand_int_range(drive->random, 0, G_N_ELEMENTS(starts))];
    guint count = (guint)g_rand_int_range(drive->random, 1, VOLUMES_MOST + 1);
    g_autoptr(GString) table = g_string_new(NULL);
    drive->scheme = schemes[g_rand_int_range(drive->random, 0, G_N_ELEMENTS(schemes))];
    gboolean is_mbr = g_str_equal(drive->scheme, "dos");
    if (g_str_equal(drive->scheme, "gpt"))
        at = MAX(at, 2048);
    for (guint i = 0; i < count; i++) {
        const Maker *maker = &makers[g_rand_int_range(drive->random, 0, G_N_ELEMENTS(makers))];
        guint mib = (guint)g_rand_int_range(drive->random, (gint)maker->least_mib,
                                            (gint)maker->most_mib + 1);
        Made made = {.maker = maker, .first = at, .is_last = is_last};
        made.sectors = (guint64)mib * 2048;
        if (at + made.sectors + 100 > drive->sectors)
            break;
        make_volume(drive, &made);
        g_array_append_val(drive->made, made);
        g_string_append_printf(table,
                               "start=%" G_GUINT64_FORMAT ",size=%" G_GUINT64_FORMAT "%s%s\\n", at,
                               made.sectors, is_mbr ? ",type=" : "", is_mbr ? maker->type : "");
        at += made.sectors;
        if (g_rand_boolean(drive->random))
            at = ek_divide_up(at, 2048) * 2048 +
                 (guint64)g_rand_int_range(drive->random, 0, 9) * 2048;
    }
    drive->has_table = *drive->scheme != '\0';
    if (drive->has_table)
        must("printf 'label: %s\\n%s' | sfdisk -q -w never -W never drive.img 2>sfdisk.log || "
             "{ cat sfdisk.log >&2; false; }",
             drive->scheme, table->str);
    else /* as a drive that never had one: nothing at its beginning */
        must("dd if=/dev/zero of=drive.img bs=512 count=63 conv=notrunc status=none");
}

static void zero(guint64 sector, guint64 count)
{
    must("dd if=/dev/zero of=drive.img bs=512 seek=%llu count=%llu conv=notrunc status=none",
         (unsigned long long)sector, (unsigned long long)count);
}

/* The wounds: the table, first headers, and all headers of what can do without. */
static void wound(Drive *drive)
{
    if (drive->has_table && g_rand_boolean(drive->random)) {
        drive->has_table = FALSE;
        zero(0, 34);
        zero(drive->sectors - 34, 34);
    }
    for (guint i = 0; i < drive->made->len; i++) {
        Made *made = &g_array_index(drive->made, Made, i);
        const Maker *maker = made->maker;
        int kind = g_rand_int_range(drive->random, 0, 3);
        made->header = TRUE;
        gboolean has_copy =
            maker->copy_last || (maker->copy_first != 0 && maker->copy_first + 2 < made->sectors);
        /* Folders are what an empty FAT has none of. */
        gboolean composes =
            maker->composes && (made->was_aged || !g_str_has_prefix(maker->filesystem, "fat"));
        if (!made->is_last || kind == 0 || (!has_copy && (kind == 1 || !composes)))
            continue;
        made->header = FALSE;
        zero(made->first + maker->header_first, maker->header_count);
        if (kind == 1 || !composes)
            continue;
        made->composed = TRUE;
        if (maker->copy_last)
            zero(made->first + made->sectors - 1, 1);
        else if (maker->copy_first != 0)
            zero(made->first + maker->copy_first, maker->header_count);
    }
}

/* --- what was found ------------------------------------------------------------------------- */

static void explain(const Drive *drive, json_t *json)
{
    fprintf(stderr, "\nof these:\n");
    for (guint i = 0; i < drive->made->len; i++) {
        const Made *made = &g_array_index(drive->made, Made, i);
        fprintf(stderr, "  %s%s at %" G_GUINT64_FORMAT "+%" G_GUINT64_FORMAT " %s%s%s %s\n",
                made->is_last ? "" : "(older) ", made->maker->filesystem, made->first,
                made->sectors, made->header ? "" : "header wiped ",
                made->composed ? "and its copy " : "", made->was_aged ? "aged" : "empty",
                made->uuid);
    }
    fprintf(stderr, "these were found:\n");
    json_t *list = json_object_get(json, "volumes");
    for (gsize i = 0; i < json_array_size(list); i++) {
        json_t *volume = json_array_get(list, i);
        fprintf(stderr, "  %s at %" G_GUINT64_FORMAT "+%" G_GUINT64_FORMAT " %s confidence %u %s\n",
                json_text(volume, "filesystem"), json_u64(volume, "first_byte") / SECTOR,
                json_u64(volume, "bytes") / SECTOR, json_text(volume, "standing"),
                (guint)json_u64(volume, "confidence"), json_text(volume, "uuid"));
    }
}

static gboolean is_length(const Made *made, guint64 sectors)
{
    /* mkfs.fat rounds down to tracks; without a header some ends are not told. */
    guint64 slack = g_str_has_prefix(made->maker->filesystem, "fat") ? 64 : 0;
    if (made->composed && slack != 0)
        return TRUE;
    if (made->composed)
        slack = 8 * 65536;
    return sectors <= made->sectors && sectors + slack >= made->sectors;
}

/* Of several at one place without a UUID the one of that length, else the last. */
static Made *made_at(const Drive *drive, const char *filesystem, guint64 first, guint64 sectors,
                     const char *uuid)
{
    Made *best = NULL;
    for (guint i = 0; i < drive->made->len; i++) {
        Made *made = &g_array_index(drive->made, Made, i);
        if (made->first == first && g_str_equal(made->maker->filesystem, filesystem) &&
            (uuid == NULL || g_strcmp0(made->uuid, uuid) == 0) &&
            (best == NULL || uuid != NULL || best->sectors != sectors))
            best = made;
    }
    return best;
}

/* In region of a volume whose header was not read: what it holds may be taken for volumes. */
static gboolean is_in_missed(const Drive *drive, guint64 sector)
{
    for (guint i = 0; i < drive->made->len; i++) {
        const Made *made = &g_array_index(drive->made, Made, i);
        if (!made->is_readable && sector >= made->first && sector - made->first < made->sectors)
            return TRUE;
    }
    return FALSE;
}

/* Does one of another layout lie on its region, and no date tell which came later? Some keep none,
 * those in local time are not told from UTC within a day, and an older XFS has its dates in a
 * folder that may be written over. */
static gboolean is_undecidable(const Drive *drive, const Made *made)
{
    static const char *const dated[] = {"ntfs", "ext2", "ext3", "ext4", "xfs"};
    for (guint i = 0; i < drive->made->len; i++) {
        const Made *other = &g_array_index(drive->made, Made, i);
        gboolean apart = other->first + other->sectors <= made->first ||
                         made->first + made->sectors <= other->first;
        guint dates = 0;
        for (gsize k = 0; k < G_N_ELEMENTS(dated); k++)
            dates +=
                (g_str_equal(made->maker->filesystem, dated[k]) ? 1u : 0u) +
                (g_str_equal(other->maker->filesystem, dated[k]) && !g_str_equal(dated[k], "xfs")
                     ? 1u
                     : 0u);
        if (!other->is_last && !apart && dates < 2)
            return TRUE;
    }
    return FALSE;
}

/* Was there one before, where another was made over it? */
static gboolean has_older_at(const Drive *drive, guint64 first, guint64 sectors)
{
    for (guint i = 0; i < drive->made->len; i++) {
        const Made *made = &g_array_index(drive->made, Made, i);
        if (!made->is_last && made->first < first + sectors && first < made->first + made->sectors)
            return TRUE;
    }
    return FALSE;
}

/* TRUE when it is one that was made, as it was made, or part of the past. */
static gboolean is_right(const Drive *drive, json_t *volume, gboolean masked)
{
    const char *standing = json_text(volume, "standing");
    const char *uuid = json_text(volume, "uuid");
    Made *made =
        made_at(drive, json_text(volume, "filesystem"), json_u64(volume, "first_byte") / SECTOR,
                json_u64(volume, "bytes") / SECTOR, uuid);
    gboolean lower = g_str_equal(standing, "remains") || g_str_equal(standing, "nested");
    if (json_is_true(json_object_get(volume, "earlier")))
        return g_str_equal(standing, "remains") &&
               has_older_at(drive, json_u64(volume, "first_byte") / SECTOR,
                            json_u64(volume, "bytes") / SECTOR);
    if (made == NULL)
        return lower || json_u64(volume, "confidence") < 50 ||
               (masked && is_in_missed(drive, json_u64(volume, "first_byte") / SECTOR));
    if (!made->is_last)
        return TRUE;
    made->found = TRUE;
    /* More that is read never lowers what is believed. */
    guint64 confidence = json_u64(volume, "confidence");
    if (masked && confidence > made->confidence)
        return FALSE;
    made->confidence = confidence;
    if (lower && is_undecidable(drive, made))
        return TRUE;
    /* Of one that is hardly read nothing is claimed. */
    if (masked)
        return !lower || confidence < 20;
    gboolean has_label =
        made->label == NULL || g_strcmp0(json_text(volume, "label"), made->label) == 0;
    const char *wanted = drive->has_table ? "listed" : "lost";
    return is_length(made, json_u64(volume, "bytes") / SECTOR) && has_label &&
           (uuid != NULL || made->composed) && json_u64(volume, "confidence") >= 50 &&
           g_str_equal(standing, wanted);
}

static void check_case(Drive *drive, gboolean masked)
{
    g_auto(Result) result = ektypon("volumes bench --json");
    json_t *json = result_json(&result);
    json_t *list = json_object_get(json, "volumes");
    gboolean fine = TRUE;
    for (guint i = 0; i < drive->made->len; i++)
        g_array_index(drive->made, Made, i).found = FALSE;
    for (gsize i = 0; i < json_array_size(list); i++) {
        json_t *volume = json_array_get(list, i);
        if (is_right(drive, volume, masked))
            continue;
        fprintf(stderr, "\nnot right%s: %s at sector %" G_GUINT64_FORMAT, masked ? " (masked)" : "",
                json_text(volume, "filesystem"), json_u64(volume, "first_byte") / SECTOR);
        fine = FALSE;
    }
    for (guint i = 0; i < drive->made->len; i++) {
        Made *made = &g_array_index(drive->made, Made, i);
        if (!made->is_last || made->found || (masked && !made->is_readable))
            continue;
        fprintf(stderr, "\nmissed%s: %s at sector %" G_GUINT64_FORMAT, masked ? " (masked)" : "",
                made->maker->filesystem, made->first);
        fine = FALSE;
    }
    if (!fine)
        explain(drive, json);
    CHECK(fine);
    json_decref(json);
}

/* Stretches all over the drive are not read: 0.1 to 30 % of it. */
static void write_mask(Drive *drive)
{
    g_autoptr(GString) list = g_string_new(NULL);
    double share = exp(log(0.001) + g_rand_double(drive->random) * log(300.0));
    gint longest = 1 << g_rand_int_range(drive->random, 1, 12);
    gint apart = MAX((gint)((double)longest / share), 2);
    for (guint i = 0; i < drive->made->len; i++) {
        Made *made = &g_array_index(drive->made, Made, i);
        made->is_readable = made->header;
    }
    for (guint64 at = 0;;) {
        at += (guint64)g_rand_int_range(drive->random, 1, apart);
        guint64 bad = (guint64)g_rand_int_range(drive->random, 1, longest + 1);
        if (at + bad >= drive->sectors)
            break;
        g_string_append_printf(list, "%" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT "\n", at, bad);
        for (guint i = 0; i < drive->made->len; i++) {
            Made *made = &g_array_index(drive->made, Made, i);
            guint64 header = made->first + made->maker->header_first;
            if (at < header + made->maker->header_count && header < at + bad)
                made->is_readable = FALSE;
        }
        at += bad;
    }
    write_file("unread.txt", list->str, list->len);
}

static void hunt_drive(GRand *random)
{
    Drive drive = {.random = random, .sectors = DRIVE_MIB * 2048ull};
    drive.made = g_array_new(FALSE, TRUE, sizeof(Made));
    guint layouts = (guint)g_rand_int_range(random, 1, LAYOUTS_MOST + 1);
    must("rm -rf bench drive.img && truncate -s %lluM drive.img", (unsigned long long)DRIVE_MIB);
    for (guint i = 1; i <= layouts; i++) {
        make_layout(&drive, i == layouts);
        /* Volumes date themselves in steps of up to two seconds. */
        if (i < layouts)
            g_usleep(2100000);
    }
    wound(&drive);
    must("rm -rf bench");
    done("new bench --adopt drive.img");
    done("hunt bench");
    check_case(&drive, FALSE);
    write_mask(&drive);
    must("rm -rf bench");
    done("new bench --adopt drive.img --bad-list unread.txt");
    done("hunt bench");
    check_case(&drive, TRUE);
    for (guint i = 0; i < drive.made->len; i++) {
        g_free(g_array_index(drive.made, Made, i).uuid);
        g_free(g_array_index(drive.made, Made, i).label);
    }
    g_array_unref(drive.made);
}

static void drives_with_a_past_are_told_apart(void)
{
    guint32 seed = test_seed();
    const char *wanted = g_getenv("EKTYPON_TEST_DRIVES");
    guint drives = wanted != NULL ? (guint)g_ascii_strtoull(wanted, NULL, 10) : DRIVES;
    make_pool();
    for (guint i = 0; i < drives; i++) {
        g_autoptr(GRand) random = g_rand_new_with_seed(seed + i);
        guint before = CU_get_number_of_failures();
        hunt_drive(random);
        if (CU_get_number_of_failures() != before)
            fprintf(stderr, "\nthat was seed %u\n", seed + i);
    }
}

int main(void)
{
    static const Test tests[] = {
        {"drives with a past are told apart", drives_with_a_past_are_told_apart}};
    return RUN_TESTS("aged", tests);
}
