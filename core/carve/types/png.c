/* SPDX-License-Identifier: MIT */
/* PNG (ISO/IEC 15948): chunks, each with a CRC-32. */
#include "carve/exif.h"
#include "carve/types/all.h"

#define LEAST 33u /* a header with its checksum */

static const EkSignature signatures[] = {
    {0, 8, {0x89, 'P', 'N', 'G', 0x0d, 0x0a, 0x1a, 0x0a}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_be32(span, 8) == 13 && ek_span_equals(span, 12, "IHDR", 4) &&
           ek_span_be32(span, 16) != 0 && ek_span_be32(span, 20) != 0;
}

static gboolean is_name(EkSpan head)
{
    for (gsize i = 4; i < 8; i++)
        if (!g_ascii_isalpha(ek_span_u8(head, i)))
            return FALSE;
    return head.length >= 8;
}

static void take_chunk(EkContent *content, EkFollowed *followed, EkByte at, guint32 length)
{
    EkSpan chunk = ek_content_some(content, at, MIN(length, EK_CONTENT_SHOWN - 8) + 8u);
    EkSpan body = ek_span_part(chunk, 8, length);
    if (ek_span_equals(chunk, 4, "tIME", 4)) {
        g_autofree char *date = g_strdup_printf(
            "%04u%02u%02u%02u%02u%02u", ek_span_be16(body, 0), ek_span_u8(body, 2),
            ek_span_u8(body, 3), ek_span_u8(body, 4), ek_span_u8(body, 5), ek_span_u8(body, 6));
        ek_followed_date_digits(followed, (EkSpan){(const guint8 *)date, strlen(date)}, FALSE);
    } else if (ek_span_equals(chunk, 4, "tEXt", 4) && ek_span_equals(body, 0, "Title", 6)) {
        ek_followed_words(followed, ek_span_part(body, 6, body.length));
    } else if (ek_span_equals(chunk, 4, "eXIf", 4)) {
        ek_exif_take(followed, body);
    }
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 8;
    EkByte kept = 0;
    if (ek_content_kept(content, &kept, sizeof kept))
        at = kept;
    for (;;) {
        EkSpan head = ek_content_some(content, at, 8);
        guint32 length = ek_span_be32(head, 0);
        guint32 sum = 0;
        if (!is_name(head) || length > G_MAXINT32) {
            ek_followed_break(followed, at, at, LEAST, "no chunk where one must stand");
            return;
        }
        gboolean is_end = ek_span_equals(head, 4, "IEND", 4);
        gboolean has_all = ek_content_crc32(content, at + 4, (EkByte)length + 4, &sum);
        EkSpan told = ek_content_at(content, at + 8 + length, 4);
        if (!has_all || told.length == 0 || ek_span_be32(told, 0) != sum) {
            followed->broken = (EkBroken){at + 4, (EkByte)length + 4, EK_PART_SUM_BEHIND, 0};
            ek_followed_break(followed, at, MIN(at + 8 + length, ek_content_bytes(content)), LEAST,
                              "the checksum of a chunk is wrong");
            return;
        }
        if (length < EK_CONTENT_SHOWN && !is_end)
            take_chunk(content, followed, at, length);
        at += 12 + (EkByte)length;
        if (is_end)
            break;
        ek_content_keep(content, at, &at, sizeof at, TRUE);
    }
    ek_followed_end(followed, at, EK_PROOF_FULL, "the checksums of all chunks");
}

const EkCarveType ek_carve_png = {
    .name = "png",
    .ending = "png",
    .kind = EK_KIND_PICTURE,
    .checks = "the CRC-32 of each chunk",
    .names = "date and title",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .is_checked = TRUE,
};
