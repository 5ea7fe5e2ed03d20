/* SPDX-License-Identifier: MIT */
/* 7z: a header with a checksum says where the directory at the end is, which has one too. */
#include "base/checksum.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#define DIRECTORY_MOST (64u << 20)

static const EkSignature signatures[] = {{0, 6, {'7', 'z', 0xbc, 0xaf, 0x27, 0x1c}, {0}}};

static gboolean begin(EkSpan span)
{
    EkSpan head = ek_span_part(span, 12, 20);
    return head.length == 20 && ek_crc32(head) == ek_span_le32(span, 8);
}

/* The directory, packed or plain, by its sum. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    guint8 first = ek_span_u8(span, 0);
    if (first != 0x01 && first != 0x17)
        return FALSE;
    return span.length < landmark->told ||
           ek_crc32(ek_span_part(span, 0, (gsize)landmark->told)) == (guint32)landmark->sum;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 32);
    guint64 offset = ek_span_le64(head, 12);
    guint64 size = ek_span_le64(head, 20);
    guint32 told = ek_span_le32(head, 28);
    guint32 sum = 0;
    if (offset > G_MAXINT64 / 2 || size > DIRECTORY_MOST)
        return;
    EkByte end = 32 + offset + size;
    followed->expected = end;
    if (end <= ek_content_bytes(content) && ek_content_crc32(content, 32 + offset, size, &sum) &&
        sum == told) {
        followed->is_doubtful = TRUE;
        ek_followed_end(followed, end, size > 0 ? EK_PROOF_TABLES : EK_PROOF_LENGTH,
                        "the checksums of its header and of the directory at its end; its "
                        "contents are not checked");
    } else {
        ek_followed_break(followed, 32, MIN(end, ek_content_bytes(content)), 32,
                          "its directory is not where its header says");
        if (size > EK_LANDMARK_GLANCE && size <= EK_CONTENT_SHOWN)
            followed->landmark = (EkLandmark){.at = 32 + offset,
                                              .shown = (gsize)size,
                                              .told = size,
                                              .sum = told,
                                              .stands = stands};
    }
}

const EkCarveType ek_carve_sevenzip = {
    .name = "7z",
    .ending = "7z",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the CRC-32 of the header, and of the directory at the end; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .by_landmark = TRUE,
};
