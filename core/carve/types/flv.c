/* SPDX-License-Identifier: MIT */
/* FLV: tags, each followed by its length once more. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define TAGS_LEAST 4u
#define LEAST 256u /* bytes of tags that are right */

static const EkSignature signatures[] = {{0, 4, {'F', 'L', 'V', 1}, {0}}};

static gboolean begin(EkSpan span)
{
    return (ek_span_u8(span, 4) & 0xfa) == 0 && ek_span_be32(span, 5) == 9 &&
           ek_span_be32(span, 9) == 0;
}

/* Does a tag begin here, of a stream that there is? */
static gboolean is_tag(EkSpan span)
{
    guint8 kind = ek_span_u8(span, 0);
    return (kind == 8 || kind == 9 || kind == 18) && (ek_span_be32(span, 7) & 0xffffff) == 0;
}

/* The length of a tag behind it, and then the next one. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    return ek_span_be32(span, 0) == landmark->told &&
           is_tag(ek_span_part(span, 4, span.length - 4));
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 13;
    guint64 tags = 0;
    ek_content_kept(content, &at, sizeof at);
    for (;;) {
        EkSpan head = ek_content_some(content, at, 11);
        guint32 length = ek_span_be32(head, 0) & 0xffffff;
        gboolean is_one = is_tag(head);
        EkSpan again = ek_content_at(content, at + 11 + length, 4);
        if (is_one && ek_span_be32(again, 0) != length + 11) {
            followed->landmark = (EkLandmark){.at = at + 11 + length,
                                              .shown = EK_LANDMARK_GLANCE,
                                              .told = length + 11,
                                              .stands = stands};
            ek_followed_break(followed, at, at + 11, LEAST, "a tag does not end where it says");
            return;
        }
        if (!is_one)
            break;
        at += 15 + (EkByte)length;
        tags++;
        ek_content_keep(content, at, &at, sizeof at, TRUE);
    }
    followed->is_doubtful = TRUE;
    if (tags >= TAGS_LEAST || at > LEAST)
        ek_followed_end(followed, at, EK_PROOF_TABLES,
                        "each tag; whether the last one is the end is not known");
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
    .by_landmark = TRUE,
};
