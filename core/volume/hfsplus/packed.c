/* SPDX-License-Identifier: MIT */
/* Files that the system packed. */
#include "volume/hfsplus/packed.h"

#include <string.h>
#include <zlib.h>

#define MOST (1u << 19) /* files that are kept */
#define KEY_FIXED 14u   /* bytes of a key before its name */
#define RECORD_INLINE 0x10u
#define DATA_AT 16u /* of an attribute, in its record */
#define HEADER 16u  /* of what is packed */
#define CHUNK 65536u
#define CHUNKS_MOST (1u << 20) /* 64 GiB of a file */
#define STORED 0x0fu           /* the low half of a chunk's first byte: it is not packed */

enum {
    TYPE_PLAIN_HERE = 1, /* in the attribute, as it is */
    TYPE_ZLIB_HERE = 3,
    TYPE_ZLIB_FORK = 4,
    TYPE_STORED_HERE = 9, /* behind one byte */
    TYPE_STORED_FORK = 10
};

/* --- which files ---------------------------------------------------------------------------- */

static gboolean is_name(EkSpan record)
{
    static const char name[] = "com.apple.decmpfs";
    if (ek_span_be16(record, 12) != sizeof name - 1)
        return FALSE;
    for (gsize i = 0; i < sizeof name - 1; i++)
        if (ek_span_be16(record, KEY_FIXED + 2 * i) != (guint8)name[i])
            return FALSE;
    return TRUE;
}

static gboolean is_known_type(guint32 type)
{
    return type == TYPE_PLAIN_HERE || type == TYPE_ZLIB_HERE || type == TYPE_ZLIB_FORK ||
           type == TYPE_STORED_HERE || type == TYPE_STORED_FORK;
}

static gboolean is_in_fork(guint32 type)
{
    return type == TYPE_ZLIB_FORK || type == TYPE_STORED_FORK;
}

static gboolean take_attribute(void *data, EkSpan record, EkByte at)
{
    GArray *all = data;
    gsize key = 2ul + ek_span_be16(record, 0);
    EkSpan attribute = ek_span_part(record, key, record.length);
    guint32 length = ek_span_be32(attribute, 12);
    EkSpan content = ek_span_part(attribute, DATA_AT, length);
    EkHfsPacked packed = {
        .file = ek_span_be32(record, 4),
        .type = ek_span_le32(content, 4),
        .size = ek_span_le64(content, 8),
        .at = at + key + DATA_AT + HEADER,
        .bytes = length - MIN(length, HEADER),
    };
    if (!is_name(record) || ek_span_be32(attribute, 0) != RECORD_INLINE || length < HEADER ||
        content.length < length || !ek_span_equals(content, 0, "fpmc", 4) ||
        packed.size > G_MAXINT64 || !is_known_type(packed.type) ||
        /* What an attribute holds is not longer than a chunk. */
        (!is_in_fork(packed.type) && packed.size > CHUNK))
        return TRUE;
    g_array_append_val(all, packed);
    return all->len < MOST;
}

static gint by_file(gconstpointer a, gconstpointer b)
{
    guint32 left = ((const EkHfsPacked *)a)->file;
    guint32 right = ((const EkHfsPacked *)b)->file;
    return left < right ? -1 : left > right;
}

GArray *ek_hfs_packed_load(const EkHfsArea *region, const EkHfsFork *attributes)
{
    GArray *all = g_array_new(FALSE, FALSE, sizeof(EkHfsPacked));
    ek_hfs_fork_records(region, attributes, take_attribute, all);
    g_array_sort(all, by_file);
    return all;
}

const EkHfsPacked *ek_hfs_packed_find(const GArray *all, guint32 file)
{
    EkHfsPacked wanted = {.file = file};
    guint place = 0;
    return g_array_binary_search((GArray *)all, &wanted, by_file, &place)
               ? &g_array_index(all, EkHfsPacked, place)
               : NULL;
}

/* --- the chunks of a fork ------------------------------------------------------------------- */

typedef struct {
    EkByte at; /* of the table, in the fork */
    gsize bytes;
    guint8 *table;
    guint64 chunks;
} Chunks;

typedef enum { TABLE_THERE, TABLE_UNREAD, TABLE_WRONG } Table;

/* The resource fork begins with where its data is; that with its length and the table. Where that
 * was not read, `at` and `bytes` say what. The caller frees the table. */
static Table read_chunks(const EkHfsArea *region, const EkHfsFork *fork, guint64 size,
                         Chunks *chunks)
{
    guint8 head[16];
    guint8 count[4];
    EkKnown known;
    *chunks = (Chunks){.bytes = sizeof head};
    if (!ek_hfs_fork_read(region, fork, 0, head, sizeof head, &known))
        return TABLE_UNREAD;
    chunks->at = (EkByte)ek_span_be32((EkSpan){head, sizeof head}, 0) + 4;
    if (chunks->at + 4 > fork->bytes)
        return TABLE_WRONG;
    if (!ek_hfs_fork_read(region, fork, chunks->at, count, sizeof count, &known))
        return TABLE_UNREAD;
    chunks->chunks = ek_span_le32((EkSpan){count, sizeof count}, 0);
    if (chunks->chunks < ek_divide_up(size, CHUNK) || chunks->chunks > CHUNKS_MOST ||
        chunks->chunks > (fork->bytes - chunks->at - 4) / 8)
        return TABLE_WRONG;
    chunks->bytes = 4 + (gsize)chunks->chunks * 8;
    chunks->table = g_malloc(chunks->bytes);
    return ek_hfs_fork_read(region, fork, chunks->at, chunks->table, chunks->bytes, &known)
               ? TABLE_THERE
               : TABLE_UNREAD;
}

/* Where a chunk lies in the fork. FALSE when that is outside. */
static gboolean chunk_at(const Chunks *chunks, const EkHfsFork *fork, guint64 index, EkByte *at,
                         guint32 *bytes)
{
    EkSpan table = {chunks->table, chunks->bytes};
    *at = chunks->at + ek_span_le32(table, 4 + (gsize)index * 8);
    *bytes = ek_span_le32(table, 8 + (gsize)index * 8);
    return *bytes > 0 && *bytes <= 2 * CHUNK && *at + *bytes <= fork->bytes;
}

/* --- where they lie ------------------------------------------------------------------------- */

typedef struct {
    const EkHfsArea *region;
    const EkFileSink *sink;
    guint32 file;
} Passing;

/* `bytes` of the file come of the bytes of the fork at `at`, which lie in one place or several. */
static gboolean pass_packed(const Passing *passing, const EkHfsFork *fork, EkByte offset,
                            EkByte bytes, EkByte at, EkByte stored)
{
    while (stored > 0) {
        EkByte together = 0;
        EkByte place = ek_hfs_fork_place(passing->region, fork, at, &together);
        EkByte part = MIN(stored, together);
        EkExtent extent = {offset, bytes, place, part, TRUE, FALSE, 0};
        if (!passing->sink->extent(passing->sink->data, passing->file, &extent))
            return FALSE;
        if (place == EK_UNPLACED)
            return TRUE;
        at += part;
        stored -= part;
    }
    return TRUE;
}

static gboolean pass_nowhere(const Passing *passing, EkByte offset, EkByte bytes)
{
    EkExtent nowhere = {offset, bytes, EK_UNPLACED, 0, FALSE, FALSE, 0};
    return passing->sink->extent(passing->sink->data, passing->file, &nowhere);
}

static gboolean pass_chunks(const Passing *passing, const EkHfsFork *fork, EkByte size,
                            const Chunks *chunks)
{
    gboolean fine = TRUE;
    for (EkByte offset = 0; fine && offset < size; offset += CHUNK) {
        EkByte at = 0;
        guint32 bytes = 0;
        EkByte part = MIN(CHUNK, size - offset);
        fine = chunk_at(chunks, fork, offset / CHUNK, &at, &bytes)
                   ? pass_packed(passing, fork, offset, part, at, bytes)
                   : pass_nowhere(passing, offset, part);
    }
    return fine;
}

gboolean ek_hfs_packed_pass(const EkHfsArea *region, const EkHfsFork *attributes,
                            const EkHfsFork *resources, const EkHfsPacked *packed,
                            const EkFileSink *sink)
{
    Passing passing = {region, sink, packed->file};
    Chunks chunks = {0};
    gboolean fine = TRUE;
    if (packed->size == 0)
        return TRUE;
    if (!is_in_fork(packed->type))
        return packed->bytes > 0
                   ? pass_packed(&passing, attributes, 0, packed->size, packed->at, packed->bytes)
                   : pass_nowhere(&passing, 0, packed->size);
    switch (read_chunks(region, resources, packed->size, &chunks)) {
    case TABLE_THERE: fine = pass_chunks(&passing, resources, packed->size, &chunks); break;
    /* All of it hangs on the table. */
    case TABLE_UNREAD:
        fine = pass_packed(&passing, resources, 0, packed->size, chunks.at, chunks.bytes);
        break;
    default: fine = pass_nowhere(&passing, 0, packed->size); break;
    }
    g_free(chunks.table);
    return fine;
}

/* --- unpacking ------------------------------------------------------------------------------ */

/* FALSE when it does not give just as many bytes as it should. */
static gboolean unpack(guint32 type, EkSpan from, guint8 *into, gsize wanted)
{
    uLongf length = (uLongf)wanted;
    gsize skip = type == TYPE_PLAIN_HERE ? 0 : 1;
    gboolean is_plain = type == TYPE_PLAIN_HERE || type == TYPE_STORED_HERE ||
                        type == TYPE_STORED_FORK || (ek_span_u8(from, 0) & STORED) == STORED;
    if (!is_plain)
        return uncompress(into, &length, from.data, (uLong)from.length) == Z_OK && length == wanted;
    if (from.length < skip || from.length - skip < wanted)
        return FALSE;
    memcpy(into, from.data + skip, wanted);
    return TRUE;
}

/* One piece of the file; what is not there, or is none, is a hole. */
static gboolean give(const EkHfsArea *region, const EkHfsFork *fork, guint32 type, EkByte at,
                     gsize bytes, gsize wanted, EkContentSink sink, void *data)
{
    g_autofree guint8 *from = g_malloc(bytes);
    g_autofree guint8 *into = g_malloc(MAX(wanted, 1u));
    EkKnown known;
    gboolean fine = ek_hfs_fork_read(region, fork, at, from, bytes, &known) &&
                    unpack(type, (EkSpan){from, bytes}, into, wanted);
    return sink(data, fine ? into : NULL, wanted);
}

gboolean ek_hfs_packed_decode(const EkHfsArea *region, const EkHfsFork *attributes,
                              const EkHfsFork *resources, const EkHfsPacked *packed,
                              EkContentSink sink, void *data)
{
    Chunks chunks = {0};
    gboolean fine = TRUE;
    if (packed->size == 0)
        return TRUE;
    if (!is_in_fork(packed->type))
        return give(region, attributes, packed->type, packed->at, packed->bytes,
                    (gsize)packed->size, sink, data);
    gboolean known = read_chunks(region, resources, packed->size, &chunks) == TABLE_THERE;
    for (EkByte offset = 0; fine && offset < packed->size; offset += CHUNK) {
        EkByte at = 0;
        guint32 bytes = 0;
        gsize wanted = (gsize)MIN(CHUNK, packed->size - offset);
        fine = known && chunk_at(&chunks, resources, offset / CHUNK, &at, &bytes)
                   ? give(region, resources, packed->type, at, bytes, wanted, sink, data)
                   : sink(data, NULL, wanted);
    }
    g_free(chunks.table);
    return fine;
}
