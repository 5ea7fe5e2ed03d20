/* SPDX-License-Identifier: MIT */
/* The root folder of an exFAT volume by its first entries. */
#include "volume/exfat/exfat.h"

#define SYSTEM_ENTRIES_MOST 8u
#define UPCASE_LEAST 128u /* bytes of an up-case table */
#define UPCASE_MOST 131072u
#define BITMAP_MOST (1u << 29)

static gboolean are_zero(EkSpan span, gsize first, gsize end)
{
    return end <= span.length && ek_bytes_are_zero(span.data + first, end - first);
}

static gboolean bitmap_entry_read(EkSpan entry, EkExfatRoot *root)
{
    root->bitmap_cluster = ek_span_le32(entry, 20);
    root->bitmap_bytes = ek_span_le64(entry, 24);
    return (ek_span_u8(entry, 1) & 0xfe) == 0 && are_zero(entry, 2, 20) &&
           root->bitmap_cluster >= 2 && root->bitmap_bytes > 0 &&
           root->bitmap_bytes <= BITMAP_MOST && root->bitmap_cluster - 2 < root->bitmap_bytes * 8;
}

static gboolean upcase_entry_read(EkSpan entry, EkExfatRoot *root)
{
    EkByte bytes = ek_span_le64(entry, 24);
    root->upcase_sum = ek_span_le32(entry, 4);
    root->upcase_cluster = ek_span_le32(entry, 20);
    root->upcase_bytes = (guint32)MIN(bytes, UPCASE_MOST);
    return are_zero(entry, 1, 4) && are_zero(entry, 8, 20) && root->upcase_cluster >= 2 &&
           bytes >= UPCASE_LEAST && bytes <= UPCASE_MOST && bytes % 2 == 0;
}

gboolean ek_exfat_root_read(EkSpan span, EkByte at, EkExfatRoot *root)
{
    gboolean bitmap = FALSE;
    gboolean upcase = FALSE;
    *root = (EkExfatRoot){.at = at};
    for (guint i = 0; i < SYSTEM_ENTRIES_MOST && !(bitmap && upcase); i++) {
        EkSpan entry = ek_span_part(span, (gsize)i * EK_EXFAT_ENTRY_BYTES, EK_EXFAT_ENTRY_BYTES);
        guint8 type = ek_span_u8(entry, 0);
        if (entry.length < EK_EXFAT_ENTRY_BYTES || type == 0)
            return FALSE;
        if (type == EK_EXFAT_BITMAP && !bitmap && !bitmap_entry_read(entry, root))
            return FALSE;
        if (type == EK_EXFAT_UPCASE && !upcase && !upcase_entry_read(entry, root))
            return FALSE;
        bitmap |= type == EK_EXFAT_BITMAP;
        upcase |= type == EK_EXFAT_UPCASE;
    }
    return bitmap && upcase;
}
