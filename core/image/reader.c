/* SPDX-License-Identifier: MIT */
/* What all readers have in common, and the bounded one. */
#include "image/reader.h"

#include "base/error.h"

void ek_reader_free(EkReader *reader)
{
    if (reader != NULL)
        reader->kind->free(reader);
}

EkByte ek_reader_bytes(const EkReader *reader)
{
    return reader->kind->bytes(reader);
}

void ek_reader_watch(EkReader *reader, GArray *missing)
{
    reader->missing = missing;
}

static void note_missing(EkReader *reader, EkRange range)
{
    GArray *missing = reader->missing;
    EkRange hole;
    gboolean bad = FALSE;
    for (EkByte at = range.first; ek_reader_next_hole(reader, at, ek_range_end(range), &hole, &bad);
         at = ek_range_end(hole)) {
        EkRange *last =
            missing->len > 0 ? &g_array_index(missing, EkRange, missing->len - 1) : NULL;
        if (bad)
            continue;
        if (last != NULL && hole.first >= last->first && hole.first <= ek_range_end(*last))
            last->bytes = MAX(last->bytes, ek_range_end(hole) - last->first);
        else
            g_array_append_val(missing, hole);
    }
}

gboolean ek_reader_read(EkReader *reader, EkByte first, guint8 *buffer, gsize length,
                        EkKnown *known, GError **error)
{
    EkRange range;
    if (!ek_range_checked(first, length, ek_reader_bytes(reader), &range))
        return ek_error_set(error, EK_ERROR_DAMAGED,
                            "bytes %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
                            " lie past the end of the drive",
                            first, first + length);
    if (!reader->kind->read(reader, first, buffer, length, error))
        return FALSE;
    if (known != NULL)
        *known = ek_reader_known(reader, first, length);
    if (reader->missing != NULL)
        note_missing(reader, range);
    return TRUE;
}

guint8 *ek_reader_read_new(EkReader *reader, EkByte first, gsize length, EkKnown *known,
                           GError **error)
{
    if (length == 0 || length > EK_READER_MOST) {
        ek_error_set(error, EK_ERROR_DAMAGED, "a structure of %" G_GSIZE_FORMAT " bytes", length);
        return NULL;
    }
    g_autofree guint8 *buffer = g_malloc(length);
    return ek_reader_read(reader, first, buffer, length, known, error) ? g_steal_pointer(&buffer)
                                                                       : NULL;
}

EkKnown ek_reader_known(const EkReader *reader, EkByte first, EkByte length)
{
    EkByte bytes = ek_reader_bytes(reader);
    first = MIN(first, bytes);
    return reader->kind->known(reader, first, MIN(length, bytes - first));
}

gboolean ek_reader_next_hole(const EkReader *reader, EkByte from, EkByte limit, EkRange *hole,
                             gboolean *bad)
{
    return reader->kind->next_hole(reader, from, MIN(limit, ek_reader_bytes(reader)), hole, bad);
}

gboolean ek_reader_next_data(EkReader *reader, EkByte from, EkRange *data)
{
    return reader->kind->next_data(reader, from, data);
}

gboolean ek_reader_is_spent(const EkReader *reader)
{
    return reader->is_spent;
}

/* --- bounded -------------------------------------------------------------------------------- */

typedef struct {
    EkReader reader;
    EkReader *inner;
    guint reads_left;
} Bounded;

static EkByte bounded_bytes(const EkReader *reader)
{
    return ek_reader_bytes(((const Bounded *)reader)->inner);
}

static gboolean bounded_read(EkReader *reader, EkByte first, guint8 *buffer, gsize length,
                             GError **error)
{
    Bounded *bounded = (Bounded *)reader;
    reader->is_spent = bounded->reads_left == 0;
    if (reader->is_spent)
        return ek_error_set(error, EK_ERROR_DAMAGED, "it leads to more places than are looked at");
    bounded->reads_left--;
    return ek_reader_read(bounded->inner, first, buffer, length, NULL, error);
}

static EkKnown bounded_known(const EkReader *reader, EkByte first, EkByte length)
{
    return ek_reader_known(((const Bounded *)reader)->inner, first, length);
}

static gboolean bounded_next_hole(const EkReader *reader, EkByte from, EkByte limit, EkRange *hole,
                                  gboolean *bad)
{
    return ek_reader_next_hole(((const Bounded *)reader)->inner, from, limit, hole, bad);
}

static gboolean bounded_next_data(EkReader *reader, EkByte from, EkRange *data)
{
    return ek_reader_next_data(((Bounded *)reader)->inner, from, data);
}

static void bounded_free(EkReader *reader)
{
    g_free(reader);
}

EkReader *ek_reader_bounded(EkReader *inner, guint reads)
{
    static const EkReaderKind kind = {bounded_bytes,     bounded_read,      bounded_known,
                                      bounded_next_hole, bounded_next_data, bounded_free};
    Bounded *bounded = g_new0(Bounded, 1);
    bounded->reader.kind = &kind;
    bounded->inner = inner;
    bounded->reads_left = reads;
    return &bounded->reader;
}
