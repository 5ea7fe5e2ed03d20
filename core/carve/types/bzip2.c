/* SPDX-License-Identifier: MIT */
/* bzip2: blocks that begin at any bit with a mark and their sum, and an end mark with the sum of
 * these sums. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define BLOCK_MARK 0x314159265359u
#define END_MARK 0x177245385090u
#define MARK_BITS 0xffffffffffffu
#define BLOCK_MOST (1200u << 10) /* bytes of a packed block */
#define LEAST 14u

static const EkSignature signatures[] = {
    {0, 8, {'B', 'Z', 'h', 0, '1', 'A', 'Y', '&'}, {0xff, 0xff, 0xff, 0, 0xff, 0xff, 0xff, 0xff}}};

static gboolean begin(EkSpan span)
{
    return ek_span_u8(span, 3) >= '1' && ek_span_u8(span, 3) <= '9' &&
           ek_span_be16(span, 8) == 0x5359;
}

/* 32 bits at any bit. */
static guint32 bits_at(EkContent *content, guint64 bit)
{
    EkSpan span = ek_content_some(content, bit / 8, 5);
    guint64 value = (guint64)ek_span_be32(span, 0) << 8 | ek_span_u8(span, 4);
    return (guint32)(value >> (8 - bit % 8));
}

/* Two bytes that stand in the middle of a mark, at one of eight shifts: a bit each. */
static const guint8 *middles(void)
{
    static guint8 bits[65536 / 8];
    static gsize is_made = 0;
    if (g_once_init_enter(&is_made)) {
        static const guint64 marks[] = {BLOCK_MARK, END_MARK};
        for (guint i = 0; i < 16; i++) {
            guint16 middle = (guint16)(marks[i / 8] >> (16 + i % 8));
            bits[middle / 8] |= (guint8)(1u << middle % 8);
        }
        g_once_init_leave(&is_made, 1);
    }
    return bits;
}

/* The next mark from a bit on; *is_end tells which. FALSE: none within a block's length. */
static gboolean next_mark(EkContent *content, guint64 bit, guint64 *found, gboolean *is_end)
{
    const guint8 *bits = middles();
    guint64 held = 0;
    EkByte at = bit / 8;
    EkByte limit = at + BLOCK_MOST;
    while (at < limit) {
        EkSpan span = ek_content_some(content, at, 32768);
        if (span.length == 0)
            return FALSE;
        for (gsize i = 0; i < span.length; i++, at++) {
            held = held << 8 | span.data[i];
            /* Bytes 2 and 3 behind: of a mark that ends in this byte, at any shift. */
            guint16 middle = (guint16)(held >> 24);
            guint16 before = (guint16)(held >> 16);
            if ((bits[middle / 8] >> middle % 8 & 1) == 0 &&
                (bits[before / 8] >> before % 8 & 1) == 0)
                continue;
            for (guint shift = 8; shift-- > 0;) {
                guint64 mark = held >> shift & MARK_BITS;
                guint64 begins = (at + 1) * 8 - shift - 48;
                if ((mark == BLOCK_MARK || mark == END_MARK) && (at + 1) * 8 >= shift + 48 &&
                    begins >= bit) {
                    *found = begins;
                    *is_end = mark == END_MARK;
                    return TRUE;
                }
            }
        }
    }
    return FALSE;
}

/* Does another file begin just before this mark? */
static gboolean is_next_file(EkContent *content, guint64 mark)
{
    return mark % 8 == 0 && mark >= 64 &&
           ek_span_equals(ek_content_some(content, mark / 8 - 4, 3), 0, "BZh", 3);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    guint64 bit = 32;
    guint32 sum = 0;
    guint64 mark = 0;
    gboolean is_end = FALSE;
    guint blocks = 0;
    while (next_mark(content, bit, &mark, &is_end)) {
        guint32 told = bits_at(content, mark + 48);
        if ((blocks == 0 && mark != 32) || is_next_file(content, mark))
            break;
        if (is_end && told == sum && blocks > 0) {
            followed->is_doubtful = TRUE;
            ek_followed_end(followed, (mark + 48 + 32 + 7) / 8, EK_PROOF_TABLES,
                            "the mark of each block, and the sum of their sums; what is in them is "
                            "not unpacked");
            return;
        }
        if (is_end)
            break;
        sum = (sum << 1 | sum >> 31) ^ told;
        blocks++;
        bit = mark + 80;
    }
    ek_followed_break(followed, blocks > 0 ? bit / 8 : 0,
                      MIN(bit / 8 + BLOCK_MOST, ek_content_bytes(content)), LEAST,
                      "no mark of a block where one must stand");
}

const EkCarveType ek_carve_bzip2 = {
    .name = "bzip2",
    .ending = "bz2",
    .kind = EK_KIND_ARCHIVE,
    .checks = "the mark of each block, and the sum of their sums; always doubtful",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
