/* SPDX-License-Identifier: MIT */
/* Streams put together byte by byte: films of packets, each of which tells its number or time. */
#include "composed.h"

#include "base/bytes.h"

#include <string.h>

/* --- transport streams ------------------------------------------------------------------------ */

typedef struct {
    GByteArray *bytes;
    guint8 numbers[3]; /* of the next packet of each part */
    gboolean is_timed; /* four bytes of a clock before each packet */
} Stream;

static void add_packet(Stream *stream, guint part, gboolean is_first, guint64 clock, guint32 seed)
{
    static const guint16 ids[] = {0, 0x100, 0x101};
    guint8 head[12] = {0x47};
    gsize length = clock > 0 ? 12 : 4;
    ek_put_be16(head + 1, (guint16)(ids[part] | (is_first ? 0x4000 : 0)));
    head[3] = (guint8)((clock > 0 ? 0x30 : 0x10) | stream->numbers[part]);
    stream->numbers[part] = (stream->numbers[part] + 1) & 15;
    head[4] = 7;
    head[5] = 0x10;
    ek_put_be32(head + 6, (guint32)(clock >> 1));
    head[10] = (guint8)((clock & 1) << 7 | 0x7e);
    if (stream->is_timed)
        compose_number(stream->bytes, seed & 0x3fffffff, 4, TRUE);
    if (part == 0) {
        memcpy(head + 4, "\0\0\xb0\x0d\0\1\xc1", 7);
        length = 11;
    }
    compose_bytes(stream->bytes, head, length);
    compose_noise(stream->bytes, 188 - length, seed);
}

static void add_transport(GPtrArray *list, gboolean is_timed, guint32 seed)
{
    Stream stream = {.bytes = g_byte_array_new(), .is_timed = is_timed};
    gsize size = is_timed ? 192 : 188;
    guint64 clock = 900000 + seed % 90000;
    /* Its last packet lies within a sector: what is behind that cannot be a piece of it. */
    for (guint i = 0; i < 300 || stream.bytes->len % 512 <= size; i++) {
        gboolean tells = i % 40 == 2;
        add_packet(&stream, i % 100 == 0 ? 0 : 1 + (i % 7 == 3), i % 100 == 0 || tells,
                   tells ? clock += 3600 : 0, seed + i);
    }
    compose_add(list, "mpeg-ts", is_timed ? "m2ts" : "ts", stream.bytes, TRUE, TRUE);
}

/* --- program streams -------------------------------------------------------------------------- */

static void add_program_stream(GPtrArray *list, gboolean is_marked, guint32 seed)
{
    GByteArray *bytes = g_byte_array_new();
    for (guint i = 0; i < 61; i++) {
        guint64 time = i * 150;
        compose_number(bytes, 0x1ba, 4, TRUE);
        compose_number(bytes,
                       1ull << 46 | (time >> 30 & 7) << 43 | 1ull << 42 |
                           (time >> 15 & 0x7fff) << 27 | 1ull << 26 | (time & 0x7fff) << 11 |
                           1ull << 10 | 1,
                       6, TRUE);
        compose_number(bytes, 0x1c3f8, 4, TRUE);
        gsize rest = 2048 - 14;
        if (i == 0) {
            compose_number(bytes, 0x1bb, 4, TRUE);
            compose_number(bytes, 12, 2, TRUE);
            compose_noise(bytes, 12, seed);
            rest -= 18;
        }
        compose_number(bytes, i % 5 == 4 ? 0x1c0 : 0x1e0, 4, TRUE);
        compose_number(bytes, rest - 6, 2, TRUE);
        compose_noise(bytes, rest - 6, seed + i);
    }
    if (is_marked)
        compose_number(bytes, 0x1b9, 4, TRUE);
    /* Without the mark it may as well be cut off where it ends. */
    compose_add(list, "mpeg-ps", "mpg", bytes, TRUE, is_marked);
}

/* --- ASF -------------------------------------------------------------------------------------- */

static void add_asf(GPtrArray *list, guint32 seed)
{
    static const guint8 header[] = {0x30, 0x26, 0xb2, 0x75, 0x8e, 0x66, 0xcf, 0x11,
                                    0xa6, 0xd9, 0x00, 0xaa, 0x00, 0x62, 0xce, 0x6c};
    static const guint8 properties[] = {0xa1, 0xdc, 0xab, 0x8c, 0x47, 0xa9, 0xcf, 0x11,
                                        0x8e, 0xe4, 0x00, 0xc0, 0x0c, 0x20, 0x53, 0x65};
    static const guint8 data[] = {0x36, 0x26, 0xb2, 0x75, 0x8e, 0x66, 0xcf, 0x11,
                                  0xa6, 0xd9, 0x00, 0xaa, 0x00, 0x62, 0xce, 0x6c};
    static const guint8 simple_index[] = {0x90, 0x08, 0x00, 0x33, 0xb1, 0xe5, 0xcf, 0x11,
                                          0x89, 0xf4, 0x00, 0xa0, 0xc9, 0x03, 0x49, 0xcb};
    GByteArray *bytes = g_byte_array_new();
    const guint packets = 40;
    const guint size = 2600;
    const guint entries = 900;
    guint64 length = 30 + 104 + 50 + packets * size + 56 + entries * 6;
    compose_bytes(bytes, header, 16);
    compose_number(bytes, 30 + 104, 8, FALSE);
    compose_number(bytes, 1, 4, FALSE);
    compose_number(bytes, 0x201, 2, FALSE);
    compose_bytes(bytes, properties, 16);
    compose_number(bytes, 104, 8, FALSE);
    compose_noise(bytes, 16, seed);
    compose_number(bytes, length, 8, FALSE);
    compose_number(bytes, 131500000000000000ull + seed, 8, FALSE);
    compose_number(bytes, packets, 8, FALSE);
    compose_noise(bytes, 28, seed + 1);
    compose_number(bytes, size, 4, FALSE);
    compose_number(bytes, size, 4, FALSE);
    compose_number(bytes, 1000000, 4, FALSE);
    compose_bytes(bytes, data, 16);
    compose_number(bytes, 50 + packets * size, 8, FALSE);
    compose_noise(bytes, 16, seed + 2);
    compose_number(bytes, packets, 8, FALSE);
    compose_number(bytes, 0x101, 2, FALSE);
    for (guint i = 0; i < packets; i++) {
        compose_number(bytes, 0x82, 3, FALSE);
        compose_number(bytes, 0x5d08, 2, FALSE);
        compose_number(bytes, 17, 1, FALSE);
        compose_number(bytes, 3000 + i * 90, 4, FALSE);
        compose_noise(bytes, size - 10, seed + 3 + i);
    }
    compose_bytes(bytes, simple_index, 16);
    compose_number(bytes, 56 + entries * 6, 8, FALSE);
    compose_noise(bytes, 16, seed + 2);
    compose_number(bytes, 10000000, 8, FALSE);
    compose_number(bytes, 1, 4, FALSE);
    compose_number(bytes, entries, 4, FALSE);
    for (guint i = 0; i < entries; i++) {
        compose_number(bytes, i * packets / entries, 4, FALSE);
        compose_number(bytes, 1, 2, FALSE);
    }
    compose_add(list, "asf", "wma", bytes, TRUE, TRUE);
}

void add_composed_films(GPtrArray *list, guint32 seed)
{
    add_transport(list, FALSE, seed);
    add_transport(list, TRUE, seed + 1);
    add_program_stream(list, TRUE, seed + 2);
    add_program_stream(list, FALSE, seed + 3);
    add_asf(list, seed + 4);
}
