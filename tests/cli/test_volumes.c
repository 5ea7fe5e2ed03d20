/* SPDX-License-Identifier: MIT */
/* What was put into a volume comes out of it: files that the system's own drivers wrote, many of
 * them in pieces, are taken out with their paths, times and content; with region that was not read
 * every file that is called whole is right, and every other one right outside its holes; without
 * any header it is the same. */
#include "check.h"
#include "fixture.h"
#include "plain.h"
#include "program.h"
#include "truth.h"

#include "base/bytes.h"

#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#define FILES 60u
#define UNIT 65536u     /* bytes that are packed together, at most */
#define FIRST_ALONE 10u /* of the files: those before it have further names, which stay */

static const Kind kinds[] = {
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 v.img", "first 16 last 1", 1, TRUE, FALSE,
     FALSE, FALSE, TRUE, 1},
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 -c 1024 v.img", NULL, 1, TRUE, FALSE, FALSE,
     FALSE, TRUE, 0},
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 v.img", NULL, 1, FALSE, FALSE, TRUE, FALSE,
     FALSE, 0},
    {"exfat", "mkfs.exfat v.img", "first 24", 2, FALSE, FALSE, FALSE, FALSE, TRUE, 0},
    {"fat32", "mkfs.fat -F 32 -s 2 v.img", "first 32", 2, FALSE, FALSE, FALSE, TRUE, TRUE, 0},
    {"fat16", "mkfs.fat -F 16 v.img", NULL, 2, FALSE, FALSE, FALSE, TRUE, TRUE, 0},
    {"hfsplus", "true", NULL, 1, FALSE, FALSE, FALSE, TRUE, FALSE, 0},
    {"ext2", "mke2fs -q -F -t ext2 -b 1024 v.img", NULL, 1, TRUE, TRUE, FALSE, FALSE, TRUE, 0},
    {"ext3", "mke2fs -q -F -t ext3 v.img", NULL, 1, TRUE, TRUE, FALSE, FALSE, TRUE, 0},
    {"ext4", "mke2fs -q -F -t ext4 -b 4096 v.img", "supers", 1, TRUE, TRUE, FALSE, FALSE, TRUE, 1},
    {"ext4", "mke2fs -q -F -t ext4 -b 1024 -i 4096 -O inline_data,64bit v.img", NULL, 1, TRUE, TRUE,
     FALSE, FALSE, TRUE, 2},
};

static guint volume_mib;

/* --- what comes out -----------------------------------------------------------------------------
 */

static void zero_holes(guint8 *data, gsize length, json_t *holes)
{
    for (gsize i = 0; i < json_array_size(holes); i++) {
        guint64 offset = json_u64(json_array_get(holes, i), "offset");
        guint64 bytes = json_u64(json_array_get(holes, i), "length");
        if (offset < length)
            memset(data + offset, 0, (gsize)MIN(bytes, length - offset));
    }
}

/* Outside its holes a file is what it was. */
static gboolean is_right_elsewhere(const Put *put, const char *written, json_t *holes)
{
    g_autofree char *from = g_build_filename("truth", put->path, NULL);
    g_autofree char *place = g_build_filename("out", written, NULL);
    gsize was_length = 0;
    gsize is_length = 0;
    g_autofree guint8 *was = read_file(from, &was_length);
    g_autofree guint8 *is = read_file(place, &is_length);
    if (was_length != is_length)
        return FALSE;
    zero_holes(was, was_length, holes);
    zero_holes(is, is_length, holes);
    return was_length == 0 || memcmp(was, is, was_length) == 0;
}

static void complain(const char *what, const char *path)
{
    g_autofree char *safe = g_strescape(path, NULL);
    fprintf(stderr, "\n%s: %s", what, safe);
    CHECK(FALSE);
}

static void check_times(const Truth *truth, const Put *put, const char *written)
{
    g_autofree char *place = g_build_filename("out", written, NULL);
    GStatBuf st;
    gint64 apart = g_stat(place, &st) == 0 ? st.st_mtime - put->modified : G_MAXINT64;
    if (ABS(apart) >= truth->kind->step)
        complain("another time", put->path);
}

/* "no folder/folder 12/b/c" was somewhere a file "a/b/c"; so was "A~1/b/c", the long name of which
 * began in what was not read. */
static void note_below(Truth *truth, const char *path)
{
    const char *rest = strchr(path + (g_str_has_prefix(path, "no folder/") ? 10 : 0), '/');
    for (guint i = 0; rest != NULL && i < truth->put->len; i++) {
        Put *put = truth->put->pdata[i];
        const char *below = strchr(put->path, '/');
        put->found_below = put->found_below || (below != NULL && g_str_equal(below, rest));
    }
}

static const char *path_inside(const Truth *truth, const char *path)
{
    return truth->kind->is_packed && g_str_has_prefix(path, "packed/") ? path + strlen("packed/")
                                                                       : path;
}

static void check_file(Truth *truth, json_t *file, gboolean masked)
{
    const char *path = json_text(file, "path");
    const char *condition = json_text(file, "condition");
    gboolean whole = g_str_equal(condition, "whole");
    const char *inside = path_inside(truth, path);
    Put *put = g_hash_table_lookup(truth->by_path, inside);
    if (put == NULL) {
        note_below(truth, path);
        /* What has lost its folder is called by a number, what has lost its long name by its short
         * one: both are something that was there. */
        if (!masked ||
            (!g_str_has_prefix(path, "no folder/") && !g_str_has_prefix(path, "folder ") &&
             (!truth->kind->is_simple || strchr(path, '~') == NULL)))
            complain("was not there", path);
        else if (whole && !g_hash_table_contains(truth->sums, json_text(file, "sha256")))
            complain("nobody's content", path);
        return;
    }
    put->found = TRUE;
    put->is_whole = whole;
    put->number = json_u64(file, "number");
    if (json_u64(file, "size") != put->size)
        complain("another size", path);
    else if (whole && !g_str_equal(json_text(file, "sha256"), put->sha256))
        complain("called whole, and is not", path);
    else if (!whole && !masked)
        complain("called not whole", path);
    else if (!whole && !g_str_equal(condition, "doubtful") &&
             !is_right_elsewhere(put, json_text(file, "written_as"),
                                 json_object_get(file, "holes")))
        complain("wrong outside its holes", path);
    if (!masked)
        check_times(truth, put, json_text(file, "written_as"));
}

static void check_all_found(const Truth *truth)
{
    for (guint i = 0; i < truth->put->len; i++) {
        const Put *put = truth->put->pdata[i];
        if (!put->found)
            complain("missing", put->path);
    }
}

/* The volume that was made: where a table was not read, an ISO 9660 of the same files may be listed
 * beside it. Without a header its type is told less exactly. */
static guint64 made_volume(const Truth *truth)
{
    g_auto(Result) listed = ektypon("volumes bench --json");
    json_t *json = result_json(&listed);
    json_t *volumes = json_object_get(json, "volumes");
    guint64 number = 1;
    for (gsize i = json_array_size(volumes); i > 0; i--) {
        json_t *volume = json_array_get(volumes, i - 1);
        if (g_str_equal(json_text(volume, "filesystem"), truth->kind->filesystem))
            number = json_u64(volume, "number");
    }
    json_decref(json);
    return number;
}

/* Takes everything out, and looks at all of it. */
static void check_out(Truth *truth, const char *list, gboolean masked)
{
    must("rm -rf bench out");
    done("new bench --adopt v.img%s", list);
    done("hunt bench");
    g_auto(Result) result =
        ektypon("extract bench %" G_GUINT64_FORMAT " --to out --json", made_volume(truth));
    for (guint i = 0; i < truth->put->len; i++)
        ((Put *)truth->put->pdata[i])->found = FALSE;
    /* A small catalog may lie in what was not read as a whole: nothing is found then, and it is
     * told afterwards whether that had to be. */
    CHECK(result.status == 0 || masked);
    if (result.status != 0 && result.status != 3) {
        CHECK(strstr(result.err, "not read") != NULL);
        return;
    }
    json_t *json = result_json(&result);
    json_t *files = json_object_get(json, "files");
    for (gsize i = 0; i < json_array_size(files); i++)
        check_file(truth, json_array_get(files, i), masked);
    json_decref(json);
    if (!masked)
        check_all_found(truth);
}

/* --- a second reader -------------------------------------------------------------------------- */

/* What our inventory has of all files: number to GArray of PlainPiece, joined where they touch. */
static GHashTable *our_pieces(guint64 volume, guint64 first_byte)
{
    GHashTable *all =
        g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, (GDestroyNotify)g_array_unref);
    g_auto(Result) rows = shell("sqlite3 -separator ' ' bench/files-%llu.db "
                                "'SELECT file,offset,bytes,first FROM extent ORDER BY file,offset'",
                                (unsigned long long)volume);
    g_auto(GStrv) lines = g_strsplit(rows.out, "\n", -1);
    for (char **line = lines; **line != '\0'; line++) {
        g_auto(GStrv) words = g_strsplit(*line, " ", 4);
        gint64 number = g_ascii_strtoll(words[0], NULL, 10);
        PlainFile file = {.size = G_MAXINT64, .pieces = g_hash_table_lookup(all, &number)};
        if (file.pieces == NULL) {
            file.pieces = g_array_new(FALSE, FALSE, sizeof(PlainPiece));
            g_hash_table_insert(all, g_memdup2(&number, sizeof number), file.pieces);
        }
        plain_piece(&file, g_ascii_strtoull(words[1], NULL, 10),
                    g_ascii_strtoull(words[2], NULL, 10),
                    g_ascii_strtoull(words[3], NULL, 10) - first_byte);
    }
    return all;
}

static gboolean are_same_pieces(const GArray *one, const GArray *other)
{
    guint count = other != NULL ? other->len : 0;
    return one->len == count &&
           (count == 0 || memcmp(one->data, other->data, count * sizeof(PlainPiece)) == 0);
}

static GHashTable *plain_by_path(const Truth *truth, const PlainVolume *volume)
{
    GHashTable *by_path = g_hash_table_new(g_str_hash, g_str_equal);
    for (guint i = 0; i < volume->files->len; i++) {
        PlainFile *file = volume->files->pdata[i];
        g_hash_table_insert(by_path, (gpointer)path_inside(truth, file->path), file);
    }
    return by_path;
}

static void compare_with_plain(const Truth *truth, const PlainVolume *volume, const guint8 *image,
                               GHashTable *pieces)
{
    g_autoptr(GHashTable) by_path = plain_by_path(truth, volume);
    for (guint i = 0; i < truth->put->len; i++) {
        const Put *put = truth->put->pdata[i];
        const PlainFile *file = g_hash_table_lookup(by_path, put->path);
        g_autofree char *sum =
            file != NULL && file->size == put->size ? plain_sha256(volume, file, image) : NULL;
        if (file == NULL || file->size != put->size ||
            (!file->is_packed && g_strcmp0(sum, put->sha256) != 0))
            complain("the second reader has it otherwise", put->path);
        else if (!file->is_packed &&
                 !are_same_pieces(file->pieces, g_hash_table_lookup(pieces, &put->number)))
            complain("the second reader has it elsewhere", put->path);
    }
}

/* Those in more than three pieces; further links to one count for nothing. */
static guint count_in_pieces(const PlainVolume *volume)
{
    guint links = 0;
    for (guint i = 0; i < volume->files->len; i++) {
        const PlainFile *file = volume->files->pdata[i];
        links += file->pieces->len > 3 && strstr(file->path, "llllllll") != NULL;
    }
    return plain_count(volume, 3) - links;
}

/* What a volume is made of, as a plain second reader sees it. */
typedef struct {
    PlainVolume *volume;
    guint64 first; /* byte at which the volume begins */
} Witness;

/* It must agree with us. */
static Witness check_plain(const Truth *truth)
{
    const char *name = truth->kind->filesystem;
    const char *format = g_str_has_prefix(name, "fat")   ? "fat"
                         : g_str_has_prefix(name, "ext") ? "ext"
                                                         : name;
    guint64 number = made_volume(truth);
    g_auto(Result) listed = ektypon("volumes bench %" G_GUINT64_FORMAT " --json", number);
    json_t *json = result_json(&listed);
    guint64 first = json_u64(json_array_get(json_object_get(json, "volumes"), 0), "first_byte");
    json_decref(json);
    GMappedFile *file = g_mapped_file_new("v.img", FALSE, NULL);
    const guint8 *image = (const guint8 *)g_mapped_file_get_contents(file) + first;
    PlainVolume *volume = plain_read(format, image, g_mapped_file_get_length(file) - first);
    g_autoptr(GHashTable) pieces = our_pieces(number, first);
    compare_with_plain(truth, volume, image, pieces);
    if (truth->kind->is_broken_up && (truth->files < TRUTH_LARGE || !g_str_equal(format, "fat")))
        CHECK(count_in_pieces(volume) * 100 >= volume->files->len * 30);
    if (truth->kind->wants_depth > 0)
        CHECK(g_str_equal(format, "ntfs") ? volume->lists > 0
                                          : volume->deepest >= truth->kind->wants_depth);
    g_mapped_file_unref(file);
    return (Witness){volume, first};
}

/* --- region that was not read ----------------------------------------------------------------- */

typedef enum { MASK_RANDOM, MASK_STRIDE, MASK_RUN, MASKS } Mask;

static void mask_out(GString *list, guint8 *unread, guint first, guint count)
{
    g_string_append_printf(list, "%u %u\n", first, count);
    memset(unread + first, TRUE, count);
}

/* A hundredth of the sectors; one stretch of eight, as with a damaged head; a tenth in one. Returns
 * a byte for each sector, TRUE: not read. */
static guint8 *write_mask(GRand *random, Mask mask)
{
    guint sectors = volume_mib * 2048;
    g_autoptr(GString) list = g_string_new(NULL);
    guint8 *unread = g_malloc0(sectors);
    if (mask == MASK_RUN) {
        gint first = g_rand_int_range(random, 64, (gint)(sectors - sectors / 10));
        mask_out(list, unread, (guint)first, sectors / 10);
    }
    guint step = mask == MASK_RANDOM ? 100 : 8 * 96;
    guint phase = (guint)g_rand_int_range(random, 0, (gint)step);
    for (guint at = 64 + phase; mask != MASK_RUN && at + step < sectors; at += step)
        if (mask == MASK_RANDOM)
            mask_out(list, unread, at + (guint)g_rand_int_range(random, 0, 99), 1);
        else
            mask_out(list, unread, at, 96);
    write_file("unread.txt", list->str, list->len);
    return unread;
}

static gboolean hits(const guint8 *unread, guint64 place, guint64 bytes)
{
    return bytes > 0 && memchr(unread + place / 512, TRUE,
                               (gsize)((place + bytes - 1) / 512 - place / 512 + 1)) != NULL;
}

/* Something of these was not read, neither where it stands first nor in a copy. */
static gboolean lacks(const guint8 *unread, guint64 first, const GArray *needs)
{
    for (guint i = 0; i < needs->len; i++) {
        const PlainNeed *need = &g_array_index(needs, PlainNeed, i);
        for (guint64 at = 0; at < need->bytes; at += 512)
            if (hits(unread, first + need->place + at, 512) &&
                (need->copy == 0 || hits(unread, first + need->copy + at, 512)))
                return TRUE;
    }
    return FALSE;
}

static gboolean lacks_content(const guint8 *unread, guint64 first, const PlainFile *file)
{
    for (guint i = 0; i < file->pieces->len; i++) {
        const PlainPiece *piece = &g_array_index(file->pieces, PlainPiece, i);
        /* A packed piece is read to the end of its unit. */
        if (hits(unread, first + piece->place, piece->bytes + (file->is_packed ? UNIT : 0)))
            return TRUE;
    }
    return FALSE;
}

/* Nothing else is lost but what lay in what was not read: a file all of whose way was read is found
 * at its path, and is whole where its map and content were read, too. Returns how many are. */
static guint check_not_lost(const Truth *truth, const Witness *recheck, const guint8 *unread)
{
    g_autoptr(GHashTable) by_path = plain_by_path(truth, recheck->volume);
    guint safe = 0;
    for (guint i = 0; i < truth->put->len; i++) {
        const Put *put = truth->put->pdata[i];
        const PlainFile *file = g_hash_table_lookup(by_path, put->path);
        if (file == NULL || lacks(unread, recheck->first, file->way))
            continue;
        safe++;
        if (!put->found)
            complain("lost, though all that leads to it was read", put->path);
        else if (!put->is_whole && !lacks(unread, recheck->first, file->map) &&
                 !lacks_content(unread, recheck->first, file))
            complain("called not whole, though all of it was read", put->path);
    }
    return safe;
}

/* --- no header -------------------------------------------------------------------------------- */

static void wipe(const char *what)
{
    guint64 sectors = volume_mib * 2048;
    if (g_str_equal(what, "supers")) {
        /* All superblocks: by their magic, as in any copy of them. */
        for (guint group = 0; group < volume_mib / 128 + 1; group++)
            if (group < 2 || group == 3 || group == 5 || group == 7 || group == 9)
                must("dd if=/dev/zero of=v.img bs=1024 count=1 conv=notrunc status=none seek=%u",
                     group == 0 ? 1 : group * 128 * 1024);
        return;
    }
    guint first = 0;
    guint last = 0;
    CHECK(sscanf(what, "first %u last %u", &first, &last) >= 1);
    must("dd if=/dev/zero of=v.img bs=512 count=%u conv=notrunc status=none", first);
    if (last > 0)
        must("dd if=/dev/zero of=v.img bs=512 count=%u conv=notrunc status=none "
             "seek=%" G_GUINT64_FORMAT,
             last, sectors - last);
}

/* NTFS: the first record, which says where all others are, was read neither in the file table nor
 * in its mirror. The records say so themselves. */
static void check_without_first_record(Truth *truth)
{
    gsize length = 0;
    g_autofree guint8 *image = read_file("v.img", &length);
    EkSpan boot = {image, 512};
    guint64 cluster = ek_span_u8(boot, 13);
    g_autofree char *list =
        g_strdup_printf("%" G_GUINT64_FORMAT " 2\n%" G_GUINT64_FORMAT " 8\n",
                        ek_span_le64(boot, 48) * cluster, ek_span_le64(boot, 56) * cluster);
    write_file("unread.txt", list, strlen(list));
    check_out(truth, " --bad-list unread.txt", TRUE);
    check_all_found(truth);
}

/* FAT32 and exFAT: nothing was read of where the root folder begins. The folders in it tell of
 * themselves. */
static void check_without_root(Truth *truth)
{
    gsize length = 0;
    g_autofree guint8 *image = read_file("v.img", &length);
    EkSpan boot = {image, 512};
    gboolean is_exfat = g_str_equal(truth->kind->filesystem, "exfat");
    guint64 sectors = is_exfat ? 1ull << ek_span_u8(boot, 109) : ek_span_u8(boot, 13);
    guint64 data =
        is_exfat ? ek_span_le32(boot, 88) : ek_span_le16(boot, 14) + 2ull * ek_span_le32(boot, 36);
    guint64 root = ek_span_le32(boot, is_exfat ? 96 : 44);
    g_autofree char *list = g_strdup_printf("%" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT "\n",
                                            data + (root - 2) * sectors, sectors);
    write_file("unread.txt", list, strlen(list));
    for (guint i = 0; i < truth->put->len; i++)
        ((Put *)truth->put->pdata[i])->found_below = FALSE;
    check_out(truth, " --bad-list unread.txt", TRUE);
    for (guint i = 0; i < truth->put->len; i++) {
        const Put *put = truth->put->pdata[i];
        if (!put->found && !put->found_below && strchr(put->path, '/') != NULL)
            complain("missing below the root folder", put->path);
    }
}

/* What is called whole of the files that were deleted last is what it was: returns how many are.
 * Of older ones below them nothing may tell any more. */
static guint check_gone(const Truth *truth, json_t *files)
{
    guint back = 0;
    for (gsize i = 0; i < json_array_size(files); i++) {
        json_t *file = json_array_get(files, i);
        const char *path = path_inside(truth, json_text(file, "path"));
        if (!g_str_equal(json_text(file, "condition"), "whole") || json_u64(file, "size") == 0 ||
            !g_hash_table_contains(truth->by_path, path))
            continue;
        back++;
        if (!g_hash_table_contains(truth->sums, json_text(file, "sha256")))
            complain("deleted, called whole, and is not", path);
    }
    return back;
}

static void check_deleted(Truth *truth)
{
    if (!truth_delete(truth))
        return;
    must("rm -rf bench gone");
    done("new bench --adopt v.img");
    done("hunt bench");
    g_auto(Result) result = ektypon("extract bench 1 --deleted --to gone --json");
    CHECK(result.status == 0 || result.status == 3);
    json_t *json = result_json(&result);
    guint back = check_gone(truth, json_object_get(json, "files"));
    /* NTFS forgets nothing of a file but that it is there. */
    guint gone = 0;
    for (guint i = FIRST_ALONE; i < truth->files; i++) {
        const Put *put = truth->put->pdata[i];
        gone += put->is_deleted && put->size > 0;
    }
    if (g_str_equal(truth->kind->filesystem, "ntfs"))
        CHECK(back >= gone / 2);
    json_decref(json);
}

/* Adds to *safe how many files were safe under a mask, to *all how many there were. */
static void check_kind(const Kind *kind, GRand *random, guint files, guint *safe, guint *all)
{
    must("rm -f v.img && truncate -s %uM v.img && %s >maker.log 2>&1", volume_mib, kind->make);
    Truth *truth = truth_new(kind, random, files);
    if (!truth_put_in(truth)) {
        skip("no loop device, or no driver");
        truth_free(truth);
        return;
    }
    check_out(truth, "", FALSE);
    Witness recheck = check_plain(truth);
    for (Mask mask = MASK_RANDOM; mask < MASKS; mask++) {
        g_autofree guint8 *unread = write_mask(random, mask);
        check_out(truth, " --bad-list unread.txt", TRUE);
        *safe += check_not_lost(truth, &recheck, unread);
        *all += truth->put->len;
    }
    plain_free(recheck.volume);
    if (g_str_equal(kind->filesystem, "exfat") || g_str_equal(kind->filesystem, "fat32"))
        check_without_root(truth);
    if (g_str_equal(kind->filesystem, "ntfs"))
        check_without_first_record(truth);
    if (kind->wipe != NULL) {
        must("cp --sparse=always v.img kept.img");
        wipe(kind->wipe);
        check_out(truth, "", FALSE);
        must("mv kept.img v.img");
    }
    check_deleted(truth);
    truth_free(truth);
}

static void what_was_put_in_comes_out(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    const char *wanted = g_getenv("EKTYPON_TEST_FILES");
    guint files = wanted != NULL ? (guint)g_ascii_strtoull(wanted, NULL, 10) : FILES;
    volume_mib = truth_mib(files);
    const char *only = g_getenv("EKTYPON_TEST_KIND");
    guint safe = 0;
    guint all = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        /* Every fourth one, unless it is said which, or how large. */
        gboolean is_due = only != NULL     ? g_ascii_strtoull(only, NULL, 10) == i
                          : wanted != NULL ? TRUE
                                           : (i + seed) % 4 == 0;
        if (!is_due)
            continue;
        guint before = CU_get_number_of_failures();
        check_kind(&kinds[i], random, files, &safe, &all);
        if (CU_get_number_of_failures() != before)
            fprintf(stderr, "\nthat was: %s\n", kinds[i].make);
    }
    /* Not for nothing were they looked for. */
    CHECK(only != NULL || safe * 3 > all);
}

int main(void)
{
    static const Test tests[] = {{"what was put in comes out", what_was_put_in_comes_out}};
    return RUN_TESTS("volumes", tests);
}
