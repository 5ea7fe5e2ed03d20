/* SPDX-License-Identifier: MIT */
/* Unpacking LZMA and LZMA2, as xz and 7z have them (the LZMA specification of the LZMA SDK, in the
 * public domain): range-coded matches over a window of what came before, in LZMA2 in chunks. */
#ifndef EK_CARVE_LZMA_H
#define EK_CARVE_LZMA_H

#include "base/bytes.h"

typedef struct EkLzma EkLzma;

#define EK_LZMA_WINDOW_MOST (16u << 20) /* bytes that are held */

/* The window that LZMA2 asks for, in bytes, by the one byte that says so; 0: there is none such. */
static inline guint64 ek_lzma2_window(guint8 bits)
{
    return bits <= 40 ? (guint64)(2 | (bits & 1)) << (bits / 2 + 11) : 0;
}

/* `window` is what the stream asks for, in bytes. The caller frees. */
EkLzma *ek_lzma_new(guint64 window);
void ek_lzma_free(EkLzma *lzma);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkLzma, ek_lzma_free)

/* As it is now, for the caller to free; NULL where that would be more than EK_LZMA_COPY_MOST. */
#define EK_LZMA_COPY_MOST (8u << 20)
EkLzma *ek_lzma_copy(const EkLzma *lzma);

/* Becomes as `other` is, of the same window. */
void ek_lzma_set(EkLzma *lzma, const EkLzma *other);

/* How long a chunk is that begins with these bytes (6 of them, fewer at the end): with its header,
 * in bytes; 1 for the mark that ends the stream; 0: it is no chunk. At most EK_LZMA_CHUNK_MOST. */
gsize ek_lzma_chunk_bytes(EkSpan head);
#define EK_LZMA_CHUNK_MOST (65536u + 6)

/* It asks for more than is held, and there came more than that: nothing is unpacked any more, and
 * chunks pass as they are. */
gboolean ek_lzma_gave_up(const EkLzma *lzma);

/* Unpacks a whole chunk, which is not the end mark, and hands on what comes out, in one or more
 * parts. FALSE: it does not decode. */
typedef void (*EkLzmaTake)(void *data, const guint8 *bytes, gsize length);
gboolean ek_lzma_chunk(EkLzma *lzma, EkSpan chunk, EkLzmaTake take, void *data);

/* LZMA without chunks: unpacks `bytes` bytes of a stream with these properties (lc, lp and pb in
 * one byte), which `more` hands out part by part; an empty part ends it. `data` is for both. FALSE:
 * it does not decode. What needs more than is held (ek_lzma_gave_up) is TRUE, and handed on in
 * part. */
typedef EkSpan (*EkLzmaMore)(void *data);
gboolean ek_lzma_stream(EkLzma *lzma, guint8 properties, guint64 bytes, EkLzmaMore more,
                        EkLzmaTake take, void *data);

/* How many bytes of the last chunk were read when it decoded no more. */
gsize ek_lzma_reached(const EkLzma *lzma);

#endif
