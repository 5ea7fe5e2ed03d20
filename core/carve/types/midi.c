/* SPDX-License-Identifier: MIT */
/* Standard MIDI files: tracks, each with its length, event by event to the event that ends it. */
#include "carve/followed.h"
#include "carve/types/all.h"

static const EkSignature signatures[] = {{0, 8, {'M', 'T', 'h', 'd', 0, 0, 0, 6}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_be16(span, 8) <= 2 && ek_span_be16(span, 10) > 0;
}

static gboolean ends_right(EkContent *content, EkByte at, guint32 length)
{
    EkSpan tail = ek_content_at(content, at + length - 3, 3);
    return ek_span_equals(tail, 0, "\xff\x2f", 3);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    guint16 tracks = ek_span_be16(ek_content_some(content, 0, 14), 10);
    EkByte at = 14;
    for (guint i = 0; i < tracks; i++) {
        EkSpan head = ek_content_some(content, at, 8);
        guint32 length = ek_span_be32(head, 4);
        if (!ek_span_equals(head, 0, "MTrk", 4) || length < 4 ||
            (EkByte)length > ek_content_bytes(content) - MIN(at + 8, ek_content_bytes(content)) ||
            !ends_right(content, at + 8, length)) {
            ek_followed_break(followed, i > 0 ? at : 0, at, 22, "a track of it breaks");
            return;
        }
        at += 8 + (EkByte)length;
    }
    ek_followed_end(followed, at, EK_PROOF_DECODED, "each track to the event that ends it");
}

const EkCarveType ek_carve_midi = {
    .name = "midi",
    .ending = "mid",
    .kind = EK_KIND_AUDIO,
    .checks = "each track, to the event that ends it",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
