/* SPDX-License-Identifier: MIT */
/* The FAT boot sector, by the "FAT32 File System Specification" 1.03 (also ECMA-107). The type
 * follows from the number of clusters, never from the text at offset 54 or 82. What it distrusts:
 * every number; one that puts a part of the volume outside of it is refused. */
#include "base/text.h"
#include "volume/fat/fat.h"

#include <string.h>

#define ROOT_ENTRY 32u /* bytes of an entry */

const char *ek_fat_name(EkFatBits bits)
{
    return bits == EK_FAT12 ? "fat12" : bits == EK_FAT16 ? "fat16" : "fat32";
}

static gboolean is_sane_start(EkSpan span)
{
    guint8 jump = ek_span_u8(span, 0);
    guint8 media = ek_span_u8(span, 21);
    return span.length >= 512 && ek_span_le16(span, 510) == 0xaa55 &&
           ((jump == 0xeb && ek_span_u8(span, 2) == 0x90) || jump == 0xe9) &&
           (media == 0xf0 || media >= 0xf8);
}

/* Where the parts of the volume lie; FALSE when they do not fit. */
static gboolean place_parts(EkFatBoot *boot, guint64 fat_sectors, guint32 root_entries,
                            guint64 sectors, guint32 per_cluster)
{
    guint64 root_sectors = ek_divide_up((guint64)root_entries * 32, boot->sector_size);
    guint64 before_data = boot->reserved_sectors + boot->fats * fat_sectors + root_sectors;
    if (before_data >= sectors)
        return FALSE;
    guint64 clusters = (sectors - before_data) / per_cluster;
    if (clusters == 0 || clusters > 0x0ffffff5)
        return FALSE;
    boot->clusters = (guint32)clusters;
    boot->bits = clusters < 4085 ? EK_FAT12 : clusters < 65525 ? EK_FAT16 : EK_FAT32;
    boot->fat_bytes = fat_sectors * boot->sector_size;
    boot->fat_start = (EkByte)boot->reserved_sectors * boot->sector_size;
    boot->root_start = boot->fat_start + boot->fats * boot->fat_bytes;
    boot->root_bytes = (EkByte)root_entries * 32;
    boot->data_start = before_data * boot->sector_size;
    boot->bytes = sectors * boot->sector_size;
    return (clusters + 2) * (guint64)boot->bits / 8 <= boot->fat_bytes;
}

gboolean ek_fat_boot_read(EkSpan span, EkFatBoot *boot)
{
    guint32 sector = ek_span_le16(span, 11);
    guint32 per_cluster = ek_span_u8(span, 13);
    if (!is_sane_start(span) || !ek_is_power_of_two(sector) || sector < 512 || sector > 4096 ||
        !ek_is_power_of_two(per_cluster))
        return FALSE;

    guint32 short_fat = ek_span_le16(span, 22);
    gboolean wide = short_fat == 0; /* the layout of FAT32 */
    guint32 root_entries = ek_span_le16(span, 17);
    guint64 sectors = ek_span_le16(span, 19);
    if (sectors == 0)
        sectors = ek_span_le32(span, 32);
    *boot = (EkFatBoot){
        .sector_size = sector,
        .cluster_bytes = sector * per_cluster,
        .reserved_sectors = ek_span_le16(span, 14),
        .fats = ek_span_u8(span, 16),
        .media = ek_span_u8(span, 21),
        .hidden_sectors = ek_span_le32(span, 28),
    };
    if (boot->reserved_sectors == 0 || boot->fats == 0 || boot->fats > 4 || sectors == 0 ||
        wide != (root_entries == 0))
        return FALSE;
    guint64 fat_sectors = wide ? ek_span_le32(span, 36) : short_fat;
    if (fat_sectors == 0 || !place_parts(boot, fat_sectors, root_entries, sectors, per_cluster))
        return FALSE;
    if (wide != (boot->bits == EK_FAT32)) {
        /* A small volume in the layout of FAT32 is one: its FAT is 32 bits wide all the same. */
        if (!wide || ek_span_le16(span, 42) != 0)
            return FALSE;
        boot->bits = EK_FAT32;
        if (((guint64)boot->clusters + 2) * 4 > boot->fat_bytes)
            return FALSE;
    }
    gsize extended = wide ? 64 : 36;
    boot->has_serial = ek_span_u8(span, extended + 2) == 0x29;
    boot->serial = boot->has_serial ? ek_span_le32(span, extended + 3) : 0;
    if (!wide)
        return TRUE;
    boot->root_cluster = ek_span_le32(span, 44);
    boot->info_sector = ek_span_le16(span, 48);
    boot->backup_sector = ek_span_le16(span, 50);
    if (boot->info_sector >= boot->reserved_sectors)
        boot->info_sector = 0;
    if (boot->backup_sector >= boot->reserved_sectors)
        boot->backup_sector = 0;
    return ek_fat_cluster_exists(boot, boot->root_cluster);
}

void ek_fat_boot_compose(const EkFatBoot *boot, guint64 sectors, EkByte start, guint8 *sector)
{
    gboolean wide = boot->bits == EK_FAT32;
    guint8 *extended = sector + (wide ? 64 : 36);
    memset(sector, 0, EK_STEP);
    memcpy(sector, wide ? "\xeb\x58\x90" : "\xeb\x3c\x90", 3);
    memset(sector + 3, ' ', 8);
    ek_put_le16(sector + 11, EK_STEP);
    sector[13] = (guint8)(boot->cluster_bytes / EK_STEP);
    ek_put_le16(sector + 14, (guint16)boot->reserved_sectors);
    sector[16] = (guint8)boot->fats;
    ek_put_le16(sector + 17, (guint16)(boot->root_bytes / ROOT_ENTRY));
    if (sectors < 65536 && !wide)
        ek_put_le16(sector + 19, (guint16)sectors);
    else
        ek_put_le32(sector + 32, (guint32)sectors);
    sector[21] = 0xf8;
    ek_put_le16(sector + 24, 63);
    ek_put_le16(sector + 26, 255);
    ek_put_le32(sector + 28, (guint32)MIN(start / EK_STEP, G_MAXUINT32));
    if (wide) {
        ek_put_le32(sector + 36, (guint32)(boot->fat_bytes / EK_STEP));
        ek_put_le32(sector + 44, 2);
        ek_put_le16(sector + 48, boot->reserved_sectors > 1 ? 1 : 0);
        ek_put_le16(sector + 50, boot->reserved_sectors > 6 ? 6 : 0);
    } else {
        ek_put_le16(sector + 22, (guint16)(boot->fat_bytes / EK_STEP));
    }
    extended[0] = 0x80;
    memcpy(extended + 18, wide ? "FAT32   " : boot->bits == EK_FAT12 ? "FAT12   " : "FAT16   ", 8);
    ek_put_le16(sector + 510, 0xaa55);
}

EkLinkPlaces ek_fat_links(const EkFatBoot *boot, EkByte first_byte)
{
    EkByte first = first_byte + boot->fat_start;
    return (EkLinkPlaces){.bits = boot->bits == EK_FAT32 ? 28 : (guint)boot->bits,
                          .clusters = boot->clusters,
                          .sector_size = boot->sector_size,
                          .copies = MIN(boot->fats, EK_LINK_COPIES),
                          .first = {first, first + boot->fat_bytes},
                          .bytes = boot->fat_bytes};
}

EkRange ek_fat_root_range(const EkFatBoot *boot, EkByte first_byte)
{
    if (boot->bits == EK_FAT32)
        return (EkRange){ek_fat_cluster_byte(boot, first_byte, boot->root_cluster),
                         boot->cluster_bytes};
    return (EkRange){first_byte + boot->root_start, boot->root_bytes};
}

static void explain_extended(GPtrArray *fields, EkSpan span, gsize at)
{
    ek_fields_add(fields, at, 3, "BIOS drive, mark", NULL);
    ek_fields_add(
        fields, at + 3, 4, "serial number",
        g_strdup_printf("%04X-%04X", ek_span_le16(span, at + 5), ek_span_le16(span, at + 3)));
    ek_fields_add(fields, at + 7, 11, "label in the boot sector", NULL);
    ek_fields_add(fields, at + 18, 8, "type as text", NULL);
    ek_fields_add(fields, at + 26, 510 - at - 26, "boot code", NULL);
    ek_fields_add(fields, 510, 2, "boot signature", NULL);
}

GPtrArray *ek_fat_boot_explain(EkSpan span)
{
    static const EkFieldRule common[] = {
        {0, 3, "jump instruction", EK_FIELD_BYTES, NULL},
        {3, 8, "made by", EK_FIELD_BYTES, NULL},
        {11, 2, "bytes per sector", EK_FIELD_LE16, NULL},
        {13, 1, "sectors per cluster", EK_FIELD_U8, NULL},
        {14, 2, "sectors before the FAT", EK_FIELD_LE16, NULL},
        {16, 1, "FATs", EK_FIELD_U8, NULL},
        {17, 2, "entries in the root folder", EK_FIELD_LE16, NULL},
        {19, 2, "sectors, if below 65536", EK_FIELD_LE16, NULL},
        {21, 1, "media descriptor", EK_FIELD_BYTES, NULL},
        {22, 2, "sectors in a FAT (FAT12/16)", EK_FIELD_LE16, NULL},
        {24, 2, "sectors per track", EK_FIELD_LE16, NULL},
        {26, 2, "heads", EK_FIELD_LE16, NULL},
        {28, 4, "hidden sectors", EK_FIELD_LE32, NULL},
        {32, 4, "total sectors", EK_FIELD_LE32, NULL},
    };
    static const EkFieldRule wide[] = {
        {36, 4, "sectors in a FAT", EK_FIELD_LE32, NULL},
        {40, 2, "active FAT", EK_FIELD_BYTES, NULL},
        {42, 2, "version", EK_FIELD_BYTES, NULL},
        {44, 4, "root folder begins at", EK_FIELD_LE32, "(cluster)"},
        {48, 2, "FSInfo sector", EK_FIELD_LE16, NULL},
        {50, 2, "backup boot sector", EK_FIELD_LE16, NULL},
        {52, 12, "reserved", EK_FIELD_BYTES, NULL},
    };
    GPtrArray *fields = ek_fields_new();
    ek_fields_add_rules(fields, span, common, G_N_ELEMENTS(common));
    gboolean is_wide = ek_span_le16(span, 22) == 0;
    if (is_wide)
        ek_fields_add_rules(fields, span, wide, G_N_ELEMENTS(wide));
    explain_extended(fields, span, is_wide ? 64 : 36);
    return fields;
}

gboolean ek_fat_is_info(EkSpan span)
{
    return ek_span_equals(span, 0, "RRaA", 4) && ek_span_equals(span, 484, "rrAa", 4);
}
