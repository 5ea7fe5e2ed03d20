/* SPDX-License-Identifier: MIT */
/* Reading the header of a 7z. All numbers in it are hostile: what says more than there is ends it.
 */
#include "carve/sevenheader.h"

#define STREAMS_MOST 65536u
#define PARTS_MOST (1u << 20)
#define CODERS_MOST 4u
#define NAME_MOST 512u /* units of UTF-16 */

enum {
    ID_END = 0x00,
    ID_HEADER = 0x01,
    ID_ARCHIVE = 0x02,
    ID_MORE_STREAMS = 0x03,
    ID_STREAMS = 0x04,
    ID_FILES = 0x05,
    ID_PACKED = 0x06,
    ID_UNPACKED = 0x07,
    ID_PARTS = 0x08,
    ID_SIZES = 0x09,
    ID_SUMS = 0x0a,
    ID_FOLDERS = 0x0b,
    ID_UNPACKED_SIZES = 0x0c,
    ID_PART_COUNTS = 0x0d,
    ID_NAMES = 0x11,
    ID_TIMES = 0x14,
    ID_PACKED_HEADER = 0x17
};

typedef struct {
    EkSpan span;
    gsize at;
    gboolean is_wrong; /* it ended, or says what cannot be */
    EkSevenHeader *header;
    EkByte packed_at;
    GArray *packed;    /* guint64: bytes of each packed stream */
    GArray *out_count; /* guint: unpacked sizes of each folder; the last is that of all of it */
} Reader;

static guint8 take_byte(Reader *reader)
{
    reader->is_wrong = reader->is_wrong || reader->at >= reader->span.length;
    return reader->is_wrong ? 0 : reader->span.data[reader->at++];
}

/* The first byte says by its upper bits how many follow, and has the highest bits of the value. */
static guint64 take_number(Reader *reader)
{
    guint8 first = take_byte(reader);
    guint64 value = 0;
    guint8 mask = 0x80;
    for (guint i = 0; i < 8; i++, mask = (guint8)(mask >> 1)) {
        if ((first & mask) == 0)
            return value | (guint64)(first & (mask - 1)) << (8 * i);
        value |= (guint64)take_byte(reader) << (8 * i);
    }
    return value;
}

/* What counts something, of which there are at most so many. */
static guint take_count(Reader *reader, guint most)
{
    guint64 count = take_number(reader);
    reader->is_wrong = reader->is_wrong || count > most;
    return reader->is_wrong ? 0 : (guint)count;
}

static void skip(Reader *reader, guint64 bytes)
{
    reader->is_wrong = reader->is_wrong || bytes > reader->span.length - reader->at;
    if (!reader->is_wrong)
        reader->at += (gsize)bytes;
}

static guint32 take_sum(Reader *reader)
{
    guint32 sum = ek_span_le32(reader->span, reader->at);
    skip(reader, 4);
    return sum;
}

/* Which of `count` things have something: a bit each. The caller frees. */
static gboolean *take_bits(Reader *reader, guint count)
{
    gboolean *bits = g_new0(gboolean, MAX(count, 1));
    gboolean all = take_byte(reader) != 0;
    guint8 byte = 0;
    for (guint i = 0; i < count && !reader->is_wrong; i++) {
        if (!all && i % 8 == 0)
            byte = take_byte(reader);
        bits[i] = all || (byte >> (7 - i % 8) & 1) != 0;
    }
    return bits;
}

/* --- streams ---------------------------------------------------------------------------------- */

static void read_packed(Reader *reader)
{
    reader->packed_at = take_number(reader);
    guint count = take_count(reader, STREAMS_MOST);
    g_array_set_size(reader->packed, count);
    for (guint64 id = take_number(reader); id != ID_END && !reader->is_wrong;
         id = take_number(reader)) {
        if (id == ID_SIZES) {
            for (guint i = 0; i < count && !reader->is_wrong; i++)
                g_array_index(reader->packed, guint64, i) = take_number(reader);
        } else if (id == ID_SUMS) {
            g_autofree gboolean *has = take_bits(reader, count);
            for (guint i = 0; i < count && !reader->is_wrong; i++)
                skip(reader, has[i] ? 4 : 0);
        } else {
            reader->is_wrong = TRUE;
        }
    }
}

/* One step of packing. */
typedef struct {
    EkSevenMethod method;
    EkUnfilter filter;
    guint8 properties[5];
    guint ins;
    guint outs;
} Coder;

/* The number of a filter, as xz has it: one byte, or the longer one that it had before. */
static guint64 filter_number(EkSpan id)
{
    static const struct {
        guint8 id[4];
        guint8 number;
    } longer[] = {{{3, 3, 1, 3}, 4},
                  {{3, 3, 2, 5}, 5},
                  {{3, 3, 5, 1}, 7},
                  {{3, 3, 7, 1}, 8},
                  {{3, 3, 8, 5}, 9}};
    for (gsize i = 0; i < G_N_ELEMENTS(longer) && id.length == 4; i++)
        if (ek_span_equals(id, 0, longer[i].id, 4))
            return longer[i].number;
    return id.length == 1 ? ek_span_u8(id, 0) : 0;
}

/* What has more than one input or output, and what is none of these, is other. */
static void name_coder(Coder *coder, EkSpan id, EkSpan properties)
{
    static const struct {
        EkSevenMethod method;
        guint8 length;
        guint8 id[3];
        guint8 properties;
    } methods[] = {{EK_SEVEN_PLAIN, 1, {0x00}, 0},
                   {EK_SEVEN_LZMA, 3, {0x03, 0x01, 0x01}, 5},
                   {EK_SEVEN_LZMA2, 1, {0x21}, 1}};
    coder->filter.kind = EK_UNFILTER_OTHER;
    if (coder->ins != 1 || coder->outs != 1)
        return;
    for (gsize i = 0; i < G_N_ELEMENTS(methods); i++)
        if (id.length == methods[i].length && properties.length == methods[i].properties &&
            ek_span_equals(id, 0, methods[i].id, methods[i].length))
            coder->method = methods[i].method;
    EkUnfilterKind kind = ek_unfilter_of(filter_number(id));
    if (properties.length == (kind == EK_UNFILTER_DELTA ? 1 : 0))
        coder->filter = (EkUnfilter){.kind = kind, .distance = ek_span_u8(properties, 0) + 1u};
    if (properties.length > 0)
        memcpy(coder->properties, properties.data, properties.length);
}

static Coder read_coder(Reader *reader)
{
    Coder coder = {.ins = 1, .outs = 1};
    guint8 flags = take_byte(reader);
    gsize length = flags & 15;
    EkSpan id = ek_span_part(reader->span, reader->at, length);
    skip(reader, length);
    if ((flags & 0x10) != 0) {
        coder.ins = take_count(reader, 32);
        coder.outs = take_count(reader, 32);
    }
    guint64 bytes = (flags & 0x20) != 0 ? take_number(reader) : 0;
    EkSpan properties =
        ek_span_part(reader->span, reader->at, (gsize)MIN(bytes, sizeof coder.properties));
    skip(reader, bytes);
    coder.filter.kind = EK_UNFILTER_OTHER;
    if (!reader->is_wrong && properties.length == bytes)
        name_coder(&coder, id, properties);
    return coder;
}

/* One coder, or a filter and one behind it. `in` takes what `out` gives, where there are two. */
static void choose_method(EkSevenFolder *folder, const Coder *coders, guint count, guint64 in,
                          guint64 out)
{
    const Coder *packer = &coders[0];
    folder->method = EK_SEVEN_OTHER;
    if (count == 2 && in <= 1 && out == 1 - in && coders[in].filter.kind != EK_UNFILTER_OTHER) {
        packer = &coders[out];
        folder->filter = coders[in].filter;
    } else if (count != 1) {
        return;
    }
    folder->method = packer->method;
    memcpy(folder->properties, packer->properties, sizeof folder->properties);
}

static void read_folder(Reader *reader)
{
    EkSevenFolder folder = {.part_count = 1};
    Coder coders[CODERS_MOST];
    guint count = take_count(reader, CODERS_MOST);
    guint ins = 0;
    guint outs = 0;
    guint64 in = 0;
    guint64 out = 0;
    reader->is_wrong = reader->is_wrong || count == 0;
    for (guint i = 0; i < count && !reader->is_wrong; i++) {
        coders[i] = read_coder(reader);
        ins += coders[i].ins;
        outs += coders[i].outs;
    }
    reader->is_wrong = reader->is_wrong || outs == 0 || ins + 1 < outs;
    for (guint i = 0; i + 1 < outs && !reader->is_wrong; i++) {
        in = take_number(reader);
        out = take_number(reader);
    }
    if (!reader->is_wrong)
        choose_method(&folder, coders, count, in, out);
    folder.stream_count = reader->is_wrong ? 0 : ins + 1 - outs;
    for (guint i = 0; folder.stream_count > 1 && i < folder.stream_count; i++)
        take_number(reader);
    g_array_append_val(reader->header->folders, folder);
    g_array_append_val(reader->out_count, outs);
}

static void read_sums(Reader *reader)
{
    GArray *folders = reader->header->folders;
    g_autofree gboolean *has = take_bits(reader, folders->len);
    for (guint i = 0; i < folders->len && !reader->is_wrong; i++) {
        EkSevenFolder *folder = &g_array_index(folders, EkSevenFolder, i);
        folder->has_sum = has[i];
        folder->sum = has[i] ? take_sum(reader) : 0;
    }
}

static void read_folders(Reader *reader)
{
    GArray *folders = reader->header->folders;
    reader->is_wrong = reader->is_wrong || take_number(reader) != ID_FOLDERS;
    guint count = take_count(reader, STREAMS_MOST);
    reader->is_wrong = reader->is_wrong || take_byte(reader) != 0;
    for (guint i = 0; i < count && !reader->is_wrong; i++)
        read_folder(reader);
    reader->is_wrong = reader->is_wrong || take_number(reader) != ID_UNPACKED_SIZES;
    for (guint i = 0; i < folders->len && !reader->is_wrong; i++)
        for (guint k = 0; k < g_array_index(reader->out_count, guint, i); k++)
            g_array_index(folders, EkSevenFolder, i).unpacked = take_number(reader);
    guint64 id = take_number(reader);
    if (id == ID_SUMS) {
        read_sums(reader);
        id = take_number(reader);
    }
    reader->is_wrong = reader->is_wrong || id != ID_END;
}

/* Sums are told of the parts of which the folder's own is not theirs. */
static void read_part_sums(Reader *reader)
{
    const EkSevenHeader *header = reader->header;
    guint unknown = 0;
    for (guint i = 0; i < header->folders->len; i++) {
        const EkSevenFolder *folder = &g_array_index(header->folders, EkSevenFolder, i);
        unknown += folder->part_count == 1 && folder->has_sum ? 0 : folder->part_count;
    }
    g_autofree gboolean *has = take_bits(reader, unknown);
    guint next = 0;
    for (guint i = 0; i < header->folders->len && !reader->is_wrong; i++) {
        const EkSevenFolder *folder = &g_array_index(header->folders, EkSevenFolder, i);
        for (guint k = 0; k < folder->part_count && !reader->is_wrong; k++) {
            EkSevenPart *part = &g_array_index(header->parts, EkSevenPart, folder->first_part + k);
            gboolean is_known = folder->part_count == 1 && folder->has_sum;
            part->has_sum = is_known || has[next];
            part->sum = is_known ? folder->sum : has[next] ? take_sum(reader) : 0;
            next += is_known ? 0 : 1;
        }
    }
}

/* Each folder is one part, unless something else is said. */
static void make_parts(Reader *reader)
{
    EkSevenHeader *header = reader->header;
    guint64 count = 0;
    for (guint i = 0; i < header->folders->len; i++) {
        EkSevenFolder *folder = &g_array_index(header->folders, EkSevenFolder, i);
        folder->first_part = (guint)count;
        count += folder->part_count;
        reader->is_wrong = reader->is_wrong || count > PARTS_MOST;
        if (reader->is_wrong)
            return;
    }
    g_array_set_size(header->parts, (guint)count);
    for (guint i = 0; i < header->folders->len; i++) {
        const EkSevenFolder *folder = &g_array_index(header->folders, EkSevenFolder, i);
        if (folder->part_count == 1)
            g_array_index(header->parts, EkSevenPart, folder->first_part) =
                (EkSevenPart){folder->unpacked, folder->has_sum, folder->sum};
    }
}

/* Of each folder all but the last one are told. */
static void read_part_sizes(Reader *reader)
{
    const EkSevenHeader *header = reader->header;
    for (guint i = 0; i < header->folders->len && !reader->is_wrong; i++) {
        const EkSevenFolder *folder = &g_array_index(header->folders, EkSevenFolder, i);
        guint64 left = folder->unpacked;
        for (guint k = 0; k < folder->part_count && !reader->is_wrong; k++) {
            guint64 bytes = k + 1 < folder->part_count ? take_number(reader) : left;
            reader->is_wrong = reader->is_wrong || bytes > left;
            left -= reader->is_wrong ? 0 : bytes;
            g_array_index(header->parts, EkSevenPart, folder->first_part + k).bytes = bytes;
        }
    }
}

static void read_parts(Reader *reader)
{
    GArray *folders = reader->header->folders;
    guint64 id = take_number(reader);
    if (id == ID_PART_COUNTS) {
        for (guint i = 0; i < folders->len && !reader->is_wrong; i++)
            g_array_index(folders, EkSevenFolder, i).part_count = take_count(reader, PARTS_MOST);
        id = take_number(reader);
    }
    make_parts(reader);
    if (id == ID_SIZES) {
        read_part_sizes(reader);
        id = take_number(reader);
    }
    if (id == ID_SUMS) {
        read_part_sums(reader);
        id = take_number(reader);
    }
    reader->is_wrong = reader->is_wrong || id != ID_END;
}

/* Streams lie one behind the other, and each folder takes the next ones. */
static void place_folders(Reader *reader)
{
    EkByte at = reader->packed_at;
    guint next = 0;
    for (guint i = 0; i < reader->header->folders->len && !reader->is_wrong; i++) {
        EkSevenFolder *folder = &g_array_index(reader->header->folders, EkSevenFolder, i);
        folder->packed_at = at;
        for (guint k = 0; k < folder->stream_count && !reader->is_wrong; k++, next++) {
            guint64 bytes =
                next < reader->packed->len ? g_array_index(reader->packed, guint64, next) : 0;
            reader->is_wrong =
                next >= reader->packed->len || bytes > G_MAXINT64 / 2 || at > G_MAXINT64 / 2;
            folder->packed += bytes;
            at += bytes;
        }
    }
}

static void read_streams(Reader *reader)
{
    guint64 id = take_number(reader);
    if (id == ID_PACKED) {
        read_packed(reader);
        id = take_number(reader);
    }
    if (id == ID_UNPACKED) {
        read_folders(reader);
        id = take_number(reader);
    }
    if (id == ID_PARTS) {
        read_parts(reader);
        id = take_number(reader);
    } else {
        make_parts(reader);
    }
    reader->is_wrong = reader->is_wrong || id != ID_END;
    place_folders(reader);
}

/* --- files ------------------------------------------------------------------------------------ */

static void read_name(Reader *reader, EkSpan property)
{
    gunichar2 units[NAME_MOST];
    glong count = 0;
    if (ek_span_u8(property, 0) != 0)
        return;
    for (gsize at = 1; at + 1 < property.length && count < (glong)NAME_MOST; at += 2) {
        guint16 unit = ek_span_le16(property, at);
        if (unit == 0)
            break;
        units[count++] = unit;
    }
    g_free(reader->header->name);
    reader->header->name = g_utf16_to_utf8(units, count, NULL, NULL, NULL);
}

/* Of the first file that has one. */
static void read_date(Reader *reader, EkSpan property, guint files)
{
    gsize at = ek_span_u8(property, 0) != 0 ? 1 : 1 + ((gsize)files + 7) / 8;
    if (ek_span_u8(property, at) == 0)
        reader->header->date = ek_timestamp_filetime(ek_span_le64(property, at + 1));
}

static void read_files(Reader *reader)
{
    guint files = take_count(reader, PARTS_MOST);
    for (guint64 id = take_number(reader); id != ID_END && !reader->is_wrong;
         id = take_number(reader)) {
        guint64 bytes = take_number(reader);
        gsize at = reader->at;
        skip(reader, bytes);
        if (reader->is_wrong)
            return;
        EkSpan property = ek_span_part(reader->span, at, (gsize)bytes);
        if (id == ID_NAMES)
            read_name(reader, property);
        else if (id == ID_TIMES)
            read_date(reader, property, files);
    }
}

static void read_header(Reader *reader)
{
    guint64 id = take_number(reader);
    if (id == ID_ARCHIVE) {
        for (id = take_number(reader); id != ID_END && !reader->is_wrong; id = take_number(reader))
            skip(reader, take_number(reader));
        id = take_number(reader);
    }
    /* Streams that are packed besides the files: what they are for no one says. */
    reader->is_wrong = reader->is_wrong || id == ID_MORE_STREAMS;
    if (id == ID_STREAMS) {
        read_streams(reader);
        id = take_number(reader);
    }
    if (id == ID_FILES && !reader->is_wrong)
        read_files(reader);
}

EkSevenHeader *ek_seven_header_read(EkSpan span)
{
    g_autoptr(EkSevenHeader) header = g_new0(EkSevenHeader, 1);
    header->folders = g_array_new(FALSE, TRUE, sizeof(EkSevenFolder));
    header->parts = g_array_new(FALSE, TRUE, sizeof(EkSevenPart));
    g_autoptr(GArray) packed = g_array_new(FALSE, TRUE, sizeof(guint64));
    g_autoptr(GArray) out_count = g_array_new(FALSE, TRUE, sizeof(guint));
    Reader reader = {.span = span, .header = header, .packed = packed, .out_count = out_count};
    guint64 id = take_number(&reader);
    if (id == ID_HEADER)
        read_header(&reader);
    else if (id == ID_PACKED_HEADER)
        read_streams(&reader);
    else
        return NULL;
    return reader.is_wrong ? NULL : g_steal_pointer(&header);
}

void ek_seven_header_free(EkSevenHeader *header)
{
    g_array_unref(header->folders);
    g_array_unref(header->parts);
    g_free(header->name);
    g_free(header);
}
