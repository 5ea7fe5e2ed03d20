/* SPDX-License-Identifier: MIT */
/* NTFS file records ("FILE"): a header, an update sequence that replaces the last two bytes of each
 * sector, and attributes of type, length and content. Every length is checked against the record.
 */
#include "volume/ntfs/ntfs.h"

gboolean ek_ntfs_record_fix_up(guint8 *data, gsize length, guint32 sector_size)
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

EkSpan ek_ntfs_record_named(EkSpan record, guint32 type, const char *name)
{
    gsize at = ek_span_le16(record, 0x14);
    gsize end = MIN(record.length, ek_span_le32(record, 0x18));
    gsize letters = strlen(name);
    while (at + 8 <= end) {
        guint32 length = ek_span_le32(record, at + 4);
        if (ek_span_le32(record, at) == 0xffffffff || length < 0x18 || length > end - at)
            break;
        EkSpan attribute = ek_span_part(record, at, length);
        gsize i = 0;
        while (i < letters &&
               ek_span_le16(attribute, ek_span_le16(attribute, 10) + i * 2) == (guint8)name[i])
            i++;
        if (ek_span_le32(attribute, 0) == type && ek_span_u8(attribute, 9) == letters &&
            i == letters)
            return attribute;
        at += length;
    }
    return (EkSpan){NULL, 0};
}

/* A number of `bytes` bytes, with a sign where wanted. */
static gint64 number_at(EkSpan span, gsize at, guint bytes, gboolean has_sign)
{
    guint64 value = 0;
    for (guint i = 0; i < bytes; i++)
        value |= (guint64)ek_span_u8(span, at + i) << (8 * i);
    if (has_sign && bytes > 0 && bytes < 8 && (ek_span_u8(span, at + bytes - 1) & 0x80) != 0)
        value |= G_MAXUINT64 << (8 * bytes);
    return (gint64)value;
}

guint ek_ntfs_runs(EkSpan attribute, EkNtfsRun *runs, guint most)
{
    gsize at = ek_span_le16(attribute, 0x20);
    gint64 place = 0;
    guint count = 0;
    if (ek_span_u8(attribute, 8) != 1)
        return 0;
    while (count < most && at < attribute.length && attribute.data[at] != 0) {
        guint length_bytes = attribute.data[at] & 15;
        guint place_bytes = attribute.data[at] >> 4;
        if (length_bytes == 0 || length_bytes > 8 || place_bytes > 8 ||
            !ek_span_has(attribute, at + 1, length_bytes + place_bytes))
            break;
        gint64 clusters = number_at(attribute, at + 1, length_bytes, TRUE);
        gint64 step = number_at(attribute, at + 1 + length_bytes, place_bytes, TRUE);
        if (clusters <= 0 || step > G_MAXINT64 / 4 || step < -(G_MAXINT64 / 4) ||
            place + step < 0 || place + step > G_MAXINT64 / 4)
            break;
        place += step;
        runs[count++] =
            (EkNtfsRun){place_bytes == 0 ? EK_NTFS_HOLE : (guint64)place, (guint64)clusters};
        at += 1 + length_bytes + place_bytes;
    }
    return count;
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
