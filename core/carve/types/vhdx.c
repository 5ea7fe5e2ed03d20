/* SPDX-License-Identifier: MIT */
/* Disk images of the VHDX format ([MS-VHDX]): headers with sums lead to regions, and a table to the
 * blocks. */
#include "base/checksum.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#define KIB64 65536u
#define REGIONS (3 * (EkByte)KIB64)
#define REGIONS_MOST 2047u
#define ITEMS_MOST 2047u

static const EkSignature signatures[] = {{0, 8, {'v', 'h', 'd', 'x', 'f', 'i', 'l', 'e'}, {0}}};

static const guint8 block_table[16] = {0x66, 0x77, 0xc2, 0x2d, 0x23, 0xf6, 0x00, 0x42,
                                       0x9d, 0x64, 0x11, 0x5e, 0x9b, 0xfd, 0x4a, 0x08};
static const guint8 metadata[16] = {0x06, 0xa2, 0x7c, 0x8b, 0x90, 0x47, 0x9a, 0x4b,
                                    0xb8, 0xfe, 0x57, 0x5f, 0x05, 0x0f, 0x88, 0x6e};
static const guint8 parameters[16] = {0x37, 0x67, 0xa1, 0xca, 0x36, 0xfa, 0x43, 0x4d,
                                      0xb3, 0xb6, 0x33, 0xf0, 0xaa, 0x44, 0xe7, 0x6b};

/* CRC-32C with its own four bytes as zeros. */
static gboolean has_sum(EkSpan span)
{
    static const guint8 zeros[4];
    guint32 sum = ek_crc32c(G_MAXUINT32, ek_span_part(span, 0, 4));
    sum = ek_crc32c(sum, (EkSpan){zeros, sizeof zeros});
    sum = ek_crc32c(sum, ek_span_part(span, 8, span.length));
    return ~sum == ek_span_le32(span, 4);
}

/* Bytes of a block, by the item of the metadata; 0: not told. */
static guint32 block_bytes(EkContent *content, EkByte at)
{
    EkSpan head = ek_content_some(content, at, 32);
    guint count = MIN(ek_span_le16(head, 10), ITEMS_MOST);
    if (!ek_span_equals(head, 0, "metadata", 8))
        return 0;
    for (guint i = 0; i < count; i++) {
        EkSpan item = ek_content_some(content, at + 32 + 32 * (EkByte)i, 32);
        if (ek_span_equals(item, 0, parameters, 16))
            return ek_span_le32(ek_content_some(content, at + ek_span_le32(item, 16), 4), 0);
    }
    return 0;
}

static EkByte end_of_blocks(EkContent *content, EkRange table, guint32 bytes)
{
    EkByte end = 0;
    for (EkByte i = 0; 8 * i < table.bytes; i++) {
        EkSpan entry = ek_content_at(content, table.first + 8 * i, 8);
        guint64 value = ek_span_le64(entry, 0);
        if (entry.length == 0)
            return 0;
        /* Only these are there. Bitmaps of sectors take one MiB. */
        if ((value & 7) >= 6 && value >> 20 != 0)
            end = MAX(end, (value >> 20 << 20) + MAX(bytes, 1u << 20));
    }
    return MAX(end, table.first + table.bytes);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte end = 0;
    EkRange table = {0, 0};
    guint32 block = 0;
    for (EkByte i = 1; i <= 2; i++) {
        EkSpan head = ek_content_at(content, i * KIB64, 4096);
        if (ek_span_equals(head, 0, "head", 4) && has_sum(head) &&
            ek_span_le64(head, 72) < G_MAXINT64)
            end = MAX(end, ek_span_le64(head, 72) + ek_span_le32(head, 68));
    }
    EkSpan regions = ek_content_at(content, REGIONS, KIB64);
    if (end == 0 || !ek_span_equals(regions, 0, "regi", 4) || !has_sum(regions))
        return;
    guint count = MIN(ek_span_le32(regions, 8), REGIONS_MOST);
    EkByte details = 0;
    for (guint i = 0; i < count; i++) {
        EkSpan region = ek_span_part(regions, 16 + 32 * (gsize)i, 32);
        EkRange range = {MIN(ek_span_le64(region, 16), G_MAXINT64), ek_span_le32(region, 24)};
        end = MAX(end, ek_range_end(range));
        if (ek_span_equals(region, 0, block_table, 16))
            table = range;
        else if (ek_span_equals(region, 0, metadata, 16))
            details = range.first;
    }
    block = details != 0 ? block_bytes(content, details) : 0;
    EkByte blocks = table.bytes > 0 && block > 0 ? end_of_blocks(content, table, block) : 0;
    if (blocks == 0 || MAX(end, blocks) > ek_content_bytes(content)) {
        ek_followed_break(followed, REGIONS + KIB64,
                          MIN(MAX(end, blocks), ek_content_bytes(content)), KIB64,
                          "what its tables name is not there");
        return;
    }
    followed->is_doubtful = TRUE;
    ek_followed_end(followed, MAX(end, blocks), EK_PROOF_TABLES,
                    "the sums of its headers, and its table of blocks");
}

const EkCarveType ek_carve_vhdx = {
    .name = "vhdx",
    .ending = "vhdx",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the checksums of its headers, and its table; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
    .is_disk = TRUE,
};
