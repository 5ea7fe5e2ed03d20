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
#define BLOCK_MOST (128u << 10)
#define LINKS_LEAST 2u /* blocks that follow one another */

static const EkSignature signatures[] = {{0, 4, {0x28, 0xb5, 0x2f, 0xfd}, {0}}};

static gboolean begin(EkSpan span)
{
    return (ek_span_u8(span, 4) & 8) == 0;
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

enum { KIND_PLAIN, KIND_REPEATED, KIND_PACKED };

/* A block: how long it is with its head, in bytes; 0: it is none. */
static gsize block_bytes(EkSpan head, gboolean *is_last)
{
    guint32 word = ek_span_le16(head, 0) | (guint32)ek_span_u8(head, 2) << 16;
    guint kind = word >> 1 & 3;
    *is_last = (word & 1) != 0;
    if (head.length < 3 || kind > KIND_PACKED || word >> 3 > BLOCK_MOST)
        return 0;
    return 3 + (gsize)(kind == KIND_REPEATED ? 1 : word >> 3);
}

/* Block after block, as packed ones come, or what does not pack. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    gboolean is_last = FALSE;
    guint links = 0;
    (void)landmark;
    for (gsize at = 0; at + 3 <= span.length && !is_last; links++) {
        EkSpan head = ek_span_part(span, at, 3);
        guint kind = ek_span_u8(head, 0) >> 1 & 3;
        gsize length = block_bytes(head, &is_last);
        if (length < 16 || (kind != KIND_PACKED && length != 3 + BLOCK_MOST))
            return FALSE;
        at += length;
    }
    return links >= LINKS_LEAST || (span.length <= EK_LANDMARK_GLANCE && !is_last);
}

typedef struct {
    ZSTD_DStream *stream;
    guint8 *unpacked;
    gsize room;
    guint64 packed_total;
    guint64 total;
    Outcome outcome;
} Unpacking;

/* Unpacks so many bytes more, which are there. *left: what is expected behind them; 0: nothing. */
static void unpack_part(EkContent *content, Unpacking *unpacking, EkByte at, EkByte bytes,
                        size_t *left)
{
    for (EkByte end = at + bytes; at < end && unpacking->outcome == UNPACKED_RIGHT;) {
        EkSpan span = ek_content_some(content, at, (gsize)MIN(end - at, EK_CONTENT_SHOWN));
        ZSTD_inBuffer in = {span.data, span.length, 0};
        if (span.length == 0)
            unpacking->outcome = UNPACKED_WRONG;
        while (in.pos < in.size && unpacking->outcome == UNPACKED_RIGHT) {
            ZSTD_outBuffer out = {unpacking->unpacked, unpacking->room, 0};
            *left = ZSTD_decompressStream(unpacking->stream, &out, &in);
            unpacking->total += out.pos;
            if (ZSTD_isError(*left))
                unpacking->outcome = outcome_of(*left);
            else if (ek_unpacks_too_much(unpacking->packed_total + in.pos, unpacking->total))
                unpacking->outcome = UNPACKED_NOT;
        }
        unpacking->packed_total += span.length;
        at += span.length;
    }
}

/* The blocks of a frame. FALSE: it breaks in one, which `followed` is told, at *at. */
static gboolean pass_blocks(EkContent *content, EkByte *at, guint8 flags, Unpacking *unpacking,
                            EkFollowed *followed)
{
    EkByte there = ek_content_bytes(content);
    gboolean is_last = FALSE;
    size_t left = 1;
    for (guint i = 0; i < BLOCKS_MOST && !is_last; i++) {
        gsize length = block_bytes(ek_content_at(content, *at, 3), &is_last);
        if (length == 0)
            return FALSE;
        EkByte end = *at + length + (is_last && (flags & 4) != 0 ? 4u : 0u);
        if (end <= there)
            unpack_part(content, unpacking, *at, end - *at, &left);
        if (end > there || unpacking->outcome == UNPACKED_WRONG) {
            followed->broken = (EkBroken){.first = *at, .bytes = end - *at};
            if (!is_last)
                followed->landmark =
                    (EkLandmark){.at = end, .shown = EK_LANDMARK_SHOWN, .stands = stands};
            *at = MIN(end, there);
            return FALSE;
        }
        *at = end;
    }
    return is_last && (left == 0 || unpacking->outcome != UNPACKED_RIGHT);
}

/* One frame, with its checksum where it has one. *at is how far it came. */
static Outcome pass_frame(EkContent *content, EkByte *at, EkFollowed *followed)
{
    static const guint8 dictionaries[] = {0, 1, 2, 4};
    static const guint8 sizes[] = {0, 2, 4, 8};
    guint8 flags = ek_span_u8(ek_content_some(content, *at + 4, 1), 0);
    gboolean is_single = (flags & 0x20) != 0;
    guint size = flags >> 6;
    EkByte head = 5 + (is_single ? 0u : 1u) + dictionaries[flags & 3] +
                  (size == 0 && is_single ? 1u : sizes[size]);
    Unpacking unpacking = {.stream = ZSTD_createDStream(), .room = ZSTD_DStreamOutSize()};
    unpacking.unpacked = g_malloc(unpacking.room);
    size_t left = 1;
    size_t result =
        unpacking.stream != NULL
            ? ZSTD_DCtx_setParameter(unpacking.stream, ZSTD_d_windowLogMax, WINDOW_LOG_MOST)
            : (size_t)-ZSTD_error_memory_allocation;
    unpacking.outcome = ZSTD_isError(result) ? UNPACKED_NOT : UNPACKED_RIGHT;
    unpack_part(content, &unpacking, *at, head, &left);
    *at = MIN(*at + head, ek_content_bytes(content));
    gboolean fine = unpacking.outcome != UNPACKED_WRONG &&
                    pass_blocks(content, at, flags, &unpacking, followed);
    ZSTD_freeDStream(unpacking.stream);
    g_free(unpacking.unpacked);
    return fine ? unpacking.outcome : UNPACKED_WRONG;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 0;
    gboolean is_proved = TRUE;
    gboolean is_summed = TRUE;
    for (guint count = 0;; count++) {
        EkByte sure = at;
        EkSpan head = ek_content_some(content, at, 5);
        guint8 flags = ek_span_u8(head, 4);
        if (!ek_span_equals(head, 0, "\x28\xb5\x2f\xfd", 4) ||
            (count > 0 && !ek_followed_has_more(followed, at, count)))
            break;
        Outcome outcome = pass_frame(content, &at, followed);
        if (outcome == UNPACKED_WRONG) {
            /* A few blocks that unpack are no chance. */
            EkByte right = MAX(sure, followed->broken.first);
            ek_followed_break(followed, at > 4096 ? MAX(right, LEAST) : sure, at, LEAST,
                              "a block of it breaks");
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
    .by_landmark = TRUE,
};
