/* SPDX-License-Identifier: MIT */
/* Windows bitmaps: a length, and dots that nothing checks. */
#include "carve/followed.h"
#include "carve/types/all.h"

static const EkSignature signatures[] = {{0, 2, {'B', 'M'}, {0}}};

static gboolean begin(EkSpan span)
{
    guint32 length = ek_span_le32(span, 2);
    guint32 offset = ek_span_le32(span, 10);
    guint32 header = ek_span_le32(span, 14);
    gint64 width = (gint32)ek_span_le32(span, 18);
    gint64 height = (gint32)ek_span_le32(span, 22);
    guint16 depth = ek_span_le16(span, 28);
    guint32 packing = ek_span_le32(span, 30);
    gboolean is_known =
        header == 40 || header == 52 || header == 56 || header == 108 || header == 124;
    gboolean has_depth =
        depth == 1 || depth == 4 || depth == 8 || depth == 16 || depth == 24 || depth == 32;
    gint64 rows = height < 0 ? -height : height;
    gint64 row = (width * depth + 31) / 32 * 4;
    return ek_span_le32(span, 6) == 0 && is_known && has_depth && ek_span_le16(span, 26) == 1 &&
           width > 0 && rows > 0 && width < 100000 && rows < 100000 && packing <= 6 &&
           offset >= 14 + header && offset < length &&
           (packing == 1 || packing == 2 || (gint64)offset + row * rows <= (gint64)length) &&
           (gint64)length <= (gint64)offset + row * rows + 65536;
}

/* Dots that are not packed, of three bytes or four, or of one, the number of a colour: neighbours
 * mostly have numbers near each other. */
static gboolean take_samples(EkSpan head, EkSamples *samples)
{
    guint16 depth = ek_span_le16(head, 28);
    *samples = (EkSamples){.first = ek_span_le32(head, 10),
                           .bytes = ek_span_le32(head, 2),
                           .width = 1,
                           .channels = depth / 8u,
                           .is_unsigned = TRUE,
                           .is_picture = TRUE};
    guint32 packing = ek_span_le32(head, 30);
    return (depth == 8 || depth == 24 || depth == 32) && (packing == 0 || packing == 3);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte length = ek_span_le32(ek_content_some(content, 0, 64), 2);
    ek_followed_end_within(content, followed, length, 54, EK_PROOF_LENGTH,
                           "ends where its length says; nothing else can be checked");
}

const EkCarveType ek_carve_bmp = {
    .name = "bmp",
    .ending = "bmp",
    .kind = EK_KIND_PICTURE,
    .checks = "its length against its size in dots; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .samples = take_samples,
    .is_solid = TRUE,
};
