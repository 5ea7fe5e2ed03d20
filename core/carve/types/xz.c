/* SPDX-License-Identifier: MIT */
/* xz (the .xz file format 1.1): blocks of LZMA2 chunks, each with its length, an index of them with
 * a checksum, and a footer that points back to it. */
#include "base/checksum.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#define BLOCKS_MOST 1000000u
#define LEAST 64u

static const EkSignature signatures[] = {{0, 6, {0xfd, '7', 'z', 'X', 'Z', 0}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_u8(span, 6) == 0 && (ek_span_u8(span, 7) & 0xf0) == 0 &&
           ek_crc32(ek_span_part(span, 6, 2)) == ek_span_le32(span, 8);
}

static guint64 number_at(EkSpan span, gsize *at)
{
    guint64 value = 0;
    for (guint shift = 0; shift < 63; shift += 7) {
        guint8 byte = ek_span_u8(span, (*at)++);
        value |= (guint64)(byte & 0x7f) << shift;
        if ((byte & 0x80) == 0)
            break;
    }
    return value;
}

/* Chunk by chunk to the one that ends the block. */
static gboolean pass_chunks(EkContent *content, EkByte *at)
{
    for (;;) {
        EkSpan head = ek_content_some(content, *at, 6);
        guint8 control = ek_span_u8(head, 0);
        if (head.length == 0)
            return FALSE;
        if (control == 0) {
            *at += 1;
            return TRUE;
        }
        if (control >= 0x80)
            *at += 5 + (control >= 0xc0 ? 1u : 0u) + (EkByte)ek_span_be16(head, 3) + 1;
        else if (control <= 2)
            *at += 3 + (EkByte)ek_span_be16(head, 1) + 1;
        else
            return FALSE;
        if (*at > ek_content_bytes(content))
            return FALSE;
    }
}

static gboolean pass_block(EkContent *content, EkByte *at, guint check)
{
    static const guint8 sizes[] = {0, 4, 4, 4, 8, 8, 8, 16, 16, 16, 32, 32, 32, 64, 64, 64};
    EkSpan head = ek_content_some(content, *at, 1024);
    gsize length = ((gsize)ek_span_u8(head, 0) + 1) * 4;
    if (head.length < length ||
        ek_crc32(ek_span_part(head, 0, length - 4)) != ek_span_le32(head, length - 4))
        return FALSE;
    *at += length;
    if (!pass_chunks(content, at))
        return FALSE;
    *at = ek_divide_up(*at, 4) * 4 + sizes[check & 15];
    return *at <= ek_content_bytes(content);
}

static gboolean pass_index(EkContent *content, EkByte *at, guint blocks)
{
    EkByte first = *at;
    EkSpan index = ek_content_some(content, first, EK_CONTENT_SHOWN);
    gsize length = 1;
    guint32 sum = 0;
    if (number_at(index, &length) != blocks)
        return FALSE;
    for (guint i = 0; i < blocks && length < index.length; i++) {
        number_at(index, &length);
        number_at(index, &length);
    }
    length = (gsize)ek_divide_up(length, 4) * 4;
    if (!ek_content_crc32(content, first, length, &sum))
        return FALSE;
    EkSpan footer = ek_content_at(content, first + length, 16);
    if (ek_span_le32(footer, 0) != sum || !ek_span_equals(footer, 14, "YZ", 2) ||
        ek_crc32(ek_span_part(footer, 8, 6)) != ek_span_le32(footer, 4) ||
        ((guint64)ek_span_le32(footer, 8) + 1) * 4 != length + 4)
        return FALSE;
    *at = first + length + 16;
    return TRUE;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    guint check = ek_span_u8(ek_content_some(content, 0, 12), 7);
    EkByte at = 12;
    EkByte sure = 12;
    guint blocks = 0;
    gboolean fine = TRUE;
    while (fine && blocks < BLOCKS_MOST) {
        sure = at;
        if (ek_span_u8(ek_content_some(content, at, 1), 0) == 0)
            break;
        fine = pass_block(content, &at, check);
        blocks++;
    }
    if (fine && pass_index(content, &at, blocks))
        ek_followed_end(followed, at, EK_PROOF_TABLES,
                        "each chunk of its blocks, the index and its checksum");
    else
        ek_followed_break(followed, at > 4096 ? MAX(sure, LEAST) : 0,
                          MIN(at, ek_content_bytes(content)), LEAST, "a chunk of it breaks");
}

const EkCarveType ek_carve_xz = {
    .name = "xz",
    .ending = "xz",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the chunks of each block, the index and its CRC-32",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
