/* SPDX-License-Identifier: MIT */
/* Bounded readers and writers for numbers in on-disk structures. Reading outside a span gives 0:
 * a decoder checks the length of what it was given once, and a slip of an offset stays harmless. */
#ifndef EK_BASE_BYTES_H
#define EK_BASE_BYTES_H

#include <glib.h>
#include <string.h>

typedef struct {
    const guint8 *data;
    gsize length; /* bytes */
} EkSpan;

static inline gboolean ek_span_has(EkSpan span, gsize offset, gsize length)
{
    return offset <= span.length && length <= span.length - offset;
}

/* The part of the span from offset on, cut to what is there. */
static inline EkSpan ek_span_part(EkSpan span, gsize offset, gsize length)
{
    if (offset > span.length)
        offset = span.length;
    if (length > span.length - offset)
        length = span.length - offset;
    return (EkSpan){span.data + offset, length};
}

static inline guint8 ek_span_u8(EkSpan span, gsize offset)
{
    return ek_span_has(span, offset, 1) ? span.data[offset] : 0;
}

static inline guint16 ek_span_le16(EkSpan span, gsize offset)
{
    if (!ek_span_has(span, offset, 2))
        return 0;
    const guint8 *p = span.data + offset;
    return (guint16)(p[0] | p[1] << 8);
}

static inline guint32 ek_span_le32(EkSpan span, gsize offset)
{
    if (!ek_span_has(span, offset, 4))
        return 0;
    const guint8 *p = span.data + offset;
    return (guint32)p[0] | (guint32)p[1] << 8 | (guint32)p[2] << 16 | (guint32)p[3] << 24;
}

static inline guint64 ek_span_le64(EkSpan span, gsize offset)
{
    if (!ek_span_has(span, offset, 8))
        return 0;
    return (guint64)ek_span_le32(span, offset) | (guint64)ek_span_le32(span, offset + 4) << 32;
}

static inline guint16 ek_span_be16(EkSpan span, gsize offset)
{
    return GUINT16_SWAP_LE_BE(ek_span_le16(span, offset));
}

static inline guint32 ek_span_be32(EkSpan span, gsize offset)
{
    return GUINT32_SWAP_LE_BE(ek_span_le32(span, offset));
}

static inline guint64 ek_span_be64(EkSpan span, gsize offset)
{
    return GUINT64_SWAP_LE_BE(ek_span_le64(span, offset));
}

/* TRUE when the `length` bytes at offset are inside the span and equal `expected`. */
static inline gboolean ek_span_equals(EkSpan span, gsize offset, const void *expected, gsize length)
{
    return ek_span_has(span, offset, length) && memcmp(span.data + offset, expected, length) == 0;
}

static inline void ek_put_le16(guint8 *p, guint16 value)
{
    p[0] = (guint8)(value & 0xff);
    p[1] = (guint8)(value >> 8);
}

static inline void ek_put_be16(guint8 *p, guint16 value)
{
    p[0] = (guint8)(value >> 8);
    p[1] = (guint8)(value & 0xff);
}

static inline void ek_put_be32(guint8 *p, guint32 value)
{
    ek_put_be16(p, (guint16)(value >> 16));
    ek_put_be16(p + 2, (guint16)(value & 0xffff));
}

static inline void ek_put_be64(guint8 *p, guint64 value)
{
    ek_put_be32(p, (guint32)(value >> 32));
    ek_put_be32(p + 4, (guint32)(value & 0xffffffff));
}

static inline void ek_put_le32(guint8 *p, guint32 value)
{
    ek_put_le16(p, (guint16)(value & 0xffff));
    ek_put_le16(p + 2, (guint16)(value >> 16));
}

static inline void ek_put_le64(guint8 *p, guint64 value)
{
    ek_put_le32(p, (guint32)(value & 0xffffffff));
    ek_put_le32(p + 4, (guint32)(value >> 32));
}

/* TRUE when all `length` bytes are zero. Compares with a shifted self, which the C library does at
 * the speed of memory. */
static inline gboolean ek_bytes_are_zero(const guint8 *data, gsize length)
{
    return length == 0 || (data[0] == 0 && memcmp(data, data + 1, length - 1) == 0);
}

#endif
