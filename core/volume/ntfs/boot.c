/* SPDX-License-Identifier: MIT */
/* The NTFS boot sector: offsets as in the Linux kernel's Documentation/filesystems/ntfs3 and the
 * layout that mkfs.ntfs writes. Negative cluster counts are powers of two of bytes. What it
 * distrusts: every number; a sector that claims places outside its own length is none. */
#include "base/text.h"
#include "volume/ntfs/ntfs.h"

#define MAX_CLUSTER (2u << 20)

static guint32 record_size(gint8 raw, guint32 cluster)
{
    if (raw > 0)
        return (guint64)cluster * (guint8)raw <= 65536 ? cluster * (guint8)raw : 0;
    return raw >= -16 && raw <= -8 ? 1u << -raw : 0;
}

gboolean ek_ntfs_boot_read(EkSpan span, EkNtfsBoot *boot)
{
    if (span.length < 512 || !ek_span_equals(span, 3, "NTFS    ", 8) ||
        ek_span_le16(span, 510) != 0xaa55)
        return FALSE;
    guint32 sector = ek_span_le16(span, 0x0b);
    guint8 raw = ek_span_u8(span, 0x0d);
    guint32 per_cluster = raw <= 128 ? raw : raw >= 244 ? 1u << (256 - raw) : 0;
    if (!ek_is_power_of_two(sector) || sector < 256 || sector > 4096 ||
        !ek_is_power_of_two(per_cluster) || (guint64)sector * per_cluster > MAX_CLUSTER)
        return FALSE;
    /* Fields a FAT would use are zero here. */
    if (ek_span_le16(span, 0x0e) != 0 || ek_span_u8(span, 0x10) != 0 ||
        ek_span_le16(span, 0x16) != 0)
        return FALSE;

    guint32 cluster = sector * per_cluster;
    *boot = (EkNtfsBoot){
        .sector_size = sector,
        .cluster_bytes = cluster,
        .sectors = ek_span_le64(span, 0x28),
        .mft_cluster = ek_span_le64(span, 0x30),
        .mirror_cluster = ek_span_le64(span, 0x38),
        .record_bytes = record_size((gint8)ek_span_u8(span, 0x40), cluster),
        .index_bytes = record_size((gint8)ek_span_u8(span, 0x44), cluster),
        .hidden_sectors = ek_span_le32(span, 0x1c),
        .serial = ek_span_le64(span, 0x48),
    };
    guint64 clusters = boot->sectors / per_cluster;
    return boot->sectors > 0 && boot->sectors < (guint64)G_MAXINT64 / sector - 1 &&
           ek_is_power_of_two(boot->record_bytes) && boot->mft_cluster > 0 &&
           boot->mft_cluster < clusters && boot->mirror_cluster > 0 &&
           boot->mirror_cluster < clusters;
}

/* Positive: clusters; negative: the power of two of bytes. */
static guint8 size_byte(guint32 bytes, guint32 cluster)
{
    if (bytes >= cluster)
        return (guint8)(bytes / cluster);
    guint power = 0;
    while (bytes >> power > 1)
        power++;
    return (guint8)(256 - power);
}

void ek_ntfs_boot_compose(const EkNtfsBoot *boot, guint8 *sector)
{
    guint32 per_cluster = boot->cluster_bytes / boot->sector_size;
    memset(sector, 0, 512);
    memcpy(sector, "\xeb\x52\x90NTFS    ", 11);
    ek_put_le16(sector + 0x0b, (guint16)boot->sector_size);
    guint power = 0;
    while (per_cluster >> power > 1)
        power++;
    sector[0x0d] = per_cluster <= 128 ? (guint8)per_cluster : (guint8)(256 - power);
    sector[0x15] = 0xf8;
    ek_put_le16(sector + 0x18, 63);
    ek_put_le16(sector + 0x1a, 255);
    ek_put_le32(sector + 0x1c, boot->hidden_sectors);
    ek_put_le32(sector + 0x24, 0x00800080);
    ek_put_le64(sector + 0x28, boot->sectors);
    ek_put_le64(sector + 0x30, boot->mft_cluster);
    ek_put_le64(sector + 0x38, boot->mirror_cluster);
    sector[0x40] = size_byte(boot->record_bytes, boot->cluster_bytes);
    sector[0x44] = size_byte(boot->index_bytes, boot->cluster_bytes);
    ek_put_le64(sector + 0x48, boot->serial);
    ek_put_le16(sector + 0x1fe, 0xaa55);
}

GPtrArray *ek_ntfs_boot_explain(EkSpan span)
{
    static const EkFieldRule numbers[] = {
        {0x0b, 2, "bytes per sector", EK_FIELD_LE16, NULL},
        {0x0d, 1, "sectors per cluster", EK_FIELD_U8, NULL},
        {0x0e, 7, "unused", EK_FIELD_BYTES, NULL},
        {0x15, 1, "media descriptor", EK_FIELD_BYTES, NULL},
        {0x16, 2, "unused", EK_FIELD_BYTES, NULL},
        {0x18, 2, "sectors per track", EK_FIELD_LE16, NULL},
        {0x1a, 2, "heads", EK_FIELD_LE16, NULL},
        {0x1c, 4, "hidden sectors", EK_FIELD_LE32, NULL},
        {0x20, 8, "unused", EK_FIELD_BYTES, NULL},
        {0x28, 8, "total sectors", EK_FIELD_LE64, NULL},
        {0x30, 8, "$MFT cluster", EK_FIELD_LE64, "(cluster)"},
        {0x38, 8, "$MFTMirr cluster", EK_FIELD_LE64, "(cluster)"},
    };
    EkNtfsBoot boot;
    gboolean valid = ek_ntfs_boot_read(span, &boot);
    GPtrArray *fields = ek_fields_new();
    ek_fields_add(fields, 0, 3, "jump instruction", NULL);
    ek_fields_add(fields, 3, 8, "file system",
                  g_strdup(ek_span_equals(span, 3, "NTFS    ", 8) ? "NTFS" : ""));
    ek_fields_add_rules(fields, span, numbers, G_N_ELEMENTS(numbers));
    ek_fields_add(fields, 0x40, 4, "file record",
                  valid ? g_strdup_printf("%u bytes", boot.record_bytes) : NULL);
    ek_fields_add(fields, 0x44, 4, "index record", NULL);
    ek_fields_add(fields, 0x48, 8, "serial number",
                  valid ? g_strdup_printf("%016" G_GINT64_MODIFIER "X", boot.serial) : NULL);
    ek_fields_add(fields, 0x50, 4, "checksum", NULL);
    ek_fields_add(fields, 0x54, 426, "boot code", NULL);
    ek_fields_add(fields, 0x1fe, 2, "boot signature", NULL);
    return fields;
}
