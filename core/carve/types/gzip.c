/* SPDX-License-Identifier: MIT */
/* gzip (RFC 1952): members, each unpacked to its checksum and length. */
#include "carve/followed.h"
#include "carve/inflate.h"
#include "carve/types/all.h"

#define MEMBERS_MOST 1000000u
#define LEAST 64u

static const EkSignature signatures[] = {{0, 3, {0x1f, 0x8b, 8}, {0}}};

static gboolean begin(EkSpan span)
{
    guint8 flags = ek_span_u8(span, 3);
    guint8 extra = ek_span_u8(span, 8);
    return (flags & 0xe0) == 0 && (extra == 0 || extra == 2 || extra == 4) &&
           (ek_span_u8(span, 9) <= 13 || ek_span_u8(span, 9) == 255);
}

/* The data of a member begin behind fields of any length. */
static EkByte data_of(EkContent *content, EkFollowed *followed, EkByte at)
{
    EkSpan head = ek_content_some(content, at, 4096);
    guint8 flags = ek_span_u8(head, 3);
    gsize data = 10;
    if ((flags & 4) != 0)
        data += 2 + (gsize)ek_span_le16(head, data);
    if ((flags & 8) != 0) {
        if (at == 0)
            ek_followed_words(followed, ek_span_part(head, data, head.length));
        while (data < head.length && head.data[data] != 0)
            data++;
        data++;
    }
    if ((flags & 16) != 0) {
        while (data < head.length && head.data[data] != 0)
            data++;
        data++;
    }
    if (at == 0)
        ek_followed_date(
            followed, (EkTimestamp){ek_span_le32(head, 4), 0, FALSE, ek_span_le32(head, 4) != 0});
    return at + data + ((flags & 2) != 0 ? 2 : 0);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte at = 0;
    followed->texture = EK_TEXTURE_PACKED;
    for (guint i = 0; i < MEMBERS_MOST; i++) {
        EkSpan head = ek_content_some(content, at, 10);
        if (i > 0 && (!ek_span_equals(head, 0, "\x1f\x8b\x08", 3) || !begin(head) ||
                      !ek_followed_has_more(followed, at, i)))
            break;
        EkByte data = data_of(content, followed, at);
        EkStream stream = {.offset = data, .most = G_MAXINT64, .has_sum = TRUE};
        gboolean fine = ek_content_inflate(content, &stream);
        EkSpan tail = ek_content_at(content, data + stream.packed, 8);
        if (!fine || tail.length == 0 || ek_span_le32(tail, 0) != stream.sum ||
            ek_span_le32(tail, 4) != (guint32)stream.unpacked) {
            ek_followed_break(followed,
                              at > 0                 ? at
                              : stream.packed > 4096 ? LEAST
                                                     : 0,
                              data + ek_stream_broke(&stream), LEAST,
                              fine ? "its checksum is wrong" : "its packed data break");
            return;
        }
        at = data + stream.packed + 8;
    }
    ek_followed_end(followed, at, EK_PROOF_FULL, "unpacked to its checksum");
}

const EkCarveType ek_carve_gzip = {
    .name = "gzip",
    .ending = "gz",
    .kind = EK_KIND_ARCHIVE,
    .checks = "unpacked to its CRC-32 and length",
    .names = "the name and date of what was packed",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .is_checked = TRUE,
};
