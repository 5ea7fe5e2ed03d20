/* SPDX-License-Identifier: MIT */
/* Unpacking LZMA and LZMA2. Names follow the LZMA specification where it has any. */
#include "carve/lzma.h"

#include <string.h>

#define PROBABILITY_BITS 11
#define HALF (1u << (PROBABILITY_BITS - 1))
#define MOVE_BITS 5
#define TOP (1u << 24)
#define STATES 12u
#define LITERAL_STATES 7u /* below: the last thing was a literal */
#define POSITIONS 16u     /* of pb bits at most */
#define LITERAL_BITS 4u   /* lc + lp at most, in LZMA2 */
#define FIRST_MODEL 4u    /* distance slots: from here on with bits of their own */
#define END_MODEL 14u     /* from here on with direct bits */
#define ALIGN_BITS 4u
#define MATCH_LEAST 2u
#define PART (1u << 20)          /* bytes of a stream that are handed on at a time */
#define UNPACKED_MOST (2u << 20) /* bytes of a chunk: all of it is handed on at its end */

typedef guint16 Probability;

typedef struct {
    Probability choice;
    Probability choice2;
    Probability low[POSITIONS][8];
    Probability mid[POSITIONS][8];
    Probability high[256];
} Lengths;

/* All that a state reset sets back: each of them a probability. */
typedef struct {
    Probability match[STATES][POSITIONS];
    Probability rep[STATES];
    Probability rep_g0[STATES];
    Probability rep_g1[STATES];
    Probability rep_g2[STATES];
    Probability rep0_long[STATES][POSITIONS];
    Probability slot[4][64];
    Probability special[128];
    Probability align[1 << ALIGN_BITS];
    Lengths length;
    Lengths rep_length;
    Probability literal[0x300 << LITERAL_BITS];
} Model;

struct EkLzma {
    guint8 *window;
    gsize size;
    gsize at;          /* where the next byte goes */
    guint64 total;     /* bytes since the window was begun */
    gboolean is_short; /* the window is smaller than the stream asks for */
    gboolean gave_up;
    gboolean has_window;
    gboolean has_properties;
    gboolean has_state;
    guint lc;
    guint position_mask; /* of pb */
    guint literal_mask;  /* of lp */
    guint state;
    guint32 distance[4]; /* rep0 to rep3 */
    Model model;
    /* The range decoder. */
    const guint8 *chunk;
    const guint8 *in;
    const guint8 *end;
    guint32 range;
    guint32 code;
    gboolean is_starved;
    EkLzmaMore more; /* NULL: nothing comes behind `end` */
    void *more_data;
};

EkLzma *ek_lzma_new(guint64 window)
{
    EkLzma *lzma = g_new0(EkLzma, 1);
    lzma->size = (gsize)CLAMP(window, UNPACKED_MOST, EK_LZMA_WINDOW_MOST);
    lzma->is_short = window > lzma->size;
    lzma->window = g_malloc(lzma->size);
    return lzma;
}

void ek_lzma_free(EkLzma *lzma)
{
    g_free(lzma->window);
    g_free(lzma);
}

void ek_lzma_set(EkLzma *lzma, const EkLzma *other)
{
    guint8 *window = lzma->window;
    *lzma = *other;
    lzma->window = window;
    memcpy(window, other->window, other->size);
}

EkLzma *ek_lzma_copy(const EkLzma *lzma)
{
    if (lzma->size > EK_LZMA_COPY_MOST)
        return NULL;
    EkLzma *copy = g_new(EkLzma, 1);
    copy->window = g_malloc(lzma->size);
    ek_lzma_set(copy, lzma);
    return copy;
}

/* --- the range decoder ------------------------------------------------------------------------ */

static void refill(EkLzma *lzma)
{
    EkSpan span = lzma->more != NULL ? lzma->more(lzma->more_data) : (EkSpan){NULL, 0};
    lzma->is_starved = span.length == 0;
    lzma->in = span.data;
    lzma->end = lzma->is_starved ? span.data : span.data + span.length;
}

static guint32 next_byte(EkLzma *lzma)
{
    if (lzma->in == lzma->end && !lzma->is_starved)
        refill(lzma);
    return lzma->is_starved ? 0u : *lzma->in++;
}

static void normalize(EkLzma *lzma)
{
    if (lzma->range >= TOP)
        return;
    lzma->range <<= 8;
    lzma->code = lzma->code << 8 | next_byte(lzma);
}

static guint decode_bit(EkLzma *lzma, Probability *probability)
{
    normalize(lzma);
    guint32 bound = (lzma->range >> PROBABILITY_BITS) * *probability;
    if (lzma->code < bound) {
        lzma->range = bound;
        *probability =
            (Probability)(*probability + (((1u << PROBABILITY_BITS) - *probability) >> MOVE_BITS));
        return 0;
    }
    lzma->range -= bound;
    lzma->code -= bound;
    *probability = (Probability)(*probability - (*probability >> MOVE_BITS));
    return 1;
}

static guint32 decode_direct(EkLzma *lzma, guint bits)
{
    guint32 value = 0;
    for (; bits > 0; bits--) {
        normalize(lzma);
        lzma->range >>= 1;
        guint bit = lzma->code >= lzma->range;
        if (bit != 0)
            lzma->code -= lzma->range;
        value = value << 1 | bit;
    }
    return value;
}

static guint decode_tree(EkLzma *lzma, Probability *tree, guint bits)
{
    guint symbol = 1;
    for (guint i = 0; i < bits; i++)
        symbol = symbol << 1 | decode_bit(lzma, &tree[symbol]);
    return symbol - (1u << bits);
}

static guint32 decode_reverse(EkLzma *lzma, Probability *tree, guint bits)
{
    guint node = 1;
    guint32 value = 0;
    for (guint i = 0; i < bits; i++) {
        guint bit = decode_bit(lzma, &tree[node]);
        node = node << 1 | bit;
        value |= bit << i;
    }
    return value;
}

/* --- what a chunk is made of ------------------------------------------------------------------ */

static void put(EkLzma *lzma, guint8 byte)
{
    lzma->window[lzma->at] = byte;
    lzma->at = lzma->at + 1 == lzma->size ? 0 : lzma->at + 1;
    lzma->total++;
}

/* The byte so far back, 0 for the last; the distance is checked. */
static guint8 byte_before(const EkLzma *lzma, guint32 distance)
{
    gsize back = (gsize)distance + 1;
    return lzma->window[back <= lzma->at ? lzma->at - back : lzma->at + lzma->size - back];
}

static gboolean is_there(const EkLzma *lzma, guint32 distance)
{
    return distance < lzma->total && distance < lzma->size;
}

static gboolean decode_literal(EkLzma *lzma)
{
    guint previous = lzma->total > 0 ? byte_before(lzma, 0) : 0;
    guint context =
        ((guint)(lzma->total & lzma->literal_mask) << lzma->lc) + (previous >> (8 - lzma->lc));
    Probability *literal = lzma->model.literal + (gsize)0x300 * context;
    guint symbol = 1;
    if (lzma->state >= LITERAL_STATES) {
        if (!is_there(lzma, lzma->distance[0]))
            return FALSE;
        guint matched = byte_before(lzma, lzma->distance[0]);
        while (symbol < 0x100) {
            guint expected = matched >> 7 & 1;
            matched <<= 1;
            guint bit = decode_bit(lzma, &literal[((1 + expected) << 8) + symbol]);
            symbol = symbol << 1 | bit;
            if (bit != expected)
                break;
        }
    }
    while (symbol < 0x100)
        symbol = symbol << 1 | decode_bit(lzma, &literal[symbol]);
    put(lzma, (guint8)symbol);
    lzma->state = lzma->state < 4 ? 0 : lzma->state < 10 ? lzma->state - 3 : lzma->state - 6;
    return TRUE;
}

static guint decode_length(EkLzma *lzma, Lengths *lengths, guint position)
{
    if (decode_bit(lzma, &lengths->choice) == 0)
        return decode_tree(lzma, lengths->low[position], 3);
    if (decode_bit(lzma, &lengths->choice2) == 0)
        return 8 + decode_tree(lzma, lengths->mid[position], 3);
    return 16 + decode_tree(lzma, lengths->high, 8);
}

static guint32 decode_distance(EkLzma *lzma, guint length)
{
    guint slot = decode_tree(lzma, lzma->model.slot[MIN(length, 3)], 6);
    if (slot < FIRST_MODEL)
        return slot;
    guint bits = (slot >> 1) - 1;
    guint32 distance = (2 | (slot & 1)) << bits;
    if (slot < END_MODEL)
        return distance + decode_reverse(lzma, lzma->model.special + distance - slot, bits);
    distance += decode_direct(lzma, bits - ALIGN_BITS) << ALIGN_BITS;
    return distance + decode_reverse(lzma, lzma->model.align, ALIGN_BITS);
}

/* One of the last four distances. TRUE: it is a single byte. */
static gboolean decode_rep(EkLzma *lzma, guint position)
{
    guint32 *distance = lzma->distance;
    guint which = 0;
    if (decode_bit(lzma, &lzma->model.rep_g0[lzma->state]) == 0)
        return decode_bit(lzma, &lzma->model.rep0_long[lzma->state][position]) == 0;
    which = 1;
    if (decode_bit(lzma, &lzma->model.rep_g1[lzma->state]) != 0)
        which = 2 + decode_bit(lzma, &lzma->model.rep_g2[lzma->state]);
    guint32 chosen = distance[which];
    memmove(distance + 1, distance, which * sizeof *distance);
    distance[0] = chosen;
    return FALSE;
}

/* The length of the match that begins; 0: it is a literal. */
static guint decode_match(EkLzma *lzma, guint position)
{
    guint state = lzma->state;
    guint length = 1;
    gboolean is_rep = decode_bit(lzma, &lzma->model.rep[state]) != 0;
    if (is_rep && decode_rep(lzma, position)) {
        lzma->state = state < LITERAL_STATES ? 9 : 11;
        return length;
    }
    length = decode_length(lzma, is_rep ? &lzma->model.rep_length : &lzma->model.length, position);
    if (!is_rep) {
        memmove(lzma->distance + 1, lzma->distance, 3 * sizeof *lzma->distance);
        lzma->distance[0] = decode_distance(lzma, length);
    }
    lzma->state = is_rep ? (state < LITERAL_STATES ? 8 : 11) : (state < LITERAL_STATES ? 7 : 10);
    return length + MATCH_LEAST;
}

/* At least `least` bytes, unless it is starved, and `most` at most. FALSE: it does not decode. */
static gboolean decode_some(EkLzma *lzma, gsize least, guint64 most)
{
    guint64 begun = lzma->total;
    while (lzma->total - begun < least && !lzma->is_starved) {
        guint position = (guint)lzma->total & lzma->position_mask;
        if (decode_bit(lzma, &lzma->model.match[lzma->state][position]) == 0) {
            if (!decode_literal(lzma))
                return FALSE;
            continue;
        }
        guint length = decode_match(lzma, position);
        if (length > most - (lzma->total - begun) || !is_there(lzma, lzma->distance[0]))
            return FALSE;
        for (; length > 0; length--)
            put(lzma, byte_before(lzma, lzma->distance[0]));
    }
    return TRUE;
}

/* --- chunks ----------------------------------------------------------------------------------- */

gsize ek_lzma_chunk_bytes(EkSpan head)
{
    guint8 control = ek_span_u8(head, 0);
    if (head.length == 0)
        return 0;
    if (control == 0)
        return 1;
    if (control >= 0x80)
        return 5 + (control >= 0xc0 ? 1u : 0u) + (gsize)ek_span_be16(head, 3) + 1;
    return control <= 2 ? 3 + (gsize)ek_span_be16(head, 1) + 1 : 0;
}

static gboolean set_properties(EkLzma *lzma, guint8 byte)
{
    guint lp = byte / 9u % 5u;
    guint pb = byte / 45u;
    lzma->lc = byte % 9u;
    lzma->literal_mask = (1u << lp) - 1;
    lzma->position_mask = (1u << pb) - 1;
    lzma->has_properties = pb <= 4 && lzma->lc + lp <= LITERAL_BITS;
    return lzma->has_properties;
}

static void reset_state(EkLzma *lzma)
{
    Probability *all = (Probability *)&lzma->model;
    for (gsize i = 0; i < sizeof lzma->model / sizeof *all; i++)
        all[i] = HALF;
    memset(lzma->distance, 0, sizeof lzma->distance);
    lzma->state = 0;
    lzma->has_state = TRUE;
}

/* What was put since `from`, which may go around the end of the window. */
static void hand_on(EkLzma *lzma, gsize from, gsize length, EkLzmaTake take, void *data)
{
    gsize part = MIN(length, lzma->size - from);
    take(data, lzma->window + from, part);
    if (length > part)
        take(data, lzma->window, length - part);
}

static gboolean decode_packed(EkLzma *lzma, EkSpan chunk, EkLzmaTake take, void *data)
{
    guint8 control = ek_span_u8(chunk, 0);
    gsize length = ((gsize)(control & 0x1f) << 16) + ek_span_be16(chunk, 1) + 1;
    gsize header = control >= 0xc0 ? 6 : 5;
    if (control >= 0xc0 && !set_properties(lzma, ek_span_u8(chunk, 5)))
        return FALSE;
    lzma->has_window = lzma->has_window || control >= 0xe0;
    if (control >= 0xa0 && lzma->has_properties)
        reset_state(lzma);
    EkSpan packed = ek_span_part(chunk, header, chunk.length - header);
    if (!lzma->has_window || !lzma->has_properties || !lzma->has_state || packed.length < 5 ||
        packed.data[0] != 0)
        return FALSE;
    lzma->range = 0xffffffff;
    lzma->code = ek_span_be32(packed, 1);
    lzma->chunk = chunk.data;
    lzma->in = packed.data + 5;
    lzma->end = packed.data + packed.length;
    lzma->is_starved = FALSE;
    gsize from = lzma->at;
    lzma->more = NULL;
    gboolean fine = decode_some(lzma, length, length);
    normalize(lzma);
    if (!fine || lzma->is_starved || lzma->in != lzma->end || lzma->code != 0)
        return FALSE;
    hand_on(lzma, from, length, take, data);
    return TRUE;
}

static gboolean copy_plain(EkLzma *lzma, EkSpan chunk, EkLzmaTake take, void *data)
{
    EkSpan plain = ek_span_part(chunk, 3, chunk.length - 3);
    lzma->has_window = lzma->has_window || ek_span_u8(chunk, 0) == 1;
    if (!lzma->has_window)
        return FALSE;
    for (gsize i = 0; i < plain.length; i++)
        put(lzma, plain.data[i]);
    take(data, plain.data, plain.length);
    return TRUE;
}

gboolean ek_lzma_gave_up(const EkLzma *lzma)
{
    return lzma->gave_up;
}

gsize ek_lzma_reached(const EkLzma *lzma)
{
    return lzma->in != NULL ? (gsize)(lzma->in - lzma->chunk) : 0;
}

gboolean ek_lzma_chunk(EkLzma *lzma, EkSpan chunk, EkLzmaTake take, void *data)
{
    if (chunk.length == 0 || chunk.length != ek_lzma_chunk_bytes(chunk))
        return FALSE;
    if (ek_span_u8(chunk, 0) == 1 || ek_span_u8(chunk, 0) >= 0xe0)
        lzma->total = 0;
    lzma->gave_up = lzma->gave_up || (lzma->is_short && lzma->total + UNPACKED_MOST > lzma->size);
    if (lzma->gave_up)
        return TRUE;
    return ek_span_u8(chunk, 0) >= 0x80 ? decode_packed(lzma, chunk, take, data)
                                        : copy_plain(lzma, chunk, take, data);
}

/* --- streams ---------------------------------------------------------------------------------- */

static gboolean is_at_end(EkLzma *lzma)
{
    normalize(lzma);
    if (lzma->in == lzma->end && !lzma->is_starved)
        refill(lzma);
    return lzma->is_starved && lzma->code == 0;
}

/* All of it was taken, with the mark that some packers put at the end: a match at no distance. */
static gboolean ends_well(EkLzma *lzma)
{
    guint position = (guint)lzma->total & lzma->position_mask;
    if (is_at_end(lzma))
        return TRUE;
    if (lzma->is_starved || decode_bit(lzma, &lzma->model.match[lzma->state][position]) == 0)
        return FALSE;
    (void)decode_match(lzma, position);
    return !lzma->is_starved && lzma->distance[0] == 0xffffffff && is_at_end(lzma);
}

gboolean ek_lzma_stream(EkLzma *lzma, guint8 properties, guint64 bytes, EkLzmaMore more,
                        EkLzmaTake take, void *data)
{
    lzma->gave_up = !set_properties(lzma, properties);
    if (lzma->gave_up)
        return TRUE;
    reset_state(lzma);
    lzma->total = 0;
    lzma->at = 0;
    lzma->more = more;
    lzma->more_data = data;
    lzma->in = lzma->end = NULL;
    lzma->is_starved = FALSE;
    lzma->range = 0xffffffff;
    gboolean fine = next_byte(lzma) == 0;
    for (guint i = 0; i < 4; i++)
        lzma->code = lzma->code << 8 | next_byte(lzma);
    while (fine && bytes > 0 && !lzma->is_starved && !lzma->gave_up) {
        gsize from = lzma->at;
        guint64 before = lzma->total;
        fine = decode_some(lzma, (gsize)MIN(bytes, PART), bytes);
        gsize done = (gsize)(lzma->total - before);
        hand_on(lzma, from, done, take, data);
        bytes -= done;
        /* A window that is too short has lost what a match may need. */
        lzma->gave_up = lzma->is_short && lzma->total > lzma->size;
    }
    fine = lzma->gave_up || (fine && !lzma->is_starved && ends_well(lzma));
    lzma->more = NULL;
    return fine;
}
