/* SPDX-License-Identifier: MIT */
/* Hunting, as a visitor of the pass over every step: what a chunk gave is limited and handed on. */
#include "hunt/hunt.h"

#include "hunt/limit.h"
#include "hunt/steps.h"
#include "scan/scan.h"

G_STATIC_ASSERT(EK_SCAN_SHOWN >= EK_RECOGNISE_BYTES);

typedef struct {
    GArray *traces; /* EkTrace */
    GArray *runs;   /* EkTrace: runs of records that are still growing */
} Gathered;

struct EkHunt {
    EkScan *scan;
    EkHuntSink sink;
    GMutex lock;          /* of `found` */
    EkHuntProgress found; /* the counts of it */
    EkTraceLimit *limit;
    EkHuntSteps *steps;
};

/* --- a chunk -------------------------------------------------------------------------------- */

static void *begin(void *data, EkRange chunk)
{
    (void)chunk;
    (void)data;
    Gathered *gathered = g_new0(Gathered, 1);
    gathered->traces = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    gathered->runs = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    return gathered;
}

static void discard(void *gathered)
{
    Gathered *self = gathered;
    g_array_unref(self->traces);
    g_array_unref(self->runs);
    g_free(self);
}

static guint enter(void *data, EkMatcher *matcher, guint first)
{
    (void)data;
    return ek_hunt_steps_enter(matcher, first);
}

static void look(void *data, void *gathered, const EkMatches *matches, EkSpan span, EkByte at)
{
    const EkHunt *hunt = data;
    Gathered *to = gathered;
    ek_hunt_steps_recognise(hunt->steps, matches, ek_span_part(span, 0, EK_SCAN_SHOWN), at,
                            to->traces, to->runs);
}

/* --- in order ------------------------------------------------------------------------------- */

static void count_by_format(EkHunt *hunt, const EkTrace *run)
{
    for (guint i = 0; i < EK_HUNT_FORMATS && ek_file_systems[i] != NULL; i++)
        if (g_str_equal(ek_file_systems[i]->name, run->format))
            hunt->found.by_format[i] += run->count;
}

static void count_found(EkHunt *hunt, const Gathered *gathered)
{
    g_mutex_lock(&hunt->lock);
    for (guint i = 0; i < gathered->traces->len; i++) {
        gboolean is_table = g_str_equal(g_array_index(gathered->traces, EkTrace, i).kind, "table");
        if (is_table)
            hunt->found.tables++;
        else
            hunt->found.boot_sectors++;
    }
    for (guint i = 0; i < gathered->runs->len; i++) {
        const EkTrace *run = &g_array_index(gathered->runs, EkTrace, i);
        /* Folders and FATs are such runs too, but no records. */
        hunt->found.records += run->stride >= EK_STEP ? run->count : 0;
        count_by_format(hunt, run);
    }
    g_mutex_unlock(&hunt->lock);
}

static gboolean hand_on(EkHunt *hunt, const GArray *traces, GError **error)
{
    for (guint i = 0; i < traces->len; i++) {
        const EkTrace *trace = &g_array_index(traces, EkTrace, i);
        if (ek_trace_limit_keeps(hunt->limit, trace) &&
            !hunt->sink.trace(hunt->sink.data, trace, error))
            return FALSE;
    }
    return TRUE;
}

static gboolean hand_on_rests(EkHunt *hunt, GError **error)
{
    g_autoptr(GArray) rests = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    ek_trace_limit_rests(hunt->limit, rests);
    for (guint i = 0; i < rests->len; i++)
        if (!hunt->sink.trace(hunt->sink.data, &g_array_index(rests, EkTrace, i), error))
            return FALSE;
    return TRUE;
}

static gboolean commit(void *data, void *gathered, EkRange chunk, GError **error)
{
    EkHunt *hunt = data;
    const Gathered *from = gathered;
    count_found(hunt, from);
    return hand_on(hunt, from->traces, error) && hand_on(hunt, from->runs, error) &&
           hand_on_rests(hunt, error) && hunt->sink.hunted(hunt->sink.data, chunk, error);
}

/* --- a hunt --------------------------------------------------------------------------------- */

EkHunt *ek_hunt_new(EkReader *reader, const EkHuntSink *sink, guint threads, const gint *cancel)
{
    EkHunt *hunt = g_new0(EkHunt, 1);
    EkScanVisitor visitor = {hunt, begin, look, NULL, commit, discard, enter};
    hunt->sink = *sink;
    hunt->limit = ek_trace_limit_new(reader, &hunt->sink);
    hunt->steps = ek_hunt_steps_new();
    g_mutex_init(&hunt->lock);
    hunt->scan = ek_scan_new(reader, threads, cancel);
    ek_scan_add(hunt->scan, &visitor);
    return hunt;
}

void ek_hunt_free(EkHunt *hunt)
{
    ek_scan_free(hunt->scan);
    ek_trace_limit_free(hunt->limit);
    ek_hunt_steps_free(hunt->steps);
    g_mutex_clear(&hunt->lock);
    g_free(hunt);
}

void ek_hunt_set_chunk(EkHunt *hunt, EkByte bytes)
{
    ek_scan_set_chunk(hunt->scan, bytes);
}

EkHuntProgress ek_hunt_progress(EkHunt *hunt)
{
    EkScanProgress scanned = ek_scan_progress(hunt->scan);
    g_mutex_lock(&hunt->lock);
    EkHuntProgress progress = hunt->found;
    g_mutex_unlock(&hunt->lock);
    progress.done = scanned.done;
    progress.total = scanned.total;
    progress.position = scanned.position;
    return progress;
}

gboolean ek_hunt_scan(EkHunt *hunt, const GArray *ranges, GError **error)
{
    g_mutex_lock(&hunt->lock);
    hunt->found = (EkHuntProgress){0};
    g_mutex_unlock(&hunt->lock);
    return ek_scan_run(hunt->scan, ranges, error);
}
