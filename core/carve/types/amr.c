/* SPDX-License-Identifier: MIT */
/* AMR speech (RFC 4867, section 5): frames whose first byte says how long they are. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define FRAMES_LEAST 16u

static const EkSignature signatures[] = {{0, 6, {'#', '!', 'A', 'M', 'R', '\n'}, {0}},
                                         {0, 8, {'#', '!', 'A', 'M', 'R', '-', 'W', 'B'}, {0}}};

/* Bytes of a frame by its type; 0: there is no such one. */
static const guint8 narrow[16] = {13, 14, 16, 18, 20, 21, 27, 32, 6, 0, 0, 0, 0, 0, 0, 1};
static const guint8 wide[16] = {18, 24, 33, 37, 41, 47, 51, 59, 61, 6, 0, 0, 0, 0, 1, 1};

static void follow(EkContent *content, EkFollowed *followed)
{
    gboolean is_wide = ek_span_u8(ek_content_some(content, 0, 6), 5) == '-';
    EkByte at = is_wide ? 9 : 6;
    guint frames = 0;
    for (;; frames++) {
        EkSpan head = ek_content_some(content, at, 1);
        guint8 byte = ek_span_u8(head, 0);
        guint8 bytes = (is_wide ? wide : narrow)[byte >> 3 & 15];
        /* The bit of a good frame is set, those that fill up are not. */
        if (head.length == 0 || (byte & 0x87) != 4 || bytes == 0 ||
            at + bytes > ek_content_bytes(content))
            break;
        at += bytes;
    }
    if (frames < FRAMES_LEAST)
        return;
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, at, EK_PROOF_LENGTH,
                    "frame by frame; the sound itself is not checked");
}

const EkCarveType ek_carve_amr = {
    .name = "amr",
    .ending = "amr",
    .kind = EK_KIND_AUDIO,
    .checks = "frame by frame; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
};
