/* SPDX-License-Identifier: MIT */
/* LZMA2 as it lies in a content, chunk by chunk. */
#include "carve/lzmacontent.h"

#include <string.h>

/* In a buffer of its own: longer than what is shown at once. */
static gboolean unpack_chunk(EkContent *content, EkByte at, gsize length,
                             const EkLzmaUnpacking *unpacking)
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
    return ek_lzma_chunk(unpacking->lzma, (EkSpan){chunk, length}, unpacking->take,
                         unpacking->data);
}

/* No more fits into one: what it unpacks to, or what it takes. */
#define UNPACKED_FULL ((2u << 20) - 1024)
#define PACKED_FULL 0xe000u

/* Chunks of one stream set back no more than its first does. */
static gboolean may_come_next(EkSpan head, gsize length)
{
    guint8 control = ek_span_u8(head, 0);
    return length > 1 && (control == 2 || (control >= 0x80 && control < 0xc0));
}

static gboolean is_full(EkSpan head)
{
    guint32 unpacked = ((guint32)ek_span_u8(head, 0) & 31) << 16 | ek_span_be16(head, 1);
    return ek_span_u8(head, 0) < 0x80 || unpacked >= UNPACKED_FULL ||
           ek_span_be16(head, 3) >= PACKED_FULL;
}

EkLzmaChain ek_lzma2_chain(EkSpan span, gsize *at)
{
    gboolean was_full = TRUE;
    for (;;) {
        EkSpan head = ek_span_part(span, *at, 6);
        gsize length = ek_lzma_chunk_bytes(head);
        if (length == 1) {
            *at += 1;
            return EK_LZMA_CHAIN_ENDS;
        }
        if (!was_full || !may_come_next(head, length))
            return EK_LZMA_CHAIN_BREAKS;
        was_full = is_full(head);
        if (length > span.length - *at || span.length - *at - length < 6)
            return EK_LZMA_CHAIN_GOES_ON;
        *at += length;
    }
}

/* --- remembering ------------------------------------------------------------------------------ */

#define APART (512u << 10) /* packed bytes between what is remembered */

/* A stream in its middle. */
typedef struct {
    EkByte begins;
    EkByte at;
    EkLzma *lzma; /* NULL: nothing is remembered */
    void *data;
} Middle;

static void forget_from(void *data, EkByte offset)
{
    Middle *middle = data;
    if (middle->at <= offset)
        return;
    g_clear_pointer(&middle->lzma, ek_lzma_free);
    g_clear_pointer(&middle->data, g_free);
}

static void middle_free(void *data)
{
    forget_from(data, 0);
    g_free(data);
}

static void remember(EkContent *content, EkByte begins, EkByte at, const EkLzmaUnpacking *unpacking)
{
    Middle *middle = ek_content_aside(content, EK_ASIDE_LZMA);
    if (middle == NULL) {
        middle = g_new0(Middle, 1);
        ek_content_set_aside(content, EK_ASIDE_LZMA, middle, middle_free, forget_from);
    }
    if (middle->lzma != NULL && middle->begins == begins && at < middle->at + APART)
        return;
    middle->at = G_MAXUINT64;
    forget_from(middle, 0);
    *middle = (Middle){begins, at, ek_lzma_copy(unpacking->lzma),
                       g_memdup2(unpacking->data, unpacking->data_bytes)};
}

/* Goes on where it is remembered. */
static void go_on(EkContent *content, EkByte *at, const EkLzmaUnpacking *unpacking)
{
    const Middle *middle = ek_content_aside(content, EK_ASIDE_LZMA);
    if (middle == NULL || middle->lzma == NULL || middle->begins != *at)
        return;
    *at = middle->at;
    ek_lzma_set(unpacking->lzma, middle->lzma);
    memcpy(unpacking->data, middle->data, unpacking->data_bytes);
}

gboolean ek_content_lzma2(EkContent *content, EkByte *at, const EkLzmaUnpacking *unpacking,
                          EkBroken *broken)
{
    EkByte begins = *at;
    EkLzma *lzma = unpacking->lzma;
    gboolean remembers = lzma != NULL && unpacking->data_bytes > 0 && ek_content_remembers(content);
    if (remembers)
        go_on(content, at, unpacking);
    for (;;) {
        gsize length = ek_lzma_chunk_bytes(ek_content_some(content, *at, 6));
        if (length <= 1) {
            *at += length;
            return length == 1;
        }
        if (*at + length > ek_content_bytes(content)) {
            *broken = (EkBroken){.first = *at, .bytes = length};
            return FALSE;
        }
        if (lzma != NULL && !unpack_chunk(content, *at, length, unpacking)) {
            *broken = (EkBroken){.first = *at, .bytes = length};
            *at += ek_lzma_reached(lzma);
            return FALSE;
        }
        *at += length;
        if (remembers)
            remember(content, begins, *at, unpacking);
    }
}
