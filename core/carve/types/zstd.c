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
#define OF_LITERALS 8u /* the first block repeats only what it has: as much as this, at most */
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
enum { LITERALS_PLAIN, LITERALS_REPEATED, LITERALS_PACKED, LITERALS_AGAIN };

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

/* Does the first block of a frame begin as one does, by its literals, and by what follows these
 * where they are few? */
static gboolean begins_block(EkSpan span, gsize length)
{
    static const guint8 packed_heads[] = {3, 3, 4, 5};
    static const guint8 packed_bits[] = {10, 10, 14, 18};
    static const guint8 plain_heads[] = {1, 2, 1, 3};
    static const guint32 packed_least[] = {0, 0, 1024, 16384};
    guint64 word = ek_span_le32(span, 0) | (guint64)ek_span_u8(span, 4) << 32;
    guint form = word >> 2 & 3;
    if ((word & 3) == LITERALS_PACKED) {
        guint64 mask = (1u << packed_bits[form]) - 1;
        guint64 unpacked = word >> 4 & mask;
        guint64 packed = word >> (4 + packed_bits[form]) & mask;
        return unpacked <= BLOCK_MOST && unpacked >= packed_least[form] && packed <= unpacked &&
               packed > 0 && packed_heads[form] + packed < length &&
               length <= OF_LITERALS * (unpacked + 32);
    }
    guint64 bytes = (form & 1) == 0 ? word >> 3 & 31 : word >> 4 & (form == 1 ? 0xfff : 0xfffff);
    EkByte next = plain_heads[form] + ((word & 3) == LITERALS_PLAIN ? bytes : 1);
    if ((word & 3) == LITERALS_AGAIN || bytes > BLOCK_MOST || next >= length ||
        length > OF_LITERALS * (bytes + 32))
        return FALSE;
    EkSpan sequences = ek_span_part(span, (gsize)MIN(next, span.length), 4);
    guint8 count = ek_span_u8(sequences, 0);
    guint8 modes = ek_span_u8(sequences, count < 128 ? 1 : count < 255 ? 2 : 3);
    gboolean repeats = (modes >> 6) == 3 || (modes >> 4 & 3) == 3 || (modes >> 2 & 3) == 3;
    return next >= 4000 || count == 0 || ((modes & 3) == 0 && !repeats);
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
    guint8 *unpacked; /* NULL: it has not begun */
    gsize room;
    EkByte first; /* of the frame */
    EkByte at;
    guint64 total; /* bytes unpacked */
    size_t left;   /* what is expected behind them; 0: nothing */
    Outcome outcome;
} Unpacking;

/* Only what seems to be one is worth the memory. */
static void begin_unpacking(Unpacking *unpacking)
{
    unpacking->stream = ZSTD_createDStream();
    unpacking->room = ZSTD_DStreamOutSize();
    unpacking->unpacked = g_malloc(unpacking->room);
    size_t result =
        unpacking->stream != NULL
            ? ZSTD_DCtx_setParameter(unpacking->stream, ZSTD_d_windowLogMax, WINDOW_LOG_MOST)
            : (size_t)-ZSTD_error_memory_allocation;
    unpacking->outcome = ZSTD_isError(result) ? UNPACKED_NOT : UNPACKED_RIGHT;
}

/* Unpacks on to this byte, up to which all is there. */
static void unpack_to(EkContent *content, Unpacking *unpacking, EkByte end)
{
    if (unpacking->unpacked == NULL)
        begin_unpacking(unpacking);
    while (unpacking->at < end && unpacking->outcome == UNPACKED_RIGHT) {
        EkSpan span = ek_content_some(content, unpacking->at,
                                      (gsize)MIN(end - unpacking->at, EK_CONTENT_SHOWN));
        ZSTD_inBuffer in = {span.data, span.length, 0};
        if (span.length == 0)
            unpacking->outcome = UNPACKED_WRONG;
        while (in.pos < in.size && unpacking->outcome == UNPACKED_RIGHT) {
            ZSTD_outBuffer out = {unpacking->unpacked, unpacking->room, 0};
            unpacking->left = ZSTD_decompressStream(unpacking->stream, &out, &in);
            unpacking->total += out.pos;
            if (ZSTD_isError(unpacking->left))
                unpacking->outcome = outcome_of(unpacking->left);
            else if (ek_unpacks_too_much(unpacking->at + in.pos - unpacking->first,
                                         unpacking->total))
                unpacking->outcome = UNPACKED_NOT;
        }
        unpacking->at += span.length;
    }
}

/* The blocks of a frame. FALSE: it breaks in one, which `followed` is told, at *at; that is where
 * they begin as long as none of them tells that it is one. */
static gboolean pass_blocks(EkContent *content, EkByte *at, guint8 flags, Unpacking *unpacking,
                            EkFollowed *followed)
{
    EkByte there = ek_content_bytes(content);
    EkByte first = *at;
    gboolean is_last = FALSE;
    gboolean is_one = FALSE;
    for (guint i = 0; i < BLOCKS_MOST && !is_last; i++) {
        EkSpan head = ek_content_some(content, *at, 4096);
        guint kind = ek_span_u8(head, 0) >> 1 & 3;
        gsize length = block_bytes(head, &is_last);
        is_one = is_one || (kind == KIND_PACKED && length > 3 &&
                            begins_block(ek_span_part(head, 3, head.length), length - 3));
        if (length == 0 || (!is_one && kind == KIND_PACKED))
            break;
        EkByte end = *at + length + (is_last && (flags & 4) != 0 ? 4u : 0u);
        if (end <= there)
            unpack_to(content, unpacking, end);
        if (end > there || unpacking->outcome == UNPACKED_WRONG) {
            followed->broken = (EkBroken){.first = *at, .bytes = end - *at};
            if (!is_last)
                followed->landmark =
                    (EkLandmark){.at = end, .shown = EK_LANDMARK_SHOWN, .stands = stands};
            *at = is_one ? MIN(end, there) : first;
            return FALSE;
        }
        *at = end;
    }
    gboolean is_over = is_last && (unpacking->left == 0 || unpacking->outcome != UNPACKED_RIGHT);
    if (!is_over && !is_one)
        *at = first;
    return is_over;
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
    Unpacking unpacking = {.first = *at, .at = *at, .left = 1, .outcome = UNPACKED_RIGHT};
    *at = MIN(*at + head, ek_content_bytes(content));
    gboolean fine = pass_blocks(content, at, flags, &unpacking, followed);
    ZSTD_freeDStream(unpacking.stream);
    g_free(unpacking.unpacked);
    return fine ? unpacking.outcome : UNPACKED_WRONG;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 0;
    gboolean is_proved = TRUE;
    gboolean is_summed = TRUE;
    followed->texture = EK_TEXTURE_PACKED;
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
