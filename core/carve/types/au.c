/* SPDX-License-Identifier: MIT */
/* AU sound: a header that says encoding, rate and length. */
#include "carve/followed.h"
#include "carve/types/all.h"

static const EkSignature signatures[] = {{0, 4, {'.', 's', 'n', 'd'}, {0}}};

static gboolean begin(EkSpan span)
{
    guint32 data = ek_span_be32(span, 4);
    guint32 encoding = ek_span_be32(span, 12);
    guint32 rate = ek_span_be32(span, 16);
    guint32 channels = ek_span_be32(span, 20);
    return data >= 24 && data <= 65536 && encoding > 0 && encoding <= 27 && rate >= 1000 &&
           rate <= 400000 && channels > 0 && channels <= 16;
}

/* Encodings 2 to 5 are plain samples of one to four bytes. */
static gboolean take_samples(EkSpan head, EkSamples *samples)
{
    guint32 encoding = ek_span_be32(head, 12);
    *samples = (EkSamples){.first = ek_span_be32(head, 4),
                           .bytes = (EkByte)ek_span_be32(head, 4) + ek_span_be32(head, 8),
                           .width = encoding - 1,
                           .channels = ek_span_be32(head, 20),
                           .is_big = TRUE};
    return ek_span_be32(head, 8) != G_MAXUINT32 && ek_samples_are_plain(samples);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 32);
    EkByte data = ek_span_be32(head, 4);
    guint32 bytes = ek_span_be32(head, 8);
    /* One that was written on the way does not say it. */
    if (bytes == G_MAXUINT32 || bytes == 0)
        return;
    ek_followed_end_within(content, followed, data + bytes, 24, EK_PROOF_LENGTH,
                           "ends where its length says; nothing else can be checked");
}

const EkCarveType ek_carve_au = {
    .name = "au",
    .ending = "au",
    .kind = EK_KIND_AUDIO,
    .checks = "its header; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .samples = take_samples,
    .is_solid = TRUE,
};
