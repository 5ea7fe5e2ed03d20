/* SPDX-License-Identifier: MIT */
/* LZMA2 as it lies in a content, chunk by chunk. */
#include "carve/lzmacontent.h"

#include <string.h>

/* In a buffer of its own: longer than what is shown at once. */
static gboolean unpack_chunk(EkContent *content, EkByte at, gsize length, EkLzma *lzma,
                             EkLzmaTake take, void *data)
{
    g_autofree guint8 *chunk = g_malloc(EK_LZMA_CHUNK_MOST);
    for (gsize done = 0; done < length;) {
        gsize part = MIN(length - done, EK_CONTENT_SHOWN);
        EkSpan span = ek_content_at(content, at + done, part);
        if (span.length == 0)
            return FALSE;
        memcpy(chunk + done, span.data, part);
        done += part;
    }
    return ek_lzma_chunk(lzma, (EkSpan){chunk, length}, take, data);
}

gboolean ek_content_lzma2(EkContent *content, EkByte *at, EkLzma *lzma, EkLzmaTake take, void *data,
                          EkBroken *broken)
{
    for (;;) {
        gsize length = ek_lzma_chunk_bytes(ek_content_some(content, *at, 6));
        if (length <= 1) {
            *at += length;
            return length == 1;
        }
        if (*at + length > ek_content_bytes(content))
            return FALSE;
        if (lzma != NULL && !unpack_chunk(content, *at, length, lzma, take, data)) {
            *broken = (EkBroken){.first = *at, .bytes = length};
            *at += ek_lzma_reached(lzma);
            return FALSE;
        }
        *at += length;
    }
}
