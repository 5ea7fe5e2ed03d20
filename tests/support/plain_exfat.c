/* SPDX-License-Identifier: MIT */
/* A plain second reader of exFAT. */
#include "plain.h"

typedef struct {
    const Plain *plain;
    PlainVolume *volume;
    guint64 fat;
    guint64 heap;
    guint64 size; /* of a cluster */
} Exfat;

/* In one piece, or by its chain. */
static void add_content(const Exfat *exfat, PlainFile *file, guint32 cluster, gboolean one_piece,
                        guint64 bytes)
{
    for (guint64 at = 0; at < bytes && cluster >= 2 && cluster < 0xfffffff7u; at += exfat->size) {
        plain_piece(file, at, MIN(exfat->size, bytes - at),
                    exfat->heap + (cluster - 2) * exfat->size);
        if (!one_piece)
            plain_need(file->map, exfat->fat + 4ull * cluster, 4, 0);
        cluster = one_piece ? cluster + 1 : p32(exfat->plain, exfat->fat + 4ull * cluster);
    }
}

/* Where a byte of a folder lies. */
static guint64 place_of(const PlainFile *folder, guint64 offset)
{
    for (guint i = 0; i < folder->pieces->len; i++) {
        const PlainPiece *piece = &g_array_index(folder->pieces, PlainPiece, i);
        if (offset >= piece->offset && offset < piece->offset + piece->bytes)
            return piece->place + (offset - piece->offset);
    }
    g_assert_not_reached();
}

static void read_folder(const Exfat *exfat, const char *path, guint32 cluster, gboolean one_piece,
                        guint64 bytes)
{
    /* Its entries one behind the other. */
    PlainFile folder = plain_folder(bytes);
    GArray *way = exfat->volume->way;
    g_autoptr(GByteArray) all = g_byte_array_new();
    add_content(exfat, &folder, cluster, one_piece, bytes);
    for (guint i = 0; i < folder.pieces->len; i++) {
        const PlainPiece *piece = &g_array_index(folder.pieces, PlainPiece, i);
        g_byte_array_append(all, exfat->plain->bytes + piece->place, (guint)piece->bytes);
    }
    g_array_append_vals(way, folder.map->data, folder.map->len);
    guint before = way->len;
    Plain entries = {all->data, all->len};
    for (guint64 at = 0; at + 32 <= all->len && all->data[at] != 0; at += 32) {
        gunichar2 name[256] = {0};
        if (all->data[at] != 0x85)
            continue;
        guint64 stream = at + 32;
        guint units = all->data[stream + 3];
        for (guint i = 0; i < units; i++)
            name[i] = p16(&entries, at + 64 + (i / 15) * 32ull + 2 + (i % 15) * 2ull);
        g_array_set_size(way, before);
        for (guint64 i = 0; i < all->data[at + 1] + 1u; i++)
            plain_need(way, place_of(&folder, at + 32 * i), 32, 0);
        char *full = plain_join(path, g_utf16_to_utf8(name, units, NULL, NULL, NULL));
        gboolean piece = (all->data[stream + 1] & 2) != 0;
        guint32 first = p32(&entries, stream + 20);
        guint64 length = p64(&entries, stream + 24);
        if ((p16(&entries, at + 4) & 16) == 0) {
            PlainFile *file = plain_file(exfat->volume, full, length);
            /* What was never written is zeros. */
            add_content(exfat, file, first, piece, p64(&entries, stream + 8));
        } else {
            read_folder(exfat, full, first, piece, length);
            g_free(full);
        }
    }
    g_array_set_size(way, before - folder.map->len);
    plain_folder_clear(&folder);
}

void plain_exfat(const Plain *plain, PlainVolume *volume)
{
    guint64 sector = 1ull << plain->bytes[108];
    Exfat exfat = {plain, volume, p32(plain, 80) * sector, p32(plain, 88) * sector,
                   sector << plain->bytes[109]};
    guint32 root = p32(plain, 96);
    guint64 bytes = 0;
    for (guint32 cluster = root; cluster >= 2 && cluster < 0xfffffff7u;
         cluster = p32(plain, exfat.fat + 4ull * cluster))
        bytes += exfat.size;
    read_folder(&exfat, "", root, FALSE, bytes);
}
