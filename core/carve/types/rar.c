/* SPDX-License-Identifier: MIT */
/* RAR archives, versions 4 and 5 (the published technical notes): a chain of blocks, each with a
 * sum over its header and the length of what follows it. What is stored unpacked is checked too. */
#include "base/checksum.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#define BLOCKS_MOST 1000000u
#define HEADER_MOST 65535u
#define LEAST 20u

static const EkSignature signatures[] = {{0, 7, {'R', 'a', 'r', '!', 0x1a, 7, 0}, {0}},
                                         {0, 8, {'R', 'a', 'r', '!', 0x1a, 7, 1, 0}, {0}}};

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    EkByte at;
    guint files;
    gboolean is_over;  /* the block that ends it */
    gboolean is_loose; /* something in it was not checked */
    const char *why;
} Rar;

/* Data of a block: stored ones have their sum. */
static gboolean pass_data(Rar *rar, EkByte bytes, gboolean is_stored, guint32 told)
{
    guint32 sum = 0;
    if (bytes > ek_content_bytes(rar->content) - MIN(rar->at, ek_content_bytes(rar->content))) {
        rar->why = EK_GROUND_ENDS;
        return FALSE;
    }
    if (is_stored && (!ek_content_crc32(rar->content, rar->at, bytes, &sum) || sum != told)) {
        rar->why = "the sum of a stored file is wrong";
        return FALSE;
    }
    rar->is_loose = rar->is_loose || (bytes > 0 && !is_stored);
    rar->at += bytes;
    return TRUE;
}

/* --- version 4 ------------------------------------------------------------------------------- */

static gboolean take_old(Rar *rar)
{
    EkSpan head = ek_content_some(rar->content, rar->at, 7);
    guint16 bytes = ek_span_le16(head, 5);
    guint16 flags = ek_span_le16(head, 3);
    guint8 type = ek_span_u8(head, 2);
    EkSpan block = ek_content_at(rar->content, rar->at, bytes);
    rar->why = "a block does not begin where the one before ends";
    if (bytes < 7 || block.length == 0 || type < 0x72 || type > 0x7b ||
        (ek_crc32(ek_span_part(block, 2, bytes - 2u)) & 0xffff) != ek_span_le16(block, 0))
        return FALSE;
    gboolean is_file = type == 0x74;
    EkByte data = (flags & 0x8000) != 0 || is_file ? ek_span_le32(block, 7) : 0;
    if (is_file && (flags & 0x100) != 0)
        data |= (EkByte)ek_span_le32(block, 32) << 32;
    /* Neither continued from or in another volume, nor encrypted. */
    gboolean is_stored = is_file && ek_span_u8(block, 25) == 0x30 && (flags & 7) == 0 &&
                         ek_span_le32(block, 7) == ek_span_le32(block, 11);
    guint32 told = ek_span_le32(block, 16);
    if (is_file && rar->files++ == 0) {
        ek_followed_words(rar->followed, ek_span_part(block, (flags & 0x100) != 0 ? 40 : 32,
                                                      ek_span_le16(block, 26)));
        guint32 date = ek_span_le32(block, 20);
        ek_followed_date(rar->followed,
                         ek_timestamp_dos((guint16)(date >> 16), (guint16)(date & 0xffff)));
    }
    rar->is_over = type == 0x7b;
    rar->at += bytes;
    return pass_data(rar, data, is_stored, told);
}

/* --- version 5 ------------------------------------------------------------------------------- */

/* Seven bits a byte, the lowest first. */
static guint64 number_at(EkSpan span, gsize *at)
{
    guint64 value = 0;
    for (guint shift = 0; shift < 63; shift += 7) {
        guint8 byte = ek_span_u8(span, (*at)++);
        value |= (guint64)(byte & 0x7f) << shift;
        if (byte < 0x80)
            break;
    }
    return value;
}

static gboolean take_file(Rar *rar, EkSpan block, gsize at, guint32 *told)
{
    guint64 flags = number_at(block, &at);
    number_at(block, &at); /* unpacked bytes */
    number_at(block, &at); /* attributes */
    if ((flags & 2) != 0)
        at += 4;
    *told = ek_span_le32(block, at);
    if ((flags & 4) != 0)
        at += 4;
    guint64 packing = number_at(block, &at);
    number_at(block, &at); /* system */
    guint64 length = number_at(block, &at);
    if (rar->files++ == 0)
        ek_followed_words(rar->followed, ek_span_part(block, at, (gsize)MIN(length, 1024)));
    return (packing & 0x380) == 0 && (flags & 4) != 0;
}

static gboolean take_new(Rar *rar)
{
    EkSpan head = ek_content_some(rar->content, rar->at, 8);
    gsize at = 4;
    guint64 length = number_at(head, &at);
    rar->why = "a block does not begin where the one before ends";
    if (length == 0 || length > HEADER_MOST - at)
        return FALSE;
    EkSpan block = ek_content_at(rar->content, rar->at, at + (gsize)length);
    if (block.length == 0 ||
        ek_crc32(ek_span_part(block, 4, block.length - 4)) != ek_span_le32(block, 0))
        return FALSE;
    guint64 type = number_at(block, &at);
    guint64 flags = number_at(block, &at);
    guint64 extra = (flags & 1) != 0 ? number_at(block, &at) : 0;
    guint64 data = (flags & 2) != 0 ? number_at(block, &at) : 0;
    guint32 told = 0;
    gboolean is_stored =
        type == 2 && take_file(rar, block, at, &told) && (flags & 0x18) == 0 && extra == 0;
    /* Behind this one all headers are encrypted. */
    rar->is_loose = rar->is_loose || type == 4;
    rar->is_over = type == 5;
    rar->at += block.length;
    return data < G_MAXINT64 && pass_data(rar, data, is_stored, told);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Rar rar = {.content = content, .followed = followed};
    gboolean is_new = ek_span_u8(ek_content_some(content, 0, 8), 6) == 1;
    EkByte sure = 0;
    rar.at = is_new ? 8 : 7;
    for (guint i = 0; i < BLOCKS_MOST && !rar.is_over; i++) {
        if (!(is_new ? take_new(&rar) : take_old(&rar)))
            break;
        sure = rar.at;
    }
    if (!rar.is_over) {
        ek_followed_break(followed, sure, MIN(rar.at, ek_content_bytes(content)), LEAST, rar.why);
        return;
    }
    followed->is_doubtful = rar.is_loose;
    ek_followed_end(followed, rar.at, rar.is_loose ? EK_PROOF_TABLES : EK_PROOF_FULL,
                    rar.is_loose ? "the sums of its headers, from block to block"
                                 : "the sums of its headers and of what is stored in it");
}

const EkCarveType ek_carve_rar = {
    .name = "rar",
    .ending = "rar",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the sum of each header, and of what is stored unpacked; packed files stay doubtful",
    .names = "the first file and its date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
};
