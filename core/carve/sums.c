/* SPDX-License-Identifier: MIT */
/* A part of a file was cut somewhere, and the rest of it lies somewhere else: its CRC-32, or the
 * sum of its words, tells where. The sum of two stretches follows from their sums (zlib's
 * crc32_combine), so each block is summed once, and all pairs of a cut and a block cost no more
 * reading. */
#include "carve/sums.h"

#include "carve/followed.h"

#include <libdeflate.h>
#include <zlib.h>

#define PART_MOST (8u << 20)
#define PAIRS_MOST (8u << 20)

typedef struct {
    EkContent *content;
    EkContent *ground;
    const EkBroken *part;
    gsize grid;
    gsize rest;      /* bytes of the part in its last block */
    EkByte cut;      /* the last place at which it may be cut */
    guint cuts;      /* so many, one block apart, back from there */
    guint32 *before; /* of what lies before each cut, [0] before the last */
    guint blocks;
    guint32 *whole; /* of each block */
    guint32 *ends;  /* of the first `rest` bytes of it */
    guint32 *told;  /* the sum that stands behind these */
} Search;

/* The sum of what `sum` is that of, and these bytes behind it. */
static guint32 sum_on(const Search *search, guint32 sum, const guint8 *bytes, gsize length)
{
    if (search->part->check != EK_PART_ADDED)
        return libdeflate_crc32(sum, bytes, length);
    EkSpan span = {bytes, length};
    gsize words = length / 4 * 4;
    for (gsize at = 0; at < words; at += 4)
        sum += ek_span_be32(span, at);
    /* The last word is filled up with zeros. */
    for (gsize at = words; at < length; at++)
        sum += (guint32)bytes[at] << (24 - 8 * (at - words));
    return sum;
}

/* The sum of two stretches; `operator` is that of the length of the second one. */
static guint32 joined(const Search *search, guint32 one, guint32 other, guint32 operator)
{
    return search->part->check == EK_PART_ADDED ? one + other
                                                : (guint32)crc32_combine_op(one, other, operator);
}

/* Sums of what is before each cut, as it lies now. */
static gboolean sum_before(Search *search)
{
    EkByte at = search->part->first;
    guint32 sum = 0;
    for (guint i = search->cuts; i > 0; i--) {
        EkByte cut = search->cut - (EkByte)(i - 1) * search->grid;
        while (at < cut) {
            gsize length = (gsize)MIN(cut - at, 65536);
            EkSpan span = ek_content_at(search->content, at, length);
            if (span.length < length)
                return FALSE;
            sum = sum_on(search, sum, span.data, span.length);
            at += span.length;
        }
        search->before[i - 1] = sum;
    }
    return TRUE;
}

static guint sum_blocks(Search *search)
{
    for (guint i = 0; i < search->blocks; i++) {
        EkSpan span = ek_content_some(search->ground, (EkByte)i * search->grid, search->grid + 4);
        if (span.length < search->grid)
            return i;
        search->whole[i] = sum_on(search, 0, span.data, search->grid);
        search->ends[i] = sum_on(search, 0, span.data, search->rest);
        search->told[i] = search->part->check == EK_PART_SUM_BEHIND
                              ? ek_span_be32(span, search->rest)
                              : search->part->sum;
    }
    return search->blocks;
}

/* With the part's last bytes in this block: is there a cut that fits? */
static gboolean fits(const Search *search, guint last, const guint32 *operators, guint *cut)
{
    guint32 sum = search->ends[last];
    for (guint i = 0; i < search->cuts && i <= last; i++) {
        /* Whole blocks between the cut and the last one: i. */
        if (i > 0)
            sum = joined(search, search->whole[last - i], sum, operators[i - 1]);
        if (joined(search, search->before[i], sum, operators[i]) == search->told[last]) {
            *cut = i;
            return TRUE;
        }
    }
    return FALSE;
}

static gboolean search_all(Search *search, EkByte *offset, EkByte *in_ground)
{
    g_autofree guint32 *operators = g_new(guint32, search->cuts);
    for (guint i = 0; i < search->cuts; i++)
        operators[i] =
            (guint32)crc32_combine_gen((z_off_t)(search->rest + (gsize)i * search->grid));
    guint blocks = sum_before(search) ? sum_blocks(search) : 0;
    guint most = MIN(blocks, PAIRS_MOST / search->cuts);
    for (guint last = 0; last < most; last++) {
        guint cut;
        if (!fits(search, last, operators, &cut))
            continue;
        *offset = search->cut - (EkByte)cut * search->grid;
        *in_ground = (EkByte)(last - cut) * search->grid;
        return TRUE;
    }
    return FALSE;
}

gboolean ek_sums_find(EkContent *content, EkContent *ground, const EkBroken *part, gsize grid,
                      guint blocks, EkByte *offset, EkByte *in_ground)
{
    EkByte end = part->first + part->bytes;
    EkByte cut = end / grid * grid;
    if (part->check == EK_PART_PLAIN || (part->check == EK_PART_ADDED && part->first % 4 != 0) ||
        part->bytes == 0 || part->bytes > PART_MOST || cut <= part->first || blocks == 0 ||
        grid + 4 > EK_CONTENT_SHOWN)
        return FALSE;
    g_autofree guint32 *before = g_new(guint32, (gsize)(part->bytes / grid) + 1);
    g_autofree guint32 *sums = g_new(guint32, 3 * (gsize)blocks);
    Search search = {
        .content = content,
        .ground = ground,
        .part = part,
        .grid = grid,
        .rest = (gsize)(end - cut),
        .cut = cut,
        .cuts = (guint)((cut - part->first - 1) / grid + 1),
        .before = before,
        .blocks = blocks,
        .whole = sums,
        .ends = sums + blocks,
        .told = sums + 2 * (gsize)blocks,
    };
    return search_all(&search, offset, in_ground);
}
