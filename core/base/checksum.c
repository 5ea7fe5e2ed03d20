/* SPDX-License-Identifier: MIT */
/* The checksums that on-disk formats use. */
#include "base/checksum.h"

#include <zlib.h>

#define CASTAGNOLI 0x82f63b78u
#define ECMA G_GUINT64_CONSTANT(0xc96c5795d7870f42)
#define CCITT 0x1021u
#define IEEE 0x04c11db7u
#define ANSI 0xa001u /* reversed */

guint32 ek_crc32(EkSpan span)
{
    return (guint32)crc32_z(0, span.data, span.length);
}

guint32 ek_crc32_from(guint32 seed, EkSpan span)
{
    return (guint32)crc32_z(seed ^ G_MAXUINT32, span.data, span.length) ^ G_MAXUINT32;
}

/* What each byte adds, as many bytes before the end of eight as its table's number says. */
static void make_forward(guint32 (*tables)[256])
{
    for (guint32 i = 0; i < 256; i++) {
        guint32 value = i << 24;
        for (int bit = 0; bit < 8; bit++)
            value = (value & 0x80000000u) != 0 ? value << 1 ^ IEEE : value << 1;
        tables[0][i] = value;
    }
    for (guint k = 1; k < 8; k++)
        for (guint32 i = 0; i < 256; i++)
            tables[k][i] = tables[k - 1][i] << 8 ^ tables[0][tables[k - 1][i] >> 24];
}

guint32 ek_crc32_forward(guint32 seed, EkSpan span)
{
    static gsize ready;
    static guint32 tables[8][256];
    if (g_once_init_enter(&ready)) {
        make_forward(tables);
        g_once_init_leave(&ready, 1);
    }
    gsize at = 0;
    for (; span.length - at >= 8; at += 8) {
        guint32 high = seed ^ ek_span_be32(span, at);
        guint32 low = ek_span_be32(span, at + 4);
        seed = tables[7][high >> 24] ^ tables[6][high >> 16 & 0xff] ^ tables[5][high >> 8 & 0xff] ^
               tables[4][high & 0xff] ^ tables[3][low >> 24] ^ tables[2][low >> 16 & 0xff] ^
               tables[1][low >> 8 & 0xff] ^ tables[0][low & 0xff];
    }
    for (; at < span.length; at++)
        seed = seed << 8 ^ tables[0][(seed >> 24 ^ span.data[at]) & 0xff];
    return seed;
}

static guint32 reflected(guint32 value)
{
    for (int bit = 0; bit < 8; bit++)
        value = value & 1 ? value >> 1 ^ CASTAGNOLI : value >> 1;
    return value;
}

guint32 ek_crc32c(guint32 seed, EkSpan span)
{
    static gsize ready;
    static guint32 table[256];
    if (g_once_init_enter(&ready)) {
        for (guint32 i = 0; i < G_N_ELEMENTS(table); i++)
            table[i] = reflected(i);
        g_once_init_leave(&ready, 1);
    }
    for (gsize i = 0; i < span.length; i++)
        seed = seed >> 8 ^ table[(seed ^ span.data[i]) & 0xff];
    return seed;
}

guint64 ek_crc64(guint64 seed, EkSpan span)
{
    static gsize ready;
    static guint64 table[256];
    if (g_once_init_enter(&ready)) {
        for (guint64 i = 0; i < G_N_ELEMENTS(table); i++) {
            guint64 value = i;
            for (int bit = 0; bit < 8; bit++)
                value = value & 1 ? value >> 1 ^ ECMA : value >> 1;
            table[i] = value;
        }
        g_once_init_leave(&ready, 1);
    }
    seed = ~seed;
    for (gsize i = 0; i < span.length; i++)
        seed = seed >> 8 ^ table[(seed ^ span.data[i]) & 0xff];
    return ~seed;
}

guint32 ek_crc32c_before(guint32 sum, EkSpan span)
{
    for (gsize i = span.length; i > 0; i--) {
        for (guint bit = 0; bit < 8; bit++)
            sum = (sum & 0x80000000u) != 0 ? (sum ^ CASTAGNOLI) << 1 | 1 : sum << 1;
        sum ^= span.data[i - 1];
    }
    return sum;
}

guint16 ek_crc16_from(guint16 seed, EkSpan span)
{
    guint32 sum = seed;
    for (gsize i = 0; i < span.length; i++) {
        sum ^= span.data[i];
        for (int bit = 0; bit < 8; bit++)
            sum = sum & 1 ? sum >> 1 ^ ANSI : sum >> 1;
    }
    return (guint16)sum;
}

guint16 ek_crc16(EkSpan span)
{
    guint32 sum = 0;
    for (gsize i = 0; i < span.length; i++) {
        sum ^= (guint32)span.data[i] << 8;
        for (int bit = 0; bit < 8; bit++)
            sum = sum & 0x8000 ? sum << 1 ^ CCITT : sum << 1;
    }
    return (guint16)(sum & 0xffff);
}
