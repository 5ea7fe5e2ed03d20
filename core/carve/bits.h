/* SPDX-License-Identifier: MIT */
/* Bits of a content in order, the highest of each byte first. */
#ifndef EK_CARVE_BITS_H
#define EK_CARVE_BITS_H

#include "carve/content.h"

typedef struct {
    EkContent *content;
    EkByte at; /* of the next byte to be taken */
    EkSpan span;
    EkByte span_at;
    guint64 held; /* the lowest `count` bits are the next ones */
    guint count;
    gboolean is_over; /* more was asked for than there is: zeros were given */
} EkBits;

static inline void ek_bits_begin(EkBits *bits, EkContent *content, EkByte at)
{
    *bits = (EkBits){.content = content, .at = at, .span_at = at};
}

static inline void ek_bits_fill(EkBits *bits)
{
    while (bits->count <= 56) {
        if (bits->at - bits->span_at >= bits->span.length) {
            bits->span = ek_content_some(bits->content, bits->at, ek_content_stride(bits->content));
            bits->span_at = bits->at;
        }
        guint8 byte = 0;
        if (bits->at - bits->span_at < bits->span.length)
            byte = bits->span.data[bits->at - bits->span_at];
        else if (bits->at >= ek_content_bytes(bits->content) + 8)
            bits->is_over = TRUE;
        bits->held = bits->held << 8 | byte;
        bits->at++;
        bits->count += 8;
    }
}

/* Up to 32 bits. */
static inline guint32 ek_bits_take(EkBits *bits, guint count)
{
    if (bits->count < count)
        ek_bits_fill(bits);
    bits->count -= count;
    return (guint32)(bits->held >> bits->count) & (guint32)(((guint64)1 << count) - 1);
}

/* Zeros before the next one, which is taken too; at most `most`. */
static inline guint32 ek_bits_unary(EkBits *bits, guint32 most)
{
    guint32 zeros = 0;
    while (ek_bits_take(bits, 1) == 0 && zeros < most && !bits->is_over)
        zeros++;
    return zeros;
}

/* The byte in which the next bit lies, or the next one where none is begun. */
static inline EkByte ek_bits_place(const EkBits *bits)
{
    return bits->at - bits->count / 8;
}

static inline void ek_bits_align(EkBits *bits)
{
    bits->count -= bits->count % 8;
}

#endif
