/* SPDX-License-Identifier: MIT */
/* The pass over every step. Workers look at chunks; the thread that called takes their results in
 * order of position, so that nothing depends on how many workers there are. */
#include "hunt/hunt.h"

#include "hunt/limit.h"
#include "hunt/steps.h"

#define CHUNK_BYTES (16u << 20)
#define READ_BYTES (1u << 20) /* fits a processor's cache: the copy is read while it is warm */

typedef struct {
    EkRange range;
    EkRange data;   /* the first run of data at its beginning or behind it */
    GArray *traces; /* EkTrace */
    GArray *runs;   /* EkTrace: runs of records that are still growing */
    GError *error;
    gboolean done;
} Job;

struct EkHunt {
    EkReader *reader;
    EkHuntSink sink;
    guint threads;
    EkByte chunk;
    const gint *cancel;
    GMutex lock; /* of `progress` and every job's `done` */
    GCond finished;
    EkHuntProgress progress;
    EkTraceLimit *limit;
    EkHuntSteps *steps;
    EkRange data; /* the run of data that was asked for last: to ask for its end can be dear */
};

EkHunt *ek_hunt_new(EkReader *reader, const EkHuntSink *sink, guint threads, const gint *cancel)
{
    EkHunt *hunt = g_new0(EkHunt, 1);
    hunt->reader = reader;
    hunt->sink = *sink;
    hunt->threads = threads != 0 ? threads : MIN(g_get_num_processors(), 16);
    hunt->chunk = CHUNK_BYTES;
    hunt->cancel = cancel;
    hunt->limit = ek_trace_limit_new(reader, &hunt->sink);
    hunt->steps = ek_hunt_steps_new();
    g_mutex_init(&hunt->lock);
    g_cond_init(&hunt->finished);
    return hunt;
}

void ek_hunt_free(EkHunt *hunt)
{
    ek_trace_limit_free(hunt->limit);
    ek_hunt_steps_free(hunt->steps);
    g_mutex_clear(&hunt->lock);
    g_cond_clear(&hunt->finished);
    g_free(hunt);
}

void ek_hunt_set_chunk(EkHunt *hunt, EkByte bytes)
{
    hunt->chunk = bytes;
}

EkHuntProgress ek_hunt_progress(EkHunt *hunt)
{
    g_mutex_lock(&hunt->lock);
    EkHuntProgress progress = hunt->progress;
    g_mutex_unlock(&hunt->lock);
    return progress;
}

/* --- one step ------------------------------------------------------------------------------- */

static gboolean look_at_range(const EkHunt *hunt, Job *job, EkRange range, guint8 *buffer)
{
    EkByte limit = ek_reader_bytes(hunt->reader);
    for (EkByte at = range.first; at < ek_range_end(range); at += READ_BYTES) {
        gsize here = (gsize)MIN(READ_BYTES, ek_range_end(range) - at);
        gsize with_rest = (gsize)MIN(here + EK_RECOGNISE_BYTES, limit - at);
        if (!ek_reader_read(hunt->reader, at, buffer, with_rest, NULL, &job->error))
            return FALSE;
        for (gsize step = 0; step + EK_STEP <= here; step += EK_STEP)
            ek_hunt_steps_look(hunt->steps, hunt->reader,
                               (EkSpan){buffer + step, MIN(with_rest - step, EK_RECOGNISE_BYTES)},
                               at + step, job->traces, job->runs);
    }
    return TRUE;
}

static gboolean next_part(const EkHunt *hunt, const Job *job, EkByte at, EkRange *part)
{
    *part = job->data;
    return at < ek_range_end(*part) || ek_reader_next_data(hunt->reader, at, part);
}

/* A worker's task: the parts of the chunk that hold data. */
static void look_at_job(gpointer data, gpointer user)
{
    Job *job = data;
    EkHunt *hunt = user;
    g_autofree guint8 *buffer = g_malloc(READ_BYTES + EK_RECOGNISE_BYTES);
    EkByte at = job->range.first;
    EkByte end = ek_range_end(job->range);
    EkRange part;
    while (at < end && g_atomic_int_get(hunt->cancel) == 0 && next_part(hunt, job, at, &part)) {
        EkByte first = MAX(at, part.first - part.first % EK_STEP);
        EkByte stop = MIN(end, ek_divide_up(ek_range_end(part), EK_STEP) * EK_STEP);
        if (first >= end || !look_at_range(hunt, job, (EkRange){first, stop - first}, buffer))
            break;
        at = stop;
    }
    g_mutex_lock(&hunt->lock);
    job->done = TRUE;
    g_cond_signal(&hunt->finished);
    g_mutex_unlock(&hunt->lock);
}

/* --- in order ------------------------------------------------------------------------------- */

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

static gboolean commit_job(EkHunt *hunt, Job *job, GError **error)
{
    g_mutex_lock(&hunt->lock);
    while (!job->done)
        g_cond_wait(&hunt->finished, &hunt->lock);
    hunt->progress.done += job->range.bytes;
    hunt->progress.position = ek_range_end(job->range);
    for (guint i = 0; i < job->traces->len; i++) {
        gboolean is_table = g_str_equal(g_array_index(job->traces, EkTrace, i).kind, "table");
        if (is_table)
            hunt->progress.tables++;
        else
            hunt->progress.boot_sectors++;
    }
    for (guint i = 0; i < job->runs->len; i++) {
        const EkTrace *run = &g_array_index(job->runs, EkTrace, i);
        /* Folders and FATs are such runs too, but no records. */
        hunt->progress.records += run->stride >= EK_STEP ? run->count : 0;
    }
    g_mutex_unlock(&hunt->lock);

    if (job->error != NULL) {
        g_propagate_error(error, g_steal_pointer(&job->error));
        return FALSE;
    }
    if (g_atomic_int_get(hunt->cancel) != 0)
        return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
    if (!hand_on(hunt, job->traces, error) || !hand_on(hunt, job->runs, error) ||
        !hand_on_rests(hunt, error))
        return FALSE;
    return hunt->sink.hunted(hunt->sink.data, job->range, error);
}

static Job *next_job(EkHunt *hunt, const GArray *ranges, guint *index, EkByte *at)
{
    while (*index < ranges->len) {
        EkRange range = g_array_index(ranges, EkRange, *index);
        EkByte from = MAX(*at, range.first);
        if (from >= ek_range_end(range)) {
            (*index)++;
            continue;
        }
        Job *job = g_new0(Job, 1);
        EkByte end = MIN(ek_range_end(range), (from / hunt->chunk + 1) * hunt->chunk);
        job->range = (EkRange){from, end - from};
        job->traces = g_array_new(FALSE, FALSE, sizeof(EkTrace));
        job->runs = g_array_new(FALSE, FALSE, sizeof(EkTrace));
        if (from >= ek_range_end(hunt->data) &&
            !ek_reader_next_data(hunt->reader, from, &hunt->data))
            hunt->data = (EkRange){ek_reader_bytes(hunt->reader), 1};
        job->data = hunt->data;
        /* A hole is one job, however large. */
        EkByte data = hunt->data.first / hunt->chunk * hunt->chunk;
        if (data > end)
            end = MIN(ek_range_end(range), data);
        job->range.bytes = end - from;
        *at = end;
        return job;
    }
    return NULL;
}

static void job_free(Job *job)
{
    g_array_unref(job->traces);
    g_array_unref(job->runs);
    g_clear_error(&job->error);
    g_free(job);
}

gboolean ek_hunt_scan(EkHunt *hunt, const GArray *ranges, GError **error)
{
    GThreadPool *pool = g_thread_pool_new(look_at_job, hunt, (gint)hunt->threads, TRUE, error);
    if (pool == NULL)
        return FALSE;
    g_autoptr(GQueue) under_way = g_queue_new();
    guint index = 0;
    EkByte at = 0;
    gboolean fine = TRUE;
    Job *job;

    g_mutex_lock(&hunt->lock);
    hunt->progress = (EkHuntProgress){0};
    for (guint i = 0; i < ranges->len; i++)
        hunt->progress.total += g_array_index(ranges, EkRange, i).bytes;
    g_mutex_unlock(&hunt->lock);

    do {
        while (fine && g_queue_get_length(under_way) < hunt->threads * 2 &&
               (job = next_job(hunt, ranges, &index, &at)) != NULL) {
            g_queue_push_tail(under_way, job);
            g_thread_pool_push(pool, job, NULL);
        }
        job = g_queue_peek_head(under_way);
        fine = fine && (job == NULL || commit_job(hunt, job, error));
        if (fine && job != NULL)
            job_free(g_queue_pop_head(under_way));
    } while (fine && job != NULL);
    /* Those still under way are waited for: they use the buffers' reader. */
    g_thread_pool_free(pool, FALSE, TRUE);
    while ((job = g_queue_pop_head(under_way)) != NULL)
        job_free(job);
    return fine;
}
