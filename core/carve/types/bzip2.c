/* SPDX-License-Identifier: MIT */
/* bzip2: blocks that begin at any bit with a mark and the sum of what they unpack to, and an end
 * mark with the sum of these sums. */
#include "carve/bunzip.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#define BLOCK_MARK 0x314159265359u
#define END_MARK 0x177245385090u
#define LEAST 14u
#define FIRST_LEAST 1024u /* bytes that the first block must decode to be one */

static const EkSignature signatures[] = {
    {0, 8, {'B', 'Z', 'h', 0, '1', 'A', 'Y', '&'}, {0xff, 0xff, 0xff, 0, 0xff, 0xff, 0xff, 0xff}}};

static gboolean begin(EkSpan span)
{
    return ek_span_u8(span, 3) >= '1' && ek_span_u8(span, 3) <= '9' &&
           ek_span_be16(span, 8) == 0x5359;
}

static guint64 bit_place(const EkBits *bits)
{
    return bits->at * 8 - bits->count;
}

static guint64 take_mark(EkBits *bits)
{
    guint64 high = ek_bits_take(bits, 24);
    return high << 24 | ek_bits_take(bits, 24);
}

/* Several packers write one file as streams one behind the other. */
static gboolean goes_on(EkContent *content, EkFollowed *followed, EkByte end, guint streams)
{
    EkSpan span = ek_content_some(content, end, 10);
    return span.length == 10 && ek_span_equals(span, 0, "BZh", 3) &&
           ek_span_equals(span, 4, "1AY&SY", 6) && begin(span) &&
           ek_followed_has_more(followed, end, streams);
}

/* Where it stands, between two blocks. */
typedef struct {
    EkByte begins; /* the stream */
    guint64 bit;   /* the next block, or the end mark */
    guint32 sums;  /* of the stream's blocks */
    guint blocks;  /* that were right, of all streams */
} Place;

/* Block by block, each unpacked to its sum, to the sum of these. TRUE: the stream ends, at *at;
 * else it breaks there. */
static gboolean pass_stream(EkContent *content, Place *place, EkByte *at)
{
    EkBits bits;
    g_autoptr(EkBunzip) bunzip =
        ek_bunzip_new((guint)ek_span_u8(ek_content_some(content, place->begins, 4), 3) - '0');
    ek_bits_begin(&bits, content, place->bit / 8);
    (void)ek_bits_take(&bits, (guint)(place->bit % 8));
    for (;;) {
        guint64 mark = take_mark(&bits);
        guint32 told = ek_bits_take(&bits, 32);
        guint32 sum = 0;
        if (mark == END_MARK) {
            *at = MIN(ek_divide_up(bit_place(&bits), 8), ek_content_bytes(content));
            return told == place->sums && place->blocks > 0 && !bits.is_over &&
                   ek_divide_up(bit_place(&bits), 8) <= ek_content_bytes(content);
        }
        gboolean is_right =
            mark == BLOCK_MARK && ek_bunzip_block(bunzip, &bits, &sum) && sum == told;
        *at = MIN(bit_place(&bits) / 8, ek_content_bytes(content));
        if (!is_right || bit_place(&bits) > ek_content_bytes(content) * 8)
            return FALSE;
        place->bit = bit_place(&bits);
        place->sums = (place->sums << 1 | place->sums >> 31) ^ told;
        place->blocks++;
        ek_content_keep(content, *at, place, sizeof *place, TRUE);
    }
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Place place = {.begins = 0, .bit = 32};
    EkByte at = 0;
    followed->texture = EK_TEXTURE_PACKED;
    (void)ek_content_kept(content, &place, sizeof place);
    gboolean fine = pass_stream(content, &place, &at);
    while (fine && goes_on(content, followed, at, place.begins > 0 ? 2 : 1)) {
        place = (Place){.begins = at, .bit = (at + 4) * 8, .blocks = place.blocks};
        fine = pass_stream(content, &place, &at);
    }
    if (fine) {
        ek_followed_end(followed, at, EK_PROOF_FULL,
                        "each block unpacked to its checksum, and the sum of these");
        return;
    }
    EkByte sure = place.bit / 8;
    followed->broken = (EkBroken){.first = sure, .bytes = at - MIN(at, sure)};
    EkByte head = MIN(at, FIRST_LEAST);
    ek_followed_break(followed, place.blocks > 0 ? sure : head, at,
                      place.blocks > 0 ? LEAST : FIRST_LEAST, "a block does not unpack");
    /* As long as none was right nothing but its beginning is surely its own. */
    if (place.blocks == 0)
        followed->sure = MIN(head, EK_STEP);
}

const EkCarveType ek_carve_bzip2 = {
    .name = "bzip2",
    .ending = "bz2",
    .kind = EK_KIND_ARCHIVE,
    .checks = "each block unpacked to its CRC-32, and the sum of these",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .is_checked = TRUE,
};
