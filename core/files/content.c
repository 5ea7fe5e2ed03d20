/* SPDX-License-Identifier: MIT */
#include "files/files.h"

#define PIECE (1u << 20)

typedef struct {
    EkGate *gate;
    guint8 *buffer;
    EkContentSink sink;
    void *data;
} Reader;

/* Length of a hole at a time, so that whoever takes it can be interrupted. */
static gboolean pass_nothing(Reader *reader, EkByte bytes, gboolean is_zero)
{
    if (is_zero)
        memset(reader->buffer, 0, (gsize)MIN(bytes, PIECE));
    while (bytes > 0) {
        gsize length = (gsize)MIN(bytes, PIECE);
        if (!reader->sink(reader->data, is_zero ? reader->buffer : NULL, length))
            return FALSE;
        bytes -= length;
    }
    return TRUE;
}

static gboolean pass_extent(Reader *reader, EkByte first, EkByte bytes)
{
    EkRange inside;
    if (first == EK_UNPLACED ||
        !ek_range_checked(first, bytes, ek_gate_bytes(reader->gate), &inside))
        return pass_nothing(reader, bytes, FALSE);
    for (EkByte at = first; at < first + bytes;) {
        EkRange hole = {first + bytes, 0};
        gboolean bad = FALSE;
        ek_gate_next_hole(reader->gate, at, first + bytes, &hole, &bad);
        while (at < hole.first) {
            gsize length = (gsize)MIN(hole.first - at, PIECE);
            if (!ek_gate_read(reader->gate, at, reader->buffer, length, NULL, NULL))
                memset(reader->buffer, 0, length);
            if (!reader->sink(reader->data, reader->buffer, length))
                return FALSE;
            at += length;
        }
        if (!pass_nothing(reader, hole.bytes, FALSE))
            return FALSE;
        at += hole.bytes;
    }
    return TRUE;
}

/* What a format decodes, with its holes cut to pieces. */
static gboolean pass_decoded(void *data, const guint8 *bytes, gsize length)
{
    Reader *reader = data;
    return bytes != NULL ? reader->sink(reader->data, bytes, length)
                         : pass_nothing(reader, length, FALSE);
}

gboolean ek_files_read(EkFiles *files, const EkFile *file, const GArray *extents,
                       EkContentSink sink, void *data)
{
    g_autofree guint8 *buffer = g_malloc(PIECE);
    Reader reader = {files->gate, buffer, sink, data};
    if ((file->flags & EK_FILE_ENCODED) != 0)
        return files->format->decode(files->opened, file, pass_decoded, &reader);
    EkByte at = 0;
    for (guint i = 0; i < extents->len && at < file->size; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        if (extent->offset < at || extent->offset >= file->size)
            continue;
        EkByte bytes = MIN(extent->bytes, file->size - extent->offset);
        if (!pass_nothing(&reader, extent->offset - at, TRUE) ||
            !pass_extent(&reader, extent->first_byte, bytes))
            return FALSE;
        at = extent->offset + bytes;
    }
    return pass_nothing(&reader, file->size - MIN(at, file->size), TRUE);
}
