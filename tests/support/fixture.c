/* SPDX-License-Identifier: MIT */
/* On-disk structures, composed byte by byte from the published formats, and what reads them. */
#include "fixture.h"

#include <glib/gstdio.h>
#include <string.h>
#include <unistd.h>

GArray *bench_good(const Bench *bench)
{
    GArray *ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkStretch stretch;
    for (EkSector at = 0; ek_read_map_next(bench->map, at, EK_STATE_BIT(EK_STATE_GOOD), &stretch);
         at = stretch.first + stretch.count) {
        EkRange range = {stretch.first * 512, stretch.count * 512};
        g_array_append_val(ranges, range);
    }
    return ranges;
}

void write_file(const char *path, const void *data, gsize length)
{
    GError *error = NULL;
    if (!g_file_set_contents(path, data, (gssize)length, &error))
        g_error("%s", error->message);
}

guint8 *read_file(const char *path, gsize *length)
{
    GError *error = NULL;
    char *data = NULL;
    if (!g_file_get_contents(path, &data, length, &error))
        g_error("%s", error->message);
    return (guint8 *)data;
}

void fill_noise(guint8 *data, gsize length, guint32 seed)
{
    guint64 state = seed * 2654435761u + 1;
    for (gsize i = 0; i < length; i++) {
        state = state * 6364136223846793005u + 1442695040888963407u;
        data[i] = (guint8)(state >> 56);
    }
}

void bench_open(Bench *bench, const guint8 *data, gsize length)
{
    GError *error = NULL;
    write_file("bench.raw", data, length);
    bench->image = ek_image_open("bench.raw", length, TRUE, &error);
    if (bench->image == NULL)
        g_error("%s", error->message);
    bench->map = ek_read_map_new(ek_divide_up(length, 512));
    ek_read_map_set(bench->map, 0, ek_divide_up(length, 512),
                    (EkMark){EK_STATE_GOOD, EK_REASON_NONE, 0, 1});
    EkImageReaderParts parts = {.image = bench->image, .map = bench->map, .sector_size = 512};
    bench->reader = ek_image_reader_new(&parts, EK_FACE_AS_READ);
}

void bench_close(Bench *bench)
{
    ek_reader_free(bench->reader);
    ek_read_map_free(bench->map);
    ek_image_close(bench->image);
    g_unlink("bench.raw");
}

void bench_hole(Bench *bench, EkSector first, EkSector count, EkState state)
{
    gsize length = 0;
    g_autofree guint8 *data = read_file("bench.raw", &length);
    memset(data + first * 512, 0, MIN(count * 512, length - first * 512));
    FILE *file = g_fopen("bench.raw", "r+b");
    if (file == NULL || fwrite(data, 1, length, file) != length || fclose(file) != 0)
        g_error("cannot rewrite the bench");
    ek_read_map_set(bench->map, first, count, (EkMark){state, EK_REASON_MEDIUM, 1, 1});
}

/* --- FAT -------------------------------------------------------------------------------------- */

static void put_boot_sector(FatVolume *fat, guint8 *p)
{
    gboolean wide = fat->bits == 32;
    gsize extended = wide ? 64 : 36;
    p[0] = 0xeb;
    p[1] = 0x58;
    p[2] = 0x90;
    memcpy(p + 3, "SEEDLIB ", 8);
    ek_put_le16(p + 11, (guint16)fat->sector_size);
    p[13] = (guint8)fat->per_cluster;
    ek_put_le16(p + 14, (guint16)fat->reserved);
    p[16] = (guint8)fat->fats;
    ek_put_le16(p + 17, (guint16)fat->root_entries);
    if (fat->sectors < 65536 && !wide)
        ek_put_le16(p + 19, (guint16)fat->sectors);
    else
        ek_put_le32(p + 32, fat->sectors);
    p[21] = 0xf8;
    ek_put_le32(p + 28, fat->hidden);
    if (wide) {
        ek_put_le32(p + 36, fat->fat_sectors);
        ek_put_le32(p + 44, 2);
        ek_put_le16(p + 48, 1);
        ek_put_le16(p + 50, 6);
    } else {
        ek_put_le16(p + 22, (guint16)fat->fat_sectors);
    }
    p[extended + 2] = 0x29;
    ek_put_le32(p + extended + 3, 0x5eed0000 + fat->bits);
    memcpy(p + extended + 7, "TRAYS      ", 11);
    ek_put_le16(p + 510, 0xaa55);
}

FatVolume *fat_volume_new(guint bits, guint32 hidden)
{
    FatVolume *fat = g_new0(FatVolume, 1);
    fat->bits = bits;
    fat->sector_size = 512;
    fat->per_cluster = bits == 12 ? 2 : 1;
    fat->reserved = bits == 32 ? 32 : 1;
    fat->fats = 2;
    fat->root_entries = bits == 32 ? 0 : 112;
    fat->clusters = bits == 12 ? 700 : bits == 16 ? 6000 : 65600;
    fat->fat_sectors = (guint32)ek_divide_up((fat->clusters + 2) * (guint64)bits / 8 + 1, 512);
    guint32 before = fat->reserved + fat->fats * fat->fat_sectors + fat->root_entries * 32 / 512;
    fat->data_start = before * (gsize)512;
    fat->sectors = before + fat->clusters * fat->per_cluster;
    fat->hidden = hidden;
    fat->length = fat->sectors * (gsize)512;
    fat->data = g_malloc0(fat->length);
    fat->next_cluster = bits == 32 ? 3 : 2;
    put_boot_sector(fat, fat->data);
    fat_set(fat, 0, 0x0fffff00u | 0xf8);
    fat_set(fat, 1, 0x0fffffffu);
    if (bits == 32) {
        fat_set(fat, 2, 0x0fffffffu);
        memcpy(fat->data + 512, "RRaA", 4);
        memcpy(fat->data + 512 + 484, "rrAa", 4);
        ek_put_le16(fat->data + 512 + 510, 0xaa55);
        memcpy(fat->data + 6 * 512, fat->data, 512);
    }
    return fat;
}

void fat_volume_free(FatVolume *fat)
{
    g_free(fat->data);
    g_free(fat);
}

void fat_set(FatVolume *fat, guint32 cluster, guint32 value)
{
    for (guint32 copy = 0; copy < fat->fats; copy++) {
        guint8 *table = fat->data + (fat->reserved + copy * fat->fat_sectors) * (gsize)512;
        if (fat->bits == 32) {
            ek_put_le32(table + cluster * (gsize)4, value);
        } else if (fat->bits == 16) {
            ek_put_le16(table + cluster * (gsize)2, (guint16)(value & 0xffff));
        } else {
            guint8 *p = table + cluster * (gsize)3 / 2;
            guint16 pair = (guint16)(p[0] | p[1] << 8);
            value &= 0xfff;
            pair = cluster % 2 == 0 ? (guint16)((pair & 0xf000) | value)
                                    : (guint16)((pair & 0x000f) | value << 4);
            ek_put_le16(p, pair);
        }
    }
}

static guint8 *cluster_at(FatVolume *fat, guint32 cluster)
{
    return fat->data + fat->data_start + (cluster - 2) * (gsize)fat->per_cluster * 512;
}

guint32 fat_store(FatVolume *fat, const guint8 *content, gsize length, guint32 step)
{
    gsize size = fat->per_cluster * (gsize)512;
    guint32 first = 0;
    guint32 last = 0;
    for (gsize done = 0; done < length; done += size) {
        guint32 cluster = fat->next_cluster;
        fat->next_cluster += step;
        memcpy(cluster_at(fat, cluster), content + done, MIN(size, length - done));
        fat_set(fat, cluster, 0x0fffffffu);
        if (last != 0)
            fat_set(fat, last, cluster);
        else
            first = cluster;
        last = cluster;
    }
    return first;
}

FatFolder fat_root(FatVolume *fat)
{
    return (FatFolder){fat->bits == 32 ? 2 : 0, 0};
}

guint8 *fat_entry(FatVolume *fat, const FatFolder *folder, gsize index)
{
    guint8 *start = folder->cluster != 0 ? cluster_at(fat, folder->cluster)
                                         : fat->data + fat->data_start - fat->root_entries * 32;
    return start + 32 * index;
}

static guint8 *entry_at(FatVolume *fat, FatFolder *folder)
{
    return fat_entry(fat, folder, folder->used++);
}

static void put_long_entries(FatVolume *fat, FatFolder *folder, const char *name, guint8 sum)
{
    static const guint8 places[] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
    glong count = 0;
    g_autofree gunichar2 *units = g_utf8_to_utf16(name, -1, NULL, &count, NULL);
    glong entries = (count + 12) / 13;
    for (glong order = entries; order > 0; order--) {
        guint8 *p = entry_at(fat, folder);
        p[0] = (guint8)(order | (order == entries ? 0x40 : 0));
        p[11] = 0x0f;
        p[13] = sum;
        for (glong i = 0; i < 13; i++) {
            glong at = (order - 1) * 13 + i;
            ek_put_le16(p + places[i], at < count ? units[at] : at == count ? 0 : 0xffff);
        }
    }
}

gsize fat_add(FatVolume *fat, FatFolder *folder, const char *short_name, const char *name,
              guint8 attributes, guint32 cluster, guint32 size)
{
    guint8 sum = 0;
    for (int i = 0; i < 11; i++)
        sum = (guint8)((sum >> 1 | sum << 7) + (guint8)short_name[i]);
    if (name != NULL)
        put_long_entries(fat, folder, name, sum);
    guint8 *p = entry_at(fat, folder);
    memcpy(p, short_name, 11);
    p[11] = attributes;
    ek_put_le16(p + 14, (guint16)(10 << 11 | 20 << 5 | 15)); /* 10:20:30 */
    ek_put_le16(p + 16, (guint16)(45 << 9 | 3 << 5 | 1));    /* 2025-03-01 */
    ek_put_le16(p + 22, (guint16)(23 << 11 | 59 << 5 | 29)); /* 23:59:58 */
    ek_put_le16(p + 24, (guint16)(45 << 9 | 12 << 5 | 31));  /* 2025-12-31 */
    ek_put_le16(p + 20, (guint16)(cluster >> 16));
    ek_put_le16(p + 26, (guint16)(cluster & 0xffff));
    ek_put_le32(p + 28, size);
    return (gsize)(p - fat->data);
}

FatFolder fat_add_folder(FatVolume *fat, FatFolder *parent, const char *short_name,
                         const char *name)
{
    guint8 blank[1024] = {0};
    guint32 cluster = fat_store(fat, blank, fat->per_cluster * (gsize)512, 1);
    fat_add(fat, parent, short_name, name, 0x10, cluster, 0);
    FatFolder folder = {cluster, 0};
    fat_add(fat, &folder, ".          ", NULL, 0x10, cluster, 0);
    fat_add(fat, &folder, "..         ", NULL, 0x10, parent->cluster, 0);
    return folder;
}

/* --- NTFS ------------------------------------------------------------------------------------- */

/* A file record that holds these attributes. */
static void put_attributes(guint8 *p, guint32 number, const guint8 *attributes, gsize length)
{
    memset(p, 0, 1024);
    memcpy(p, "FILE", 4);
    ek_put_le16(p + 4, 0x30); /* update sequence */
    ek_put_le16(p + 6, 3);
    ek_put_le16(p + 0x14, 0x38);
    ek_put_le16(p + 0x16, 1);
    ek_put_le32(p + 0x2c, number);
    memcpy(p + 0x38, attributes, length);
    ek_put_le32(p + 0x38 + length, 0xffffffff);
    ek_put_le32(p + 0x18, (guint32)(0x38 + length + 8));
    ek_put_le32(p + 0x1c, 1024);
    ek_put_le16(p + 0x30, 0x0007);
    for (int sector = 0; sector < 2; sector++) {
        memcpy(p + 0x32 + sector * 2, p + sector * 512 + 510, 2);
        ek_put_le16(p + sector * 512 + 510, 0x0007);
    }
}

/* An attribute whose content stands in the record; returns its length. */
static gsize put_resident(guint8 *attribute, guint32 type, const guint8 *content, gsize bytes)
{
    gsize length = (0x18 + bytes + 7) / 8 * 8;
    ek_put_le32(attribute, type);
    ek_put_le32(attribute + 4, (guint32)length);
    ek_put_le32(attribute + 0x10, (guint32)bytes);
    ek_put_le16(attribute + 0x14, 0x18);
    memcpy(attribute + 0x18, content, bytes);
    return length;
}

/* A piece of a file's content: one cluster at `cluster`; returns its length. */
static gsize put_piece(guint8 *attribute, guint64 at, guint8 cluster, guint64 bytes)
{
    ek_put_le32(attribute, 0x80);
    ek_put_le32(attribute + 4, 0x48);
    attribute[8] = 1;
    ek_put_le64(attribute + 0x10, at);
    ek_put_le64(attribute + 0x18, at);
    ek_put_le16(attribute + 0x20, 0x40);
    ek_put_le64(attribute + 0x28, bytes);
    ek_put_le64(attribute + 0x30, bytes);
    ek_put_le64(attribute + 0x38, bytes);
    memcpy(attribute + 0x40, (guint8[]){0x11, 1, cluster, 0}, 4);
    return 0x48;
}

static void put_units(guint8 *units, const char *text)
{
    for (gsize i = 0; i < strlen(text); i++)
        ek_put_le16(units + i * 2, (guint8)text[i]);
}

static void put_record(guint8 *p, guint32 number, const char *label)
{
    guint8 attributes[512] = {0};
    guint8 units[256];
    gsize length = 0;
    if (label != NULL) {
        put_units(units, label);
        length = put_resident(attributes, 0x60, units, strlen(label) * 2);
    }
    put_attributes(p, number, attributes, length);
}

guint8 *ntfs_volume_in_pieces(gsize *length)
{
    guint8 *volume = ntfs_volume_new(2000, 0, length);
    guint8 list[64] = {0};
    guint8 name[128] = {0};
    guint8 attributes[512] = {0};
    for (gsize i = 0; i < 2; i++) {
        ek_put_le32(list + i * 32, 0x80);
        ek_put_le16(list + i * 32 + 4, 32);
        list[i * 32 + 7] = 26;
        ek_put_le64(list + i * 32 + 8, i);  /* the piece … */
        ek_put_le64(list + i * 32 + 16, i); /* … stands in this record */
    }
    gsize used = put_resident(attributes, 0x20, list, sizeof list);
    used += put_piece(attributes + used, 0, NTFS_MFT_BYTE / 4096, 8192);
    put_attributes(volume + NTFS_MFT_BYTE, 0, attributes, used);
    memset(attributes, 0, sizeof attributes);
    used = put_piece(attributes, 1, 20, 8192);
    put_attributes(volume + NTFS_MFT_BYTE + 1024, 1, attributes, used);
    name[0] = 5; /* in the root folder */
    name[64] = 8;
    name[65] = 1;
    put_units(name + 66, "late.txt");
    memset(attributes, 0, sizeof attributes);
    used = put_resident(attributes, 0x30, name, 66 + 16);
    /* Beyond the numbers that the format keeps for itself would take more room than is needed. */
    put_attributes(volume + 20 * 4096 + 3 * 1024, 7, attributes, used);
    return volume;
}

guint8 *ntfs_volume_new(guint32 sectors, guint32 hidden, gsize *length)
{
    *length = (sectors + 1) * (gsize)512;
    guint8 *data = g_malloc0(*length);
    guint32 mirror = sectors / 8 / 2;
    memcpy(data, "\xeb\x52\x90NTFS    ", 11);
    ek_put_le16(data + 0x0b, 512);
    data[0x0d] = 8;
    data[0x15] = 0xf8;
    ek_put_le32(data + 0x1c, hidden);
    ek_put_le64(data + 0x28, sectors);
    ek_put_le64(data + 0x30, NTFS_MFT_BYTE / 4096);
    ek_put_le64(data + 0x38, mirror);
    data[0x40] = 0xf6;
    data[0x44] = 1;
    ek_put_le64(data + 0x48, 0x5eed0042cafe0001u);
    ek_put_le16(data + 0x1fe, 0xaa55);
    for (guint32 i = 0; i < 4; i++) {
        put_record(data + NTFS_MFT_BYTE + i * 1024, i, i == 3 ? "Catalogue" : NULL);
        put_record(data + mirror * (gsize)4096 + i * 1024, i, i == 3 ? "Catalogue" : NULL);
    }
    memcpy(data + sectors * (gsize)512, data, 512);
    return data;
}

void mbr_put(guint8 *sector, guint index, guint8 type, guint32 first, guint32 count)
{
    guint8 *p = sector + 446 + index * 16;
    p[4] = type;
    ek_put_le32(p + 8, first);
    ek_put_le32(p + 12, count);
    ek_put_le16(sector + 510, 0xaa55);
}
