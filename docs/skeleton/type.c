/* SPDX-License-Identifier: MIT */
/* A skeleton to copy: one type of content. Say here which published format it follows, and what it
 * distrusts. The build compiles this file, so that it stays right. */
#include "carve/followed.h"

/* The lines of types/all.h and types.c declare it. */
extern const EkCarveType ek_carve_example;

#define LEAST 64u /* bytes of one that breaks, to be told */

static const EkSignature signatures[] = {{0, 4, {'S', 'E', 'E', 'D'}, {0}}};

/* Is it one, by its first bytes? */
static gboolean begin(EkSpan span)
{
    return ek_span_le32(span, 4) >= 16;
}

/* Parts, each with its length and its checksum, up to an empty one. */
static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 8;
    ek_content_kept(content, &at, sizeof at);
    for (;;) {
        EkSpan head = ek_content_some(content, at, 8);
        guint32 length = ek_span_le32(head, 0);
        guint32 sum = 0;
        if (head.length < 8 || !ek_content_crc32(content, at + 8, length, &sum) ||
            sum != ek_span_le32(head, 4)) {
            ek_followed_break(followed, at, at, LEAST, "the checksum of a part is wrong");
            return;
        }
        at += 8 + (EkByte)length;
        if (length == 0)
            break;
        ek_content_keep(content, at, &at, sizeof at, TRUE);
    }
    ek_followed_end(followed, at, EK_PROOF_FULL, "the checksums of all parts");
}

const EkCarveType ek_carve_example = {
    .name = "example",
    .ending = "seed",
    .kind = EK_KIND_OTHER,
    .checks = "the CRC-32 of each part",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
};
