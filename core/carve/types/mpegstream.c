/* SPDX-License-Identifier: MIT */
/* MPEG streams (ISO/IEC 13818-1): transport streams, packet behind packet, and program streams,
 * pack behind pack. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define PACKETS_LEAST 24u
#define LEAST 4096u

/* --- transport streams ----------------------------------------------------------------------- */

static const EkSignature ts_signatures[] = {
    {0, 5, {0x47, 0x40, 0, 0x10, 0}, {0xff, 0xe0, 0, 0xd0, 0xff}},
    {4, 4, {0x47, 0x40, 0, 0x10}, {0xff, 0xe0, 0, 0xd0}},
};

/* Packets have 188 bytes; on discs and cameras four of a clock stand before each. */
static gsize packet_size(EkSpan span)
{
    static const gsize sizes[] = {188, 192};
    for (gsize i = 0; i < G_N_ELEMENTS(sizes); i++) {
        gsize at = sizes[i] - 188;
        guint count = 0;
        while (at < span.length && ek_span_u8(span, at) == 0x47) {
            at += sizes[i];
            count++;
        }
        if (at >= span.length && count >= 5)
            return sizes[i];
    }
    return 0;
}

static gboolean begin_ts(EkSpan span)
{
    return packet_size(ek_span_part(span, 0, 4096)) != 0;
}

static void follow_ts(EkContent *content, EkFollowed *followed)
{
    gsize size = packet_size(ek_content_some(content, 0, 4096));
    EkByte at = 0;
    guint64 count = 0;
    while (size != 0) {
        EkSpan head = ek_content_at(content, at, size);
        guint8 mark = ek_span_u8(head, size - 188);
        guint8 flags = ek_span_u8(head, size - 188 + 3);
        if (mark != 0x47 || (flags & 0x30) == 0)
            break;
        at += size;
        count++;
    }
    ek_followed_ending(followed, size == 192 ? "m2ts" : "ts");
    followed->is_doubtful = TRUE;
    if (count >= PACKETS_LEAST)
        ek_followed_end(followed, at, EK_PROOF_TABLES,
                        "each packet; nothing tells whether the last one is the last");
}

const EkCarveType ek_carve_mpegts = {
    .name = "mpeg-ts",
    .ending = "ts",
    .kind = EK_KIND_VIDEO,
    .checks = "each packet; always doubtful",
    .signatures = ts_signatures,
    .signature_count = G_N_ELEMENTS(ts_signatures),
    .begin = begin_ts,
    .follow = follow_ts,
};

/* --- program streams ------------------------------------------------------------------------- */

static const EkSignature ps_signatures[] = {{0, 4, {0, 0, 1, 0xba}, {0}}};

static gboolean begin_ps(EkSpan span)
{
    guint8 first = ek_span_u8(span, 4);
    return (first & 0xc4) == 0x44 || (first & 0xf1) == 0x21;
}

static void follow_ps(EkContent *content, EkFollowed *followed)
{
    EkByte at = 0;
    guint64 count = 0;
    gboolean is_ended = FALSE;
    ek_content_kept(content, &at, sizeof at);
    for (;;) {
        EkSpan head = ek_content_some(content, at, 14);
        guint8 kind = ek_span_u8(head, 3);
        if (!ek_span_equals(head, 0, "\0\0\1", 3) || kind < 0xb9)
            break;
        if (kind == 0xb9) {
            at += 4;
            is_ended = TRUE;
            break;
        }
        EkByte next = at + 6 + (EkByte)ek_span_be16(head, 4);
        if (kind == 0xba)
            next =
                at + ((ek_span_u8(head, 4) & 0xc0) == 0x40 ? 14 + (ek_span_u8(head, 13) & 7u) : 12);
        if (next > ek_content_bytes(content))
            break;
        at = next;
        count++;
        ek_content_keep(content, at, &at, sizeof at, TRUE);
    }
    followed->is_doubtful = !is_ended;
    if (count >= PACKETS_LEAST || (at > LEAST && is_ended))
        ek_followed_end(followed, at, EK_PROOF_TABLES,
                        is_ended ? "each pack to the mark at the end"
                                 : "each pack; nothing tells whether the last one is the last");
}

const EkCarveType ek_carve_mpegps = {
    .name = "mpeg-ps",
    .ending = "mpg",
    .kind = EK_KIND_VIDEO,
    .checks = "each pack, to the mark at the end where there is one",
    .signatures = ps_signatures,
    .signature_count = G_N_ELEMENTS(ps_signatures),
    .begin = begin_ps,
    .follow = follow_ps,
};
