/* SPDX-License-Identifier: MIT */
/* Shortcuts (.lnk, the published Shell Link format): part behind part to the block that ends it. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define HEADER 76u
#define PARTS_MOST 64u
#define PART_MOST 65536u
#define BLOCK 512u /* nothing of another file fits into what is no longer */

static const EkSignature signatures[] = {{0, 8, {0x4c, 0, 0, 0, 1, 0x14, 2, 0}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_le32(span, 8) == 0 && ek_span_be64(span, 12) == 0xc000000000000046u;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    guint32 flags = ek_span_le32(ek_content_some(content, 0, HEADER), 20);
    gsize unit = (flags & 0x80) != 0 ? 2 : 1;
    EkByte at = HEADER;
    if ((flags & 1) != 0)
        at += 2 + (EkByte)ek_span_le16(ek_content_some(content, at, 2), 0);
    if ((flags & 2) != 0 && (flags & 0x100) == 0)
        at += ek_span_le32(ek_content_some(content, at, 4), 0);
    for (guint32 flag = 4; flag <= 0x40; flag <<= 1)
        if ((flags & flag) != 0)
            at += 2 + unit * (EkByte)ek_span_le16(ek_content_some(content, at, 2), 0);
    for (guint i = 0; i < PARTS_MOST; i++) {
        EkSpan head = ek_content_at(content, at, 4);
        guint32 bytes = ek_span_le32(head, 0);
        if (head.length == 0 || (bytes >= 4 && (bytes < 8 || bytes > PART_MOST)))
            break;
        if (bytes < 4) {
            followed->is_doubtful = at + 4 > BLOCK;
            ek_followed_end(followed, at + 4, EK_PROOF_TABLES,
                            "all its parts up to the one that ends it");
            return;
        }
        at += bytes;
    }
    ek_followed_break(followed, HEADER, MIN(at, ek_content_bytes(content)), HEADER,
                      "a part of it is not there");
}

const EkCarveType ek_carve_shortcut = {
    .name = "shortcut",
    .ending = "lnk",
    .kind = EK_KIND_OTHER,
    .checks = "all its parts; longer than a sector it stays doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
