/* SPDX-License-Identifier: MIT */
/* Disk images of the VDI format: a map that gives each of the blocks in it to a place of the
 * disk. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define BLOCKS_MOST (1u << 24)
#define NONE_FROM 0xfffffffeu

static const EkSignature signatures[] = {{0x40, 4, {0x7f, 0x10, 0xda, 0xbe}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_le32(span, 0x44) >> 16 == 1 && ek_span_le32(span, 0x178) >= 4096 &&
           ek_span_le32(span, 0x180) <= BLOCKS_MOST &&
           ek_span_le32(span, 0x184) <= ek_span_le32(span, 0x180);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, 0x190);
    EkByte map = ek_span_le32(head, 0x154);
    EkByte data = ek_span_le32(head, 0x158);
    EkByte block = (EkByte)ek_span_le32(head, 0x178) + ek_span_le32(head, 0x17c);
    guint32 count = ek_span_le32(head, 0x180);
    guint32 held = ek_span_le32(head, 0x184);
    guint32 given = 0;
    EkByte end = data + held * block;
    followed->expected = end;
    for (guint32 i = 0; i < count; i++) {
        EkSpan entry = ek_content_at(content, map + 4 * (EkByte)i, 4);
        guint32 value = ek_span_le32(entry, 0);
        if (entry.length == 0 || (value >= held && value < NONE_FROM)) {
            ek_followed_break(followed, 512, MIN(map + 4 * (EkByte)i, ek_content_bytes(content)),
                              512, "its map leads to blocks that it has not");
            return;
        }
        given += value < NONE_FROM ? 1 : 0;
    }
    if (given != held || end > ek_content_bytes(content)) {
        ek_followed_break(followed, MIN(data, ek_content_bytes(content)),
                          MIN(end, ek_content_bytes(content)), 512, "its blocks are not all there");
        return;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, end, EK_PROOF_TABLES, "its map gives away each of its blocks");
}

const EkCarveType ek_carve_vdi = {
    .name = "vdi",
    .ending = "vdi",
    .kind = EK_KIND_ARCHIVE,
    .checks = "its map of blocks; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .is_disk = TRUE,
};
