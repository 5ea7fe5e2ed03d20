/* SPDX-License-Identifier: MIT */
/* JPEG 2000 (ITU-T T.800): boxes, and in them a codestream whose tile parts say their length. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define BOXES_MOST 256u
#define PARTS_MOST 100000u
#define LEAST 64u

static const EkSignature signatures[] = {{0, 8, {0, 0, 0, 12, 'j', 'P', ' ', ' '}, {0}},
                                         {0, 4, {0xff, 0x4f, 0xff, 0x51}, {0}}};

static gboolean begin(EkSpan span)
{
    return (ek_span_u8(span, 0) == 0xff && ek_span_be16(span, 4) >= 41) ||
           ek_span_be32(span, 8) == 0x0d0a870a;
}

/* From mark to mark up to the end mark, or 0 where it breaks at *at. */
static EkByte pass_codestream(EkContent *content, EkByte first, EkByte *at)
{
    *at = first + 2;
    for (guint i = 0; i < PARTS_MOST; i++) {
        EkSpan head = ek_content_some(content, *at, 12);
        guint16 mark = ek_span_be16(head, 0);
        guint32 part = ek_span_be32(head, 6);
        if (mark == 0xffd9)
            return *at + 2;
        if (mark == 0xff90 && ek_span_be16(head, 2) == 10 && part >= 14)
            *at += part;
        else if (mark > 0xff50 && mark < 0xff70 && ek_span_be16(head, 2) >= 2)
            *at += 2 + (EkByte)ek_span_be16(head, 2);
        else
            return 0;
    }
    return 0;
}

static gboolean is_box(EkSpan head)
{
    for (gsize i = 4; i < 8; i++)
        if (!g_ascii_isalnum(ek_span_u8(head, i)) && ek_span_u8(head, i) != ' ')
            return FALSE;
    return ek_span_be32(head, 0) == 1 || ek_span_be32(head, 0) >= 8;
}

/* Behind the picture; anything else is another file. */
static gboolean may_follow(EkSpan head)
{
    static const char *const names[] = {"uuid", "xml ", "asoc", "uinf", "free", "jp2i"};
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++)
        if (ek_span_equals(head, 4, names[i], 4))
            return TRUE;
    return FALSE;
}

static void follow_boxes(EkContent *content, EkFollowed *followed)
{
    EkByte at = 0;
    EkByte broke = 0;
    gboolean has_picture = FALSE;
    for (guint i = 0; i < BOXES_MOST; i++) {
        EkSpan head = ek_content_some(content, at, 20);
        EkByte length = ek_span_be32(head, 0) == 1 ? ek_span_be64(head, 8) : ek_span_be32(head, 0);
        gboolean is_stream = ek_span_equals(head, 4, "jp2c", 4);
        if (is_stream) {
            EkByte data = at + (ek_span_be32(head, 0) == 1 ? 16 : 8);
            EkByte end = pass_codestream(content, data, &broke);
            if (end == 0 || end > ek_content_bytes(content) ||
                (length != 0 && end != at + length)) {
                ek_followed_break(followed, at, MIN(broke, ek_content_bytes(content)), LEAST,
                                  "a tile of its picture is not where the one before says");
                return;
            }
            has_picture = TRUE;
            at = end;
        } else if (is_box(head) && (!has_picture || may_follow(head)) && length >= 8 &&
                   length < G_MAXINT64 && at + length <= ek_content_bytes(content)) {
            if (i == 1 && ek_span_equals(head, 8, "jpx ", 4))
                ek_followed_ending(followed, "jpx");
            at += length;
        } else {
            break;
        }
    }
    if (!has_picture) {
        ek_followed_break(followed, at, at, LEAST, "no picture in its boxes");
        return;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, at, EK_PROOF_TABLES,
                    "its boxes and tile parts; pixels are not checked");
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte broke = 0;
    if (ek_span_u8(ek_content_some(content, 0, 4), 0) != 0xff) {
        follow_boxes(content, followed);
        return;
    }
    EkByte end = pass_codestream(content, 0, &broke);
    ek_followed_ending(followed, "j2k");
    followed->is_doubtful = TRUE;
    if (end != 0 && end <= ek_content_bytes(content))
        ek_followed_end(followed, end, EK_PROOF_TABLES, "its tile parts; pixels are not checked");
    else
        ek_followed_break(followed, broke > LEAST ? LEAST : 0,
                          MIN(broke, ek_content_bytes(content)), LEAST,
                          "a tile of its picture is not where the one before says");
}

const EkCarveType ek_carve_jpeg2000 = {
    .name = "jpeg2000",
    .ending = "jp2",
    .kind = EK_KIND_PICTURE,
    .checks = "its boxes and tile parts; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
