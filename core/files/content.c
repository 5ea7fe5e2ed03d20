/* SPDX-License-Identifier: MIT */
/* The content of a file in order, with its holes. */
#include "files/files.h"

#define PIECE (1u << 20)

typedef struct {
    EkReader *reader;
    guint8 *buffer;
    EkContentSink sink;
    void *data;
} Passing;

/* Length of a hole at a time, so that whoever takes it can be interrupted. */
static gboolean pass_nothing(Passing *passing, EkByte bytes, gboolean is_zero)
{
    if (is_zero)
        memset(passing->buffer, 0, (gsize)MIN(bytes, PIECE));
    while (bytes > 0) {
        gsize length = (gsize)MIN(bytes, PIECE);
        if (!passing->sink(passing->data, is_zero ? passing->buffer : NULL, length))
            return FALSE;
        bytes -= length;
    }
    return TRUE;
}

static gboolean pass_extent(Passing *passing, EkByte first, EkByte bytes)
{
    EkRange inside;
    if (first == EK_UNPLACED ||
        !ek_range_checked(first, bytes, ek_reader_bytes(passing->reader), &inside))
        return pass_nothing(passing, bytes, FALSE);
    for (EkByte at = first; at < first + bytes;) {
        EkRange hole = {first + bytes, 0};
        gboolean bad = FALSE;
        ek_reader_next_hole(passing->reader, at, first + bytes, &hole, &bad);
        while (at < hole.first) {
            gsize length = (gsize)MIN(hole.first - at, PIECE);
            if (!ek_reader_read(passing->reader, at, passing->buffer, length, NULL, NULL))
                memset(passing->buffer, 0, length);
            if (!passing->sink(passing->data, passing->buffer, length))
                return FALSE;
            at += length;
        }
        if (!pass_nothing(passing, hole.bytes, FALSE))
            return FALSE;
        at += hole.bytes;
    }
    return TRUE;
}

/* What a format decodes, with its holes cut to pieces. */
static gboolean pass_decoded(void *data, const guint8 *bytes, gsize length)
{
    Passing *passing = data;
    return bytes != NULL ? passing->sink(passing->data, bytes, length)
                         : pass_nothing(passing, length, FALSE);
}

gboolean ek_files_read(EkFiles *files, const EkFile *file, const GArray *extents,
                       EkContentSink sink, void *data)
{
    g_autofree guint8 *buffer = g_malloc(PIECE);
    Passing passing = {files->reader, buffer, sink, data};
    if ((file->flags & EK_FILE_ENCODED) != 0)
        return files->format->decode(files->opened, file, pass_decoded, &passing);
    EkByte at = 0;
    for (guint i = 0; i < extents->len && at < file->size; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        if (extent->offset < at || extent->offset >= file->size)
            continue;
        EkByte bytes = MIN(extent->bytes, file->size - extent->offset);
        if (!pass_nothing(&passing, extent->offset - at, TRUE) ||
            !pass_extent(&passing, ek_extent_place(extent), bytes))
            return FALSE;
        at = extent->offset + bytes;
    }
    return pass_nothing(&passing, file->size - MIN(at, file->size), TRUE);
}
