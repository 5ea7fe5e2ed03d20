/* SPDX-License-Identifier: MIT */
/* A plain second reader of FAT. */
#include "plain.h"

typedef struct {
    const Plain *plain;
    PlainVolume *volume;
    guint bits;
    guint64 fat;
    guint64 copy; /* of the FAT; 0: none */
    guint64 data; /* of cluster 2 */
    guint32 size; /* of a cluster */
} Fat;

static guint32 next_of(const Fat *fat, guint32 cluster, GArray *needs)
{
    guint64 into = (guint64)cluster * fat->bits / 8;
    plain_need(needs, fat->fat + into, fat->bits == 12 ? 2 : fat->bits / 8,
               fat->copy != 0 ? fat->copy + into : 0);
    if (fat->bits == 32)
        return p32(fat->plain, fat->fat + 4ull * cluster) & 0x0fffffff;
    if (fat->bits == 16)
        return p16(fat->plain, fat->fat + 2ull * cluster) | 0xfff0000u;
    guint16 pair = p16(fat->plain, fat->fat + cluster * 3ull / 2);
    return (cluster % 2 == 0 ? pair & 0xfff : pair >> 4) | 0xffff000u;
}

/* Numbers of clusters, with the high bits that the narrow FATs have not. */
static gboolean is_cluster(const Fat *fat, guint32 *cluster)
{
    guint32 top = fat->bits == 12 ? 0xff0 : fat->bits == 16 ? 0xfff0 : 0x0ffffff0;
    if (fat->bits == 12)
        *cluster &= 0xfff;
    else if (fat->bits == 16)
        *cluster &= 0xffff;
    return *cluster >= 2 && *cluster < top;
}

static void add_chain(const Fat *fat, PlainFile *file, guint32 cluster)
{
    for (guint64 at = 0; at < file->size && is_cluster(fat, &cluster); at += fat->size) {
        plain_piece(file, at, fat->size, fat->data + (guint64)(cluster - 2) * fat->size);
        cluster = next_of(fat, cluster, file->map);
    }
}

static char *short_name(const guint8 *entry)
{
    GString *name = g_string_new(NULL);
    for (guint i = 0; i < 8 && entry[i] != ' '; i++)
        g_string_append_c(name,
                          (entry[12] & 8) != 0 ? g_ascii_tolower((char)entry[i]) : (char)entry[i]);
    if (entry[8] != ' ')
        g_string_append_c(name, '.');
    for (guint i = 8; i < 11 && entry[i] != ' '; i++)
        g_string_append_c(name,
                          (entry[12] & 16) != 0 ? g_ascii_tolower((char)entry[i]) : (char)entry[i]);
    return g_string_free(name, FALSE);
}

/* A long name, the pieces of which stand before its entry, some in the cluster before. */
typedef struct {
    gunichar2 units[301];
    GArray *way;
} LongName;

static void forget(LongName *name)
{
    memset(name->units, 0, sizeof name->units);
    g_array_set_size(name->way, 0);
}

static void read_folder(const Fat *fat, const char *path, guint32 cluster, guint64 at,
                        guint64 bytes);

static void read_entries(const Fat *fat, const char *path, guint64 at, guint64 bytes,
                         LongName *name)
{
    static const guint8 places[] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
    GArray *way = fat->volume->way;
    guint before = way->len;
    for (guint64 end = at + bytes; at < end; at += 32) {
        const guint8 *entry = fat->plain->bytes + at;
        if (entry[0] == 0)
            break;
        if (entry[0] == 0xe5 || (entry[11] != 15 && (entry[11] & 8) != 0) || entry[0] == '.') {
            forget(name);
            continue;
        }
        if (entry[11] == 15) {
            guint order = (entry[0] & 0x3fu) - 1;
            if ((entry[0] & 0x40) != 0)
                forget(name);
            plain_need(name->way, at, 32, 0);
            for (gsize i = 0; i < G_N_ELEMENTS(places); i++)
                name->units[order * 13 + i] = p16(fat->plain, at + places[i]);
            continue;
        }
        char *text = name->units[0] != 0 ? g_utf16_to_utf8(name->units, -1, NULL, NULL, NULL)
                                         : short_name(entry);
        char *full = plain_join(path, text);
        guint32 first = p16(fat->plain, at + 26) |
                        (fat->bits == 32 ? (guint32)p16(fat->plain, at + 20) << 16 : 0);
        g_array_set_size(way, before);
        g_array_append_vals(way, name->way->data, name->way->len);
        plain_need(way, at, 32, 0);
        forget(name);
        if ((entry[11] & 16) == 0) {
            add_chain(fat, plain_file(fat->volume, full, p32(fat->plain, at + 28)), first);
        } else {
            read_folder(fat, full, first, 0, 0);
            g_free(full);
        }
    }
    g_array_set_size(way, before);
}

/* By its chain, or, the root of the narrow ones, where it lies. */
static void read_folder(const Fat *fat, const char *path, guint32 cluster, guint64 at,
                        guint64 bytes)
{
    LongName name = {.way = g_array_new(FALSE, FALSE, sizeof(PlainNeed))};
    guint before = fat->volume->way->len;
    if (bytes > 0)
        read_entries(fat, path, at, bytes, &name);
    while (is_cluster(fat, &cluster)) {
        read_entries(fat, path, fat->data + (guint64)(cluster - 2) * fat->size, fat->size, &name);
        cluster = next_of(fat, cluster, fat->volume->way);
    }
    g_array_set_size(fat->volume->way, before);
    g_array_unref(name.way);
}

void plain_fat(const Plain *plain, PlainVolume *volume)
{
    guint32 sector = p16(plain, 11);
    guint32 sectors = p16(plain, 19) != 0 ? p16(plain, 19) : p32(plain, 32);
    guint32 fat_sectors = p16(plain, 22) != 0 ? p16(plain, 22) : p32(plain, 36);
    guint64 root = ((guint64)p16(plain, 14) + (guint64)plain->bytes[16] * fat_sectors) * sector;
    guint64 root_bytes = 32ull * p16(plain, 17);
    Fat fat = {.plain = plain,
               .volume = volume,
               .fat = (guint64)p16(plain, 14) * sector,
               .copy = plain->bytes[16] > 1 ? ((guint64)p16(plain, 14) + fat_sectors) * sector : 0,
               .data = root + root_bytes,
               .size = sector * plain->bytes[13]};
    guint64 clusters = ((guint64)sectors * sector - fat.data) / fat.size;
    fat.bits = clusters < 4085 ? 12 : clusters < 65525 ? 16 : 32;
    read_folder(&fat, "", fat.bits == 32 ? p32(plain, 44) : 0, root, root_bytes);
}
