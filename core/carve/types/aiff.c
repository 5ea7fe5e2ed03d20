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
    gsize at = 12;
    gboolean is_plain = FALSE;
    samples->bytes = 8 + (EkByte)ek_span_be32(head, 4);
    while (at + 8 <= head.length) {
        gsize length = ek_span_be32(head, at + 4);
        if (ek_span_equals(head, at, "SSND", 4)) {
            samples->first = at + 16 + ek_span_be32(head, at + 8);
            return is_plain;
        }
        if (ek_span_equals(head, at, "COMM", 4)) {
            gboolean is_packed =
                ek_span_equals(head, 8, "AIFC", 4) && !ek_span_equals(head, at + 26, "NONE", 4);
            samples->channels = ek_span_be16(head, at + 8);
            samples->width = (ek_span_be16(head, at + 14) + 7u) / 8;
            samples->is_big = TRUE;
            is_plain = !is_packed && samples->channels >= 1 && samples->channels <= 8 &&
                       samples->width >= 1 && samples->width <= 4;
        }
        if (length > head.length)
            break;
        at += 8 + length + (length & 1);
    }
    return FALSE;
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
