/* SPDX-License-Identifier: MIT */
/* What was put into a volume comes out of it: files that the system's own drivers wrote, many of
 * them in pieces, are taken out with their paths, times and content; with ground that was not read
 * every file that is called whole is right, and every other one right outside its holes; without
 * any header it is the same. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include "base/bytes.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define FILES 60u
#define FOLDERS 30u
#define DEPTH 25u
#define TOGETHER 6u /* files that are written in turns */
#define VOLUME_MIB 160u
#define SECTOR 512u

typedef struct {
    const char *filesystem; /* of the driver */
    const char *make;
    const char *wipe; /* leaves no header; NULL: another would be left */
    gint64 step;      /* seconds between times it can keep */
    gboolean has_links;
    gboolean takes_any_name;
    gboolean is_packed; /* its folder is compressed */
    gboolean is_simple; /* FAT: its tool knows the first 65 536 characters only */
} Kind;

static const Kind kinds[] = {
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 v.img", "first 16 last 1", 1, TRUE, FALSE,
     FALSE, FALSE},
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 -c 1024 v.img", NULL, 1, TRUE, FALSE, FALSE,
     FALSE},
    {"ntfs", "mkntfs -q -F -s 512 -p 0 -H 255 -S 63 v.img", NULL, 1, FALSE, FALSE, TRUE, FALSE},
    {"exfat", "mkfs.exfat v.img", "first 24", 2, FALSE, FALSE, FALSE, FALSE},
    {"fat32", "mkfs.fat -F 32 -s 2 v.img", "first 32", 2, FALSE, FALSE, FALSE, TRUE},
    {"fat16", "mkfs.fat -F 16 v.img", NULL, 2, FALSE, FALSE, FALSE, TRUE},
    {"hfsplus", "true", NULL, 1, FALSE, FALSE, FALSE, TRUE},
    {"ext2", "mke2fs -q -F -t ext2 -b 1024 v.img", NULL, 1, TRUE, TRUE, FALSE, FALSE},
    {"ext3", "mke2fs -q -F -t ext3 v.img", NULL, 1, TRUE, TRUE, FALSE, FALSE},
    {"ext4", "mke2fs -q -F -t ext4 -b 4096 v.img", "supers", 1, TRUE, TRUE, FALSE, FALSE},
    {"ext4", "mke2fs -q -F -t ext4 -b 1024 -O inline_data,64bit v.img", NULL, 1, TRUE, TRUE, FALSE,
     FALSE},
};

typedef struct {
    char *path;
    char *sha256;
    guint64 size;
    gint64 modified;
    gboolean found;
    gboolean found_below; /* under its path without the first folder */
} Put;

typedef struct {
    const Kind *kind;
    GRand *random;
    GPtrArray *folders; /* char* */
    GPtrArray *put;     /* Put* */
    GHashTable *by_path;
    GHashTable *sums;
} Truth;

static void put_free(gpointer data)
{
    Put *put = data;
    g_free(put->path);
    g_free(put->sha256);
    g_free(put);
}

/* --- what is put in --------------------------------------------------------------------------- */

static char *some_name(Truth *truth, guint number)
{
    static const char *const any[] = {
        "Größe der Keimlinge", "sensor",  "日本の種", "Bill's tray", "-rf", "a", "day.001",
        "Mixed CASE",          "🌱 sprout"};
    static const char *const hostile[] = {"back\\slash", "new\nline",      "bell\a",
                                          "semi;colon",  "ends in a dot.", "star*"};
    gboolean is_hostile = truth->kind->takes_any_name && g_rand_int_range(truth->random, 0, 5) == 0;
    const char *const *names = is_hostile ? hostile : any;
    guint count =
        is_hostile ? G_N_ELEMENTS(hostile) : G_N_ELEMENTS(any) - (truth->kind->is_simple ? 1 : 0);
    const char *name = names[g_rand_int_range(truth->random, 0, (gint)count)];
    if (g_rand_int_range(truth->random, 0, 12) == 0) {
        g_autofree char *rest = g_strnfill(150, 'n');
        return g_strdup_printf("%s %s %u", name, rest, number);
    }
    return g_strdup_printf("%s %u", name, number);
}

static char *below(Truth *truth, guint number)
{
    gint place = g_rand_int_range(truth->random, 0, (gint)truth->folders->len);
    const char *folder = truth->folders->pdata[place];
    g_autofree char *name = some_name(truth, number);
    return *folder == '\0' ? g_steal_pointer(&name) : g_strdup_printf("%s/%s", folder, name);
}

static void make_folders(Truth *truth)
{
    g_autoptr(GString) deep = g_string_new("");
    g_ptr_array_add(truth->folders, g_strdup(""));
    for (guint i = 0; i < FOLDERS; i++)
        g_ptr_array_add(truth->folders, below(truth, i));
    for (guint i = 0; i < DEPTH; i++)
        g_string_append_printf(deep, "%slevel %u", i > 0 ? "/" : "", i);
    g_ptr_array_add(truth->folders, g_strdup(deep->str));
    for (guint i = 0; i < truth->folders->len; i++) {
        g_autofree char *path = g_build_filename("truth", truth->folders->pdata[i], NULL);
        CHECK(g_mkdir_with_parents(path, 0755) == 0);
    }
}

/* Half of it is text, which can be packed; some begins with many zeros. */
static void write_content(Truth *truth, const char *path, gsize size)
{
    g_autofree guint8 *data = g_malloc0(size + 1);
    gsize from = g_rand_int_range(truth->random, 0, 10) == 0 ? size / 2 : 0;
    fill_noise(data + from, size - from, g_rand_int(truth->random));
    if (g_rand_boolean(truth->random))
        for (gsize i = from; i < size; i++)
            data[i] = (guint8) "tray 04; day 12; sown; not yet\n"[i % 31 + (data[i] == 0)];
    CHECK(g_file_set_contents(path, (const char *)data, (gssize)size, NULL));
}

static gsize some_size(Truth *truth)
{
    static const gsize odd[] = {0,   1,   59,   60,   61,   300,  511,  512,
                                600, 700, 1023, 4095, 4096, 4097, 65536};
    return g_rand_boolean(truth->random)
               ? odd[g_rand_int_range(truth->random, 0, G_N_ELEMENTS(odd))]
               : (gsize)g_rand_int_range(truth->random, 0, 90000);
}

static Put *put_new(Truth *truth, const char *path)
{
    g_autofree char *place = g_build_filename("truth", path, NULL);
    GStatBuf st;
    Put *put = g_new0(Put, 1);
    CHECK(g_stat(place, &st) == 0);
    put->path = g_strdup(path);
    put->sha256 = file_sha256(place);
    put->size = (guint64)st.st_size;
    put->modified = st.st_mtime;
    g_ptr_array_add(truth->put, put);
    g_hash_table_insert(truth->by_path, put->path, put);
    g_hash_table_add(truth->sums, g_strdup(put->sha256));
    return put;
}

static Truth *truth_new(const Kind *kind, GRand *random, guint files)
{
    Truth *truth = g_new0(Truth, 1);
    truth->kind = kind;
    truth->random = random;
    truth->folders = g_ptr_array_new_with_free_func(g_free);
    truth->put = g_ptr_array_new_with_free_func(put_free);
    truth->by_path = g_hash_table_new(g_str_hash, g_str_equal);
    truth->sums = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    must("rm -rf truth");
    make_folders(truth);
    for (guint i = 0; i < files; i++) {
        g_autofree char *path = below(truth, 1000 + i);
        g_autofree char *place = g_build_filename("truth", path, NULL);
        write_content(truth, place, some_size(truth));
        struct timespec at = {.tv_sec =
                                  1500000000 + g_rand_int_range(random, 0, 200000000) / 2 * 2};
        struct timespec times[2] = {at, at};
        CHECK(utimensat(AT_FDCWD, place, times, 0) == 0);
        put_new(truth, path);
    }
    return truth;
}

static void truth_free(Truth *truth)
{
    g_hash_table_unref(truth->by_path);
    g_hash_table_unref(truth->sums);
    g_ptr_array_unref(truth->put);
    g_ptr_array_unref(truth->folders);
    g_free(truth);
}

/* --- putting it in ---------------------------------------------------------------------------- */

/* Copies some files in turns, a piece of each at a time, so that they lie in pieces. */
static void copy_together(Truth *truth, guint first, guint count, const char *to)
{
    int in[TOGETHER];
    int out[TOGETHER];
    guint open_ones = count;
    for (guint i = 0; i < count; i++) {
        const Put *put = truth->put->pdata[first + i];
        g_autofree char *from = g_build_filename("truth", put->path, NULL);
        g_autofree char *place = g_build_filename(to, put->path, NULL);
        in[i] = open(from, O_RDONLY | O_CLOEXEC);
        out[i] = open(place, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
        CHECK(in[i] >= 0 && out[i] >= 0);
    }
    while (open_ones > 0)
        for (guint i = 0; i < count; i++) {
            guint8 piece[8192];
            if (in[i] < 0)
                continue;
            ssize_t got = read(in[i], piece, sizeof piece);
            if (got > 0) {
                CHECK(write(out[i], piece, (size_t)got) == got);
                CHECK(fsync(out[i]) == 0);
                continue;
            }
            close(in[i]);
            close(out[i]);
            in[i] = -1;
            open_ones--;
        }
}

static void set_time(const Put *put, const char *to)
{
    g_autofree char *place = g_build_filename(to, put->path, NULL);
    struct timespec times[2] = {{.tv_sec = put->modified}, {.tv_sec = put->modified}};
    CHECK(utimensat(AT_FDCWD, place, times, 0) == 0);
}

/* Hard links, links, and a file with holes: of some kinds only. */
static void add_special(Truth *truth, const char *to)
{
    for (guint i = 0; truth->kind->has_links && i < 10; i++) {
        const Put *put = truth->put->pdata[i];
        g_autofree char *name = g_strdup_printf("hard link %u", i);
        g_autofree char *from = g_build_filename(to, put->path, NULL);
        g_autofree char *place = g_build_filename(to, name, NULL);
        g_autofree char *origin = g_build_filename("truth", put->path, NULL);
        g_autofree char *copy = g_build_filename("truth", name, NULL);
        CHECK(link(from, place) == 0 && link(origin, copy) == 0);
        put_new(truth, name);
    }
    must("truncate -s 3M truth/holes.bin && echo sown >> truth/holes.bin && "
         "truncate -s 5M truth/holes.bin && cp -a --sparse=always truth/holes.bin %s/",
         to);
    put_new(truth, "holes.bin");
}

/* TRUE when it was put in, by whichever way there is. */
static gboolean put_in(Truth *truth)
{
    const char *name = truth->kind->filesystem;
    if (g_str_has_prefix(name, "fat")) {
        /* Room in pieces first. */
        must(
            "export MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8; mkdir -p spare; "
            "for i in $(seq 1 200); do head -c $((i %% 7 * 900 + 700)) /dev/zero > spare/$i; done; "
            "mcopy -Q -i v.img spare/* :: && mdel -i v.img $(seq -f ::%%g 1 2 200) && "
            "mcopy -Q -m -s -i v.img truth/* :: && mdel -i v.img $(seq -f ::%%g 2 2 200)");
        return TRUE;
    }
    if (g_str_equal(name, "hfsplus")) {
        must("xorriso -as mkisofs -hfsplus -o v.img truth >maker.log 2>&1 && truncate -s %uM v.img",
             VOLUME_MIB);
        return TRUE;
    }
    g_auto(Result) up = shell("%s/tests/scripts/mount-volume %s v.img mount", EKTYPON_SOURCE, name);
    if (up.status != 0)
        return FALSE;
    const char *to = truth->kind->is_packed ? "mount/packed" : "mount";
    must("mkdir -p %s", to);
    if (truth->kind->is_packed)
        must("setfattr -h -v 0x00080000 -n system.ntfs_attrib %s", to);
    for (guint i = 0; i < truth->folders->len; i++) {
        g_autofree char *path = g_build_filename(to, truth->folders->pdata[i], NULL);
        CHECK(g_mkdir_with_parents(path, 0755) == 0);
    }
    for (guint i = 0; i < truth->put->len; i += TOGETHER)
        copy_together(truth, i, MIN(TOGETHER, truth->put->len - i), to);
    for (guint i = 0; i < truth->put->len; i++)
        set_time(truth->put->pdata[i], to);
    add_special(truth, to);
    must("%s/tests/scripts/mount-volume --down v.img mount", EKTYPON_SOURCE);
    return TRUE;
}

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

/* "orphans/@12/b/c" was somewhere a file "a/b/c". */
static void note_below(Truth *truth, const char *path)
{
    const char *rest = g_str_has_prefix(path, "orphans/") ? strchr(path + 8, '/') : NULL;
    for (guint i = 0; rest != NULL && i < truth->put->len; i++) {
        Put *put = truth->put->pdata[i];
        const char *below = strchr(put->path, '/');
        put->found_below = put->found_below || (below != NULL && g_str_equal(below, rest));
    }
}

static void check_file(Truth *truth, json_t *file, gboolean masked)
{
    const char *path = json_text(file, "path");
    const char *condition = json_text(file, "condition");
    gboolean whole = g_str_equal(condition, "whole");
    const char *inside = truth->kind->is_packed && g_str_has_prefix(path, "packed/")
                             ? path + strlen("packed/")
                             : path;
    Put *put = g_hash_table_lookup(truth->by_path, inside);
    if (put == NULL) {
        note_below(truth, path);
        /* What has lost its folder is called by a number, what has lost its long name by its short
         * one: both are something that was there. */
        if (!masked || (!g_str_has_prefix(path, "orphans/") &&
                        (!truth->kind->is_simple || strchr(path, '~') == NULL)))
            complain("was not there", path);
        else if (whole && !g_hash_table_contains(truth->sums, json_text(file, "sha256")))
            complain("nobody's content", path);
        return;
    }
    put->found = TRUE;
    if (json_u64(file, "size") != put->size)
        complain("another size", path);
    else if (whole && !g_str_equal(json_text(file, "sha256"), put->sha256))
        complain("called whole, and is not", path);
    else if (!whole && !masked)
        complain("called not whole", path);
    else if (!whole && !is_right_elsewhere(put, json_text(file, "written_as"),
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

/* Takes everything out, and looks at all of it. */
static void check_out(Truth *truth, const char *list, gboolean masked)
{
    must("rm -rf bench out");
    done("new bench --adopt v.img%s", list);
    done("hunt bench");
    g_auto(Result) result = ektypon("extract bench 1 --to out --json");
    CHECK(result.status == 0 || (masked && result.status == 3));
    if (result.status != 0 && result.status != 3) {
        fprintf(stderr, "\n%s", result.err);
        return;
    }
    json_t *json = result_json(&result);
    json_t *files = json_object_get(json, "files");
    for (guint i = 0; i < truth->put->len; i++)
        ((Put *)truth->put->pdata[i])->found = FALSE;
    for (gsize i = 0; i < json_array_size(files); i++)
        check_file(truth, json_array_get(files, i), masked);
    json_decref(json);
    if (!masked)
        check_all_found(truth);
}

/* --- ground that was not read ----------------------------------------------------------------- */

typedef enum { MASK_RANDOM, MASK_STRIDE, MASK_RUN, MASKS } Mask;

/* A hundredth of the sectors; one stretch of eight, as with a damaged head; a tenth in one. */
static void write_mask(GRand *random, Mask mask)
{
    guint sectors = VOLUME_MIB * 2048;
    g_autoptr(GString) list = g_string_new(NULL);
    if (mask == MASK_RUN) {
        gint first = g_rand_int_range(random, 64, (gint)(sectors - sectors / 10));
        g_string_append_printf(list, "%d %u\n", first, sectors / 10);
    }
    guint step = mask == MASK_RANDOM ? 100 : 8 * 96;
    guint phase = (guint)g_rand_int_range(random, 0, (gint)step);
    for (guint at = 64 + phase; mask != MASK_RUN && at + step < sectors; at += step)
        g_string_append_printf(
            list, "%u %u\n", mask == MASK_RANDOM ? at + (guint)g_rand_int_range(random, 0, 99) : at,
            mask == MASK_RANDOM ? 1u : 96u);
    write_file("unread.txt", list->str, list->len);
}

/* --- no header -------------------------------------------------------------------------------- */

static void wipe(const char *what)
{
    guint64 sectors = VOLUME_MIB * 2048;
    if (g_str_equal(what, "supers")) {
        /* All superblocks: by their magic, as in any copy of them. */
        for (guint group = 0; group < VOLUME_MIB / 128 + 1; group++)
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

static void check_kind(const Kind *kind, GRand *random, guint files)
{
    must("rm -f v.img && truncate -s %uM v.img && %s >maker.log 2>&1", VOLUME_MIB, kind->make);
    Truth *truth = truth_new(kind, random, files);
    if (!put_in(truth)) {
        skip("no loop device, or no driver");
        truth_free(truth);
        return;
    }
    check_out(truth, "", FALSE);
    for (Mask mask = MASK_RANDOM; mask < MASKS; mask++) {
        write_mask(random, mask);
        check_out(truth, " --bad-list unread.txt", TRUE);
    }
    if (g_str_equal(kind->filesystem, "exfat") || g_str_equal(kind->filesystem, "fat32"))
        check_without_root(truth);
    if (g_str_equal(kind->filesystem, "ntfs"))
        check_without_first_record(truth);
    if (kind->wipe != NULL) {
        wipe(kind->wipe);
        check_out(truth, "", FALSE);
    }
    truth_free(truth);
}

static void what_was_put_in_comes_out(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    const char *wanted = g_getenv("EKTYPON_TEST_FILES");
    guint files = wanted != NULL ? (guint)g_ascii_strtoull(wanted, NULL, 10) : FILES;
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        guint before = CU_get_number_of_failures();
        check_kind(&kinds[i], random, files);
        if (CU_get_number_of_failures() != before)
            fprintf(stderr, "\nthat was: %s\n", kinds[i].make);
    }
}

int main(void)
{
    static const Test tests[] = {{"what was put in comes out", what_was_put_in_comes_out}};
    return RUN_TESTS("volumes", tests);
}
