/* SPDX-License-Identifier: MIT */
/* Dynamic disk images of the VHD format (the published Virtual Hard Disk specification): a table
 * leads to the blocks, and behind the last one stands the first sector once more. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define SECTOR 512u
#define ENTRIES_MOST (1u << 22)
#define NONE 0xffffffffu

static const EkSignature signatures[] = {{0, 8, {'c', 'o', 'n', 'e', 'c', 't', 'i', 'x'}, {0}}};

/* The complement of the sum of all bytes but those of the sum itself. */
static gboolean has_sum(EkSpan span, gsize length, gsize at)
{
    guint32 sum = 0;
    for (gsize i = 0; i < length; i++)
        if (i < at || i >= at + 4)
            sum += ek_span_u8(span, i);
    return ~sum == ek_span_be32(span, at);
}

static gboolean begin(EkSpan span)
{
    return has_sum(span, SECTOR, 64) && ek_span_be64(span, 16) == SECTOR &&
           ek_span_equals(span, SECTOR, "cxsparse", 8) &&
           has_sum(ek_span_part(span, SECTOR, 1024), 1024, 36);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    guint8 footer[SECTOR];
    EkSpan head = ek_content_some(content, 0, SECTOR + 1024);
    EkByte table = ek_span_be64(head, SECTOR + 16);
    guint32 count = MIN(ek_span_be32(head, SECTOR + 28), ENTRIES_MOST);
    EkByte block = ek_span_be32(head, SECTOR + 32);
    /* A bit a sector, in whole sectors. */
    EkByte bitmap = ek_divide_up(ek_divide_up(block / SECTOR, 8), SECTOR) * SECTOR;
    if (head.length < SECTOR + 1024 || table > G_MAXINT64)
        return;
    memcpy(footer, head.data, sizeof footer);
    EkByte end = table + ek_divide_up(4 * (EkByte)count, SECTOR) * SECTOR;
    for (guint32 i = 0; i < count; i++) {
        EkSpan entry = ek_content_at(content, table + 4 * (EkByte)i, 4);
        guint32 first = ek_span_be32(entry, 0);
        if (entry.length == 0)
            break;
        if (first != NONE)
            end = MAX(end, (EkByte)first * SECTOR + bitmap + block);
    }
    followed->expected = end + SECTOR;
    EkSpan last = ek_content_at(content, end, SECTOR);
    if (last.length == 0 || memcmp(last.data, footer, sizeof footer) != 0) {
        ek_followed_break(followed, SECTOR + 1024, MIN(end, ek_content_bytes(content)), SECTOR,
                          "its last sector is not the first once more");
        return;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, end + SECTOR, EK_PROOF_TABLES,
                    "its table, and its last sector, which is the first once more");
}

const EkCarveType ek_carve_vhd = {
    .name = "vhd",
    .ending = "vhd",
    .kind = EK_KIND_ARCHIVE,
    .checks = "checksums, table and last sector of dynamic ones; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .is_disk = TRUE,
};
