/* SPDX-License-Identifier: MIT */
/* Volumes that were formatted over: made by the system's makers, filled by its drivers, formatted
 * anew, filled again. What of the older one still has its record and its content comes out right,
 * and nothing is called whole that is not. The truth is read off the drive as it is left. */
#include "check.h"
#include "fixture.h"
#include "plain.h"
#include "program.h"
#include "truth.h"

#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#define MIB 96u
#define FILES_LEAST 60
#define FILES_MOST 160
#define FEW 10u /* files */

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
    {{.filesystem = "ext4",
      .make = "mke2fs -q -t ext4 -F -E nodiscard,lazy_itable_init=1",
      .step = 1},
     "ext"},
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
    {"ext4", "mke2fs -q -t ext4 -F -E nodiscard,lazy_itable_init=1"},
};

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

static gboolean are_alike(const guint8 *before, const guint8 *after, guint64 place, guint64 bytes)
{
    return memcmp(before + place, after + place, bytes) == 0;
}

static gboolean all_alike(const guint8 *before, const guint8 *after, const GArray *needs,
                          guint64 but_for)
{
    for (guint i = 0; i < needs->len; i++) {
        const PlainNeed *need = &g_array_index(needs, PlainNeed, i);
        if (need->place != but_for && !are_alike(before, after, need->place, need->bytes))
            return FALSE;
    }
    return TRUE;
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

static GHashTable *take_out(const Truth *truth, GHashTable *new_sums, Tally *tally)
{
    GHashTable *out = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    must("rm -rf bench out");
    done("new bench --adopt v.img");
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

/* Is what says where it lies still there? FATs are cleared by a format: an entry says it of a file
 * that lies in one piece. */
static gboolean has_record(const char *format, const guint8 *before, const guint8 *after,
                           const PlainFile *file)
{
    if (!g_str_has_suffix(format, "fat"))
        return all_alike(before, after, file->map, 0);
    const PlainNeed *own = &g_array_index(file->way, PlainNeed, file->way->len - 1);
    return file->pieces->len == 1 && are_alike(before, after, own->place, own->bytes);
}

/* Is its name? In ext it stands in the folder; the needs of a file's way end with name and inode.
 */
static gboolean has_name(const char *format, const guint8 *before, const guint8 *after,
                         const PlainFile *file)
{
    if (!g_str_equal(format, "ext"))
        return TRUE;
    const PlainNeed *name = &g_array_index(file->way, PlainNeed, file->way->len - 2);
    return file->way->len >= 2 && are_alike(before, after, name->place, name->bytes);
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
            is_there = are_alike(before, after, piece->place, piece->bytes);
        }
        if (!is_there)
            continue;
        g_autofree char *sum = plain_sha256(plain, file, before);
        const char *paths = g_hash_table_lookup(out, sum);
        gboolean has_way = all_alike(before, after, file->way, 0);
        tally->recoverable++;
        tally->right += paths != NULL ? 1 : 0;
        gboolean is_nameable = has_name(format, before, after, file);
        tally->nameable += is_nameable ? 1 : 0;
        tally->named += is_nameable && paths != NULL && has_line(paths, file->path, TRUE) ? 1 : 0;
        tally->with_path += has_way ? 1 : 0;
        tally->path_right += has_way && paths != NULL && has_line(paths, file->path, FALSE) ? 1 : 0;
        if (paths == NULL && g_getenv("EKTYPON_TEST_TELL") != NULL)
            fprintf(stderr, "\nmissed: %s (%" G_GUINT64_FORMAT " bytes)", file->path, file->size);
    }
}

/* FALSE: what it takes cannot be mounted here. */
static gboolean try_drive(guint32 seed, Tally *tally)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    const char *wanted = g_getenv("EKTYPON_TEST_KIND");
    const Older *older = &olders[g_rand_int_range(random, 0, G_N_ELEMENTS(olders))];
    guint newer = (guint)g_rand_int_range(random, 0, G_N_ELEMENTS(newers));
    while (wanted != NULL && !g_str_has_prefix(older->kind.filesystem, wanted))
        older = &olders[g_rand_int_range(random, 0, G_N_ELEMENTS(olders))];
    /* Mostly the same file system is made again. */
    for (guint i = 0; i < 8 && !g_str_has_prefix(newers[newer].filesystem, older->kind.filesystem);
         i++)
        newer = (guint)g_rand_int_range(random, 0, G_N_ELEMENTS(newers));
    /* An exFAT of another layout, or under a FAT, is not looked for yet. */
    while (g_str_equal(older->format, "exfat") && !g_str_equal(newers[newer].filesystem, "exfat"))
        newer = (guint)g_rand_int_range(random, 0, G_N_ELEMENTS(newers));
    guint percent = refills[g_rand_int_range(random, 0, G_N_ELEMENTS(refills))];
    g_autoptr(GHashTable) new_sums = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    must("rm -f v.img; truncate -s %uM v.img; %s v.img >maker.log 2>&1", MIB, older->kind.make);
    Truth *truth =
        truth_new(&older->kind, random, (guint)g_rand_int_range(random, FILES_LEAST, FILES_MOST));
    gboolean fine = put_in(older->kind.filesystem, "truth");
    gsize length = 0;
    g_autofree guint8 *before = fine ? read_file("v.img", &length) : NULL;
    if (fine)
        must("%s v.img >maker.log 2>&1", newers[newer].make);
    make_new_ones(random, percent, new_sums);
    fine = fine && (percent == 0 || put_in(newers[newer].filesystem, "new"));
    if (fine) {
        Tally own = {.drives = 1};
        g_autofree guint8 *after = read_file("v.img", &length);
        g_autoptr(PlainVolume) plain = plain_read(older->format, before, length);
        g_autoptr(GHashTable) out = take_out(truth, new_sums, &own);
        judge(older->format, plain, before, after, out, &own);
        fprintf(stderr,
                "\n%u: %s, then %s, %u %%: %u of %u right, %u of %u named, %u of %u paths, %u lies",
                seed, older->kind.make, newers[newer].make, percent, own.right, own.recoverable,
                own.named, own.nameable, own.path_right, own.with_path, own.lies);
        /* Where a FAT or exFAT lies under another format, all of it may be missed as yet: of these
         * only lies count. */
        if (!g_str_equal(older->format, newers[newer].filesystem))
            own = (Tally){.drives = 1, .lies = own.lies};
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
    const char *wanted = g_getenv("EKTYPON_TEST_DRIVES");
    guint drives = wanted != NULL ? (guint)g_ascii_strtoull(wanted, NULL, 10) : 10;
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
    /* Of a FAT some parts of its root are not known for what they are; some names of ext are in
     * folders whose inode is gone. A few drives may have more of these than others. */
    CHECK(tally.recoverable - tally.right <= tally.recoverable / 20 + FEW);
    CHECK(tally.nameable - tally.named <= tally.nameable / 10 + FEW);
    CHECK(tally.with_path - tally.path_right <= tally.with_path / 20 + FEW);
}

int main(void)
{
    static const Test tests[] = {
        {"what was formatted over comes out", what_was_formatted_over_comes_out},
    };
    return RUN_TESTS("earlier", tests);
}
