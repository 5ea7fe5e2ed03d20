/* SPDX-License-Identifier: MIT */
/* Zstandard (RFC 8878): frames of blocks, each with its length; the last one says so, and most
 * frames have a checksum of what they unpack to. */
#include "carve/followed.h"
#include "carve/types/all.h"

#include <zstd.h>
#include <zstd_errors.h>

#define LEAST 64u
#define WINDOW_LOG_MOST 24 /* 16 MiB of what came before */
#define BLOCKS_MOST 10000000u

static const EkSignature signatures[] = {{0, 4, {0x28, 0xb5, 0x2f, 0xfd}, {0}}};

static gboolean begin(EkSpan span)
{
    return (ek_span_u8(span, 4) & 8) == 0;
}

/* One frame. FALSE where it breaks. */
static gboolean pass_frame(EkContent *content, EkByte *at)
{
    static const guint8 dictionaries[] = {0, 1, 2, 4};
    static const guint8 sizes[] = {0, 2, 4, 8};
    guint8 head = ek_span_u8(ek_content_some(content, *at + 4, 1), 0);
    gboolean is_single = (head & 0x20) != 0;
    guint size = head >> 6;
    *at += 5 + (is_single ? 0u : 1u) + dictionaries[head & 3] +
           (size == 0 && is_single ? 1u : sizes[size]);
    for (guint i = 0; i < BLOCKS_MOST; i++) {
        EkSpan block = ek_content_at(content, *at, 3);
        guint32 word = ek_span_le16(block, 0) | (guint32)ek_span_u8(block, 2) << 16;
        guint kind = word >> 1 & 3;
        if (block.length < 3 || kind == 3 || word >> 3 > 128u << 10)
            return FALSE;
        *at += 3 + (kind == 1 ? 1 : word >> 3);
        if (*at > ek_content_bytes(content))
            return FALSE;
        if ((word & 1) != 0) {
            *at += (head & 4) != 0 ? 4u : 0u;
            return *at <= ek_content_bytes(content);
        }
    }
    return FALSE;
}

typedef enum { UNPACKED_RIGHT, UNPACKED_WRONG, UNPACKED_NOT } Outcome;

/* What asks for more than is held, or for a dictionary, may be right all the same. */
static Outcome outcome_of(size_t result)
{
    switch (ZSTD_getErrorCode(result)) {
    case ZSTD_error_frameParameter_windowTooLarge:
    case ZSTD_error_frameParameter_unsupported:
    case ZSTD_error_dictionary_wrong:
    case ZSTD_error_dictionary_corrupted:
    case ZSTD_error_version_unsupported:
    case ZSTD_error_memory_allocation: return UNPACKED_NOT;
    default: return UNPACKED_WRONG;
    }
}

/* One frame, from *at to `end`, with its checksum where it has one. *at is how far it came. */
static Outcome unpack_frame(EkContent *content, EkByte *at, EkByte end)
{
    ZSTD_DStream *stream = ZSTD_createDStream();
    gsize room = ZSTD_DStreamOutSize();
    g_autofree guint8 *unpacked = g_malloc(room);
    EkByte first = *at;
    guint64 total = 0;
    size_t result = stream != NULL
                        ? ZSTD_DCtx_setParameter(stream, ZSTD_d_windowLogMax, WINDOW_LOG_MOST)
                        : (size_t)-ZSTD_error_memory_allocation;
    Outcome outcome = ZSTD_isError(result) ? UNPACKED_NOT : UNPACKED_RIGHT;
    while (*at < end && outcome == UNPACKED_RIGHT) {
        EkSpan span =
            ek_content_some(content, *at, (gsize)MIN(ek_content_stride(content), end - *at));
        ZSTD_inBuffer in = {span.data, span.length, 0};
        outcome = span.length > 0 ? outcome : UNPACKED_WRONG;
        while (in.pos < in.size && outcome == UNPACKED_RIGHT) {
            ZSTD_outBuffer out = {unpacked, room, 0};
            result = ZSTD_decompressStream(stream, &out, &in);
            total += out.pos;
            if (ZSTD_isError(result))
                outcome = outcome_of(result);
            else if (ek_unpacks_too_much(*at + in.pos - first, total))
                outcome = UNPACKED_NOT;
        }
        *at += in.pos;
    }
    ZSTD_freeDStream(stream);
    return outcome == UNPACKED_RIGHT && result != 0 ? UNPACKED_WRONG : outcome;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 0;
    gboolean is_proved = TRUE;
    gboolean is_summed = TRUE;
    for (guint count = 0;; count++) {
        EkByte sure = at;
        EkByte reached = at;
        EkSpan head = ek_content_some(content, at, 5);
        guint8 flags = ek_span_u8(head, 4);
        if (!ek_span_equals(head, 0, "\x28\xb5\x2f\xfd", 4) ||
            (count > 0 && !ek_followed_has_more(followed, at, count)))
            break;
        gboolean fine = pass_frame(content, &at);
        Outcome outcome = fine ? unpack_frame(content, &reached, at) : UNPACKED_WRONG;
        if (outcome == UNPACKED_WRONG) {
            EkByte wrong = fine ? reached : at;
            ek_followed_break(followed, wrong > 4096 ? MAX(sure, LEAST) : sure,
                              MIN(wrong, ek_content_bytes(content)), LEAST, "a block of it breaks");
            return;
        }
        is_proved = is_proved && outcome == UNPACKED_RIGHT;
        is_summed = is_summed && (flags & 4) != 0;
    }
    /* Without a sum foreign bytes may unpack too. */
    followed->is_doubtful = followed->is_doubtful || !is_proved || !is_summed;
    ek_followed_end(
        followed, at,
        !is_proved  ? EK_PROOF_TABLES
        : is_summed ? EK_PROOF_FULL
                    : EK_PROOF_DECODED,
        !is_proved  ? "each block to the last one; their contents are not checked"
        : is_summed ? "each frame unpacked, and its checksum"
                    : "each frame unpacked; it has no checksum, so its contents are not checked");
}

const EkCarveType ek_carve_zstd = {
    .name = "zstd",
    .ending = "zst",
    .kind = EK_KIND_ARCHIVE,
    .checks = "each frame unpacked to its checksum; without one it stays doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
