/* SPDX-License-Identifier: MIT */
/* NTFS file records ("FILE"): a header, an update sequence that replaces the last two bytes of each
 * sector, and attributes of type, length and content. Every length is checked against the record.
 */
#include "volume/ntfs/ntfs.h"

gboolean ek_ntfs_record_mend(guint8 *data, gsize length, guint32 sector_size)
{
    EkSpan span = {data, length};
    if (!ek_span_equals(span, 0, "FILE", 4))
        return FALSE;
    gsize offset = ek_span_le16(span, 4);
    gsize count = ek_span_le16(span, 6);
    /* Records always count in steps of 512 here, whatever the drive's sectors. */
    gsize step = MIN(sector_size, EK_STEP);
    if (count < 2 || (count - 1) * step != length || !ek_span_has(span, offset, count * 2) ||
        offset < 0x2a)
        return FALSE;
    const guint8 *sequence = data + offset;
    for (gsize i = 1; i < count; i++) {
        guint8 *last = data + i * step - 2;
        if (memcmp(last, sequence, 2) != 0)
            return FALSE; /* torn: this sector is of another time */
    }
    for (gsize i = 1; i < count; i++)
        memcpy(data + i * step - 2, sequence + i * 2, 2);
    return ek_span_le16(span, 0x14) >= 0x30 && ek_span_le16(span, 0x14) < length &&
           ek_span_le32(span, 0x18) <= length;
}

guint32 ek_ntfs_record_number(EkSpan record)
{
    return ek_span_le16(record, 4) >= 0x30 ? ek_span_le32(record, 0x2c) : G_MAXUINT32;
}

EkSpan ek_ntfs_record_attribute(EkSpan record, guint32 type)
{
    gsize at = ek_span_le16(record, 0x14);
    gsize end = MIN(record.length, ek_span_le32(record, 0x18));
    while (at + 8 <= end) {
        guint32 found = ek_span_le32(record, at);
        guint32 length = ek_span_le32(record, at + 4);
        if (found == 0xffffffff || length < 0x18 || length > end - at)
            break;
        if (found == type)
            return ek_span_part(record, at, length);
        at += length;
    }
    return (EkSpan){NULL, 0};
}

EkSpan ek_ntfs_resident(EkSpan attribute)
{
    if (attribute.length == 0 || ek_span_u8(attribute, 8) != 0)
        return (EkSpan){NULL, 0};
    guint32 length = ek_span_le32(attribute, 0x10);
    gsize offset = ek_span_le16(attribute, 0x14);
    if (!ek_span_has(attribute, offset, length))
        return (EkSpan){NULL, 0};
    return ek_span_part(attribute, offset, length);
}
