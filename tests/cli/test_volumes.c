/* SPDX-License-Identifier: MIT */
/* What was put into a volume comes out of it: files that the system's own drivers wrote, many of
 * them in pieces, are taken out with their paths, times and content; with ground that was not read
 * every file that is called whole is right, and every other one right outside its holes; without
 * any header it is the same. */
#include "check.h"
#include "fixture.h"
#include "plain.h"
#include "program.h"

#include "base/bytes.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#define FILES 60u
#define FOLDERS 30u
#define DEPTH 25u
#define TOGETHER 6u /* files that are written in turns */
#define LARGE 1000u /* files: from here on some are large, too */
#define BIG (8u << 20)
#define IN_MANY_PIECES (3u << 20) /* bytes of a file that takes an index of its own */
#define SECTOR 512u

typedef struct {
    const char *filesystem; /* of the driver */
    const char *make;
    const char *wipe; /* leaves no header; NULL: another would be left */
    gint64 step;      /* seconds between times it can keep */
    gboolean has_links;
    gboolean takes_any_name;
    gboolean is_packed;    /* its folder is compressed */
    gboolean is_simple;    /* FAT: its tool knows the first 65 536 characters only */
    gboolean is_broken_up; /* what is put in finds room in small pieces only */
    guint wants_depth;     /* ext4: of a tree of extents; NTFS: 1 for lists of attributes */
} Kind;

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
    {"ext4", "mke2fs -q -F -t ext4 -b 1024 -O inline_data,64bit v.img", NULL, 1, TRUE, TRUE, FALSE,
     FALSE, TRUE, 2},
};

static guint volume_mib = 80;

typedef struct {
    char *path;
    char *sha256;
    guint64 size;
    guint64 number; /* in the inventory */
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

static gsize some_size(Truth *truth, guint number, guint files)
{
    if (number == 0)
        return IN_MANY_PIECES;
    if (files >= LARGE && number <= 4)
        return number == 1 ? 300u << 20 : (gsize)g_rand_int_range(truth->random, BIG, 40 << 20);
    static const gsize odd[] = {0,   1,   59,   60,   61,   300,  511,  512,
                                600, 700, 1023, 4095, 4096, 4097, 65536};
    return g_rand_int_range(truth->random, 0, 10) < 3
               ? odd[g_rand_int_range(truth->random, 0, G_N_ELEMENTS(odd))]
               : (gsize)g_rand_int_range(truth->random, 0, 200000);
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
        write_content(truth, place, some_size(truth, i, files));
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

/* Takes some more of the spare files away; FALSE when none is left. */
static gboolean make_room(const char *mount)
{
    g_autofree char *spare = g_build_filename(mount, "spare", NULL);
    GDir *folder = g_dir_open(spare, 0, NULL);
    guint gone = 0;
    const char *name;
    while (folder != NULL && gone < 200 && (name = g_dir_read_name(folder)) != NULL) {
        g_autofree char *path = g_build_filename(spare, name, NULL);
        gone += g_ascii_isdigit(*name) && unlink(path) == 0;
    }
    if (folder != NULL)
        g_dir_close(folder);
    return gone > 0;
}

/* Where a driver finds no room in what is free, there must be more of it. */
static gboolean write_piece(int fd, const guint8 *piece, gsize length, const char *mount)
{
    for (gsize done = 0; done < length;) {
        ssize_t put = write(fd, piece + done, length - done);
        if (put < 0 && (errno != ENOSPC || !make_room(mount)))
            return FALSE;
        done += (gsize)MAX(put, 0);
    }
    return TRUE;
}

/* Copies some files in turns, a piece of each at a time, so that they lie in pieces. */
static void copy_together(const Put *const *some, guint count, const char *to)
{
    int in[TOGETHER];
    int out[TOGETHER];
    guint open_ones = count;
    for (guint i = 0; i < count; i++) {
        g_autofree char *from = g_build_filename("truth", some[i]->path, NULL);
        g_autofree char *place = g_build_filename(to, some[i]->path, NULL);
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
                CHECK(write_piece(out[i], piece, (gsize)got, to));
                continue;
            }
            close(in[i]);
            close(out[i]);
            in[i] = -1;
            open_ones--;
        }
}

/* The big ones, or the others. */
static void copy_some(Truth *truth, gboolean big, const char *to)
{
    const Put *some[TOGETHER];
    guint count = 0;
    for (guint i = 0; i < truth->put->len; i++) {
        const Put *put = truth->put->pdata[i];
        if ((put->size >= BIG) != big)
            continue;
        some[count++] = put;
        if (count == TOGETHER) {
            copy_together(some, count, to);
            count = 0;
        }
    }
    copy_together(some, count, to);
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
    /* More names than one record of NTFS holds. */
    for (guint i = 0; truth->kind->has_links && i < 12; i++) {
        g_autofree char *rest = g_strnfill(150, 'l');
        g_autofree char *name = g_strdup_printf("%u %s", i, rest);
        g_autofree char *from = g_build_filename(to, "hard link 0", NULL);
        g_autofree char *place = g_build_filename(to, name, NULL);
        g_autofree char *origin = g_build_filename("truth", "hard link 0", NULL);
        g_autofree char *copy = g_build_filename("truth", name, NULL);
        CHECK(link(from, place) == 0 && link(origin, copy) == 0);
        put_new(truth, name);
    }
    must("truncate -s 3M truth/holes.bin && echo sown >> truth/holes.bin && "
         "truncate -s 5M truth/holes.bin && cp -a --sparse=always truth/holes.bin %s/",
         to);
    put_new(truth, "holes.bin");
}

static guint64 free_bytes(const char *folder)
{
    struct statvfs space;
    CHECK(statvfs(folder, &space) == 0);
    return (guint64)space.f_bfree * space.f_frsize;
}

static gboolean write_spare(const char *path, guint64 bytes)
{
    static const guint8 block[65536] = "spare";
    int fd = open(path, O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
    gboolean fine = fd >= 0;
    while (fine && bytes > 0) {
        ssize_t put = write(fd, block, (size_t)MIN(bytes, sizeof block));
        fine = put > 0;
        bytes -= fine ? (guint64)put : 0;
    }
    if (fd >= 0)
        close(fd);
    return fine;
}

/* Many small files, every second of which goes. */
static void write_small_ones(Truth *truth, const char *spare)
{
    guint count = 0;
    for (guint before = 1; before > 0;) {
        before = count;
        for (gboolean fine = TRUE; fine; count++) {
            g_autofree char *path = g_strdup_printf("%s/%u", spare, count);
            fine = write_spare(path, (guint64)g_rand_int_range(truth->random, 900, 4000));
        }
        /* Some that was put by for the worst case is free again. */
        must("sync -f %s", spare);
        before = count - before > 8 ? count : 0;
    }
    /* A driver may take no more files though there is room. */
    g_autofree char *rest = g_build_filename(spare, "rest", NULL);
    write_spare(rest, G_MAXINT64);
    guint gone = 0;
    for (guint i = 0; i < count; i += 2) {
        g_autofree char *path = g_strdup_printf("%s/%u", spare, i);
        gone += unlink(path) == 0;
    }
    CHECK(gone > count / 3);
}

/* Leaves room for what is put in, in small pieces only. */
static void break_up_space(Truth *truth, const char *mount)
{
    guint64 need = 2u << 20;
    for (guint i = 0; i < truth->put->len; i++)
        if (((const Put *)truth->put->pdata[i])->size < BIG)
            need += ((const Put *)truth->put->pdata[i])->size * 3 / 2 + 4096;
    g_autofree char *spare = g_build_filename(mount, "spare", NULL);
    g_autofree char *filler = g_build_filename(spare, "filler", NULL);
    CHECK(g_mkdir(spare, 0755) == 0);
    guint64 space = free_bytes(mount);
    if (space > 2 * need)
        CHECK(write_spare(filler, space - 2 * need));
    write_small_ones(truth, spare);
    must("sync -f %s", mount);
}

/* The same for FAT, which no driver need be there for: spare files of one cluster each. */
static void fill_by_mtools(const Truth *truth)
{
    gsize length = 0;
    g_autofree guint8 *image = read_file("v.img", &length);
    EkSpan boot = {image, 512};
    guint64 sectors = ek_span_le32(boot, 32) != 0 ? ek_span_le32(boot, 32) : ek_span_le16(boot, 19);
    guint64 fat = ek_span_le16(boot, 22) != 0 ? ek_span_le16(boot, 22) : ek_span_le32(boot, 36);
    guint64 cluster = ek_span_u8(boot, 13) * 512ull;
    guint64 before = ek_span_le16(boot, 14) + 2 * fat + ek_span_le16(boot, 17) / 16;
    guint64 clusters = (sectors - before) * 512 / cluster;
    guint64 need = (1u << 20) / cluster;
    for (guint i = 0; i < truth->put->len; i++)
        need += ((const Put *)truth->put->pdata[i])->size / cluster + 2;
    guint64 folder = 2 * need * 64 / cluster + 24;
    CHECK(clusters > 2 * need + folder);
    must("rm -rf spare && mkdir spare && truncate -s %" G_GUINT64_FORMAT " filler && "
         "cd spare && seq 1 %" G_GUINT64_FORMAT " | xargs -n 500 sh -c 'for i; do echo spare > $i; "
         "done' sh",
         (clusters - 2 * need - folder) * cluster, 2 * need);
    must("export MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8; mcopy -Q -i v.img filler :: && "
         "mcopy -Q -s -i v.img spare :: && mdel -i v.img '::spare/*[02468]' && "
         "mcopy -Q -m -s -i v.img truth/* :: && mdeltree -i v.img ::spare ::filler");
}

/* TRUE when it was put in, by whichever way there is. */
static gboolean put_in(Truth *truth)
{
    const char *name = truth->kind->filesystem;
    if (g_str_has_prefix(name, "fat")) {
        fill_by_mtools(truth);
        return TRUE;
    }
    if (g_str_equal(name, "hfsplus")) {
        must("xorriso -as mkisofs -hfsplus -o v.img truth >maker.log 2>&1 && truncate -s %uM v.img",
             volume_mib);
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
    copy_some(truth, TRUE, to);
    /* In a full volume the driver does not pack what it writes piece by piece. */
    if (!truth->kind->is_packed)
        break_up_space(truth, "mount");
    copy_some(truth, FALSE, to);
    for (guint i = 0; i < truth->put->len; i++)
        set_time(truth->put->pdata[i], to);
    add_special(truth, to);
    /* Where it lies is decided now, before there is more room. */
    must("sync -f mount && rm -rf mount/spare");
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

/* "orphans/@12/b/c" was somewhere a file "a/b/c"; so was "A~1/b/c", the long name of which began in
 * what was not read. */
static void note_below(Truth *truth, const char *path)
{
    const char *rest = strchr(path + (g_str_has_prefix(path, "orphans/") ? 8 : 0), '/');
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
    put->number = json_u64(file, "number");
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

/* --- a second reader -------------------------------------------------------------------------- */

/* What our inventory has of all files: number to GArray of PlainPiece, joined where they touch. */
static GHashTable *our_pieces(guint64 first_byte)
{
    GHashTable *all =
        g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, (GDestroyNotify)g_array_unref);
    g_auto(Result) rows =
        shell("sqlite3 -separator ' ' bench/files-1.db "
              "'SELECT file,offset,bytes,first FROM extent ORDER BY file,offset'");
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

static void compare_with_plain(const Truth *truth, const PlainVolume *volume, const guint8 *image,
                               GHashTable *pieces)
{
    g_autoptr(GHashTable) by_path = g_hash_table_new(g_str_hash, g_str_equal);
    for (guint i = 0; i < volume->files->len; i++) {
        PlainFile *file = volume->files->pdata[i];
        const char *path = file->path;
        if (truth->kind->is_packed && g_str_has_prefix(path, "packed/"))
            path += strlen("packed/");
        g_hash_table_insert(by_path, (gpointer)path, file);
    }
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

/* What the volume is made of, as a plain second reader sees it, which must agree with us. */
static void check_plain(const Truth *truth)
{
    const char *name = truth->kind->filesystem;
    const char *format = g_str_has_prefix(name, "fat")   ? "fat"
                         : g_str_has_prefix(name, "ext") ? "ext"
                                                         : name;
    g_auto(Result) listed = ektypon("volumes bench 1 --json");
    json_t *json = result_json(&listed);
    guint64 first = json_u64(json_array_get(json_object_get(json, "volumes"), 0), "first_byte");
    json_decref(json);
    GMappedFile *file = g_mapped_file_new("v.img", FALSE, NULL);
    const guint8 *image = (const guint8 *)g_mapped_file_get_contents(file) + first;
    g_autoptr(PlainVolume) volume =
        plain_read(format, image, g_mapped_file_get_length(file) - first);
    g_autoptr(GHashTable) pieces = our_pieces(first);
    compare_with_plain(truth, volume, image, pieces);
    if (truth->kind->is_broken_up)
        CHECK(count_in_pieces(volume) * 100 >= volume->files->len * 30);
    if (truth->kind->wants_depth > 0)
        CHECK(g_str_equal(format, "ntfs") ? volume->lists > 0
                                          : volume->deepest >= truth->kind->wants_depth);
    g_mapped_file_unref(file);
}

/* --- ground that was not read ----------------------------------------------------------------- */

typedef enum { MASK_RANDOM, MASK_STRIDE, MASK_RUN, MASKS } Mask;

/* A hundredth of the sectors; one stretch of eight, as with a damaged head; a tenth in one. */
static void write_mask(GRand *random, Mask mask)
{
    guint sectors = volume_mib * 2048;
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
    guint64 sectors = volume_mib * 2048;
    if (g_str_equal(what, "supers")) {
        /* All superblocks: by their magic, as in any copy of them. */
        for (guint group = 0; group < volume_mib / 128 + 1; group++)
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
    must("rm -f v.img && truncate -s %uM v.img && %s >maker.log 2>&1", volume_mib, kind->make);
    Truth *truth = truth_new(kind, random, files);
    if (!put_in(truth)) {
        skip("no loop device, or no driver");
        truth_free(truth);
        return;
    }
    check_out(truth, "", FALSE);
    check_plain(truth);
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
    volume_mib = files >= LARGE ? 1400 : 80;
    const char *only = g_getenv("EKTYPON_TEST_KIND");
    for (gsize i = 0; i < G_N_ELEMENTS(kinds); i++) {
        if (only != NULL && g_ascii_strtoull(only, NULL, 10) != i)
            continue;
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
