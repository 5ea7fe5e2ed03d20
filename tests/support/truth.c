/* SPDX-License-Identifier: MIT */
/* Files that are put into a volume, by the system's own drivers where there are such, so that many
 * of them lie in pieces. */
#include "truth.h"

#include "check.h"
#include "fixture.h"
#include "program.h"

#include "base/bytes.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/statvfs.h>
#include <unistd.h>

#define FOLDERS 30u
#define DEPTH 25u
#define TOGETHER 6u /* files that are written in turns */
#define SPARES_MOST 24000u
#define BIG (8u << 20)
#define IN_MANY_PIECES (3u << 20) /* bytes of a file that takes an index of its own */

guint truth_mib(guint files)
{
    return files >= TRUTH_LARGE ? 1400 : 80;
}

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
    if (files >= TRUTH_LARGE && number <= 4)
        return number == 1 ? 300u << 20 : (gsize)g_rand_int_range(truth->random, BIG, 40 << 20);
    static const gsize odd[] = {0,   1,   59,   60,   61,   300,  511,  512,
                                600, 700, 1023, 4095, 4096, 4097, 65536};
    return g_rand_int_range(truth->random, 0, 10) < 2
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

Truth *truth_new(const Kind *kind, GRand *random, guint files)
{
    Truth *truth = g_new0(Truth, 1);
    truth->kind = kind;
    truth->files = files;
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

void truth_free(Truth *truth)
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
static void copy_together(const Truth *truth, const Put *const *some, guint count, const char *to)
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
                /* Where each piece of it lies is decided at once. */
                if (truth->kind->wants_depth > 1 && some[i]->size == IN_MANY_PIECES)
                    CHECK(fsync(out[i]) == 0);
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
            copy_together(truth, some, count, to);
            count = 0;
        }
    }
    copy_together(truth, some, count, to);
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
    for (guint i = 0; i < 4; i++)
        make_room("mount");
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
    int fd = open(path, O_WRONLY | O_CREAT | O_APPEND | O_CLOEXEC, 0644);
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
    /* A driver may take no more files though there is room: this one takes the rest. */
    g_autofree char *rest = g_build_filename(spare, "rest", NULL);
    CHECK(write_spare(rest, 1));
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
    /* The tools go through a folder once for each file in it. */
    guint64 spares = MIN(2 * need, SPARES_MOST);
    guint64 folder = spares * 64 / cluster + 24;
    guint64 left = spares < 2 * need ? need + spares : spares;
    CHECK(clusters > left + folder);
    must("rm -rf spare && mkdir spare && truncate -s %" G_GUINT64_FORMAT " filler && "
         "cd spare && seq 1 %" G_GUINT64_FORMAT " | xargs -n 500 sh -c 'for i; do echo spare > $i; "
         "done' sh",
         (clusters - left - folder) * cluster, spares);
    must("export MTOOLS_SKIP_CHECK=1 LC_ALL=C.UTF-8; mcopy -Q -i v.img filler :: && "
         "mcopy -Q -s -i v.img spare :: && mdel -i v.img '::spare/*[02468]' && "
         "mcopy -Q -m -s -i v.img truth/* :: && mdeltree -i v.img ::spare ::filler");
}

gboolean truth_put_in(Truth *truth)
{
    const char *name = truth->kind->filesystem;
    if (g_str_has_prefix(name, "fat")) {
        fill_by_mtools(truth);
        return TRUE;
    }
    if (g_str_equal(name, "hfsplus")) {
        must("xorriso -as mkisofs -hfsplus -o v.img truth >maker.log 2>&1 && truncate -s %uM v.img",
             truth_mib(truth->files));
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

gboolean truth_delete(Truth *truth)
{
    const char *name = truth->kind->filesystem;
    if (g_str_has_prefix(name, "fat") || g_str_equal(name, "hfsplus"))
        return FALSE;
    g_auto(Result) up = shell("%s/tests/scripts/mount-volume %s v.img mount", EKTYPON_SOURCE, name);
    if (up.status != 0)
        return FALSE;
    for (guint i = 0; i < truth->put->len; i += 3) {
        Put *put = truth->put->pdata[i];
        g_autofree char *place =
            g_build_filename("mount", truth->kind->is_packed ? "packed" : "", put->path, NULL);
        put->is_deleted = unlink(place) == 0;
    }
    must("%s/tests/scripts/mount-volume --down v.img mount", EKTYPON_SOURCE);
    return TRUE;
}
