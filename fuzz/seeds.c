/* SPDX-License-Identifier: MIT */
/* Writes the seed corpus: one folder a harness below the folder that is named; with a second
 * argument also the composed volumes as a whole. */
#include "carve/types.h"
#include "fixture.h"
#include "specimens.h"
#include "volumes.h"

#include <glib/gstdio.h>
#include <string.h>

static void put(const char *root, const char *harness, const char *name, const void *data,
                gsize length)
{
    g_autofree char *folder = g_build_filename(root, harness, NULL);
    g_autofree char *path = g_build_filename(folder, name, NULL);
    g_mkdir_with_parents(folder, 0777);
    write_file(path, data, length);
}

static void put_fat(const char *root, guint bits, const char *name)
{
    guint8 content[3000];
    fill_noise(content, sizeof content, bits);
    g_autoptr(FatVolume) fat = fat_volume_new(bits, 0);
    FatFolder folder = fat_root(fat);
    fat_add(fat, &folder, "TRAYS      ", NULL, 0x08, 0, 0);
    FatFolder inside = fat_add_folder(fat, &folder, "PHOTOS~1   ", "Germination photos");
    fat_add(fat, &inside, "DAY07   JPG", "Day 07 – Größe.jpg", 0x20,
            fat_store(fat, content, sizeof content, 2), sizeof content);
    gsize used = fat->data_start + (gsize)fat->next_cluster * fat->per_cluster * 512;
    put(root, "fat", name, fat->data, MIN(used, fat->length));
}

#define SEED_MOST (128u << 10)

/* For fuzz_gather as well. */
static void put_ntfs(const char *root)
{
    gsize length = 0;
    g_autofree guint8 *volume = ntfs_volume_in_pieces(&length);
    put(root, "whole", "ntfs-in-pieces", volume, length);
}

/* All of one, and all but its first header: for fuzz_gather. */
static void put_whole(const char *root, const char *name, const Composed *composed)
{
    g_autofree char *wiped = g_strconcat(name, "-wiped", NULL);
    put(root, "whole", name, composed->data, composed->length);
    memset(composed->data + composed->first_byte, 0, composed->first_length);
    put(root, "whole", wiped, composed->data, composed->length);
    if (composed->catalog_byte != 0) {
        g_autofree char *bare = g_strconcat(name, "-bare", NULL);
        memset(composed->data + composed->copy_byte, 0, composed->copy_length);
        put(root, "whole", bare, composed->data, composed->length);
    }
}

/* The beginning of each, and what of it tells where it is. */
static void put_composed(const char *root, gboolean whole)
{
    const HfsPlan plans[] = {
        {.block_bytes = 4096, .node_bytes = 1024, .files = 12, .has_pieces = TRUE},
        {.block_bytes = 1024, .node_bytes = 4096, .files = 40, .has_journal = TRUE},
        {.block_bytes = 4096, .node_bytes = 8192, .files = 5, .has_packed = TRUE}};
    Composed *all[] = {composed_hfsplus(FALSE, 1536),
                       composed_hfs(&plans[0]),
                       composed_hfs(&plans[1]),
                       composed_hfs(&plans[2]),
                       composed_hfsplus(TRUE, 0),
                       composed_wrapped_hfsplus(),
                       composed_apfs(),
                       composed_refs(),
                       composed_bitlocker(),
                       composed_lvm(),
                       composed_raid(0),
                       composed_raid(1),
                       composed_raid(2),
                       composed_old_raid(),
                       composed_ldm()};
    for (gsize i = 0; i < G_N_ELEMENTS(all); i++) {
        g_autofree char *name = g_strdup_printf("%s-%zu", all[i]->filesystem, i);
        gsize from = all[i]->copy_byte > SEED_MOST ? all[i]->copy_byte : 0;
        put(root, "volumes", name, all[i]->data, MIN(all[i]->length, SEED_MOST));
        if (from > 0) {
            g_autofree char *copy = g_strconcat(name, "-copy", NULL);
            put(root, "volumes", copy, all[i]->data + from, MIN(all[i]->length - from, SEED_MOST));
        }
        if (whole)
            put_whole(root, name, all[i]);
        composed_free(all[i]);
    }
}

/* A file of each type, behind the number that chooses it: as it is, and cut off. */
static void put_specimens(const char *root)
{
    g_autoptr(GPtrArray) specimens = specimens_new(7);
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        guint type = 0;
        while (ek_carve_types[type] != NULL &&
               !g_str_equal(ek_carve_types[type]->name, specimen->type))
            type++;
        g_autofree char *name = g_strdup_printf("%s-%u", specimen->type, i);
        g_autofree guint8 *data = g_malloc(specimen->length + 1);
        data[0] = (guint8)type;
        memcpy(data + 1, specimen->data, specimen->length);
        g_autofree char *cut = g_strdup_printf("%s-cut", name);
        put(root, "carve", name, data, specimen->length + 1);
        put(root, "carve", cut, data, specimen->length / 2);
    }
}

int main(int argc, char **argv)
{
    static const char model[] = "# a drive\n[drive]\nmodel=Corvane R2\nbacking=drive.img\n"
                                "error-time=1500\n\n[fault head]\nkind=unreadable\nfirst=100\n"
                                "count=8\nrepeat-every=64\ndrift=1\nuntil=9000\n"
                                "[fault tired]\nkind=slow\nfirst=1\ncount=2\nrate=0.5\n";
    guint8 sector[512] = {0};
    gsize length = 0;
    if (argc != 2 && argc != 3)
        return 2;
    mbr_put(sector, 0, 0x07, 2048, 163840);
    mbr_put(sector, 3, 0x0c, 165888, 98304);
    put(argv[1], "mbr", "two", sector, sizeof sector);
    g_autofree guint8 *ntfs = ntfs_volume_new(300, 0, &length);
    put(argv[1], "ntfs", "volume", ntfs, length);
    put(argv[1], "ntfs", "record", ntfs + NTFS_MFT_BYTE + 3 * 1024, 1024);
    put_fat(argv[1], 12, "12");
    put_fat(argv[1], 16, "16");
    put_fat(argv[1], 32, "32");
    put_composed(argv[1], argc == 3);
    if (argc == 3)
        put_ntfs(argv[1]);
    put(argv[1], "model", "faults", model, strlen(model));
    put_specimens(argv[1]);
    return 0;
}
