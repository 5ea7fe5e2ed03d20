/* SPDX-License-Identifier: MIT */
/* The block-based camera raw (.raf): a header that says where preview, description and picture
 * are. */
#include "carve/exif.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#define LISTS 3u

static const EkSignature signatures[] = {{0, 8, {'F', 'U', 'J', 'I', 'F', 'I', 'L', 'M'}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_equals(span, 8, "CCD-RAW ", 8);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 108);
    EkByte preview = ek_span_be32(head, 84);
    EkByte end = 108;
    for (gsize i = 0; i < LISTS; i++)
        end = MAX(end, (EkByte)ek_span_be32(head, 84 + 8 * i) + ek_span_be32(head, 88 + 8 * i));
    EkSpan start = ek_content_some(content, preview, 4096);
    if (ek_span_be16(start, 0) != 0xffd8)
        return;
    if (ek_span_equals(start, 6, "Exif", 4))
        ek_exif_take(followed, ek_span_part(start, 12, start.length));
    followed->is_doubtful = TRUE;
    ek_followed_end_within(content, followed, end, 108, EK_PROOF_TABLES,
                           "its preview, and ends where its header says");
}

const EkCarveType ek_carve_raf = {
    .name = "raf",
    .ending = "raf",
    .kind = EK_KIND_PICTURE,
    .checks = "where its header leads; always doubtful",
    .names = "date and camera",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
