/* SPDX-License-Identifier: MIT */
/* Fonts: TrueType and OpenType (ISO/IEC 14496-22), whose tables each have a sum. */
#include "carve/followed.h"
#include "carve/types/all.h"

#include <stdlib.h>

#define TABLES_MOST 256u
#define LEAST 512u

static const EkSignature font_signatures[] = {{0, 5, {0, 1, 0, 0, 0}, {0}},
                                              {0, 5, {'O', 'T', 'T', 'O', 0}, {0}},
                                              {0, 5, {'t', 'r', 'u', 'e', 0}, {0}}};

/* An entry of the list of tables: a name in letters, and a place behind the list. */
static gboolean may_be_entry(EkSpan entry, guint count)
{
    for (gsize i = 0; i < 4; i++)
        if (ek_span_u8(entry, i) < 0x20 || ek_span_u8(entry, i) > 0x7e)
            return FALSE;
    return ek_span_be32(entry, 8) >= 12 + 16 * count;
}

static gboolean begin_font(EkSpan span)
{
    guint count = ek_span_be16(span, 4);
    gsize shown = (span.length - MIN(span.length, 12)) / 16;
    if (count == 0 || count > TABLES_MOST || shown == 0)
        return FALSE;
    for (gsize i = 0; i < MIN(count, shown); i++)
        if (!may_be_entry(ek_span_part(span, 12 + 16 * i, 16), count))
            return FALSE;
    return TRUE;
}

static gboolean add_words(void *data, EkSpan span)
{
    guint32 *sum = data;
    for (gsize i = 0; i < span.length; i += 4) {
        guint32 word = 0;
        for (gsize k = 0; k < 4; k++)
            word = word << 8 | (i + k < span.length ? span.data[i + k] : 0u);
        *sum += word;
    }
    return TRUE;
}

/* The sum of a table: of its words; the one field that holds the sum of the whole font counts not.
 */
static gboolean sum_of(EkContent *content, EkByte at, EkByte bytes, gboolean is_head, guint32 *sum)
{
    *sum = is_head && bytes >= 12 ? 0 - ek_span_be32(ek_content_some(content, at + 8, 4), 0) : 0;
    return ek_content_each(content, at, bytes, add_words, sum);
}

typedef struct {
    EkByte at;
    EkByte bytes;
    guint32 sum;
    gboolean is_head;
} Table;

static int by_place(const void *a, const void *b)
{
    const Table *one = a;
    const Table *other = b;
    return one->at < other->at ? -1 : one->at > other->at;
}

/* In order of place, so that up to where the last one was right it is its own. 0: it is none. */
static guint take_list(EkContent *content, Table *tables)
{
    guint16 count = MIN(ek_span_be16(ek_content_some(content, 0, 6), 4), TABLES_MOST);
    EkSpan entries = ek_content_at(content, 12, 16 * (gsize)count);
    for (guint i = 0; i < count && entries.length > 0; i++) {
        EkSpan entry = ek_span_part(entries, 16 * (gsize)i, 16);
        if (!may_be_entry(entry, count))
            return 0;
        tables[i] = (Table){ek_span_be32(entry, 8), ek_span_be32(entry, 12), ek_span_be32(entry, 4),
                            ek_span_equals(entry, 0, "head", 4)};
    }
    if (entries.length == 0)
        return 0;
    qsort(tables, count, sizeof *tables, by_place);
    return count;
}

static void follow_font(EkContent *content, EkFollowed *followed)
{
    Table tables[TABLES_MOST];
    gboolean is_open = ek_span_equals(ek_content_some(content, 0, 4), 0, "OTTO", 4);
    guint count = take_list(content, tables);
    EkByte least = 12 + 16 * (EkByte)count;
    EkByte end = least;
    guint right = 0;
    if (count == 0)
        return;
    ek_followed_ending(followed, is_open ? "otf" : "ttf");
    if (ek_content_kept(content, &right, sizeof right) && right <= count)
        for (guint i = 0; i < right; i++)
            end = MAX(end, tables[i].at + tables[i].bytes);
    for (; right < count; right++) {
        const Table *table = &tables[right];
        guint32 sum = 0;
        EkByte there = ek_content_bytes(content);
        gboolean fits = table->at <= there && table->bytes <= there - table->at;
        if (!fits || !sum_of(content, table->at, table->bytes, table->is_head, &sum) ||
            sum != table->sum) {
            followed->broken =
                (EkBroken){table->at, table->bytes, table->is_head ? EK_PART_PLAIN : EK_PART_ADDED,
                           table->sum};
            ek_followed_break(followed, right > 0 || count > 4 ? end : 0,
                              fits ? table->at + table->bytes : there, LEAST / 4,
                              "the sum of a table is wrong");
            return;
        }
        end = MAX(end, table->at + table->bytes);
        guint next = right + 1;
        ek_content_keep(content, end, &next, sizeof next, TRUE);
    }
    /* Tables are filled up to whole words. */
    EkByte padded = ek_divide_up(end, 4) * 4;
    if (padded <= ek_content_bytes(content) && ek_content_is_zero(content, end, padded - end))
        end = padded;
    ek_followed_end(followed, end, EK_PROOF_FULL, "the sums of all tables");
}

const EkCarveType ek_carve_font = {
    .name = "font",
    .ending = "ttf",
    .kind = EK_KIND_OTHER,
    .checks = "the sum of each table",
    .signatures = font_signatures,
    .signature_count = G_N_ELEMENTS(font_signatures),
    .begin = begin_font,
    .follow = follow_font,
    .joins = TRUE,
    .is_checked = TRUE,
};
