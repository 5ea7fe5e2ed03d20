/* SPDX-License-Identifier: MIT */
/* NTFS file records ("FILE"): a header, an update sequence that replaces the last two bytes of each
 * sector, and attributes of type, length and content. Every length is checked against the record.
 */
#include "volume/ntfs/record.h"

#define IN_USE 1u
#define FOLDER 2u
#define TYPE_END 0xffffffffu
#define HEADER_LEAST 0x18u /* of an attribute */
#define PACKED 0x00ffu
#define ENCRYPTED 0x4000u
#define NAME_SHORT 2u

gboolean ek_ntfs_record_read(EkSpan record, EkNtfsRecord *header)
{
    guint16 flags = ek_span_le16(record, 0x16);
    *header = (EkNtfsRecord){
        .generation = ek_span_le16(record, 0x10),
        .is_in_use = (flags & IN_USE) != 0,
        .is_folder = (flags & FOLDER) != 0,
        .base = ek_span_le64(record, 0x20),
        .number = G_MAXUINT32,
        .bytes = ek_span_le32(record, 0x1c),
        .used = ek_span_le32(record, 0x18),
        .sequence = ek_span_le16(record, 4),
        .steps = MAX(ek_span_le16(record, 6), 1u) - 1u,
        .first = ek_span_le16(record, 0x14),
    };
    /* Where the sequence stands behind it there is a number. */
    if (header->sequence >= 0x30)
        header->number = ek_span_le32(record, 0x2c);
    return ek_span_equals(record, 0, "FILE", 4);
}

/* Undoes the update sequence as far as it fits. Returns how many bytes that is. */
static gsize fix_up(guint8 *data, gsize length, gsize known, guint32 sector_size)
{
    EkSpan span = {data, length};
    EkNtfsRecord header;
    if (!ek_ntfs_record_read(span, &header))
        return 0;
    gsize offset = header.sequence;
    gsize count = header.steps + 1;
    /* Records always count in steps of 512 here, whatever the drive's sectors. */
    gsize step = MIN(sector_size, EK_STEP);
    if (count < 2 || (count - 1) * step != length || !ek_span_has(span, offset, count * 2) ||
        offset < 0x2a || offset + count * 2 > known)
        return 0;
    gsize good = 0;
    const guint8 *sequence = data + offset;
    /* Torn: from there on it is of another time. */
    while (good + step <= known && memcmp(data + good + step - 2, sequence, 2) == 0)
        good += step;
    for (gsize i = 1; i * step <= good; i++)
        memcpy(data + i * step - 2, sequence + i * 2, 2);
    /* What the header says may itself have been under the sequence's care. */
    ek_ntfs_record_read(span, &header);
    return header.first >= 0x30 && header.first < good && header.used <= length ? good : 0;
}

gboolean ek_ntfs_record_fix_up(guint8 *data, gsize length, guint32 sector_size)
{
    return length > 0 && fix_up(data, length, length, sector_size) == length;
}

gboolean ek_ntfs_record_fix_up_part(guint8 *data, gsize length, gsize known, guint32 sector_size)
{
    gsize good = fix_up(data, length, MIN(known, length), sector_size);
    if (good == 0)
        return FALSE;
    memset(data + good, 0, length - good);
    ek_put_le32(data + 0x18, MIN(ek_span_le32((EkSpan){data, length}, 0x18), (guint32)good));
    return TRUE;
}

static void read_attribute(EkSpan span, EkNtfsAttribute *attribute)
{
    guint16 flags = ek_span_le16(span, 12);
    gsize name_bytes = ek_span_u8(span, 9) * 2u;
    gsize name = ek_span_le16(span, 10);
    *attribute = (EkNtfsAttribute){
        .type = ek_span_le32(span, 0),
        .span = span,
        .is_resident = ek_span_u8(span, 8) == 0,
        .is_packed = (flags & PACKED) != 0,
        .is_encrypted = (flags & ENCRYPTED) != 0,
    };
    if (ek_span_has(span, name, name_bytes))
        attribute->name = ek_span_part(span, name, name_bytes);
    if (attribute->is_resident) {
        gsize at = ek_span_le16(span, 0x14);
        gsize length = ek_span_le32(span, 0x10);
        if (ek_span_has(span, at, length))
            attribute->content = ek_span_part(span, at, length);
        return;
    }
    gsize runs = ek_span_le16(span, 0x20);
    attribute->first_cluster = ek_span_le64(span, 0x10);
    attribute->last_cluster = ek_span_le64(span, 0x18);
    attribute->unit = ek_span_le16(span, 0x22);
    attribute->held = ek_span_le64(span, 0x28);
    attribute->size = ek_span_le64(span, 0x30);
    attribute->valid = ek_span_le64(span, 0x38);
    if (runs < span.length)
        attribute->runs = ek_span_part(span, runs, span.length - runs);
}

gboolean ek_ntfs_attribute_next(EkSpan record, gsize *at, EkNtfsAttribute *attribute)
{
    EkNtfsRecord header;
    ek_ntfs_record_read(record, &header);
    gsize end = MIN(record.length, header.used);
    if (*at == 0)
        *at = header.first;
    guint32 length = ek_span_le32(record, *at + 4);
    if (*at + 8 > end || ek_span_le32(record, *at) == TYPE_END || length < HEADER_LEAST ||
        length > end - *at)
        return FALSE;
    read_attribute(ek_span_part(record, *at, length), attribute);
    *at += length;
    return TRUE;
}

EkNtfsAttribute ek_ntfs_attribute_of(EkSpan record, EkNtfsType type)
{
    EkNtfsAttribute attribute;
    for (gsize at = 0; ek_ntfs_attribute_next(record, &at, &attribute);)
        if (attribute.type == type)
            return attribute;
    return (EkNtfsAttribute){0};
}

static gboolean is_called(const EkNtfsAttribute *attribute, const char *name)
{
    gsize letters = strlen(name);
    if (ek_span_u8(attribute->span, 9) != letters || attribute->name.length != letters * 2)
        return FALSE;
    for (gsize i = 0; i < letters; i++)
        if (ek_span_le16(attribute->name, i * 2) != (guint8)name[i])
            return FALSE;
    return TRUE;
}

EkNtfsAttribute ek_ntfs_attribute_named(EkSpan record, EkNtfsType type, const char *name)
{
    EkNtfsAttribute attribute;
    for (gsize at = 0; ek_ntfs_attribute_next(record, &at, &attribute);)
        if (attribute.type == type && is_called(&attribute, name))
            return attribute;
    return (EkNtfsAttribute){0};
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

guint ek_ntfs_runs(const EkNtfsAttribute *attribute, EkNtfsRun *runs, guint most)
{
    EkSpan packed = attribute->runs;
    gsize at = 0;
    gint64 place = 0;
    guint count = 0;
    while (count < most && at < packed.length && packed.data[at] != 0) {
        guint length_bytes = packed.data[at] & 15;
        guint place_bytes = packed.data[at] >> 4;
        if (length_bytes == 0 || length_bytes > 8 || place_bytes > 8 ||
            !ek_span_has(packed, at + 1, length_bytes + place_bytes))
            break;
        gint64 clusters = number_at(packed, at + 1, length_bytes, TRUE);
        gint64 step = number_at(packed, at + 1 + length_bytes, place_bytes, TRUE);
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

gboolean ek_ntfs_name_read(EkSpan content, EkNtfsNamed *named)
{
    gsize bytes = ek_span_u8(content, 64) * 2u;
    if (bytes == 0 || !ek_span_has(content, 66, bytes))
        return FALSE;
    *named = (EkNtfsNamed){
        .parent = ek_span_le64(content, 0),
        .created = ek_timestamp_filetime(ek_span_le64(content, 8)),
        .modified = ek_timestamp_filetime(ek_span_le64(content, 16)),
        .accessed = ek_timestamp_filetime(ek_span_le64(content, 32)),
        .held = ek_span_le64(content, 40),
        .size = ek_span_le64(content, 48),
        .attributes = ek_span_le32(content, 56),
        .is_short = ek_span_u8(content, 65) == NAME_SHORT,
        .units = ek_span_part(content, 66, bytes),
    };
    return TRUE;
}
