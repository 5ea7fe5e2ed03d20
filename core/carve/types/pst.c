/* SPDX-License-Identifier: MIT */
/* Outlook stores, PST and OST ([MS-PST]): a header with a sum says where the file ends, and a page
 * of the map of what is allocated stands at equal distances in it. */
#include "base/checksum.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#define MAP_FIRST 0x4400u
#define MAP_APART 0x3e000u /* what a page of the map stands for */
#define PAGE 512u
#define MAP_PAGE 0x84u
#define SUMMED 471u

static const EkSignature signatures[] = {{0, 4, {'!', 'B', 'D', 'N'}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_u8(span, 8) == 'S' &&
           (ek_span_u8(span, 9) == 'M' || ek_span_u8(span, 9) == 'O') &&
           ek_crc32_from(0, ek_span_part(span, 8, SUMMED)) == ek_span_le32(span, 4);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, PAGE);
    gboolean is_wide = ek_span_le16(head, 10) >= 23;
    gsize tail = is_wide ? 16 : 12;
    EkByte end = is_wide ? ek_span_le64(head, 184) : ek_span_le32(head, 168);
    EkByte sure = PAGE;
    if (end < MAP_FIRST || end > G_MAXINT64)
        return;
    followed->expected = end;
    ek_followed_ending(followed, ek_span_u8(head, 9) == 'O' ? "ost" : "pst");
    for (EkByte at = MAP_FIRST; at + PAGE <= end; at += MAP_APART) {
        EkSpan page = ek_content_at(content, at, PAGE);
        if (page.length == 0 || ek_span_u8(page, PAGE - tail) != MAP_PAGE ||
            ek_span_u8(page, PAGE - tail + 1) != MAP_PAGE) {
            ek_followed_break(followed, sure, MIN(at, ek_content_bytes(content)), PAGE,
                              "a page of its map is not where it must be");
            return;
        }
        sure = at + PAGE;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end_within(
        content, followed, end, sure, EK_PROOF_TABLES,
        "the checksum of its header, and each page of its map; its contents are not checked");
}

const EkCarveType ek_carve_pst = {
    .name = "outlook",
    .ending = "pst",
    .kind = EK_KIND_MAIL,
    .checks = "the checksum of its header, and each page of its map; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
