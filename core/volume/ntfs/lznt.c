/* SPDX-License-Identifier: MIT */
/* LZNT1, as in [MS-XCA] section 2.5. */
#include "volume/ntfs/lznt.h"

#define CHUNK 4096u
#define IS_PACKED 0x8000u

/* A copy's distance has as many bits as the position needs, at least four; its length the rest of
 * sixteen. */
static guint length_bits(gsize position)
{
    guint bits = 12;
    for (gsize i = position - 1; i >= 16; i >>= 1)
        bits--;
    return bits;
}

static gboolean expand_chunk(EkSpan packed, guint8 *chunk, gsize room)
{
    gsize at = 0;
    gsize out = 0;
    while (at < packed.length && out < room) {
        guint8 flags = packed.data[at++];
        for (guint i = 0; i < 8 && at < packed.length && out < room; i++, flags >>= 1) {
            if ((flags & 1) == 0) {
                chunk[out++] = packed.data[at++];
                continue;
            }
            if (at + 2 > packed.length || out == 0)
                return FALSE;
            guint16 copy = ek_span_le16(packed, at);
            guint bits = length_bits(out);
            gsize distance = (gsize)(copy >> bits) + 1;
            gsize length = (copy & ((1u << bits) - 1)) + 3;
            if (distance > out)
                return FALSE;
            for (at += 2; length > 0 && out < room; length--, out++)
                chunk[out] = chunk[out - distance];
        }
    }
    return TRUE;
}

gboolean ek_lznt_expand(EkSpan packed, guint8 *buffer, gsize length)
{
    memset(buffer, 0, length);
    gsize at = 0;
    for (gsize out = 0; out < length && at + 2 <= packed.length; out += CHUNK) {
        guint16 header = ek_span_le16(packed, at);
        gsize bytes = (header & 0xfffu) + 1u;
        if (header == 0)
            break;
        EkSpan chunk = ek_span_part(packed, at + 2, bytes);
        gsize room = MIN(length - out, CHUNK);
        if (chunk.length < bytes)
            return FALSE;
        if ((header & IS_PACKED) == 0)
            memcpy(buffer + out, chunk.data, MIN(bytes, room));
        else if (!expand_chunk(chunk, buffer + out, room))
            return FALSE;
        at += 2 + bytes;
    }
    return TRUE;
}
