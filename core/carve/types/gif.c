/* SPDX-License-Identifier: MIT */
/* GIF 87a and 89a: blocks, and the LZW codes of each picture, counted to its last dot. */
#include "carve/followed.h"
#include "carve/lzw.h"
#include "carve/types/all.h"

#define BLOCKS_MOST 1000000u
#define LEAST 256u

static const EkSignature signatures[] = {{0, 6, {'G', 'I', 'F', '8', '7', 'a'}, {0}},
                                         {0, 6, {'G', 'I', 'F', '8', '9', 'a'}, {0}}};

/* Blocks up to the empty one; into `codes` unless that is NULL. FALSE: *at is where they break,
 * in the first one where that begins. */
static gboolean take_blocks(EkContent *content, EkByte *at, EkLzw *codes)
{
    for (guint i = 0; i < BLOCKS_MOST; i++) {
        EkSpan block = ek_content_some(content, *at, 256);
        guint8 length = ek_span_u8(block, 0);
        if (block.length < (gsize)length + 1)
            return FALSE;
        if (codes != NULL && length > 0 && !ek_lzw_take(codes, ek_span_part(block, 1, length))) {
            *at += i > 0 ? codes->taken : 0;
            return FALSE;
        }
        *at += 1 + (EkByte)length;
        if (length == 0)
            return TRUE;
    }
    return FALSE;
}

/* *at stays where it is unless it begins rightly. */
static gboolean take_picture(EkContent *content, EkByte *at)
{
    EkSpan head = ek_content_some(content, *at, 10);
    guint8 flags = ek_span_u8(head, 9);
    guint64 dots = (guint64)ek_span_le16(head, 5) * ek_span_le16(head, 7);
    EkByte codes_at = *at + 10 + ((flags & 0x80) != 0 ? 3 * ((EkByte)2 << (flags & 7)) : 0);
    g_autofree EkLzw *codes = g_new0(EkLzw, 1);
    guint first = ek_span_u8(ek_content_some(content, codes_at, 1), 0);
    if (head.length < 10 || dots == 0 || first < 1 || first > 8)
        return FALSE;
    ek_lzw_begin(codes, first, FALSE);
    EkByte blocks = codes_at + 1;
    gboolean fine = take_blocks(content, &blocks, codes) && codes->dots >= dots;
    if (fine || blocks > codes_at + 1)
        *at = blocks;
    return fine;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 13);
    guint8 flags = ek_span_u8(head, 10);
    EkByte at = 13 + ((flags & 0x80) != 0 ? 3 * ((EkByte)2 << (flags & 7)) : 0);
    guint pictures = 0;
    followed->texture = EK_TEXTURE_CODED;
    for (guint i = 0; i < BLOCKS_MOST; i++) {
        EkByte block = at;
        guint8 mark = ek_span_u8(ek_content_some(content, at, 1), 0);
        gboolean fine = FALSE;
        if (mark == 0x3b && pictures > 0) {
            ek_followed_end(followed, at + 1, EK_PROOF_DECODED, "the codes of all its pictures");
            return;
        }
        if (mark == 0x21) {
            at += 2;
            fine = take_blocks(content, &at, NULL);
        } else if (mark == 0x2c) {
            fine = take_picture(content, &at);
            pictures++;
        }
        if (!fine) {
            /* A first picture without one block of codes is none. */
            gboolean is_one = pictures > 1 || (pictures == 1 && at > block);
            ek_followed_break(followed, is_one ? block : 0, at, LEAST,
                              mark == 0x2c ? "a picture of it breaks"
                                           : "no block where one must stand");
            return;
        }
    }
}

const EkCarveType ek_carve_gif = {
    .name = "gif",
    .ending = "gif",
    .kind = EK_KIND_PICTURE,
    .checks = "the LZW codes of each picture are decoded and counted",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
    .joins = TRUE,
};
