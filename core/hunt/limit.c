/* SPDX-License-Identifier: MIT */
/* How many traces of a kind are kept one by one. */
#include "hunt/limit.h"

#include "volume/headers.h"

#define WINDOW ((EkByte)256 << 20)
#define FIRST_ONES 32u
#define USUAL_ONES 256u /* that speak of a usual start */
#define OF_A_CONTENT 4u
#define CONTENTS 64u
#define PART ((EkByte)8 << 20)
#define PARTS (WINDOW / PART)
#define OF_A_PART 4u /* records */

typedef struct {
    guint64 sum;
    guint count;
} Content;

typedef struct {
    const char *kind;
    const char *format;
    guint64 stride; /* of records: tells kinds of them apart, also in the place of their sum */
    guint64 window;
    guint64 count; /* of all */
    guint64 left_out;
    gboolean is_news; /* that so many were left out */
    guint usual;
    guint contents_kept;
    Content contents[CONTENTS];
    guint8 parts[PARTS];
} Tally;

struct EkTraceLimit {
    EkReader *reader;
    const EkHuntSink *sink;
    GPtrArray *tallies; /* Tally*: one a kind and format */
    GArray *rests;      /* EkTrace: of windows that are over */
};

EkTraceLimit *ek_trace_limit_new(EkReader *reader, const EkHuntSink *sink)
{
    EkTraceLimit *limit = g_new0(EkTraceLimit, 1);
    limit->reader = reader;
    limit->sink = sink;
    limit->tallies = g_ptr_array_new_with_free_func(g_free);
    limit->rests = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    return limit;
}

void ek_trace_limit_free(EkTraceLimit *limit)
{
    g_ptr_array_unref(limit->tallies);
    g_array_unref(limit->rests);
    g_free(limit);
}

/* Does it speak of a volume, or a partition, at a place where they begin? */
static gboolean is_usual(const EkTrace *trace, EkSpan span)
{
    const EkFileSystem *format = ek_file_system_for(trace->format);
    EkCandidate candidates[EK_CANDIDATES_MOST];
    guint count = format != NULL && format->recognise != NULL
                      ? format->recognise(span, trace->first_byte, candidates)
                      : 0;
    for (guint i = 0; i < count; i++)
        if (ek_is_usual_start(candidates[i].first_byte))
            return TRUE;
    return format == NULL && ek_is_usual_start(trace->first_byte);
}

static gboolean take_content(Tally *tally, const EkTrace *trace)
{
    for (guint i = 0; i < tally->contents_kept; i++)
        if (tally->contents[i].sum == trace->sum)
            return tally->contents[i].count++ < OF_A_CONTENT;
    if (tally->contents_kept == CONTENTS)
        return FALSE;
    tally->contents[tally->contents_kept++] = (Content){trace->sum, 1};
    return TRUE;
}

/* Some of each part of the window, and all that begin a table. */
static gboolean take_records(Tally *tally, const EkTrace *trace)
{
    guint8 *part = &tally->parts[trace->first_byte % WINDOW / PART];
    if (tally->count <= FIRST_ONES)
        return TRUE;
    if (trace->first_record == 0 && tally->usual < USUAL_ONES) {
        tally->usual++;
        return TRUE;
    }
    if (*part == OF_A_PART)
        return FALSE;
    (*part)++;
    return TRUE;
}

static gboolean count(EkTraceLimit *limit, Tally *tally, const EkTrace *trace)
{
    tally->count++;
    if (g_str_equal(trace->kind, EK_TRACE_RECORDS))
        return take_records(tally, trace);
    if (trace->sum == 0)
        return tally->count <= FIRST_ONES;
    gboolean is_new = take_content(tally, trace);
    if (tally->count <= FIRST_ONES || is_new)
        return TRUE;
    guint8 start[EK_RECOGNISE_BYTES];
    gsize length = (gsize)MIN(sizeof start, ek_reader_bytes(limit->reader) - trace->first_byte);
    return tally->usual < USUAL_ONES &&
           ek_reader_read(limit->reader, trace->first_byte, start, length, NULL, NULL) &&
           is_usual(trace, (EkSpan){start, length}) && tally->usual++ < USUAL_ONES;
}

static const char *rest_of(const char *kind)
{
    g_autofree char *text = g_strdup_printf(EK_TRACE_REST "%s", kind);
    return g_intern_string(text);
}

/* What an earlier hunt kept in the part of the window before the trace counts as it did then. */
static void recall(EkTraceLimit *limit, Tally *tally, const EkTrace *trace)
{
    EkByte first = tally->window * WINDOW;
    if (limit->sink->recall == NULL || trace->first_byte == first)
        return;
    g_autoptr(GArray) kept = limit->sink->recall(limit->sink->data, trace->kind, trace->format,
                                                 (EkRange){first, trace->first_byte - first});
    for (guint i = 0; kept != NULL && i < kept->len; i++)
        if (g_array_index(kept, EkTrace, i).stride == tally->stride)
            count(limit, tally, &g_array_index(kept, EkTrace, i));
    g_autoptr(GArray) rest =
        limit->sink->recall(limit->sink->data, rest_of(trace->kind), trace->format,
                            (EkRange){first + trace->stride, 1});
    if (rest != NULL && rest->len > 0) {
        tally->left_out = g_array_index(rest, EkTrace, 0).count;
        tally->count += tally->left_out;
    }
}

static void take_rest(Tally *tally, GArray *rests)
{
    EkTrace rest = {.kind = rest_of(tally->kind),
                    .format = tally->format,
                    .first_byte = tally->window * WINDOW + tally->stride,
                    .count = tally->left_out};
    if (tally->is_news)
        g_array_append_val(rests, rest);
    tally->is_news = FALSE;
}

static Tally *tally_for(EkTraceLimit *limit, const EkTrace *trace)
{
    guint64 window = trace->first_byte / WINDOW;
    Tally *tally = NULL;
    for (guint i = 0; i < limit->tallies->len && tally == NULL; i++) {
        Tally *one = limit->tallies->pdata[i];
        if (one->stride == trace->stride && g_str_equal(one->format, trace->format) &&
            g_str_equal(one->kind, trace->kind))
            tally = one;
    }
    if (tally != NULL && tally->window == window)
        return tally;
    if (tally == NULL) {
        tally = g_new(Tally, 1);
        g_ptr_array_add(limit->tallies, tally);
    }
    *tally = (Tally){
        .kind = trace->kind, .format = trace->format, .stride = trace->stride, .window = window};
    recall(limit, tally, trace);
    return tally;
}

gboolean ek_trace_limit_keeps(EkTraceLimit *limit, const EkTrace *trace)
{
    Tally *tally = tally_for(limit, trace);
    if (count(limit, tally, trace))
        return TRUE;
    tally->left_out++;
    tally->is_news = TRUE;
    return FALSE;
}

void ek_trace_limit_rests(EkTraceLimit *limit, GArray *rests)
{
    g_array_append_vals(rests, limit->rests->data, limit->rests->len);
    g_array_set_size(limit->rests, 0);
    for (guint i = 0; i < limit->tallies->len; i++)
        take_rest(limit->tallies->pdata[i], rests);
}
