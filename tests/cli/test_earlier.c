/* SPDX-License-Identifier: MIT */
/* Volumes that were formatted over, in the same place or a little behind it, deleted from, or lost
 * their root folder or their tables: made by the system's makers, filled by its drivers, filled
 * again, a part of them not read. What still has its record and its content comes out right, and
 * nothing is called whole that is not. The truth is read off the drive as it is left. */
#include "check.h"
#include "fixture.h"
#include "plain.h"
#include "program.h"
#include "truth.h"
#include "volumes.h"

#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#define MIB 96u
#define FILES_LEAST 60
#define FILES_MOST 160
#define FEW 10u          /* files of many drives */
#define FEW_OF_A_FEW 40u /* of so few that one may be among the hardest */
#define MANY_DRIVES 100u
#define HFSPLUS                                                                                    \
    "(composed)"       /* nothing makes and fills HFS+ here: its files are no others than its own */
#define HFS_ROOM 4600u /* files that it is laid out for */
#define HFS_FILES_MOST 3200u
#define HFS_EPOCH 2082844800 /* seconds from 1904 to 1970 */
#define DAY 86400

typedef struct {
    Kind kind;
    const char *format; /* of the second reader */
} Older;

static const Older olders[] = {
    {{.filesystem = "ntfs", .make = "mkfs.ntfs -Q -q -F", .step = 2}, "ntfs"},
    {{.filesystem = "ntfs", .make = "mkfs.ntfs -Q -q -F -c 1024", .step = 2}, "ntfs"},
    {{.filesystem = "ntfs", .make = "mkfs.ntfs -Q -q -F -c 16384", .step = 2}, "ntfs"},
    {{.filesystem = "fat32", .make = "mkfs.vfat -F 32", .step = 2, .is_simple = TRUE}, "fat"},
    {{.filesystem = "fat16", .make = "mkfs.vfat -F 16", .step = 2, .is_simple = TRUE}, "fat"},
    {{.filesystem = "exfat", .make = "mkfs.exfat", .step = 2}, "exfat"},
    {{.filesystem = "exfat", .make = "mkfs.exfat -c 4096", .step = 2}, "exfat"},
    {{.filesystem = "ext4",
      .make = "mke2fs -q -t ext4 -F -E nodiscard,lazy_itable_init=1",
      .step = 1},
     "ext"},
    {{.filesystem = "ext4",
      .make = "mke2fs -q -t ext4 -F -b 1024 -E nodiscard,lazy_itable_init=1",
      .step = 1},
     "ext"},
    {{.filesystem = "ext3", .make = "mke2fs -q -t ext3 -F -E nodiscard", .step = 1}, "ext"},
    {{.filesystem = "hfsplus", .make = HFSPLUS, .step = 1}, "hfsplus"},
};

/* What is made over it, by a quick format as all makers do it. */
static const struct {
    const char *filesystem;
    const char *make;
} newers[] = {
    {"ntfs", "mkfs.ntfs -Q -q -F"},
    {"ntfs", "mkfs.ntfs -Q -q -F -c 2048"},
    {"fat32", "mkfs.vfat -F 32"},
    {"fat32", "mkfs.vfat -F 32 -s 4"},
    {"exfat", "mkfs.exfat"},
    {"exfat", "mkfs.exfat -c 16384"},
    {"ext4", "mke2fs -q -t ext4 -F -E nodiscard,lazy_itable_init=1"},
    {"ext4", "mke2fs -q -t ext4 -F -b 1024 -E nodiscard,lazy_itable_init=1"},
    {"hfsplus", HFSPLUS},
};

/* What happens to a volume. */
typedef enum { FORMATTED, SHIFTED, DELETED, NO_ROOT, NO_TABLES, EVENTS } Event;

static const char *const event_names[EVENTS] = {"formatted", "formatted a MiB on", "deleted from",
                                                "root zeroed", "tables zeroed"};

static const guint refills[] = {0, 0, 1, 10, 50}; /* in percent */

typedef struct {
    guint drives;
    guint recoverable; /* record and content are still there */
    guint right;       /* came out so */
    guint nameable;    /* of the recoverable: the name is still there too */
    guint named;
    guint with_path; /* of the recoverable: all of the way is there too */
    guint path_right;
    guint lies; /* called whole, and nobody's content */
} Tally;

/* Makes of a sector or a record what does not change when its file is deleted. */
static void level(const char *format, guint8 *data, gsize bytes)
{
    if (g_str_equal(format, "ntfs") && bytes >= 1024 && memcmp(data, "FILE", 4) == 0) {
        memset(data + 8, 0, 16); /* what was logged last, sequence, links, flags, length */
        memset(data + 48, 0, 8); /* the numbers at the ends of its sectors */
        for (gsize at = 510; at + 2 <= bytes; at += 512)
            memset(data + at, 0, 2);
    }
    for (gsize at = 0; g_str_has_suffix(format, "fat") && at + 32 <= bytes; at += 32)
        data[at] = g_str_equal(format, "exfat") ? data[at] | 0x80 : data[at] != 0 ? 0xe5 : 0;
}

/* Does a record, or an entry, still say what it said? */
static gboolean still_says(const char *format, const guint8 *before, const guint8 *after,
                           const PlainNeed *need)
{
    if (memcmp(before + need->place, after + need->place, need->bytes) == 0)
        return TRUE;
    g_autofree guint8 *old = g_memdup2(before + need->place, need->bytes);
    g_autofree guint8 *now = g_memdup2(after + need->place, need->bytes);
    level(format, old, need->bytes);
    level(format, now, need->bytes);
    return memcmp(old, now, need->bytes) == 0;
}

static gboolean all_say(const char *format, const guint8 *before, const guint8 *after,
                        const GArray *needs)
{
    for (guint i = 0; i < needs->len; i++)
        if (!still_says(format, before, after, &g_array_index(needs, PlainNeed, i)))
            return FALSE;
    return TRUE;
}

/* --- HFS+ --------------------------------------------------------------------------------------
 */

/* What is made over others is younger than what drivers wrote just now, and what was there before
 * is older. */
static HfsPlan hfs_plan(GRand *random, guint files, gboolean is_newer)
{
    gint64 now = g_get_real_time() / G_USEC_PER_SEC + HFS_EPOCH;
    gint64 made = now + (is_newer ? DAY : -365 * DAY);
    return (HfsPlan){.block_bytes = 4096,
                     .node_bytes = 8192,
                     .files = files,
                     .has_journal = TRUE,
                     .folders = (guint)g_rand_int_range(random, 0, 9),
                     .room = HFS_ROOM,
                     .made = (guint32)made};
}

static void add_sums(const PlainVolume *plain, const guint8 *image, GHashTable *sums)
{
    for (guint i = 0; i < plain->files->len; i++)
        g_hash_table_add(sums, plain_sha256(plain, plain->files->pdata[i], image));
}

/* On a drive that holds something else, or nothing. */
static void lay_hfs(const HfsPlan *plan, gboolean clears, guint8 *drive, gsize length,
                    GHashTable *sums)
{
    composed_hfs_over(drive, length, plan, clears);
    g_autoptr(PlainVolume) plain = plain_read("hfsplus", drive, length);
    add_sums(plain, drive, sums);
}

/* --- a drive ---------------------------------------------------------------------------------- */

/* Files without a way to lie in pieces: the order is the driver's. FALSE: it cannot be mounted. */
static gboolean put_in(const char *filesystem, const char *folder)
{
    if (g_str_has_prefix(filesystem, "fat")) {
        /* What no longer finds room in the root is not put in. */
        must("export MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8; "
             "mcopy -Q -m -s -i v.img %s/* :: >copied.log 2>&1 || true",
             folder);
        return TRUE;
    }
    g_auto(Result) up =
        shell("%s/tests/scripts/mount-volume %s v.img mount", EKTYPON_SOURCE, filesystem);
    if (up.status != 0)
        return FALSE;
    must("cp -a %s/. mount/ 2>/dev/null; sync -f mount; "
         "%s/tests/scripts/mount-volume --down v.img mount",
         folder, EKTYPON_SOURCE);
    return TRUE;
}

/* New files of so much, and what each of them is. */
static void make_new_ones(GRand *random, guint percent, GHashTable *sums)
{
    guint64 left = (guint64)MIB * 10486u * percent;
    must("rm -rf new; mkdir new");
    for (guint i = 0; left > 0 && percent > 0; i++) {
        guint64 wanted = (guint64)g_rand_int_range(random, 1, 1 << 20);
        gsize size = (gsize)MIN(wanted, left);
        g_autofree guint8 *data = g_malloc(size);
        g_autofree char *path = g_strdup_printf("new/later %u", i);
        fill_noise(data, size, g_rand_int(random));
        CHECK(g_file_set_contents(path, (const char *)data, (gssize)size, NULL));
        g_hash_table_add(sums, file_sha256(path));
        left -= size;
    }
}

/* What one extraction gave, by its sum: the paths, joined by line ends. */
static void take_volume(guint64 number, const char *options, const Truth *truth,
                        GHashTable *new_sums, GHashTable *out, Tally *tally)
{
    g_auto(Result) result =
        ektypon("extract bench %" G_GUINT64_FORMAT " --to out --json%s", number, options);
    json_t *extracted = result.status == 0 || result.status == 3 ? result_json(&result) : NULL;
    json_t *files = extracted != NULL ? json_object_get(extracted, "files") : NULL;
    for (gsize i = 0; i < json_array_size(files); i++) {
        json_t *file = json_array_get(files, i);
        const char *sum = json_text(file, "sha256");
        if (sum == NULL)
            continue;
        if (g_str_equal(json_text(file, "condition"), "whole") &&
            !g_hash_table_contains(truth->sums, sum) && !g_hash_table_contains(new_sums, sum)) {
            tally->lies++;
            fprintf(stderr, "\nnobody's content: volume %u %s", (guint)number,
                    json_text(file, "path"));
        }
        const char *known = g_hash_table_lookup(out, sum);
        g_hash_table_insert(
            out, g_strdup(sum),
            g_strdup_printf("%s%s\n", known != NULL ? known : "", json_text(file, "path")));
    }
    if (extracted != NULL)
        json_decref(extracted);
}

static GHashTable *take_out(const Truth *truth, gboolean is_masked, GHashTable *new_sums,
                            Tally *tally)
{
    GHashTable *out = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    must("rm -rf bench out");
    done("new bench --adopt v.img%s", is_masked ? " --bad-list unread.txt" : "");
    done("hunt bench");
    if (g_getenv("EKTYPON_TEST_KEEP") != NULL)
        must("cp --sparse=always v.img '%s'", g_getenv("EKTYPON_TEST_KEEP"));
    g_auto(Result) listed = ektypon("volumes bench --all --json");
    json_t *json = result_json(&listed);
    json_t *volumes = json_object_get(json, "volumes");
    for (gsize i = 0; i < json_array_size(volumes); i++) {
        guint64 number = json_u64(json_array_get(volumes, i), "number");
        take_volume(number, "", truth, new_sums, out, tally);
        take_volume(number, " --deleted", truth, new_sums, out, tally);
    }
    json_decref(json);
    return out;
}

static gboolean has_line(const char *lines, const char *wanted, gboolean name_only)
{
    g_auto(GStrv) all = g_strsplit(lines, "\n", -1);
    g_autofree char *name = g_path_get_basename(wanted);
    for (char **line = all; *line != NULL; line++) {
        g_autofree char *own = g_path_get_basename(*line);
        if (name_only ? g_str_equal(own, name)
                      : g_str_equal(*line, wanted) || g_str_has_suffix(*line, wanted))
            return TRUE;
    }
    return FALSE;
}

/* Is what says where it lies still there? A deleted file's chain, and any in a FAT that was
 * cleared, is gone: an entry says it of a file that lies in one piece. */
static gboolean has_record(const char *format, const guint8 *before, const guint8 *after,
                           const PlainFile *file)
{
    if (!g_str_has_suffix(format, "fat"))
        return all_say(format, before, after, file->map);
    const PlainNeed *own = &g_array_index(file->way, PlainNeed, file->way->len - 1);
    return (file->pieces->len == 1 || all_say(format, before, after, file->map)) &&
           still_says(format, before, after, own);
}

/* Is its name? In ext it stands in the folder; the needs of a file's way end with name and inode.
 */
static gboolean has_name(const char *format, const guint8 *before, const guint8 *after,
                         const PlainFile *file)
{
    if (!g_str_equal(format, "ext"))
        return TRUE;
    const PlainNeed *name = &g_array_index(file->way, PlainNeed, file->way->len - 2);
    return file->way->len >= 2 && still_says(format, before, after, name);
}

/* Records of HFS+ count blocks: without its header, or a copy of that, nothing tells where these
 * are, nor how large. */
static gboolean has_geometry(const char *format, const guint8 *before, const guint8 *after)
{
    for (gsize at = 0; g_str_equal(format, "hfsplus") && at < (gsize)MIB << 20; at += 512)
        if (memcmp(before + at, "H+\0\4", 4) == 0 && memcmp(before + at, after + at, 512) == 0)
            return TRUE;
    return !g_str_equal(format, "hfsplus");
}

static void judge(const char *format, const PlainVolume *plain, const guint8 *before,
                  const guint8 *after, GHashTable *out, Tally *tally)
{
    for (guint i = 0; i < plain->files->len; i++) {
        const PlainFile *file = plain->files->pdata[i];
        gboolean is_there = file->size > 0 && !file->is_packed && file->pieces->len > 0 &&
                            has_record(format, before, after, file);
        for (guint k = 0; k < file->pieces->len && is_there; k++) {
            const PlainPiece *piece = &g_array_index(file->pieces, PlainPiece, k);
            is_there = memcmp(before + piece->place, after + piece->place, piece->bytes) == 0;
        }
        if (!is_there)
            continue;
        g_autofree char *sum = plain_sha256(plain, file, before);
        const char *paths = g_hash_table_lookup(out, sum);
        gboolean has_way = all_say(format, before, after, file->way);
        tally->recoverable++;
        tally->right += paths != NULL ? 1 : 0;
        gboolean is_nameable = has_name(format, before, after, file);
        tally->nameable += is_nameable ? 1 : 0;
        tally->named += is_nameable && paths != NULL && has_line(paths, file->path, TRUE) ? 1 : 0;
        tally->with_path += has_way ? 1 : 0;
        tally->path_right += has_way && paths != NULL && has_line(paths, file->path, FALSE) ? 1 : 0;
        if (is_nameable && paths != NULL && !has_line(paths, file->path, TRUE) &&
            g_getenv("EKTYPON_TEST_TELL") != NULL)
            fprintf(stderr, "\nmisnamed: %s, came out as %s", file->path, paths);
        if (has_way && paths != NULL && !has_line(paths, file->path, FALSE) &&
            g_getenv("EKTYPON_TEST_TELL") != NULL)
            fprintf(stderr, "\nelsewhere: %s, came out as %s", file->path, paths);
        if (paths == NULL && g_getenv("EKTYPON_TEST_TELL") != NULL)
            fprintf(stderr, "\nmissed: %s (%" G_GUINT64_FORMAT " bytes)", file->path, file->size);
    }
}

/* --- what happens to it ----------------------------------------------------------------------- */

typedef struct {
    const Older *older;
    guint newer;
    Event event;
    guint percent; /* that is filled in afterwards */
    gboolean is_masked;
    GHashTable *new_sums;
    HfsPlan plan; /* of what is made over it, when that is HFS+ */
} Fate;

static void put_bytes(const guint8 *bytes, gsize length)
{
    CHECK(g_file_set_contents("v.img", (const char *)bytes, (gssize)length, NULL));
}

/* Another volume is made in the last part of the drive, without a change to what it leaves free. */
static gboolean format_behind(const Fate *fate)
{
    if (g_str_equal(newers[fate->newer].filesystem, "hfsplus")) {
        gsize length = 0;
        g_autofree guint8 *all = read_file("v.img", &length);
        HfsPlan plan = fate->plan;
        plan.room -= 100;
        lay_hfs(&plan, !g_str_equal(fate->older->format, "hfsplus"), all + (1 << 20),
                length - (1 << 20), fate->new_sums);
        put_bytes(all, length);
        return TRUE;
    }
    must("mv v.img all.img; tail -c +1048577 all.img >v.img; %s v.img >maker.log 2>&1",
         newers[fate->newer].make);
    gboolean fine = fate->percent == 0 || put_in(newers[fate->newer].filesystem, "new");
    must("dd if=v.img of=all.img bs=1M seek=1 conv=notrunc status=none; mv all.img v.img");
    return fine;
}

/* Every third file, and all of one folder. */
static gboolean delete_some(const char *filesystem)
{
    if (g_str_has_prefix(filesystem, "fat")) {
        must("export MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8; (cd truth && find . -type f | sort) | "
             "awk 'NR %% 3 == 0' | while IFS= read -r name; do mdel -i v.img \"::${name#.}\" "
             "</dev/null >/dev/null 2>&1 || true; done; folder=$(cd truth && find . -mindepth 1 "
             "-maxdepth 1 -type d | sort | head -1); [ -z \"$folder\" ] || mdeltree -i v.img "
             "\"::${folder#.}\" </dev/null >/dev/null 2>&1 || true");
        return TRUE;
    }
    g_auto(Result) up =
        shell("%s/tests/scripts/mount-volume %s v.img mount", EKTYPON_SOURCE, filesystem);
    if (up.status != 0)
        return FALSE;
    must("cd mount && find . -type f | sort | awk 'NR %% 3 == 0' | while IFS= read -r name; do "
         "rm -f -- \"$name\"; done; folder=$(find . -mindepth 1 -maxdepth 1 -type d ! -name "
         "lost+found | sort | head -1); [ -z \"$folder\" ] || rm -rf -- \"$folder\"; cd ..; "
         "sync -f mount; %s/tests/scripts/mount-volume --down v.img mount",
         EKTYPON_SOURCE);
    return TRUE;
}

/* What leads from the root folder to the rest; of NTFS, where names are in records, its own. */
static void zero_root(const char *format, const PlainVolume *plain, guint8 *bytes)
{
    Plain drive = {bytes, (gsize)MIB << 20};
    if (g_str_equal(format, "ntfs")) {
        memset(bytes + p64(&drive, 48) * bytes[13] * 512 + 5 * 1024, 0, 1024);
        return;
    }
    for (guint i = 0; i < plain->files->len; i++) {
        const PlainFile *file = plain->files->pdata[i];
        const PlainNeed *first = &g_array_index(file->way, PlainNeed, 0);
        memset(bytes + first->place, 0, first->bytes);
    }
}

/* Both FATs, the first records, or the superblock with the descriptors behind it. */
static void zero_tables(const char *format, guint8 *bytes)
{
    Plain plain = {bytes, (gsize)MIB << 20};
    guint64 size = 512;
    if (g_str_equal(format, "fat")) {
        guint64 sectors = p16(&plain, 22) != 0 ? p16(&plain, 22) : p32(&plain, 36);
        memset(bytes + p16(&plain, 14) * size, 0, (gsize)(2 * sectors * size));
    } else if (g_str_equal(format, "exfat")) {
        memset(bytes + p32(&plain, 80) * size, 0, (gsize)(p32(&plain, 84) * size));
    } else if (g_str_equal(format, "ntfs")) {
        guint64 cluster = bytes[13] * size;
        memset(bytes + p64(&plain, 48) * cluster, 0, 24 * 1024);
    } else {
        memset(bytes + 1024, 0, 7 * 1024);
    }
}

/* A tenth of the drive is not read: zeros are in the image, and nothing of that is truth. */
static void mask(GRand *random, guint8 *after, const guint8 *before)
{
    g_autoptr(GString) list = g_string_new(NULL);
    gsize length = 0;
    g_autofree guint8 *image = read_file("v.img", &length);
    for (gsize at = 0; at < length;) {
        gsize good = (gsize)g_rand_int_range(random, 1, 2000) * 512;
        gsize bad = (gsize)g_rand_int_range(random, 1, 220) * 512;
        at += good;
        if (at + bad < length) {
            g_string_append_printf(list, "%" G_GSIZE_FORMAT " %" G_GSIZE_FORMAT "\n", at / 512,
                                   bad / 512);
            memset(image + at, 0, bad);
            for (gsize i = at; i < at + bad; i++)
                after[i] = (guint8)~before[i];
        }
        at += bad;
    }
    put_bytes(image, length);
    write_file("unread.txt", list->str, list->len);
}

/* Some thousand files, as one that is no longer new has them. */
static gboolean put_hfs(GRand *random, Truth *truth)
{
    HfsPlan plan =
        hfs_plan(random, (guint)g_rand_int_range(random, 200, (gint)HFS_FILES_MOST), FALSE);
    gsize length = 0;
    g_autofree guint8 *drive = read_file("v.img", &length);
    lay_hfs(&plan, FALSE, drive, length, truth->sums);
    put_bytes(drive, length);
    return TRUE;
}

/* FALSE: what it takes cannot be mounted here. */
static gboolean let_happen(const Fate *fate, const PlainVolume *plain, const guint8 *before,
                           gsize length)
{
    const char *filesystem = fate->older->kind.filesystem;
    g_autofree guint8 *bytes = g_memdup2(before, length);
    switch (fate->event) {
    case FORMATTED:
        if (g_str_equal(newers[fate->newer].filesystem, "hfsplus")) {
            lay_hfs(&fate->plan, !g_str_equal(fate->older->format, "hfsplus"), bytes, length,
                    fate->new_sums);
            break;
        }
        must("%s v.img >maker.log 2>&1", newers[fate->newer].make);
        return fate->percent == 0 || put_in(newers[fate->newer].filesystem, "new");
    case SHIFTED: return format_behind(fate);
    case DELETED:
        return delete_some(filesystem) && (fate->percent == 0 || put_in(filesystem, "new"));
    case NO_ROOT: zero_root(fate->older->format, plain, bytes); break;
    case NO_TABLES:
    case EVENTS: zero_tables(fate->older->format, bytes); break;
    }
    put_bytes(bytes, length);
    return TRUE;
}

static Fate draw_fate(GRand *random)
{
    const char *kind = g_getenv("EKTYPON_TEST_KIND");
    const char *over = g_getenv("EKTYPON_TEST_OVER");
    Fate fate = {.older = &olders[g_rand_int_range(random, 0, G_N_ELEMENTS(olders))],
                 .newer = (guint)g_rand_int_range(random, 0, G_N_ELEMENTS(newers))};
    while (kind != NULL && !g_str_has_prefix(fate.older->kind.filesystem, kind))
        fate.older = &olders[g_rand_int_range(random, 0, G_N_ELEMENTS(olders))];
    /* Often the same file system is made again. */
    for (guint i = 0;
         i < 4 && !g_str_has_prefix(newers[fate.newer].filesystem, fate.older->kind.filesystem);
         i++)
        fate.newer = (guint)g_rand_int_range(random, 0, G_N_ELEMENTS(newers));
    while (over != NULL && !g_str_has_prefix(newers[fate.newer].filesystem, over))
        fate.newer = (guint)g_rand_int_range(random, 0, G_N_ELEMENTS(newers));
    fate.percent = refills[g_rand_int_range(random, 0, G_N_ELEMENTS(refills))];
    guint drawn = (guint)g_rand_int_range(random, 0, 10);
    fate.event = test_number("EKTYPON_TEST_EVENT", drawn < 5 ? FORMATTED : drawn - 4);
    if (fate.event >= EVENTS)
        fate.event = SHIFTED;
    if (fate.event > SHIFTED && g_str_equal(fate.older->format, "hfsplus"))
        fate.event = FORMATTED;
    fate.plan = hfs_plan(random, MAX(HFS_FILES_MOST * MIN(fate.percent, 50) / 50, 3), TRUE);
    fate.is_masked = test_number("EKTYPON_TEST_MASK", g_rand_int_range(random, 0, 5) == 0) != 0;
    return fate;
}

static void tell(guint32 seed, const Fate *fate, const Tally *own)
{
    gboolean is_over = fate->event == FORMATTED || fate->event == SHIFTED;
    fprintf(stderr,
            "\n%u: %s, %s%s%s, %u %% more%s: %u of %u right, %u of %u named, %u of %u paths, "
            "%u lies",
            seed, fate->older->kind.make, event_names[fate->event], is_over ? ": " : "",
            is_over ? newers[fate->newer].make : "", fate->percent,
            fate->is_masked ? ", a tenth unread" : "", own->right, own->recoverable, own->named,
            own->nameable, own->path_right, own->with_path, own->lies);
}

/* FALSE: what it takes cannot be mounted here. */
static gboolean try_drive(guint32 seed, Tally *tally)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    g_autoptr(GHashTable) new_sums = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    Fate fate = draw_fate(random);
    const Older *older = fate.older;
    fate.new_sums = new_sums;
    gboolean is_composed = g_str_equal(older->format, "hfsplus");
    must("rm -f v.img; truncate -s %uM v.img; %s v.img >maker.log 2>&1", MIB,
         is_composed ? "true" : older->kind.make);
    Truth *truth =
        truth_new(&older->kind, random, (guint)g_rand_int_range(random, FILES_LEAST, FILES_MOST));
    gsize length = 0;
    if (!(is_composed ? put_hfs(random, truth) : put_in(older->kind.filesystem, "truth"))) {
        truth_free(truth);
        return FALSE;
    }
    g_autofree guint8 *before = read_file("v.img", &length);
    g_autoptr(PlainVolume) plain = plain_read(older->format, before, length);
    make_new_ones(random, fate.percent, new_sums);
    gboolean fine = let_happen(&fate, plain, before, length);
    if (fine) {
        Tally own = {.drives = 1};
        g_autofree guint8 *after = read_file("v.img", &length);
        if (fate.is_masked)
            mask(random, after, before);
        g_autoptr(GHashTable) out = take_out(truth, fate.is_masked, new_sums, &own);
        /* One of the same layout over it tells as well. */
        if ((fate.event == FORMATTED && g_str_equal(newers[fate.newer].filesystem, "hfsplus")) ||
            has_geometry(older->format, before, after))
            judge(older->format, plain, before, after, out, &own);
        tell(seed, &fate, &own);
        const guint *from = &own.drives;
        guint *to = &tally->drives;
        for (gsize i = 0; i < sizeof own / sizeof own.drives; i++)
            to[i] += from[i];
    }
    truth_free(truth);
    return fine;
}

static void what_was_formatted_over_comes_out(void)
{
    guint drives = test_number("EKTYPON_TEST_DRIVES", 10);
    guint32 seed = test_seed();
    Tally tally = {0};
    if (!is_root()) {
        skip("volumes are filled by the system's drivers, which takes root");
        return;
    }
    for (guint i = 0; i < drives; i++)
        if (!try_drive(seed + i, &tally)) {
            skip("a volume cannot be mounted here");
            return;
        }
    fprintf(stderr,
            "\n%u drives: of %u recoverable %u right; of %u with a name %u named; of %u with their "
            "way %u paths; %u lies\n",
            tally.drives, tally.recoverable, tally.right, tally.nameable, tally.named,
            tally.with_path, tally.path_right, tally.lies);
    CHECK_NUMBER(tally.lies, 0);
    guint few = tally.drives >= MANY_DRIVES ? FEW : FEW_OF_A_FEW;
    CHECK(tally.recoverable - tally.right <= tally.recoverable / 100 + few);
    CHECK(tally.nameable - tally.named <= tally.nameable / 50 + few);
    CHECK(tally.with_path - tally.path_right <= tally.with_path / 33 + few);
}

static guint count_fat(void)
{
    g_auto(Result) listed = ektypon("volumes bench --all --json");
    json_t *json = result_json(&listed);
    json_t *volumes = json_object_get(json, "volumes");
    guint count = 0;
    for (gsize i = 0; i < json_array_size(volumes); i++)
        count += g_str_equal(json_text(json_array_get(volumes, i), "filesystem"), "fat32");
    json_decref(json);
    return count;
}

/* Two folders of a FAT prove nothing by themselves. */
static void what_is_expected_takes_less(void)
{
    must("rm -rf v.img trays bench out; mkdir -p trays/Tray1 trays/Tray2; "
         "echo sown >trays/Tray1/day; echo pricked out >trays/Tray2/day; truncate -s 64M v.img; "
         "mkfs.vfat -F 32 v.img >maker.log; mcopy -s -i v.img trays/* ::; "
         /* Boot sectors, FATs and the root folder. */
         "dd if=/dev/zero of=v.img bs=512 count=$((32 + 2 * $(od -An -tu4 -j36 -N4 v.img) + 1)) "
         "conv=notrunc status=none");
    done("new bench --adopt v.img");
    done("hunt bench");
    CHECK_NUMBER(count_fat(), 0);
    g_auto(Result) expected = ektypon("hunt bench --expect fat32");
    CHECK_STATUS(expected, 0);
    guint found = count_fat();
    CHECK_CONTAINS(expected.out,
                   found > 0 ? "Expected fat32: volume" : "Expected fat32: not found");
    CHECK_NUMBER(found, 1);
    /* The case remembers it, until it is told otherwise. */
    done("hunt bench");
    CHECK_NUMBER(count_fat(), 1);
    done("hunt bench --expect none");
    CHECK_NUMBER(count_fat(), 0);
    g_auto(Result) other = ektypon("hunt bench --expect fat32:0:1000");
    CHECK_STATUS(other, 2);
    g_auto(Result) unknown = ektypon("hunt bench --expect ntfs:2048");
    CHECK_STATUS(unknown, 0);
    CHECK_CONTAINS(unknown.out, "Expected ntfs at sector 2048: not found");
}

/* File records by themselves, where a newer volume has written nothing: a deep hunt lists them,
 * with what stands in them. */
static void a_deep_hunt_lists_records_alone(void)
{
    must("rm -rf n.img v.img bench out mount && truncate -s 32M n.img && "
         "mkntfs -q -Q -F n.img >maker.log 2>&1");
    g_auto(Result) up = shell("%s/tests/scripts/mount-volume ntfs n.img mount", EKTYPON_SOURCE);
    if (up.status != 0)
        return;
    must("for i in $(seq 40); do echo tray $i >mount/tray-$i.csv; done && "
         "head -c 40000 /dev/urandom >mount/photo.raw && sync");
    must("%s/tests/scripts/mount-volume --down n.img mount", EKTYPON_SOURCE);
    must("truncate -s 64M v.img && mkfs.vfat -F 32 v.img >maker.log && "
         "dd if=n.img of=v.img bs=512 skip=$((32 + 2 * 64)) seek=40001 count=82 conv=notrunc "
         "status=none");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) plain = ektypon("volumes bench --all");
    CHECK(strstr(plain.out, "ntfs") == NULL);
    done("hunt bench --deep");
    g_auto(Result) deep = ektypon("volumes bench --all");
    CHECK_CONTAINS(deep.out, "ntfs");
    g_auto(Result) out = ektypon("extract bench 2 --to out --flat");
    CHECK_STATUS(out, 3);
    must("test \"$(cat 'out/tray-17.csv' out/*/tray-17.csv 2>/dev/null)\" = 'tray 17'");
    g_auto(Result) photo = ektypon("find bench 2 --name photo.raw --json");
    CHECK(strstr(photo.out, "\"condition\": \"whole\"") == NULL);
    /* Until it is told otherwise. */
    done("hunt bench");
    g_auto(Result) kept = ektypon("volumes bench --all");
    CHECK_CONTAINS(kept.out, "ntfs");
    done("hunt bench --expect none");
    g_auto(Result) again = ektypon("volumes bench --all");
    CHECK(strstr(again.out, "ntfs") == NULL);
}

/* A FAT of smaller clusters is longer: a newer one leaves the second copy of it. Files in pieces
 * come out by that. */
static void an_older_fat_has_chains(void)
{
    must("rm -rf v.img bench out sheets; mkdir sheets; truncate -s 64M v.img; "
         "export MTOOLS_SKIP_CHECK=1; mkfs.vfat -F 32 -s 1 v.img >maker.log 2>&1; "
         "for k in 0 1 2 3; do mmd -i v.img ::tray$k; done; "
         "for i in $(seq 60); do head -c 3000 /dev/urandom >sheets/p$i; done; "
         "for i in $(seq 60); do mcopy -i v.img sheets/p$i ::tray$((i %% 4))/; done; "
         "for i in $(seq 1 2 60); do mdel -i v.img ::tray$((i %% 4))/p$i; rm sheets/p$i; done; "
         "for i in $(seq 6); do head -c 20000 /dev/urandom >sheets/big$i; "
         "mcopy -i v.img sheets/big$i ::tray$((i %% 4))/; done; "
         "mkfs.vfat -F 32 -s 8 v.img >maker.log 2>&1");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) told = ektypon("volumes bench 2");
    CHECK_CONTAINS(told.out, "its second FAT survives in part at sector ");
    g_auto(Result) taken = ektypon("extract bench 2 --to out");
    CHECK(taken.status == 0 || taken.status == 3);
    must("find out -type f -name 'big*' -o -type f -name 'p*' | xargs -d '\\n' sha256sum | "
         "cut -c 1-64 | sort >got.txt; sha256sum sheets/* | cut -c 1-64 | sort | "
         "comm -23 - got.txt >missed.txt; test ! -s missed.txt");
    g_auto(Result) whole = ektypon("find bench 2 --condition whole --json");
    CHECK_CONTAINS(whole.out, "\"files\": 0");
}

/* FALSE: it cannot be mounted here. Files of a generation, and their sums. */
static gboolean make_generation(const char *make, const char *name, guint files)
{
    must("%s v.img >maker.log 2>&1", make);
    g_auto(Result) up = shell("%s/tests/scripts/mount-volume ntfs v.img mount", EKTYPON_SOURCE);
    if (up.status != 0)
        return FALSE;
    must("mkdir mount/%s; for i in $(seq %u); do head -c $((9000 + i * 37)) /dev/urandom "
         ">mount/%s/sheet-$i; done; sha256sum mount/%s/* | cut -c 1-64 >>sums-%s.txt; sync; "
         "%s/tests/scripts/mount-volume --down v.img mount",
         name, files, name, name, name, EKTYPON_SOURCE);
    return TRUE;
}

/* How many files of a generation came out of a volume; of what was called whole, none that is
 * nobody's. */
static guint count_of_generation(guint volume, const char *name)
{
    g_autofree char *list = g_strdup_printf("sums-%s.txt", name);
    gsize length = 0;
    g_autofree char *sums = (char *)read_file(list, &length);
    g_auto(Result) result = ektypon("extract bench %u --to out --json", volume);
    g_auto(Result) all = shell("cat sums-*.txt");
    json_t *json = result_json(&result);
    json_t *files = json_object_get(json, "files");
    guint count = 0;
    for (gsize i = 0; i < json_array_size(files); i++) {
        const char *sum = json_text(json_array_get(files, i), "sha256");
        gboolean is_whole = g_str_equal(json_text(json_array_get(files, i), "condition"), "whole");
        count += sum != NULL && g_strstr_len(sums, (gssize)length, sum) != NULL ? 1 : 0;
        CHECK(sum == NULL || !is_whole || strstr(all.out, sum) != NULL);
    }
    json_decref(json);
    return count;
}

/* Three volumes in one place, one after the other: what the second one wrote over the first is not
 * the first one's, though the third one knows of neither. */
static void generations_are_kept_apart(void)
{
    must("rm -rf v.img bench out sums-*.txt; mkdir -p mount; truncate -s 96M v.img");
    if (!make_generation("mkfs.ntfs -Q -q -F -c 1024", "sown", 700) ||
        !make_generation("mkfs.ntfs -Q -q -F", "moved", 350) ||
        !make_generation("mkfs.ntfs -Q -q -F -c 16384", "dried", 5)) {
        skip("no NTFS can be mounted here");
        return;
    }
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) listed = ektypon("volumes bench --all");
    CHECK_CONTAINS(listed.out, "     3  ntfs");
    CHECK_CONTAINS(listed.out, ") was made over it, volume 1 (ntfs, created ");
    CHECK_CONTAINS(listed.out, ") over that.");
    guint sown = MAX(count_of_generation(2, "sown"), count_of_generation(3, "sown"));
    guint moved = MAX(count_of_generation(2, "moved"), count_of_generation(3, "moved"));
    CHECK(sown > 150);
    CHECK(moved > 250);
    CHECK_NUMBER(count_of_generation(1, "dried"), 5);
    /* Where nothing says which of the two came first, each may have written over the other. */
    must("sqlite3 bench/case.db 'UPDATE volume SET created = NULL, used = NULL'; rm -rf out");
    CHECK(MAX(count_of_generation(2, "sown"), count_of_generation(3, "sown")) > 150);
    CHECK(MAX(count_of_generation(2, "moved"), count_of_generation(3, "moved")) > 250);
}

int main(void)
{
    static const Test tests[] = {
        {"generations are kept apart", generations_are_kept_apart},
        {"an older FAT has chains", an_older_fat_has_chains},
        {"a deep hunt lists records alone", a_deep_hunt_lists_records_alone},
        {"what is expected takes less", what_is_expected_takes_less},
        {"what was formatted over comes out", what_was_formatted_over_comes_out},
    };
    return RUN_TESTS("earlier", tests);
}
