/* SPDX-License-Identifier: MIT */
/* Disc images (ECMA-119): the descriptors behind 16 sectors say how long the disc is, and the path
 * table where its folders are. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define SECTOR 2048u
#define AREA 32768u /* of the system, before the first descriptor */
#define FOLDERS_MOST 65536u

static const EkSignature signatures[] = {{0, 7, {1, 'C', 'D', '0', '0', '1', 1}, {0}}};

/* Each folder of the path table begins with an entry for itself. */
static gboolean has_folders(EkContent *content, EkByte table, guint32 bytes, EkByte block)
{
    EkByte at = table;
    for (guint i = 0; i < FOLDERS_MOST && at < table + bytes; i++) {
        EkSpan entry = ek_content_some(content, at, 8);
        guint8 name = ek_span_u8(entry, 0);
        EkByte place = ek_span_le32(entry, 2) * block;
        if (name == 0)
            return FALSE;
        EkSpan folder = ek_content_some(content, place, 34);
        if (ek_span_le32(folder, 2) * block != place || ek_span_u8(folder, 32) != 1 ||
            ek_span_u8(folder, 33) != 0)
            return FALSE;
        at += 8 + (EkByte)name + (name & 1);
    }
    return TRUE;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, AREA, SECTOR);
    EkByte block = ek_span_le16(head, 128);
    EkByte end = ek_span_le32(head, 80) * block;
    guint32 bytes = ek_span_le32(head, 132);
    EkByte table = ek_span_le32(head, 140) * block;
    EkSpan date = ek_span_part(head, 813, 14);
    if ((block != 512 && block != 1024 && block != SECTOR) || end < AREA + SECTOR ||
        ek_span_be32(head, 84) != ek_span_le32(head, 80) || bytes == 0)
        return;
    followed->expected = end;
    ek_followed_words(followed, ek_span_part(head, 40, 32));
    ek_followed_date_digits(followed, date, TRUE);
    if (end > ek_content_bytes(content) || !has_folders(content, table, bytes, block)) {
        ek_followed_break(followed, AREA + SECTOR, MIN(end, ek_content_bytes(content)), AREA,
                          "its folders are not where its path table says");
        return;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, end, EK_PROOF_TABLES,
                    "all folders of its path table, and ends where its descriptor says");
}

const EkCarveType ek_carve_iso = {
    .name = "iso",
    .ending = "iso",
    .kind = EK_KIND_ARCHIVE,
    .checks = "its descriptor and the folders of its path table; always doubtful",
    .names = "its label and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .before = AREA,
    .follow = follow,
};
