/* SPDX-License-Identifier: MIT */
/* Layered pictures, PSD and PSB (the published file format specification): sections that say their
 * length, and the flattened picture behind them, whose packed rows are unpacked. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define LEAST 26u
#define SIDE_MOST 300000u
#define RESOURCES_MOST 10000u

static const EkSignature signatures[] = {{0, 6, {'8', 'B', 'P', 'S', 0, 1}, {0}},
                                         {0, 6, {'8', 'B', 'P', 'S', 0, 2}, {0}}};

typedef struct {
    EkContent *content;
    gboolean is_large; /* PSB: wider numbers */
    guint64 rows;      /* of all channels */
    EkByte row_bytes;
    EkByte layers; /* bytes of the section that is not looked into */
    EkByte at;
} Picture;

static gboolean begin(EkSpan span)
{
    guint16 depth = ek_span_be16(span, 22);
    guint16 channels = ek_span_be16(span, 12);
    guint32 height = ek_span_be32(span, 14);
    guint32 width = ek_span_be32(span, 18);
    return ek_span_be32(span, 6) == 0 && ek_span_be16(span, 10) == 0 && channels > 0 &&
           channels <= 56 && height > 0 && height <= SIDE_MOST && width > 0 && width <= SIDE_MOST &&
           (depth == 1 || depth == 8 || depth == 16 || depth == 32) && ek_span_be16(span, 24) <= 9;
}

/* Each resource begins with its mark. */
static gboolean pass_resources(Picture *picture)
{
    EkByte end =
        picture->at + 4 + ek_span_be32(ek_content_some(picture->content, picture->at, 4), 0);
    EkByte at = picture->at + 4;
    for (guint i = 0; i < RESOURCES_MOST && at < end; i++) {
        EkSpan head = ek_content_some(picture->content, at, 268);
        gsize name = ((gsize)ek_span_u8(head, 6) + 2) & ~(gsize)1;
        guint32 bytes = ek_span_be32(head, 6 + name);
        if (!ek_span_equals(head, 0, "8BIM", 4) || head.length < 10 + name)
            return FALSE;
        at += 10 + name + bytes + (bytes & 1);
    }
    picture->at = end;
    return at == end;
}

/* Unpacks one row (PackBits). */
static gboolean is_row(EkSpan packed, EkByte bytes)
{
    gsize at = 0;
    EkByte given = 0;
    while (at < packed.length) {
        guint8 head = packed.data[at++];
        if (head == 128)
            continue;
        gsize taken = head < 128 ? head + 1u : 1u;
        given += head < 128 ? head + 1u : 257u - head;
        at += taken;
    }
    return at == packed.length && given == bytes;
}

static gboolean pass_rows(Picture *picture)
{
    gsize width = picture->is_large ? 4 : 2;
    EkByte list = picture->at;
    EkByte data = list + picture->rows * width;
    for (guint64 i = 0; i < picture->rows; i++) {
        EkSpan count = ek_content_at(picture->content, list + i * width, width);
        guint32 bytes = picture->is_large ? ek_span_be32(count, 0) : ek_span_be16(count, 0);
        EkSpan row = ek_content_at(picture->content, data, bytes);
        if (count.length == 0 || row.length != bytes || !is_row(row, picture->row_bytes))
            return FALSE;
        data += bytes;
    }
    picture->at = data;
    return TRUE;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 30);
    Picture picture = {.content = content, .is_large = ek_span_be16(head, 4) == 2};
    picture.rows = (guint64)ek_span_be16(head, 12) * ek_span_be32(head, 14);
    picture.row_bytes = ek_divide_up((EkByte)ek_span_be32(head, 18) * ek_span_be16(head, 22), 8);
    picture.at = 30 + (EkByte)ek_span_be32(head, 26);
    if (!pass_resources(&picture)) {
        ek_followed_break(followed, LEAST, MIN(picture.at, ek_content_bytes(content)), LEAST,
                          "its resources break");
        return;
    }
    EkByte sure = picture.at;
    head = ek_content_some(content, picture.at, 8);
    picture.layers = picture.is_large ? ek_span_be64(head, 0) : ek_span_be32(head, 0);
    picture.at += (picture.is_large ? 8 : 4) + MIN(picture.layers, G_MAXINT64 / 2);
    head = ek_content_at(content, picture.at, 2);
    guint16 packing = ek_span_be16(head, 0);
    picture.at += 2;
    gboolean fits = head.length == 2 && packing <= 1;
    if (fits && packing == 0)
        picture.at += picture.rows * picture.row_bytes;
    else if (fits)
        fits = pass_rows(&picture);
    if (!fits || picture.at > ek_content_bytes(content)) {
        ek_followed_break(followed, sure, MIN(picture.at, ek_content_bytes(content)), LEAST,
                          "the picture behind its layers is not there");
        return;
    }
    followed->is_doubtful = packing == 0 || picture.layers > 0;
    ek_followed_end(followed, picture.at, packing == 1 ? EK_PROOF_DECODED : EK_PROOF_LENGTH,
                    packing == 1 ? "all rows of the flattened picture; layers are not checked"
                                 : "ends where its lengths say; pixels are not checked");
}

const EkCarveType ek_carve_psd = {
    .name = "psd",
    .ending = "psd",
    .kind = EK_KIND_PICTURE,
    .checks = "all sections, and the packed rows of the flattened picture; with layers it stays "
              "doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
