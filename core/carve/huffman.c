/* SPDX-License-Identifier: MIT */
/* Huffman-coded data of JPEG (ITU-T T.81, annexes F and G). Progressive pictures need a bit a
 * coefficient of what earlier scans set: refining reads by it. */
#include "carve/huffman.h"

#include "carve/followed.h"

#include <string.h>

#define BLOCKS_MOST (4u << 20)
#define SCANS_MOST 256u
#define KEEP_EVERY 4096u
#define STRAY_MOST 16u /* bytes between the last block and the marker */

/* --- headers --------------------------------------------------------------------------------- */

gboolean ek_jpeg_frame(EkJpegFrame *frame, guint8 marker, EkSpan body)
{
    if (frame->kind != 0 || body.length < 6)
        return FALSE;
    frame->kind = marker;
    frame->height = ek_span_be16(body, 1);
    frame->width = ek_span_be16(body, 3);
    frame->count = ek_span_u8(body, 5);
    if (frame->width == 0 || frame->count == 0 || frame->count > EK_JPEG_COMPONENTS ||
        body.length < 6 + 3 * (gsize)frame->count || ek_span_u8(body, 0) < 2 ||
        ek_span_u8(body, 0) > 16)
        return FALSE;
    for (guint i = 0; i < frame->count; i++) {
        EkJpegComponent *component = &frame->components[i];
        guint8 factors = ek_span_u8(body, 7 + 3 * (gsize)i);
        component->id = ek_span_u8(body, 6 + 3 * (gsize)i);
        component->across = factors >> 4;
        component->down = factors & 15;
        if (component->across == 0 || component->across > 4 || component->down == 0 ||
            component->down > 4)
            return FALSE;
        frame->most_across = MAX(frame->most_across, component->across);
        frame->most_down = MAX(frame->most_down, component->down);
    }
    guint units_across = (frame->width + 8 * frame->most_across - 1) / (8 * frame->most_across);
    guint units_down = (frame->height + 8 * frame->most_down - 1) / (8 * frame->most_down);
    for (guint i = 0; i < frame->count; i++) {
        EkJpegComponent *component = &frame->components[i];
        guint width =
            (frame->width * component->across + frame->most_across - 1) / frame->most_across;
        guint height = (frame->height * component->down + frame->most_down - 1) / frame->most_down;
        component->width = (width + 7) / 8;
        component->height = (height + 7) / 8;
        component->stride = units_across * component->across;
        component->first = frame->blocks;
        guint64 blocks = (guint64)component->stride * units_down * component->down;
        if (frame->blocks + blocks > (guint64)BLOCKS_MOST * 16)
            return FALSE;
        frame->blocks += (guint32)blocks;
    }
    if (marker == 0xc2 && (frame->height == 0 || frame->blocks > BLOCKS_MOST))
        return FALSE;
    if (marker == 0xc2)
        frame->seen = g_new0(guint64, frame->blocks);
    return TRUE;
}

/* Of a coefficient nothing is needed but where the next one begins: by the next bits a step says
 * how many bits its code and its value take (the lower five), and how many coefficients come before
 * the next one. 0: its code is longer, or impossible. */
#define STEP_ENDS 128u /* of them where the block ends */
#define STEP_BITS 32u  /* that a step takes at most, and one more */
#define PAIR_LAST 47u  /* behind a first coefficient from here on there is no second one */

static void make_steps(EkJpegTable *table, guint length, guint code, guint8 value)
{
    guint size = value & 15;
    guint run = value >> 4;
    if (length > EK_JPEG_STEP_BITS || (size == 0 && run != 0 && run != 15))
        return;
    guint over = size == 0 && run == 0 ? STEP_ENDS : run + 1;
    guint spare = EK_JPEG_STEP_BITS - length;
    for (guint k = 0; k < 1u << spare; k++)
        if ((code << spare) + k < G_N_ELEMENTS(table->steps))
            table->steps[(code << spare) + k] = (guint16)(over << 5 | (length + size));
}

/* Of most coefficients code and value are so short that the code of the next one is seen too. */
static void make_pairs(EkJpegTable *table)
{
    const guint count = G_N_ELEMENTS(table->steps);
    for (guint i = 0; i < count; i++) {
        guint one = table->steps[i];
        guint bits = one & 31;
        table->pairs[i] = (guint16)one;
        if (one == 0 || bits >= EK_JPEG_STEP_BITS || one >> 5 >= STEP_ENDS)
            continue;
        guint begin = i << bits & (count - 1);
        guint other = table->steps[begin];
        guint length = table->quick[begin >> (EK_JPEG_STEP_BITS - 9)] >> 8;
        if (other != 0 && length != 0 && bits + length <= EK_JPEG_STEP_BITS &&
            bits + (other & 31) < STEP_BITS)
            table->pairs[i] = (guint16)(one + other);
    }
}

static gboolean make_table(EkJpegTable *table, const guint8 *counts, EkSpan values)
{
    gint32 code = 0;
    gint32 place = 0;
    memset(table, 0, sizeof *table);
    for (guint length = 1; length <= 16; length++) {
        table->shift[length] = place - code;
        for (guint i = 0; i < counts[length - 1]; i++, code++, place++) {
            table->values[place] = ek_span_u8(values, (gsize)place);
            make_steps(table, length, (guint)code, table->values[place]);
            for (guint k = 0; length <= 9 && k < 1u << (9 - length); k++) {
                guint index = ((guint)code << (9 - length)) + k;
                if (index < 512)
                    table->quick[index] = (guint16)(length << 8 | table->values[place]);
            }
        }
        table->last[length] = counts[length - 1] > 0 ? code - 1 : -1;
        if (code > 1 << length)
            return FALSE;
        code <<= 1;
    }
    make_pairs(table);
    table->is_set = TRUE;
    return TRUE;
}

gboolean ek_jpeg_tables(EkJpegFrame *frame, EkSpan body)
{
    gsize at = 0;
    while (at + 17 <= body.length) {
        guint8 id = ek_span_u8(body, at);
        guint8 counts[16];
        guint total = 0;
        for (guint i = 0; i < 16; i++)
            total += (counts[i] = ek_span_u8(body, at + 1 + i));
        if ((id & 0xec) != 0 || total > 256 || !ek_span_has(body, at + 17, total))
            return FALSE;
        EkSpan values = ek_span_part(body, at + 17, total);
        if (!make_table(&frame->tables[(id >> 4) * 4 + (id & 3)], counts, values))
            return FALSE;
        at += 17 + total;
    }
    return at == body.length;
}

void ek_jpeg_clear(EkJpegFrame *frame)
{
    g_clear_pointer(&frame->seen, g_free);
}

gboolean ek_jpeg_is_done(const EkJpegFrame *frame)
{
    return frame->count > 0 && frame->scanned == (1u << frame->count) - 1;
}

/* --- bits ------------------------------------------------------------------------------------ */

typedef struct {
    EkContent *content;
    EkByte at; /* of the next byte that is taken */
    EkSpan span;
    EkByte span_at;
    guint64 held;
    guint count;
    gboolean at_marker; /* nothing more comes: zeros are given */
    guint given;        /* of these, in bits */
    gboolean is_wrong;
} Bits;

static guint8 byte_at(Bits *bits, EkByte at)
{
    if (at < bits->span_at || at - bits->span_at >= bits->span.length) {
        bits->span = ek_content_some(bits->content, at, ek_content_stride(bits->content));
        bits->span_at = at;
        if (bits->span.length == 0) {
            bits->is_wrong = TRUE;
            return 0;
        }
    }
    return bits->span.data[at - bits->span_at];
}

/* Bytes at once, up to the first that may be a mark; FALSE: there is none to be had so. */
static gboolean fill_at_once(Bits *bits)
{
    gsize inside = (gsize)(bits->at - bits->span_at);
    if (bits->at_marker || bits->at < bits->span_at || inside + 8 > bits->span.length)
        return FALSE;
    guint64 word = ek_span_be64(bits->span, inside);
    guint64 inverted = ~word;
    guint64 marks = (inverted - G_GUINT64_CONSTANT(0x0101010101010101)) & ~inverted &
                    G_GUINT64_CONSTANT(0x8080808080808080);
    guint room = (63 - bits->count) / 8;
    while (room > 0 && marks >> (64 - 8 * room) != 0)
        room--;
    if (room == 0)
        return FALSE;
    bits->held = bits->held << (8 * room) | word >> (64 - 8 * room);
    bits->count += 8 * room;
    bits->at += room;
    return TRUE;
}

static void fill(Bits *bits)
{
    while (bits->count <= 48) {
        if (fill_at_once(bits))
            continue;
        guint8 byte = bits->at_marker ? 0 : byte_at(bits, bits->at);
        if (!bits->at_marker && byte == 0xff) {
            if (byte_at(bits, bits->at + 1) == 0)
                bits->at++;
            else
                bits->at_marker = TRUE;
        }
        if (bits->at_marker || bits->is_wrong) {
            bits->at_marker = TRUE;
            bits->given += 8;
            byte = 0;
        } else {
            bits->at++;
        }
        bits->held = bits->held << 8 | byte;
        bits->count += 8;
    }
}

static inline guint32 peek(Bits *bits, guint count)
{
    if (bits->count < count)
        fill(bits);
    return (guint32)(bits->held >> (bits->count - count)) & ((1u << count) - 1);
}

static inline guint32 take(Bits *bits, guint count)
{
    guint32 value = count == 0 ? 0 : peek(bits, count);
    bits->count -= count;
    return value;
}

/* The next value by a table; an impossible code is noted. */
static inline guint8 decode(Bits *bits, const EkJpegTable *table)
{
    guint32 next = peek(bits, 16);
    guint16 quick = table->quick[next >> 7];
    if (quick != 0) {
        bits->count -= quick >> 8;
        return (guint8)(quick & 0xff);
    }
    for (guint length = 10; length <= 16; length++) {
        gint32 code = (gint32)(next >> (16 - length));
        if (table->last[length] >= 0 && code <= table->last[length] &&
            code + table->shift[length] >= 0 && code + table->shift[length] < 256) {
            bits->count -= length;
            return table->values[code + table->shift[length]];
        }
    }
    bits->is_wrong = TRUE;
    return 0;
}

/* --- blocks ---------------------------------------------------------------------------------- */

typedef struct {
    EkJpegFrame *frame;
    Bits bits;
    guint count;
    guint which[EK_JPEG_COMPONENTS];
    const EkJpegTable *differences[EK_JPEG_COMPONENTS];
    const EkJpegTable *coefficients[EK_JPEG_COMPONENTS];
    guint first; /* of the band of coefficients */
    guint last;
    guint high;
    guint low;
    guint32 skip; /* blocks without any more coefficients in this band */
    gint32 levels[EK_JPEG_COMPONENTS];
} Scan;

static gint32 signed_of(guint32 value, guint bits)
{
    return bits > 0 && value < 1u << (bits - 1) ? (gint32)value - (1 << bits) + 1 : (gint32)value;
}

/* The level of a block: one that no picture has is noted. */
static void take_level(Scan *scan, guint i)
{
    guint8 bits = decode(&scan->bits, scan->differences[i]);
    if (bits > 16) {
        scan->bits.is_wrong = TRUE;
        return;
    }
    scan->levels[i] += signed_of(take(&scan->bits, bits), bits);
    if (scan->levels[i] > 65536 || scan->levels[i] < -65536)
        scan->bits.is_wrong = TRUE;
    if (scan->frame->kind != 0xc2 && (scan->levels[i] > 40960 || scan->levels[i] < -40960))
        scan->bits.is_wrong = TRUE;
}

/* A coefficient whose code is long; returns how many come before the next one. */
static guint take_coefficient(Bits *bits, const EkJpegTable *table)
{
    guint8 value = decode(bits, table);
    guint size = value & 15;
    guint run = value >> 4;
    bits->is_wrong = bits->is_wrong || (size == 0 && run != 0 && run != 15);
    take(bits, size);
    return size == 0 && run == 0 ? STEP_ENDS : run + 1;
}

static void take_block(Scan *scan, guint i)
{
    Bits *bits = &scan->bits;
    const EkJpegTable *table = scan->coefficients[i];
    guint k = 1;
    take_level(scan, i);
    while (k < 64 && !bits->is_wrong) {
        if (bits->count < STEP_BITS)
            fill(bits);
        guint64 held = bits->held;
        guint count = bits->count;
        guint16 step = 1;
        while (k <= PAIR_LAST && count >= STEP_BITS && step != 0) {
            step =
                table
                    ->pairs[held >> (count - EK_JPEG_STEP_BITS) & (G_N_ELEMENTS(table->pairs) - 1)];
            count -= step & 31;
            k += step >> 5;
        }
        while (k < 64 && count >= STEP_BITS && step != 0) {
            step =
                table
                    ->steps[held >> (count - EK_JPEG_STEP_BITS) & (G_N_ELEMENTS(table->steps) - 1)];
            count -= step & 31;
            k += step >> 5;
        }
        bits->count = count;
        if (step == 0)
            k += take_coefficient(bits, table);
    }
    /* The last one is the 63rd. */
    bits->is_wrong = bits->is_wrong || (k > 64 && k < STEP_ENDS);
}

/* Coefficients of a band for the first time. */
static void take_band(Scan *scan, guint64 *seen)
{
    Bits *bits = &scan->bits;
    if (scan->skip > 0) {
        scan->skip--;
        return;
    }
    for (guint k = scan->first; k <= scan->last && !bits->is_wrong; k++) {
        guint8 value = decode(bits, scan->coefficients[0]);
        guint size = value & 15;
        guint run = value >> 4;
        if (size == 0 && run < 15) {
            scan->skip = (1u << run) - 1 + take(bits, run);
            return;
        }
        k += run;
        if (k > scan->last) {
            bits->is_wrong = TRUE;
            return;
        }
        take(bits, size);
        if (size != 0)
            *seen |= (guint64)1 << k;
    }
}

/* A bit more of each coefficient, and those that come up only now. */
static void refine_band(Scan *scan, guint64 *seen)
{
    Bits *bits = &scan->bits;
    guint k = scan->first;
    while (scan->skip == 0 && k <= scan->last && !bits->is_wrong) {
        guint8 value = decode(bits, scan->coefficients[0]);
        guint size = value & 15;
        guint run = value >> 4;
        if (size > 1) {
            bits->is_wrong = TRUE;
        } else if (size == 0 && run < 15) {
            scan->skip = (1u << run) + take(bits, run);
            break;
        }
        if (size == 1)
            take(bits, 1);
        gboolean is_set = FALSE;
        for (; k <= scan->last && !is_set; k++) {
            if ((*seen >> k & 1) != 0)
                take(bits, 1);
            else if (run == 0)
                is_set = TRUE;
            else
                run--;
        }
        if (is_set && size == 1)
            *seen |= (guint64)1 << (k - 1);
        else if (size == 1)
            bits->is_wrong = TRUE;
    }
    if (scan->skip > 0) {
        for (; k <= scan->last; k++)
            if ((*seen >> k & 1) != 0)
                take(bits, 1);
        scan->skip--;
    }
}

static void take_one(Scan *scan, guint i, guint32 block)
{
    if (scan->frame->kind != 0xc2)
        take_block(scan, i);
    else if (scan->first == 0 && scan->high == 0)
        take_level(scan, i);
    else if (scan->first == 0)
        take(&scan->bits, 1);
    else if (scan->high == 0)
        take_band(scan, &scan->frame->seen[block]);
    else
        refine_band(scan, &scan->frame->seen[block]);
}

/* One unit of the scan: of several components the blocks of each, of one component one block. */
static void take_unit(Scan *scan, guint32 unit)
{
    const EkJpegFrame *frame = scan->frame;
    if (scan->count == 1) {
        const EkJpegComponent *component = &frame->components[scan->which[0]];
        guint32 across = unit % component->width;
        guint32 down = unit / component->width;
        take_one(scan, 0, component->first + down * component->stride + across);
        return;
    }
    for (guint i = 0; i < scan->count && !scan->bits.is_wrong; i++) {
        const EkJpegComponent *component = &frame->components[scan->which[i]];
        for (guint k = 0; k < (guint)component->across * component->down; k++)
            take_one(scan, i, 0);
    }
}

/* --- scans ----------------------------------------------------------------------------------- */

static gboolean begin_scan(Scan *scan, EkSpan body)
{
    const EkJpegFrame *frame = scan->frame;
    scan->count = ek_span_u8(body, 0);
    gsize tail = 1 + 2 * (gsize)scan->count;
    if (frame->kind == 0 || scan->count == 0 || scan->count > frame->count ||
        body.length < tail + 3)
        return FALSE;
    scan->first = ek_span_u8(body, tail);
    scan->last = ek_span_u8(body, tail + 1);
    scan->high = ek_span_u8(body, tail + 2) >> 4;
    scan->low = ek_span_u8(body, tail + 2) & 15;
    gboolean is_progressive = frame->kind == 0xc2;
    if (is_progressive &&
        (scan->last > 63 || scan->first > scan->last || (scan->first > 0 && scan->count > 1) ||
         (scan->first == 0 && scan->last > 0)))
        return FALSE;
    for (guint i = 0; i < scan->count; i++) {
        guint8 id = ek_span_u8(body, 1 + 2 * (gsize)i);
        guint8 tables = ek_span_u8(body, 2 + 2 * (gsize)i);
        guint which = 0;
        while (which < frame->count && frame->components[which].id != id)
            which++;
        if (which == frame->count || (tables & 0xcc) != 0)
            return FALSE;
        scan->which[i] = which;
        scan->differences[i] = &frame->tables[tables >> 4];
        scan->coefficients[i] = &frame->tables[4 + (tables & 15)];
        gboolean needs_level = !is_progressive || (scan->first == 0 && scan->high == 0);
        gboolean needs_band = !is_progressive || scan->first > 0;
        if ((needs_level && !scan->differences[i]->is_set) ||
            (needs_band && !scan->coefficients[i]->is_set))
            return FALSE;
    }
    return TRUE;
}

static guint64 units_of(const Scan *scan)
{
    const EkJpegFrame *frame = scan->frame;
    guint across = 8 * frame->most_across;
    guint down = 8 * frame->most_down;
    const EkJpegComponent *component = &frame->components[scan->which[0]];
    if (frame->height == 0)
        return G_MAXUINT64;
    if (scan->count == 1)
        return (guint64)component->width * component->height;
    return (guint64)((frame->width + across - 1) / across) * ((frame->height + down - 1) / down);
}

/* What of a scan goes on in its middle. */
typedef struct {
    EkByte scan;
    EkByte at;
    guint64 held;
    guint64 unit;
    guint32 count;
    guint32 restarts;
    gint32 levels[EK_JPEG_COMPONENTS];
} State;

/* The marker between intervals. */
static gboolean take_restart(Scan *scan, guint32 number)
{
    Bits *bits = &scan->bits;
    fill(bits);
    if (!bits->at_marker || bits->count < bits->given || bits->count - bits->given > 7 ||
        byte_at(bits, bits->at + 1) != 0xd0 + (number & 7))
        return FALSE;
    bits->at += 2;
    bits->held = bits->count = bits->given = 0;
    bits->at_marker = FALSE;
    scan->skip = 0;
    memset(scan->levels, 0, sizeof scan->levels);
    return TRUE;
}

static void keep(Scan *scan, EkByte began, guint64 unit, guint32 restarts)
{
    const Bits *bits = &scan->bits;
    State state = {began, bits->at, bits->held, unit, bits->count, restarts, {0}};
    memcpy(state.levels, scan->levels, sizeof state.levels);
    ek_content_keep(bits->content, bits->at, &state, sizeof state, FALSE);
}

/* Is all taken that stood before the marker, but for bits that fill the last byte? Some writers
 * leave a few bytes more. */
static gboolean end_scan(Scan *scan, EkByte *at)
{
    Bits *bits = &scan->bits;
    for (guint i = 0; i <= STRAY_MOST / 4 && !bits->at_marker && !bits->is_wrong; i++) {
        bits->count = 0;
        fill(bits);
    }
    *at = bits->at;
    return bits->at_marker && !bits->is_wrong && bits->count >= bits->given &&
           bits->count - bits->given < 8 * (STRAY_MOST + 1);
}

gboolean ek_jpeg_scan(EkContent *content, EkJpegFrame *frame, EkSpan body, EkByte *at)
{
    Scan scan = {.frame = frame, .bits = {.content = content, .at = *at, .span_at = *at}};
    Bits *bits = &scan.bits;
    EkByte began = *at;
    if (frame->scans++ > SCANS_MOST || !begin_scan(&scan, body))
        return FALSE;
    guint64 units = units_of(&scan);
    guint64 unit = 0;
    guint32 restarts = 0;
    State state;
    gboolean keeps = frame->kind != 0xc2 && !frame->is_part;
    if (keeps && ek_content_kept(content, &state, sizeof state) && state.scan == began) {
        bits->at = bits->span_at = state.at;
        bits->held = state.held;
        bits->count = state.count;
        unit = state.unit;
        restarts = state.restarts;
        memcpy(scan.levels, state.levels, sizeof scan.levels);
    }
    EkByte kept = bits->at;
    for (; unit < units; unit++) {
        if (frame->interval > 0 && unit > 0 && unit % frame->interval == 0 &&
            restarts < unit / frame->interval && !take_restart(&scan, restarts++))
            break;
        if (bits->at_marker && bits->given >= bits->count && units == G_MAXUINT64)
            break;
        take_unit(&scan, (guint32)unit);
        if (bits->is_wrong || bits->given > bits->count)
            break;
        if (keeps && bits->at >= kept + KEEP_EVERY) {
            keep(&scan, began, unit + 1, restarts);
            kept = bits->at;
        }
    }
    *at = bits->at;
    if ((unit < units && units != G_MAXUINT64) || !end_scan(&scan, at))
        return FALSE;
    for (guint i = 0; i < scan.count; i++)
        frame->scanned |= 1u << scan.which[i];
    return TRUE;
}

gboolean ek_jpeg_pass_scan(EkContent *content, EkByte *at)
{
    for (;;) {
        EkByte mark = 0;
        if (!ek_content_seek(content, *at, ek_content_bytes(content), "\xff", 1, &mark))
            return FALSE;
        guint8 next = ek_span_u8(ek_content_some(content, mark, 2), 1);
        *at = mark;
        if (next != 0 && next != 0xff && (next < 0xd0 || next > 0xd7))
            return TRUE;
        *at = mark + (next == 0xff ? 1 : 2);
    }
}
