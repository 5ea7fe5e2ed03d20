/* SPDX-License-Identifier: MIT */
/* xz (the .xz file format 1.1): blocks of LZMA2 chunks, each with its length, and a checksum of
 * what they unpack to; an index of them with a checksum, and a footer that points back to it. */
#include "base/checksum.h"
#include "base/digest.h"
#include "carve/followed.h"
#include "carve/lzmacontent.h"
#include "carve/types/all.h"
#include "carve/unfilter.h"

#define BLOCKS_MOST 1000000u
#define LEAST 64u

static const EkSignature signatures[] = {{0, 6, {0xfd, '7', 'z', 'X', 'Z', 0}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_u8(span, 6) == 0 && (ek_span_u8(span, 7) & 0xf0) == 0 &&
           ek_crc32(ek_span_part(span, 6, 2)) == ek_span_le32(span, 8);
}

static guint64 number_at(EkSpan span, gsize *at)
{
    guint64 value = 0;
    for (guint shift = 0; shift < 63; shift += 7) {
        guint8 byte = ek_span_u8(span, (*at)++);
        value |= (guint64)(byte & 0x7f) << shift;
        if ((byte & 0x80) == 0)
            break;
    }
    return value;
}

/* What is unpacked, and the sum of it. */
typedef struct {
    guint check; /* as the header names it */
    guint32 crc32;
    guint64 crc64;
    EkSha256 *sha;
    EkUnfilter filter;
} Unpacked;

static const guint8 sum_bytes[] = {0, 4, 4, 4, 8, 8, 8, 16, 16, 16, 32, 32, 32, 64, 64, 64};
enum { CHECK_NONE = 0, CHECK_CRC32 = 1, CHECK_CRC64 = 4, CHECK_SHA256 = 10 };

static void sum_up(void *data, const guint8 *bytes, gsize length)
{
    Unpacked *unpacked = data;
    EkSpan span = {bytes, length};
    if (unpacked->check == CHECK_CRC32)
        unpacked->crc32 = ek_crc32_from(unpacked->crc32, span);
    else if (unpacked->check == CHECK_CRC64)
        unpacked->crc64 = ek_crc64(unpacked->crc64, span);
    else if (unpacked->check == CHECK_SHA256)
        ek_sha256_update(unpacked->sha, bytes, length);
}

static void take(void *data, const guint8 *bytes, gsize length)
{
    Unpacked *unpacked = data;
    ek_unfilter_push(&unpacked->filter, bytes, length, sum_up, unpacked);
}

/* Does the sum agree that stands at `at`? */
static gboolean sum_agrees(EkContent *content, EkByte at, const Unpacked *unpacked)
{
    EkSpan told = ek_content_some(content, at, EK_SHA256_BYTES);
    if (unpacked->check == CHECK_CRC32)
        return ek_span_le32(told, 0) == ~unpacked->crc32;
    if (unpacked->check == CHECK_CRC64)
        return ek_span_le64(told, 0) == unpacked->crc64;
    if (unpacked->check != CHECK_SHA256)
        return TRUE;
    guint8 sum[EK_SHA256_BYTES];
    ek_sha256_finish(unpacked->sha, sum);
    return ek_span_equals(told, 0, sum, sizeof sum);
}

/* How a block is packed: by LZMA2, which one filter may come before. Pure. The window, in bytes; 0:
 * it is packed in another way. */
static guint64 read_packing(EkSpan head, EkUnfilter *filter)
{
    guint8 flags = ek_span_u8(head, 1);
    gsize at = 2;
    if ((flags & 0x40) != 0)
        number_at(head, &at);
    if ((flags & 0x80) != 0)
        number_at(head, &at);
    if ((flags & 3) == 1) {
        filter->kind = ek_unfilter_of(number_at(head, &at));
        guint64 bytes = number_at(head, &at);
        filter->distance = ek_span_u8(head, at) + 1u;
        if (bytes != (filter->kind == EK_UNFILTER_DELTA ? 1 : 0))
            return 0;
        at += (gsize)bytes;
    }
    if ((flags & 3) > 1 || filter->kind == EK_UNFILTER_OTHER || ek_span_u8(head, at) != 0x21 ||
        ek_span_u8(head, at + 1) != 1)
        return 0;
    return ek_lzma2_window(ek_span_u8(head, at + 2));
}

/* How long the header of a block is, by its sum; 0: it is none. Pure. */
static gsize head_bytes(EkSpan span)
{
    gsize length = ((gsize)ek_span_u8(span, 0) + 1) * 4;
    return length <= span.length &&
                   ek_crc32(ek_span_part(span, 0, length - 4)) == ek_span_le32(span, length - 4)
               ? length
               : 0;
}

/* *is_proved is cleared where a block cannot be unpacked here. FALSE: it breaks at *at, in the
 * chunk that `followed` is told, where it is one. */
static gboolean pass_block(EkContent *content, EkByte *at, guint check, gboolean *is_proved,
                           EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, *at, 1024);
    gsize length = head_bytes(head);
    if (length == 0)
        return FALSE;
    Unpacked unpacked = {.check = check, .crc32 = ~0u};
    guint64 window = read_packing(head, &unpacked.filter);
    g_autoptr(EkLzma) lzma = window > 0 ? ek_lzma_new(window) : NULL;
    g_autoptr(EkSha256) sha = ek_sha256_new();
    unpacked.sha = sha;
    *at += length;
    EkLzmaUnpacking unpacking = {lzma, take, &unpacked,
                                 check == CHECK_SHA256 ? 0 : sizeof unpacked};
    gboolean fine = ek_content_lzma2(content, at, &unpacking, &followed->broken);
    unpacked.sha = sha;
    if (!fine)
        return FALSE;
    EkByte padding = ek_divide_up(*at, 4) * 4 - *at;
    if (padding > 0 && !ek_content_is_zero(content, *at, padding))
        return FALSE;
    *at += padding;
    gboolean is_unpacked = lzma != NULL && !ek_lzma_gave_up(lzma);
    *is_proved = *is_proved && is_unpacked;
    ek_unfilter_finish(&unpacked.filter, sum_up, &unpacked);
    if (is_unpacked && !sum_agrees(content, *at, &unpacked))
        return FALSE;
    *at += sum_bytes[check & 15];
    return *at <= ek_content_bytes(content);
}

/* The length of an index, with what fills it up to whole words, and how many blocks it tells of.
 * Pure. */
static gsize index_bytes(EkSpan span, guint64 *blocks)
{
    gsize length = 1;
    *blocks = number_at(span, &length);
    for (guint64 i = 0; i < *blocks && length < span.length; i++) {
        number_at(span, &length);
        number_at(span, &length);
    }
    return (gsize)ek_divide_up(length, 4) * 4;
}

/* The sum of an index, and the footer that points back to it. Pure. */
static gboolean is_footer(EkSpan span, gsize length, guint32 sum)
{
    return ek_span_le32(span, 0) == sum && ek_span_equals(span, 14, "YZ", 2) &&
           ek_crc32(ek_span_part(span, 8, 6)) == ek_span_le32(span, 4) &&
           ((guint64)ek_span_le32(span, 8) + 1) * 4 == length + 4;
}

static gboolean is_index(EkSpan span)
{
    guint64 blocks = 0;
    gsize length = index_bytes(span, &blocks);
    return blocks > 0 && length + 16 <= span.length &&
           is_footer(ek_span_part(span, length, 16), length,
                     ek_crc32(ek_span_part(span, 0, length)));
}

/* Chunks follow one another, up to the end of the block, the sum of it, and another block or the
 * index. `told` is the bytes of the sum; `sum` where in a word of four bytes it begins. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    gsize at = 0;
    EkLzmaChain chain = ek_lzma2_chain(span, &at);
    if (chain != EK_LZMA_CHAIN_ENDS || span.length <= EK_LANDMARK_GLANCE)
        return chain != EK_LZMA_CHAIN_BREAKS;
    gsize padding = (gsize)(ek_divide_up(landmark->sum + at, 4) * 4 - landmark->sum - at);
    if (at + padding > span.length || !ek_bytes_are_zero(span.data + at, padding))
        return FALSE;
    EkSpan next = ek_span_part(span, at + padding + (gsize)landmark->told, span.length);
    return ek_span_u8(next, 0) == 0 ? is_index(next) : head_bytes(next) > 0;
}

static gboolean pass_index(EkContent *content, EkByte *at, guint blocks)
{
    guint64 told = 0;
    guint32 sum = 0;
    gsize length = index_bytes(ek_content_some(content, *at, EK_CONTENT_SHOWN), &told);
    if (told != blocks || !ek_content_crc32(content, *at, length, &sum) ||
        !is_footer(ek_content_at(content, *at + length, 16), length, sum))
        return FALSE;
    *at += length + 16;
    return TRUE;
}

/* What is known of all streams so far. */
typedef struct {
    EkByte at;
    EkByte sure;
    gboolean is_proved; /* all was unpacked */
    gboolean is_summed;
    guint streams;
    gboolean is_within; /* one, between two of its blocks */
    guint check;        /* of it */
    guint blocks;       /* of it, so far */
} Streams;

/* A stream to its end. FALSE: it breaks at `at`. */
static gboolean pass_stream(EkContent *content, Streams *streams, EkFollowed *followed)
{
    if (!streams->is_within) {
        guint check = ek_span_u8(ek_content_some(content, streams->at, 12), 7);
        streams->is_summed = streams->is_summed && (check == CHECK_CRC32 || check == CHECK_CRC64 ||
                                                    check == CHECK_SHA256);
        streams->check = check;
        streams->blocks = 0;
        streams->at += 12;
        streams->is_within = TRUE;
    }
    for (;;) {
        streams->sure = streams->at;
        if (streams->streams == 0)
            ek_content_keep(content, streams->at, streams, sizeof *streams, TRUE);
        if (streams->blocks >= BLOCKS_MOST ||
            ek_span_u8(ek_content_some(content, streams->at, 1), 0) == 0)
            break;
        if (!pass_block(content, &streams->at, streams->check, &streams->is_proved, followed))
            return FALSE;
        streams->blocks++;
    }
    streams->is_within = FALSE;
    streams->streams++;
    return pass_index(content, &streams->at, streams->blocks);
}

/* Some packers write one file as streams one behind the other. */
static gboolean goes_on(EkContent *content, EkFollowed *followed, EkByte at, guint count)
{
    return ek_span_equals(ek_content_some(content, at, 6), 0,
                          "\xfd"
                          "7zXZ\0",
                          6) &&
           ek_followed_has_more(followed, at, count);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Streams streams = {.is_proved = TRUE, .is_summed = TRUE};
    followed->texture = EK_TEXTURE_PACKED;
    (void)ek_content_kept(content, &streams, sizeof streams);
    gboolean fine = pass_stream(content, &streams, followed);
    while (fine && goes_on(content, followed, streams.at, streams.streams))
        fine = pass_stream(content, &streams, followed);
    if (fine) {
        followed->is_doubtful = followed->is_doubtful || !streams.is_proved;
        ek_followed_end(followed, streams.at,
                        !streams.is_proved  ? EK_PROOF_TABLES
                        : streams.is_summed ? EK_PROOF_FULL
                                            : EK_PROOF_DECODED,
                        streams.is_proved
                            ? "each block unpacked, its checksum, and the index"
                            : "the lengths of its chunks, and the index; its contents are "
                              "not checked");
        return;
    }
    EkByte sure = MAX(streams.sure, followed->broken.first);
    EkByte next = followed->broken.first + followed->broken.bytes;
    if (followed->broken.bytes > 0)
        followed->landmark = (EkLandmark){.at = next,
                                          .shown = EK_LANDMARK_SHOWN,
                                          .told = sum_bytes[streams.check & 15],
                                          .sum = next % 4,
                                          .stands = stands};
    ek_followed_break(followed, streams.at > 4096 ? MAX(sure, LEAST) : 0,
                      MIN(streams.at, ek_content_bytes(content)), LEAST, "a chunk of it breaks");
}

const EkCarveType ek_carve_xz = {
    .name = "xz",
    .ending = "xz",
    .kind = EK_KIND_ARCHIVE,
    .checks = "each block unpacked, with its checksum; the index and its CRC-32",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .by_landmark = TRUE,
};
