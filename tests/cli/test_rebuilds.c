/* SPDX-License-Identifier: MIT */
/* Drives that the system's tools partitioned and made volumes on, broken, then carried through
 * plan, apply, clone and undo: the table is what it was, as the system's partition reader sees it;
 * the file systems' own checkers are content; and the way back leads to the very bytes. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <stdio.h>
#include <string.h>

#define DRIVES 5u
#define FILES 24u
#define PARTS_MOST 7u
#define SECTOR ((guint64)512)
#define MIB_SECTORS 2048u

typedef struct {
    const char *type; /* for sfdisk: of an MBR, and of a GPT */
    const char *gpt_type;
    const char *driver; /* of the system, to put files in; NULL: it has none */
    const char *make;   /* FILE is put in */
    const char *check;  /* read-only, FILE is put in; NULL: none */
    guint least_mib;
    guint most_mib;
    guint wiped_first; /* sectors in it that can be lost, since something else tells of them */
    guint wiped;
    gboolean end_too;  /* the last sector is lost with them */
    gboolean by_table; /* without them only a table tells where it ends */
} Maker;

#define BASIC_DATA "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"

static const Maker makers[] = {
    {"83", "L", "ext2", "mke2fs -q -F -t ext2 -b 1024 FILE", "e2fsck -fn FILE", 16, 40, 0, 6, FALSE,
     FALSE},
    {"83", "L", "ext4", "mke2fs -q -F -t ext4 -b 4096 FILE", "e2fsck -fn FILE", 140, 180, 0, 16,
     FALSE, FALSE},
    {"83", "L", "ext3", "mke2fs -q -F -t ext3 -b 1024 FILE", "e2fsck -fn FILE", 30, 60, 0, 6, FALSE,
     FALSE},
    {"83", "L", "ext4", "mke2fs -q -F -t ext4 -b 1024 -O ^metadata_csum,uninit_bg,^64bit FILE",
     "e2fsck -fn FILE", 30, 60, 0, 6, FALSE, FALSE},
    {"83", "L", "ext4", "mke2fs -q -F -t ext4 -b 1024 -O bigalloc -C 8192 FILE", "e2fsck -fn FILE",
     140, 160, 0, 6, FALSE, FALSE},
    {"83", "L", "ext4", "mke2fs -q -F -t ext4 -b 4096 FILE", "e2fsck -fn FILE", 16, 100, 2, 2,
     FALSE, TRUE},
    {"83", "L", "ext2", "mke2fs -q -F -t ext2 -b 1024 FILE", "e2fsck -fn FILE", 6, 8, 2, 2, FALSE,
     TRUE},
    {"83", "L", "xfs", "mkfs.xfs -q FILE", "xfs_repair -f -n FILE", 301, 320, 0, 1, FALSE, FALSE},
    {"83", "L", "btrfs", "mkfs.btrfs -q FILE", "btrfs check --readonly FILE", 120, 140, 128, 8,
     FALSE, FALSE},
    {"7", BASIC_DATA, "ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 FILE", "ntfsfix -n FILE", 8,
     40, 0, 1, FALSE, FALSE},
    {"7", BASIC_DATA, "ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 -c 4096 FILE",
     "ntfsfix -n FILE", 8, 40, 0, 16, TRUE, FALSE},
    {"c", BASIC_DATA, "vfat", "mkfs.fat -F 32 -s 1 FILE", "fsck.fat -n FILE", 40, 60, 0, 2, FALSE,
     FALSE},
    {"7", BASIC_DATA, "exfat", "mkfs.exfat FILE", "fsck.exfat -n FILE", 8, 60, 0, 12, FALSE, FALSE},
    {"7", BASIC_DATA, "exfat", "mkfs.exfat FILE", "fsck.exfat -n FILE", 8, 60, 0, 24, FALSE, TRUE},
    {"82", "S", NULL, "mkswap FILE", NULL, 4, 20, 0, 0, FALSE, FALSE},
};

typedef enum { TABLE_PRIMARIES, TABLE_LOGICAL, TABLE_GPT, TABLES } TableKind;

typedef struct {
    const Maker *maker;
    guint64 first;
    guint64 sectors;
    gboolean wiped;
    gboolean filled; /* with the files that files.txt has the sums of */
} Part;

typedef struct {
    GRand *random;
    TableKind table;
    guint count;
    guint primaries; /* TABLE_LOGICAL: so many, the others are logical */
    Part parts[PARTS_MOST];
    guint64 sectors;
} Drive;

static char *with_file(const char *text, const char *file)
{
    g_auto(GStrv) words = g_strsplit(text, "FILE", -1);
    return g_strjoinv(file, words);
}

/* --- making --------------------------------------------------------------------------------- */

static void draw(Drive *drive)
{
    GRand *random = drive->random;
    guint64 at = MIB_SECTORS;
    drive->table = (TableKind)g_rand_int_range(random, 0, TABLES);
    drive->count = (guint)g_rand_int_range(random, 1, drive->table == TABLE_PRIMARIES ? 5 : 8);
    if (drive->table == TABLE_LOGICAL)
        drive->count = MAX(drive->count, 2);
    drive->primaries = drive->table == TABLE_LOGICAL
                           ? (guint)g_rand_int_range(random, 0, (gint)MIN(drive->count, 4))
                           : drive->count;
    for (guint i = 0; i < drive->count; i++) {
        Part *part = &drive->parts[i];
        part->maker = &makers[g_rand_int_range(random, 0, G_N_ELEMENTS(makers))];
        part->first = at + (i >= drive->primaries ? MIB_SECTORS : 0);
        part->sectors =
            MIB_SECTORS * (guint64)g_rand_int_range(random, (gint)part->maker->least_mib,
                                                    (gint)part->maker->most_mib + 1);
        at = part->first + part->sectors;
        if (g_rand_int_range(random, 0, 3) == 0 && i + 1 < drive->count)
            at += MIB_SECTORS * (guint64)g_rand_int_range(random, 1, 20);
    }
    drive->sectors = at + MIB_SECTORS * (guint64)g_rand_int_range(random, 1, 20);
}

static void add_part(const Drive *drive, guint index, GString *script)
{
    const Part *part = &drive->parts[index];
    g_string_append_printf(script, "start=%" G_GUINT64_FORMAT ",size=%" G_GUINT64_FORMAT ",type=%s",
                           part->first, part->sectors,
                           drive->table == TABLE_GPT ? part->maker->gpt_type : part->maker->type);
    if (drive->table == TABLE_GPT)
        g_string_append_printf(script, ",name=\"Tray %u Größe\"%s", index,
                               index == 0 ? ",attrs=\"RequiredPartition GUID:60\"" : "");
    else if (index == 0 && drive->primaries > 0)
        g_string_append(script, ",bootable");
    g_string_append_c(script, '\n');
}

static void make_table(const Drive *drive)
{
    g_autoptr(GString) script =
        g_string_new(drive->table == TABLE_GPT ? "label: gpt\n" : "label: dos\n");
    for (guint i = 0; i < drive->primaries; i++)
        add_part(drive, i, script);
    if (drive->primaries < drive->count) {
        const Part *first = &drive->parts[drive->primaries];
        const Part *last = &drive->parts[drive->count - 1];
        g_string_append_printf(
            script, "start=%" G_GUINT64_FORMAT ",size=%" G_GUINT64_FORMAT ",type=5\n",
            first->first - MIB_SECTORS, last->first + last->sectors - (first->first - MIB_SECTORS));
        for (guint i = drive->primaries; i < drive->count; i++)
            add_part(drive, i, script);
    }
    write_file("script", script->str, script->len);
    must("rm -f drive.img && truncate -s %" G_GUINT64_FORMAT " drive.img && "
         "sfdisk -q --wipe always drive.img <script >maker.log 2>&1 || { cat maker.log script >&2; "
         "false; }",
         drive->sectors * SECTOR);
}

/* Some files in folders, from nothing to a MiB, other ones for each drive. */
static void make_files(GRand *random)
{
    must("rm -rf files && mkdir -p files/Catalogue/2025 files/Photos");
    for (guint i = 0; i < FILES; i++) {
        static const char *const folders[] = {".", "Catalogue", "Catalogue/2025", "Photos"};
        gsize length = (gsize)g_rand_int_range(random, 0, i % 4 == 0 ? 1 << 18 : 20000);
        g_autofree char *path = g_strdup_printf("files/%s/Tray %u.dat", folders[i % 4], i);
        g_autofree guint8 *bytes = g_malloc(MAX(length, 1));
        fill_noise(bytes, length, g_rand_int(random));
        write_file(path, bytes, i == 0 ? 0 : length);
    }
    must("cd files && find . -type f -print0 | xargs -0 sha256sum >../files.txt");
}

/* FALSE where the system cannot mount such a volume. */
static gboolean fill(const Part *part)
{
    if (part->maker->driver == NULL)
        return FALSE;
    g_auto(Result) up = shell("%s/tests/scripts/mount-volume %s part.img mount", EKTYPON_SOURCE,
                              part->maker->driver);
    if (up.status != 0)
        return FALSE;
    must("cp -r files/. mount/ && %s/tests/scripts/mount-volume --down part.img mount",
         EKTYPON_SOURCE);
    return TRUE;
}

static void make_volumes(Drive *drive)
{
    make_files(drive->random);
    for (guint i = 0; i < drive->count; i++) {
        Part *part = &drive->parts[i];
        g_autofree char *make = with_file(part->maker->make, "part.img");
        must("rm -f part.img && truncate -s %" G_GUINT64_FORMAT " part.img && %s >maker.log 2>&1",
             part->sectors * SECTOR, make);
        part->filled = fill(part);
        must("dd if=part.img of=drive.img bs=1M seek=%" G_GUINT64_FORMAT
             " conv=notrunc,sparse status=none",
             part->first / MIB_SECTORS);
    }
}

/* --- breaking ------------------------------------------------------------------------------- */

static void wipe(guint64 first, guint64 count)
{
    must("dd if=/dev/zero of=drive.img bs=512 seek=%" G_GUINT64_FORMAT " count=%" G_GUINT64_FORMAT
         " conv=notrunc status=none",
         first, count);
}

typedef enum {
    DAMAGE_START,   /* the table, or the first copy of it */
    DAMAGE_ENTRY,   /* one entry is off by a sector */
    DAMAGE_LINK,    /* a link of the chain, or a GPT's backup */
    DAMAGE_HEADERS, /* first headers of volumes */
    DAMAGES
} Damage;

static void break_link(const Drive *drive)
{
    if (drive->table == TABLE_GPT)
        wipe(drive->sectors - 33, 33);
    else if (drive->table == TABLE_LOGICAL)
        wipe(drive->parts[g_rand_int_range(drive->random, (gint)drive->primaries,
                                           (gint)drive->count)]
                     .first -
                 MIB_SECTORS,
             1);
}

/* Returns what was done, a bit for each. */
static guint break_drive(Drive *drive)
{
    guint done = (guint)g_rand_int_range(drive->random, 0, 1 << DAMAGES);
    if ((done & 1u << DAMAGE_START) != 0)
        wipe(0, drive->table == TABLE_GPT ? 34 : 1);
    else if ((done & 1u << DAMAGE_ENTRY) != 0)
        must("printf '\\001' | dd of=drive.img bs=1 seek=%u conv=notrunc status=none",
             drive->table == TABLE_GPT ? 1024 + 32 : 446 + 8);
    if ((done & 1u << DAMAGE_LINK) != 0 &&
        (drive->table != TABLE_GPT || (done & 1u << DAMAGE_START) == 0))
        break_link(drive);
    for (guint i = 0; i < drive->count; i++) {
        Part *part = &drive->parts[i];
        part->wiped = (done & 1u << DAMAGE_HEADERS) != 0 && part->maker->wiped > 0 &&
                      g_rand_boolean(drive->random) &&
                      (!part->maker->by_table || (done & ~(1u << DAMAGE_HEADERS)) == 0);
        if (part->wiped)
            wipe(part->first + part->maker->wiped_first, part->maker->wiped);
        if (part->wiped && part->maker->end_too)
            wipe(part->first + part->sectors - 1, 1);
    }
    return done;
}

/* --- looking -------------------------------------------------------------------------------- */

/* What the system's partition reader says, without what cannot be known once a table is gone. */
static char *table_of(const Drive *drive, const char *file, guint damage)
{
    g_auto(Result) dump = shell("sfdisk -d %s 2>/dev/null", file);
    GString *text = g_string_new(NULL);
    g_auto(GStrv) lines = g_strsplit(dump.out, "\n", -1);
    gboolean is_gone = drive->table != TABLE_GPT && (damage & 1u << DAMAGE_START) != 0;
    for (char **line = lines; *line != NULL; line++) {
        const char *colon = strstr(*line, " : ");
        if (colon == NULL && (is_gone || !g_str_has_prefix(*line, "label")))
            continue;
        g_autofree char *copy = g_strdup(colon != NULL ? strchr(*line, ' ') : *line);
        g_auto(GStrv) words = g_strsplit(copy, ",", -1);
        for (char **word = words; *word != NULL; word++) {
            g_strstrip(*word);
            /* Which one was active stood in the table only. */
            if (!(is_gone && g_str_equal(*word, "bootable")))
                g_string_append_printf(text, "%s ", *word);
        }
        g_string_append_c(text, '\n');
    }
    return g_string_free(text, FALSE);
}

static void check_table(const Drive *drive, const char *wanted, const char *file, guint damage)
{
    g_autofree char *is = table_of(drive, file, damage);
    CHECK_TEXT(is, wanted);
}

/* The system's own driver has every file as it was put in. */
static void check_files(const Part *part)
{
    if (!part->filled)
        return;
    must("%s/tests/scripts/mount-volume %s part.img mount", EKTYPON_SOURCE, part->maker->driver);
    g_auto(Result) sums = shell("cd mount && sha256sum --quiet -c ../files.txt");
    CHECK_STATUS(sums, 0);
    must("%s/tests/scripts/mount-volume --down part.img mount", EKTYPON_SOURCE);
}

static void check_volumes(const Drive *drive, const char *file)
{
    for (guint i = 0; i < drive->count; i++) {
        const Part *part = &drive->parts[i];
        must("rm -f part.img && dd if=%s of=part.img bs=1M skip=%" G_GUINT64_FORMAT
             " count=%" G_GUINT64_FORMAT " conv=sparse status=none",
             file, part->first / MIB_SECTORS, part->sectors / MIB_SECTORS);
        must("rm -f was.img && dd if=whole.img of=was.img bs=1M skip=%" G_GUINT64_FORMAT
             " count=%" G_GUINT64_FORMAT " conv=sparse status=none",
             part->first / MIB_SECTORS, part->sectors / MIB_SECTORS);
        g_autofree char *before =
            with_file(part->maker->check != NULL ? part->maker->check : "true", "was.img");
        g_autofree char *after =
            with_file(part->maker->check != NULL ? part->maker->check : "true", "part.img");
        g_auto(Result) was = shell("%s", before);
        g_auto(Result) is = shell("%s", after);
        if (was.status == 0 && is.status != 0) {
            fprintf(stderr, "\nits own checker is not content: %s\n%s%s", after, is.out, is.err);
            CHECK(FALSE);
        }
        if (!part->wiped)
            must("cmp part.img was.img");
        check_files(part);
    }
}

static guint count_of(json_t *plan, const char *list)
{
    return (guint)json_array_size(json_object_get(plan, list));
}

/* A drive that its systems read needs no edit. */
static void check_whole(void)
{
    must("rm -rf bench");
    done("new bench --adopt whole.img");
    done("hunt bench");
    g_auto(Result) result = ektypon("plan bench --json");
    json_t *plan = result_json(&result);
    CHECK_NUMBER(count_of(plan, "edits"), 0);
    if (count_of(plan, "edits") != 0)
        fprintf(stderr, "\na whole drive: %s", result.out);
    json_decref(plan);
}

static void carry_through(Drive *drive)
{
    draw(drive);
    make_table(drive);
    make_volumes(drive);
    must("cp --sparse=always drive.img whole.img");
    check_whole();
    guint damage = break_drive(drive);
    g_autofree char *wanted = table_of(drive, "whole.img", damage);
    must("rm -rf bench clone.img target.img && cp --sparse=always drive.img target.img");
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
    g_auto(Result) plan = ektypon("plan bench");
    CHECK_STATUS(plan, 0);
    CHECK(strstr(plan.out, "does not open") == NULL);
    CHECK_CONTAINS(plan.out, damage == 0 ? "" : "planned volume");
    done("clone bench clone.img");
    /* Without the table, and with a link missing, nothing tells that what it led to was logical. */
    guint both = 1u << DAMAGE_START | 1u << DAMAGE_LINK;
    if (drive->table != TABLE_LOGICAL || (damage & both) != both)
        check_table(drive, wanted, "clone.img", damage);
    check_volumes(drive, "clone.img");
    done("apply bench target.img");
    must("cmp clone.img target.img");
    g_auto(Result) undo = ektypon("undo bench target.img");
    CHECK(undo.status == 0 || strstr(plan.out, "The plan is empty") != NULL);
    must("cmp drive.img target.img");
}

static void what_was_broken_is_rebuilt(void)
{
    guint32 seed = test_seed();
    const char *wanted = g_getenv("EKTYPON_TEST_DRIVES");
    guint drives = wanted != NULL ? (guint)g_ascii_strtoull(wanted, NULL, 10) : DRIVES;
    for (guint i = 0; i < drives; i++) {
        g_autoptr(GRand) random = g_rand_new_with_seed(seed + i);
        Drive drive = {.random = random};
        guint before = CU_get_number_of_failures();
        carry_through(&drive);
        if (CU_get_number_of_failures() != before)
            fprintf(stderr, "\nthat was seed %u\n", seed + i);
    }
}

/* --- wishes --------------------------------------------------------------------------------- */

static void make_case(void)
{
    must("rm -rf bench");
    done("new bench drive.img");
    done("image bench");
    done("hunt bench");
}

/* How many partitions a plan made so has. */
static guint planned(const char *options)
{
    g_auto(Result) result = ektypon("plan bench %s --json", options);
    CHECK_STATUS(result, 0);
    json_t *plan = result_json(&result);
    guint count = count_of(plan, "partitions");
    json_decref(plan);
    return count;
}

/* An NTFS over all of it, then two FAT32 in its place: either can be planned. */
static void what_was_there_before_can_be_planned(void)
{
    must("rm -f drive.img && truncate -s 200M drive.img");
    lay("mkntfs -q -F -s 512 -p 2048 -H 255 -S 63", 190, 2048);
    must("dd if=/dev/zero of=drive.img bs=1M seek=1 count=1 conv=notrunc status=none");
    lay("mkfs.fat -F 32 -s 1", 48, 2048);
    lay("mkfs.fat -F 32 -s 1", 64, 2048 + 98304);
    make_case();
    g_auto(Result) first = ektypon("plan bench");
    CHECK_STATUS(first, 0);
    CHECK_CONTAINS(first.out, "a newer volume overlaps it");
    CHECK_CONTAINS(first.out, "--alternative 1: volume ");
    CHECK_CONTAINS(first.out, "To plan an older one: --layer 2");
    CHECK_NUMBER(planned(""), 2);
    CHECK_NUMBER(planned("--alternative 1"), 1);
    CHECK_NUMBER(planned(""), 2);
    CHECK_NUMBER(planned("--layer 2"), 1);
    g_auto(Result) older = ektypon("plan bench --layer 2 --json");
    json_t *plan = result_json(&older);
    json_t *only = json_array_get(json_object_get(plan, "partitions"), 0);
    guint64 number = json_u64(only, "volume");
    CHECK_NUMBER(json_u64(only, "sectors"), 190 * MIB_SECTORS);
    json_decref(plan);
    g_autofree char *keep = g_strdup_printf("--keep %" G_GUINT64_FORMAT, number);
    CHECK_NUMBER(planned(keep), 1);
    CHECK_NUMBER(planned("--drop 1,2,3"), 0);
    CHECK_NUMBER(planned("--drop 1 --drop 2 --add ext4:4096:8192"), 1);
}

/* No table is left: what holds the boot loader was the active partition. */
static void what_boots_is_made_active(void)
{
    must("rm -f drive.img && truncate -s 120M drive.img && echo loader >BOOTMGR");
    lay("mkfs.fat -F 32 -s 1", 40, 2048);
    lay("mkfs.fat -F 32 -s 1", 40, 2048 + 40 * MIB_SECTORS);
    must("MTOOLS_SKIP_CHECK=1 mcopy -i drive.img@@42991616 BOOTMGR ::");
    make_case();
    g_auto(Result) plan = ektypon("plan bench");
    CHECK_CONTAINS(plan.out, "partition 2 is marked active");
    must("rm -f clone.img");
    done("clone bench clone.img");
    must("sfdisk -d clone.img | grep -c bootable | grep -qx 1 && "
         "sfdisk -d clone.img | grep bootable | grep -q 'start=       83968'");
}

/* One that is no picture, whatever its name says; one that is a document; one of no kind. */
static void files_are_looked_at(void)
{
    must("rm -f drive.img && truncate -s 60M drive.img && echo trays >p.jpg && "
         "printf '%%%%PDF-1.4' >d.pdf && echo note >n.txt");
    lay("mkfs.fat -F 32 -s 1", 40, 2048);
    must("MTOOLS_SKIP_CHECK=1 mcopy -i drive.img@@1048576 p.jpg d.pdf n.txt ::");
    make_case();
    g_auto(Result) plan = ektypon("plan bench");
    CHECK_CONTAINS(plan.out, "file type check: only 1 of 2 match their names");
}

/* What the user says counts more than the table that stands there. */
static void a_partition_is_as_long_as_it_is_said_to_be(void)
{
    must("rm -f drive.img && truncate -s 60M drive.img && "
         "printf 'label: dos\\nstart=2048,size=65536,type=83\\n' | sfdisk -q drive.img");
    lay("mke2fs -q -F -t ext2 -b 1024", 16, 2048);
    make_case();
    g_auto(Result) kept = ektypon("plan bench --json");
    CHECK_CONTAINS(kept.out, "\"sectors\": 65536");
    g_auto(Result) said = ektypon("plan bench --resize 1:40960 --json");
    CHECK_CONTAINS(said.out, "\"sectors\": 40960");
    g_auto(Result) added = ektypon("plan bench --drop 1 --add fat32:2048:4096 --json");
    CHECK_CONTAINS(added.out, "\"sectors\": 4096");
}

static void wishes_that_cannot_be_had_leave_the_plan(void)
{
    static const struct {
        const char *options;
        int status;
        const char *told;
    } wishes[] = {
        {"--keep 9", 1, "no such volume: 9"},
        {"--drop 9", 1, "no such volume: 9"},
        {"--keep one", 2, "expected volume numbers"},
        {"--keep 0", 2, "expected volume numbers"},
        {"--add ext4:0:100", 1, "A partition must lie between sectors 1"},
        {"--add ext4:2048:0", 1, "A partition must lie between sectors 1"},
        {"--add ext4:999999999:10", 1, "A partition must lie between sectors 1"},
        {"--add ext4:99999999999999999999:10", 2, "--add ext4:2048:204800"},
        {"--add ext4:18446744073709551615:2", 2, "--add ext4:2048:204800"},
        {"--add ext4:2048", 2, "--add ext4:2048:204800"},
        {"--add tape:2048:10", 1, "is not a file system that a partition can hold"},
        {"--add ext4:60000:100 --add ntfs:60050:100", 1, "two --add partitions overlap"},
        {"--keep 1 --add ext4:2050:10", 1, "--add and --keep 1 overlap"},
        {"--resize 7:100", 1, "no such volume: 7"},
        {"--resize 1:0", 2, "--resize 2:204800"},
        {"--keep 1 --resize 1:8", 1, "--keep 1: it needs 32768 sectors"},
        {"--keep 1 --resize 1:99999999", 1, "past the end of this drive"},
        {"--scheme tape", 2, "mbr, gpt, apm or none"},
        {"--scheme tape --json", 2, "mbr, gpt, apm or none"},
        {"--alternative 3", 2, "the last plan has 0 alternatives"},
        {"--show --alternative 1", 2, "cannot be combined with planning options"},
        {"--layer 9", 1, "1 layer of volumes"},
        {"--layer -1", 2, "1 is the newest"},
        {"--table-sectors 100", 2, "512, 1024, 2048 or 4096"},
        {"--show --keep 1", 2, "cannot be combined with planning options"},
        {"--show --edit 99", 2, "the plan has"},
    };
    must("rm -f drive.img && truncate -s 60M drive.img");
    lay("mke2fs -q -F -t ext2 -b 1024", 16, 2048);
    make_case();
    done("plan bench");
    g_auto(Result) before = ektypon("plan bench --show --json");
    for (gsize i = 0; i < G_N_ELEMENTS(wishes); i++) {
        g_auto(Result) result = ektypon("plan bench %s", wishes[i].options);
        CHECK_STATUS(result, wishes[i].status);
        CHECK_CONTAINS(result.err, wishes[i].told);
    }
    g_auto(Result) after = ektypon("plan bench --show --json");
    CHECK_TEXT(after.out, before.out);
}

/* More than any table has room for: as many as it takes, the others are named. */
static void more_partitions_than_there_is_room_for(void)
{
    g_autoptr(GString) options = g_string_new(NULL);
    for (guint i = 0; i < 200; i++)
        g_string_append_printf(options, " --add ext2:%u:100", 40000 + i * 200);
    must("rm -f drive.img && truncate -s 60M drive.img");
    lay("mke2fs -q -F -t ext2 -b 1024", 16, 2048);
    make_case();
    g_auto(Result) mbr = ektypon("plan bench --scheme mbr%s", options->str);
    CHECK_STATUS(mbr, 0);
    CHECK_CONTAINS(mbr.out, "is left out: there are more than 127");
    done("clone bench clone.img");
    g_auto(Result) read = shell("sfdisk -d clone.img 2>/dev/null | grep -c type=83");
    CHECK(g_ascii_strtoull(read.out, NULL, 10) >= 50); /* no system's reader goes on for ever */
    g_auto(Result) gpt = ektypon("plan bench --scheme gpt%s", options->str);
    CHECK_STATUS(gpt, 0);
    must("rm -f clone.img");
    done("clone bench clone.img");
    must("sfdisk -V clone.img >/dev/null 2>&1 && test $(sfdisk -d clone.img | grep -c 'type=0FC') "
         "-eq 127");
}

/* Two plans on one target, one after the other: undo takes them back one by one. */
static void plans_stack(void)
{
    must("rm -f drive.img target.img && truncate -s 60M drive.img");
    lay("mke2fs -q -F -t ext2 -b 1024", 16, 2048);
    lay("mkfs.exfat", 16, 65536);
    make_case();
    must("cp drive.img target.img");
    done("plan bench --scheme mbr");
    done("apply bench target.img");
    must("cp target.img first.img");
    done("plan bench --scheme gpt --drop 2");
    done("apply bench target.img");
    must("sfdisk -V target.img >/dev/null 2>&1 && sfdisk -d target.img | grep -q 'label: gpt'");
    /* It is what the second plan alone would have made. */
    must("cp drive.img alone.img");
    done("apply bench alone.img");
    must("cmp alone.img target.img");
    done("undo bench target.img");
    must("cmp first.img target.img");
    done("undo bench target.img");
    must("cmp drive.img target.img");
    g_auto(Result) third = ektypon("undo bench target.img");
    CHECK_CONTAINS(third.err, "nothing to undo");
    /* The image of the case as well: what was read stays what it is. */
    must("cp bench/image.raw as-read.raw");
    done("plan bench --scheme mbr");
    done("apply bench bench/image.raw");
    done("plan bench --scheme gpt");
    done("apply bench bench/image.raw");
    done("image bench --check");
    done("undo bench bench/image.raw");
    done("undo bench bench/image.raw");
    must("cmp as-read.raw bench/image.raw");
}

/* The original is written to only when it is all read and meant; and gets its bytes back. */
static void the_original_gets_its_bytes_back(void)
{
    must("rm -f drive.img clone.img && truncate -s 60M drive.img");
    lay("mke2fs -q -F -t ext2 -b 1024", 16, 2048);
    must("dd if=/dev/zero of=drive.img bs=512 seek=2050 count=2 conv=notrunc status=none && "
         "cp drive.img was.img");
    make_case();
    done("plan bench");
    done("clone bench clone.img");
    g_auto(Result) refused = ektypon("apply bench drive.img");
    CHECK_STATUS(refused, 4);
    CHECK_CONTAINS(refused.err, "counts as the original");
    must("cmp drive.img was.img");
    done("apply bench drive.img --confirm drive.img");
    must("cmp drive.img clone.img");
    done("undo bench drive.img --confirm drive.img");
    must("cmp drive.img was.img");
}

/* Cut off again and again, it goes on, and ends as it would have. */
static void an_interrupted_clone_goes_on(void)
{
    must("rm -f drive.img clone.img && truncate -s 600M drive.img");
    lay("mke2fs -q -F -t ext2 -b 1024", 16, 2048);
    must("dd if=/dev/urandom of=drive.img bs=1M seek=100 count=40 conv=notrunc status=none && "
         "dd if=/dev/urandom of=drive.img bs=1M seek=560 count=20 conv=notrunc status=none");
    make_case();
    done("plan bench");
    for (guint i = 0; i < 3; i++)
        must("rm -f going; %s clone bench clone.img >out.log 2>&1 & pid=$!; "
             "while kill -0 $pid 2>/dev/null && test ! -e clone.img; do :; done; "
             "kill -INT $pid 2>/dev/null; wait $pid; true",
             EKTYPON_PROGRAM_PATH);
    g_auto(Result) last = ektypon("clone bench clone.img");
    CHECK(last.status == 0 || strstr(last.err, "exists") != NULL);
    must("cp --sparse=always drive.img wanted.img");
    done("apply bench wanted.img");
    must("cmp clone.img wanted.img");
    /* What was planned anew in between is in it. */
    must("rm -f clone.img");
    must("%s clone bench clone.img >out.log 2>&1 & pid=$!; "
         "while kill -0 $pid 2>/dev/null && test ! -e clone.img; do :; done; "
         "kill -INT $pid 2>/dev/null; wait $pid; true",
         EKTYPON_PROGRAM_PATH);
    done("plan bench --scheme gpt");
    g_auto(Result) anew = ektypon("clone bench clone.img");
    CHECK(anew.status == 0 || strstr(anew.err, "exists") != NULL);
    if (anew.status == 0)
        must("sfdisk -V clone.img >/dev/null 2>&1");
}

int main(void)
{
    static const Test tests[] = {
        {"what was broken is rebuilt", what_was_broken_is_rebuilt},
        {"what was there before can be planned", what_was_there_before_can_be_planned},
        {"what boots is made active", what_boots_is_made_active},
        {"files are looked at", files_are_looked_at},
        {"a partition is as long as it is said to be", a_partition_is_as_long_as_it_is_said_to_be},
        {"wishes that cannot be had leave the plan", wishes_that_cannot_be_had_leave_the_plan},
        {"plans stack", plans_stack},
        {"the original gets its bytes back", the_original_gets_its_bytes_back},
        {"an interrupted clone goes on", an_interrupted_clone_goes_on},
        {"more partitions than there is room for", more_partitions_than_there_is_room_for}};
    return RUN_TESTS("rebuilds", tests);
}
