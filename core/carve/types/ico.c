/* SPDX-License-Identifier: MIT */
/* Icons and cursors: a list of pictures, each a bitmap or a PNG that begins as the list says. */
#include "carve/followed.h"
#include "carve/parts.h"
#include "carve/types/all.h"

#define PICTURES_MOST 64u
#define BLOCK 512u /* nothing of another file fits into what is no longer */

static const EkSignature signatures[] = {{0, 4, {0, 0, 1, 0}, {0}}, {0, 4, {0, 0, 2, 0}, {0}}};

static gboolean is_entry(EkSpan entry, gboolean is_cursor, guint32 list)
{
    guint16 depth = ek_span_le16(entry, 6);
    return ek_span_u8(entry, 3) == 0 && ek_span_le32(entry, 8) > 40 &&
           ek_span_le32(entry, 12) >= list &&
           (is_cursor || (ek_span_le16(entry, 4) <= 1 &&
                          (depth <= 1 || depth == 4 || depth == 8 || depth == 24 || depth == 32)));
}

static gboolean begin(EkSpan span)
{
    guint16 count = ek_span_le16(span, 4);
    guint32 list = 6 + 16 * (guint32)count;
    guint32 first = G_MAXUINT32;
    if (count == 0 || count > PICTURES_MOST)
        return FALSE;
    for (guint i = 0; i < count; i++) {
        EkSpan entry = ek_span_part(span, 6 + 16 * (gsize)i, 16);
        if (entry.length < 16 || !is_entry(entry, ek_span_u8(span, 2) == 2, list))
            return FALSE;
        first = MIN(first, ek_span_le32(entry, 12));
    }
    return first == list;
}

/* A bitmap is twice as high as it looks: its mask stands below it. */
static gboolean is_picture(EkContent *content, EkSpan entry)
{
    EkByte at = ek_span_le32(entry, 12);
    EkByte bytes = ek_span_le32(entry, 8);
    guint width = ek_span_u8(entry, 0) == 0 ? 256 : ek_span_u8(entry, 0);
    EkSpan head = ek_content_at(content, at, 40);
    if (ek_span_equals(head, 0, "\x89PNG\r\n\x1a\n", 8))
        return ek_span_equals(ek_content_at(content, at + bytes - 12, 12), 4, "IEND", 4);
    return ek_span_le32(head, 0) == 40 && ek_span_le32(head, 4) == width &&
           ek_span_le32(head, 8) % 2 == 0 && at + bytes <= ek_content_bytes(content);
}

/* One that is a file of its own, as a PNG is. */
static EkVerification verify(EkContent *content, EkSpan entry)
{
    return ek_parts_verify_one(content, ek_span_le32(entry, 12), ek_span_le32(entry, 8));
}

static void follow(EkContent *content, EkFollowed *followed)
{
    guint8 list[16 * PICTURES_MOST];
    EkSpan head = ek_content_some(content, 0, 6);
    gsize count = MIN(ek_span_le16(head, 4), PICTURES_MOST);
    gboolean is_cursor = ek_span_u8(head, 2) == 2;
    EkSpan entries = ek_content_at(content, 6, 16 * count);
    EkByte end = 6 + 16 * (EkByte)count;
    if (entries.length == 0)
        return;
    memcpy(list, entries.data, entries.length);
    for (gsize i = 0; i < count; i++) {
        EkSpan entry = {list + 16 * i, 16};
        EkVerification part = verify(content, entry);
        if (part.verified == EK_VERIFIED_WRONG) {
            ek_parts_break(followed, &part, ek_span_le32(entry, 12), 22, "a picture of it breaks");
            return;
        }
        EkByte bytes = ek_content_bytes(content);
        EkByte reached = MIN((EkByte)ek_span_le32(entry, 12) + ek_span_le32(entry, 8), bytes);
        if (!is_picture(content, entry)) {
            ek_followed_break(followed, i > 0 ? end : 0, reached == bytes ? reached : end, 22,
                              "a picture of it is not there");
            return;
        }
        end = MAX(end, reached);
    }
    ek_followed_ending(followed, is_cursor ? "cur" : "ico");
    followed->is_doubtful = end > BLOCK;
    ek_followed_end(followed, end, EK_PROOF_TABLES, "each picture begins where its list says");
}

const EkCarveType ek_carve_ico = {
    .name = "ico",
    .ending = "ico",
    .kind = EK_KIND_PICTURE,
    .checks =
        "that each picture begins where the list says; longer than a sector it stays doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
};
