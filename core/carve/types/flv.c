/* SPDX-License-Identifier: MIT */
/* FLV: tags, each followed by its length once more. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define TAGS_LEAST 4u

static const EkSignature signatures[] = {{0, 4, {'F', 'L', 'V', 1}, {0}}};

static gboolean begin(EkSpan span)
{
    return (ek_span_u8(span, 4) & 0xfa) == 0 && ek_span_be32(span, 5) == 9 &&
           ek_span_be32(span, 9) == 0;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 13;
    guint64 tags = 0;
    ek_content_kept(content, &at, sizeof at);
    for (;;) {
        EkSpan head = ek_content_some(content, at, 11);
        guint8 kind = ek_span_u8(head, 0);
        guint32 length = ek_span_be32(head, 0) & 0xffffff;
        EkSpan again = ek_content_at(content, at + 11 + length, 4);
        if ((kind != 8 && kind != 9 && kind != 18) || ek_span_be32(again, 0) != length + 11)
            break;
        at += 15 + (EkByte)length;
        tags++;
        ek_content_keep(content, at, &at, sizeof at, TRUE);
    }
    followed->is_doubtful = TRUE;
    if (tags >= TAGS_LEAST)
        ek_followed_end(followed, at, EK_PROOF_TABLES,
                        "each tag; nothing tells whether the last one is the last");
}

const EkCarveType ek_carve_flv = {
    .name = "flv",
    .ending = "flv",
    .kind = EK_KIND_VIDEO,
    .checks = "each tag, by its length before and behind; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
