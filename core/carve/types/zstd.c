/* SPDX-License-Identifier: MIT */
/* Zstandard (RFC 8878): frames of blocks, each with its length; the last one says so. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define LEAST 64u
#define BLOCKS_MOST 10000000u

static const EkSignature signatures[] = {{0, 4, {0x28, 0xb5, 0x2f, 0xfd}, {0}}};

static gboolean begin(EkSpan span)
{
    return (ek_span_u8(span, 4) & 8) == 0;
}

/* One frame. FALSE where it breaks. */
static gboolean pass_frame(EkContent *content, EkByte *at)
{
    static const guint8 dictionaries[] = {0, 1, 2, 4};
    static const guint8 sizes[] = {0, 2, 4, 8};
    guint8 head = ek_span_u8(ek_content_some(content, *at + 4, 1), 0);
    gboolean is_single = (head & 0x20) != 0;
    guint size = head >> 6;
    *at += 5 + (is_single ? 0u : 1u) + dictionaries[head & 3] +
           (size == 0 && is_single ? 1u : sizes[size]);
    for (guint i = 0; i < BLOCKS_MOST; i++) {
        EkSpan block = ek_content_at(content, *at, 3);
        guint32 word = ek_span_le16(block, 0) | (guint32)ek_span_u8(block, 2) << 16;
        guint kind = word >> 1 & 3;
        if (block.length < 3 || kind == 3 || word >> 3 > 128u << 10)
            return FALSE;
        *at += 3 + (kind == 1 ? 1 : word >> 3);
        if (*at > ek_content_bytes(content))
            return FALSE;
        if ((word & 1) != 0) {
            *at += (head & 4) != 0 ? 4u : 0u;
            return *at <= ek_content_bytes(content);
        }
    }
    return FALSE;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 0;
    EkByte sure = 0;
    while (ek_span_equals(ek_content_some(content, at, 5), 0, "\x28\xb5\x2f\xfd", 4)) {
        if (!pass_frame(content, &at)) {
            ek_followed_break(followed, at > 4096 ? MAX(sure, LEAST) : sure,
                              MIN(at, ek_content_bytes(content)), LEAST, "a block of it breaks");
            return;
        }
        sure = at;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, at, EK_PROOF_TABLES,
                    "each block to the last one; what is in them is not unpacked");
}

const EkCarveType ek_carve_zstd = {
    .name = "zstd",
    .ending = "zst",
    .kind = EK_KIND_ARCHIVE,
    .checks = "each block, to the one that says it is the last; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
