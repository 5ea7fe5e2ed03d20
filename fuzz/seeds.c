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

/* A file of a type, behind the number that chooses it: as it is, and cut off. */
static void put_file(const char *root, const char *type, guint number, const void *bytes,
                     gsize length)
{
    guint id = 0;
    while (ek_carve_types[id] != NULL && !g_str_equal(ek_carve_types[id]->name, type))
        id++;
    g_autofree char *name = g_strdup_printf("%s-%u", type, number);
    g_autofree char *cut = g_strdup_printf("%s-cut", name);
    g_autofree guint8 *data = g_malloc(length + 1);
    data[0] = (guint8)id;
    memcpy(data + 1, bytes, length);
    put(root, "carve", name, data, length + 1);
    put(root, "carve", cut, data, length / 2);
}

static void put_specimens(const char *root)
{
    g_autoptr(GPtrArray) specimens = specimens_new(7);
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        put_file(root, specimen->type, i, specimen->data, specimen->length);
    }
}

/* Texts that say what they are, in more ways than one of each. */
static void put_texts(const char *root)
{
    static const struct {
        const char *type;
        const char *text;
    } texts[] = {
        {"xml",
         "<?xml version=\"1.0\"?>\n<!-- a <b> --><gpx><trk>52.1, 0.2 and so on</trk></gpx>\n"},
        {"xml", "<svg width=\"9\"><title>Sluice</title><circle r=\"3\" fill=\"none\"/></svg>\r\n"},
        {"mail",
         "From: a@harrowfen.example\r\nTo: b\r\nSubject: Trays\r\nContent-Type: "
         "multipart/mixed;\r\n boundary=\"a b\"\r\n\r\n--a b\r\n\r\nread at dusk\r\n--a b--\r\n"},
        {"mail",
         "Subject: Trays\nfrom: a\nDate: today\nContent-Type: multipart/mixed; boundary=x7; "
         "charset=utf-8\n\n--x7\n\nread at dusk\n--x7--\n"},
        {"mail", "Received: by a\nFrom: a\nTo: b\nSubject: the drains of the fen\n\nread at dusk, "
                 "once a week\n"},
        {"mail", "From a Mon Jun  2 10:00:00 2025\nFrom: a\nTo: b\nSubject: c\n\nread at dusk, and "
                 "once a week\n"},
        {"vcard",
         "BEGIN:VCARD\r\nFN:A. Fenner\r\nNOTE:read at dusk, and once a week\r\nEND:VCARD\r\n"},
    };
    for (guint i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_autoptr(GString) text = g_string_new(texts[i].text);
        put_file(root, texts[i].type, 100 + i, text->str, text->len);
        /* More of it, up to where a sector ends. */
        while (text->len < 512)
            g_string_append(text, texts[i].text);
        put_file(root, texts[i].type, 200 + i, text->str, 512);
        while (text->len < 1024)
            g_string_append(text, "trays of the fen ");
        memset(text->str + 1024 - 1, 1, 1);
        put_file(root, texts[i].type, 300 + i, text->str, 1024);
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
    put_texts(argv[1]);
    return 0;
}
