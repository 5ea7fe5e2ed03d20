/* SPDX-License-Identifier: MIT */
/* Unpacking LZMA2, as xz and 7z have it (the LZMA specification of the LZMA SDK, in the public
 * domain): chunks of range-coded matches over a window of what came before. */
#ifndef EK_CARVE_LZMA_H
#define EK_CARVE_LZMA_H

#include "base/bytes.h"

typedef struct EkLzma EkLzma;

#define EK_LZMA_WINDOW_MOST (16u << 20) /* bytes that are held */

/* `window` is what the stream asks for, in bytes. The caller frees. */
EkLzma *ek_lzma_new(guint64 window);
void ek_lzma_free(EkLzma *lzma);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkLzma, ek_lzma_free)

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

/* How many bytes of the last chunk were read when it decoded no more. */
gsize ek_lzma_reached(const EkLzma *lzma);

#endif
