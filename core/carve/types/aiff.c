/* SPDX-License-Identifier: MIT */
/* AIFF and AIFF-C (EA IFF 85): chunks within the length that stands at the beginning. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define CHUNKS_MOST 4096u

static const EkSignature signatures[] = {{8, 4, {'A', 'I', 'F', 'F'}, {0}},
                                         {8, 4, {'A', 'I', 'F', 'C'}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_equals(span, 0, "FORM", 4);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte end = 8 + (EkByte)ek_span_be32(ek_content_some(content, 0, 12), 4);
    EkByte at = 12;
    EkByte bytes = ek_content_bytes(content);
    gboolean is_behind = FALSE;
    gboolean has_sound = FALSE;
    followed->expected = end;
    for (guint i = 0; i < CHUNKS_MOST && at + 8 <= end; i++) {
        EkSpan head = ek_content_some(content, at, 8);
        guint32 length = ek_span_be32(head, 4);
        EkByte next = at + 8 + (EkByte)length + (length & 1);
        if (!g_ascii_isupper(ek_span_u8(head, 0)) || next > end + 1 || next > bytes + 1) {
            ek_followed_break(followed, at, MIN(at, bytes), 54, "no chunk where one must stand");
            return;
        }
        is_behind = has_sound;
        has_sound = has_sound || ek_span_equals(head, 0, "SSND", 4);
        at = next;
    }
    if (has_sound && at >= end)
        ek_followed_end(followed, MIN(at, bytes), is_behind ? EK_PROOF_TABLES : EK_PROOF_LENGTH,
                        is_behind ? "its chunks, also those behind the sound"
                                  : "ends where its length says; nothing else can be checked");
}

/* AIFF, and AIFF-C that is not packed. */
static gboolean take_samples(EkSpan head, EkSamples *samples)
{
    gsize form = ek_samples_chunk(head, "COMM", TRUE);
    gsize data = ek_samples_chunk(head, "SSND", TRUE);
    gboolean is_packed =
        ek_span_equals(head, 8, "AIFC", 4) && !ek_span_equals(head, form + 26, "NONE", 4);
    *samples = (EkSamples){.first = data + 16 + ek_span_be32(head, data + 8),
                           .bytes = 8 + (EkByte)ek_span_be32(head, 4),
                           .width = (ek_span_be16(head, form + 14) + 7u) / 8,
                           .channels = ek_span_be16(head, form + 8),
                           .is_big = TRUE};
    return form > 0 && data > 0 && !is_packed && ek_samples_are_plain(samples);
}

const EkCarveType ek_carve_aiff = {
    .name = "aiff",
    .ending = "aiff",
    .kind = EK_KIND_AUDIO,
    .checks = "its chunks and its length; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .samples = take_samples,
    .is_solid = TRUE,
};
