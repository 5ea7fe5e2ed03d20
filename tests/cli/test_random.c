/* SPDX-License-Identifier: MIT */
/* Drives made with the system's partitioning and mkfs tools, of random geometry, damaged at random:
 * the same checks as on the demo drive. */
#include "check.h"
#include "fixture.h"
#include "program.h"

#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#define DRIVES 8

typedef struct {
    guint32 ntfs_first, ntfs_count;
    guint32 fat_first, fat_count;
    guint32 ext_first, ext_count;
    guint32 sectors;
    guint per_cluster;
    gboolean is_fat16;
} Geometry;

static Geometry random_geometry(GRand *random)
{
    static const guint32 starts[] = {63, 2048, 1, 4096, 777};
    Geometry g = {0};
    g.ntfs_first = starts[g_rand_int_range(random, 0, G_N_ELEMENTS(starts))];
    g.ntfs_count = (guint32)g_rand_int_range(random, 8000, 60000);
    g.fat_first = g.ntfs_first + g.ntfs_count + (guint32)g_rand_int_range(random, 0, 5000);
    g.is_fat16 = g_rand_int_range(random, 0, 4) == 0;
    g.per_cluster = g_rand_boolean(random) ? 1 : 2;
    /* A whole number of tracks, which mkfs.fat would round down to. */
    g.fat_count = 32 * (guint32)(g.is_fat16 ? g_rand_int_range(random, 600, 1800)
                                            : g_rand_int_range(random, 4600, 6000));
    g.ext_first = g.fat_first + g.fat_count + (guint32)g_rand_int_range(random, 0, 3000);
    /* Whole blocks. */
    g.ext_count = 8 * (guint32)g_rand_int_range(random, 1024, 2500);
    g.sectors = g.ext_first + g.ext_count + (guint32)g_rand_int_range(random, 0, 9999);
    return g;
}

/* Some files: small, large, empty, in folders, with long names. */
static guint make_files(GRand *random)
{
    guint count = (guint)g_rand_int_range(random, 12, 30);
    must("rm -rf tree && mkdir -p 'tree/Field recordings/2025' tree/photos 'tree/Übersicht'");
    static const char *const folders[] = {"", "Field recordings/2025/", "photos/", "Übersicht/"};
    for (guint i = 0; i < count; i++) {
        gsize length = i == 0 ? 0 : (gsize)g_rand_int_range(random, 1, i % 5 == 0 ? 90000 : 9000);
        g_autofree guint8 *data = g_malloc(length + 1);
        g_autofree char *path =
            g_strdup_printf("tree/%sTray %u, counted again – Nº %u.dat", folders[i % 4], i, i * i);
        fill_noise(data, length, i + 1);
        write_file(path, data, length);
    }
    return count;
}

static void make_drive(GRand *random, const Geometry *g)
{
    must("rm -f drive.img && truncate -s %llu drive.img", g->sectors * 512ull);
    must("printf 'label: dos\\n%u,%u,7\\n%u,%u,%s\\n%u,%u,83\\n' | sfdisk -q --force drive.img",
         g->ntfs_first, g->ntfs_count, g->fat_first, g->fat_count, g->is_fat16 ? "e" : "c",
         g->ext_first, g->ext_count);
    must("rm -f n.img && truncate -s %llu n.img && "
         "mkfs.ntfs -q -F -s 512 -p %u -H 255 -S 63 -L Catalogue n.img 2>/dev/null",
         g->ntfs_count * 512ull, g->ntfs_first);
    must("rm -f f.img && truncate -s %llu f.img && mkfs.fat -F %d -s %u -h %u -n TRANSFER f.img",
         g->fat_count * 512ull, g->is_fat16 ? 16 : 32, g->is_fat16 ? 4 : g->per_cluster,
         g->fat_first);
    must("rm -f e.img && truncate -s %llu e.img && mke2fs -q -F -t ext4 e.img",
         g->ext_count * 512ull);
    must("export LC_ALL=C.UTF-8 MTOOLS_SKIP_CHECK=1; mcopy -i f.img -s -m tree/* ::");
    static const char *const parts[] = {"n.img", "f.img", "e.img"};
    const guint32 firsts[] = {g->ntfs_first, g->fat_first, g->ext_first};
    for (gsize i = 0; i < 3; i++)
        must("dd if=%s of=drive.img bs=512 seek=%u conv=notrunc,sparse status=none", parts[i],
             firsts[i]);
    must("head -c 512 drive.img > sector-0");
    /* Wiped: zeros, or something else altogether. */
    if (g_rand_boolean(random))
        must("dd if=/dev/zero of=drive.img bs=512 count=1 conv=notrunc status=none");
    else
        must("head -c 512 /dev/urandom | dd of=drive.img bs=512 count=1 conv=notrunc status=none");
}

static void make_model(GRand *random, const Geometry *g)
{
    g_autoptr(GString) text = g_string_new("[drive]\nbacking=drive.img\nerror-time=7000\n");
    g_string_append_printf(text, "[fault boot]\nkind=unreadable\nfirst=%u\ncount=%d\n",
                           g->ntfs_first, g_rand_int_range(random, 1, 8));
    if (!g->is_fat16 && g_rand_boolean(random))
        g_string_append_printf(text, "[fault fat]\nkind=unreadable\nfirst=%u\ncount=1\n",
                               g->fat_first);
    /* Scratches where the files of the FAT volume lie. */
    for (int i = 0; i < 3; i++)
        g_string_append_printf(text, "[fault scratch %d]\nkind=unreadable\nfirst=%u\ncount=%d\n", i,
                               g->fat_first + 2500 + (guint32)g_rand_int_range(random, 0, 2000),
                               g_rand_int_range(random, 1, 30));
    write_file("drive.model", text->str, text->len);
}

static void check_table(const Geometry *g)
{
    gsize length = 0;
    g_autofree guint8 *was = read_file("sector-0", &length);
    g_autofree guint8 *is = read_file("clone.raw", &length);
    g_autofree guint8 *ntfs = read_file("n.img", &length);
    for (gsize at = 446; at < 446 + 48; at += 16) {
        CHECK_NUMBER(is[at + 4], was[at + 4]);
        /* mke2fs leaves out a last group that would be too small. */
        CHECK_BYTES(is + at + 8, was + at + 8, at == 446 + 32 ? 4 : 8);
    }
    CHECK_BYTES(is + g->ntfs_first * (gsize)512, ntfs, 512);
    g_auto(Result) listed = shell("sfdisk -d clone.raw");
    g_autofree char *line =
        g_strdup_printf("size=%12u, type=%s", g->fat_count, g->is_fat16 ? "e" : "c");
    CHECK_CONTAINS(listed.out, line);
    must("dd if=clone.raw of=checked.img bs=512 skip=%u count=%u status=none", g->fat_first,
         g->fat_count);
}

/* A volume none of whose folders lost entries is clean; its files are all there. */
static void check_clean(void)
{
    g_auto(Result) checked = shell("fsck.fat -n checked.img");
    CHECK_STATUS(checked, 0);
}

/* Numbers are given as volumes are found: likely places first. */
static guint64 fat_number(void)
{
    guint64 number = 0;
    g_auto(Result) result = ektypon("volumes bench --json");
    json_t *json = result_json(&result);
    json_t *list = json_object_get(json, "volumes");
    for (gsize i = 0; i < json_array_size(list); i++)
        if (g_str_has_prefix(json_text(json_array_get(list, i), "filesystem"), "fat"))
            number = json_u64(json_array_get(list, i), "number");
    json_decref(json);
    return number;
}

static void check_files(guint count)
{
    g_auto(Result) result = ektypon("extract bench %u --to out --json", (unsigned)fat_number());
    CHECK(result.status == 0 || result.status == 3);
    json_t *json = result_json(&result);
    json_t *files = json_object_get(json, "files");
    gboolean folders_hurt = strstr(result.err, "some files may be missing") != NULL;
    if (!folders_hurt) {
        CHECK_NUMBER(json_array_size(files), count);
        check_clean();
    } else {
        CHECK(json_array_size(files) <= count);
        CHECK_NUMBER(result.status, 3);
    }
    for (size_t i = 0; i < json_array_size(files); i++) {
        json_t *file = json_array_get(files, i);
        gsize length = 0;
        gsize true_length = 0;
        g_autofree char *true_path = g_build_filename("tree", json_text(file, "path"), NULL);
        g_autofree char *place = g_build_filename("out", json_text(file, "written_as"), NULL);
        /* Where a long name stood in the hole, the short one is left. */
        if (folders_hurt && !g_file_test(true_path, G_FILE_TEST_EXISTS))
            continue;
        g_autofree guint8 *whole = read_file(true_path, &true_length);
        g_autofree guint8 *taken = read_file(place, &length);
        json_t *holes = json_object_get(file, "holes");
        if (g_str_equal(json_text(file, "condition"), "whole"))
            CHECK_NUMBER(json_array_size(holes), 0);
        else
            CHECK(json_array_size(holes) > 0);
        for (size_t h = 0; h < json_array_size(holes); h++)
            memset(whole + json_u64(json_array_get(holes, h), "offset"), 0,
                   json_u64(json_array_get(holes, h), "length"));
        CHECK_NUMBER(length, true_length);
        CHECK_BYTES(taken, whole, MIN(length, true_length));
    }
    json_decref(json);
}

static void random_drives_come_back(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    const char *wanted = g_getenv("EKTYPON_TEST_DRIVES");
    int drives = wanted != NULL ? (int)g_ascii_strtoll(wanted, NULL, 10) : DRIVES;
    for (int drive = 0; drive < drives; drive++) {
        must("rm -rf bench out clone.raw plain.raw");
        Geometry g = random_geometry(random);
        guint count = make_files(random);
        make_drive(random, &g);
        make_model(random, &g);
        static const char *const lines[] = {"new bench sim:drive.model",
                                            "image bench --all-rounds",
                                            "hunt bench",
                                            "plan bench",
                                            "clone bench clone.raw",
                                            "clone bench plain.raw --as-imaged"};
        for (gsize i = 0; i < G_N_ELEMENTS(lines); i++) {
            g_auto(Result) result = ektypon("%s", lines[i]);
            CHECK_STATUS(result, 0);
        }
        g_auto(Result) plan = ektypon("plan bench --show");
        CHECK_CONTAINS(plan.out, "83 Linux");
        check_table(&g);
        check_files(count);
        must("cp plain.raw damaged.raw");
        g_auto(Result) applied = ektypon("apply bench plain.raw");
        CHECK_STATUS(applied, 0);
        must("cmp plain.raw clone.raw");
        g_auto(Result) undone = ektypon("undo bench plain.raw");
        CHECK_STATUS(undone, 0);
        must("cmp plain.raw damaged.raw");
    }
}

int main(void)
{
    static const Test tests[] = {{"random drives come back", random_drives_come_back}};
    return RUN_TESTS("random", tests);
}
