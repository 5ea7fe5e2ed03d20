/* SPDX-License-Identifier: MIT */
/* One pass over a reader: the pool of workers, and the order in which their work is taken. */
#include "scan/scan.h"

#include "base/error.h"

#define CHUNK_BYTES (16u << 20)
#define READ_BYTES (1u << 20) /* fits a processor's cache: the copy is read while it is warm */

typedef struct {
    EkRange range;
    EkRange data; /* the first run of data at its beginning or behind it */
    void *gathered[EK_SCAN_VISITORS];
    GError *error;
    gboolean done;
} Job;

struct EkScan {
    EkReader *reader;
    guint threads;
    EkByte chunk;
    const gint *cancel;
    EkMatcher *matcher;
    EkScanVisitor visitors[EK_SCAN_VISITORS];
    guint first_ids[EK_SCAN_VISITORS + 1]; /* each one's, and the first that is nobody's */
    guint count;
    GMutex lock; /* of `progress` and every job's `done` */
    GCond finished;
    EkScanProgress progress;
    EkRange data; /* the run of data that was asked for last: to ask for its end can be dear */
};

EkScan *ek_scan_new(EkReader *reader, guint threads, const gint *cancel)
{
    EkScan *scan = g_new0(EkScan, 1);
    scan->reader = reader;
    scan->threads = threads != 0 ? threads : MIN(g_get_num_processors(), 16);
    scan->chunk = CHUNK_BYTES;
    scan->cancel = cancel;
    scan->matcher = ek_matcher_new();
    g_mutex_init(&scan->lock);
    g_cond_init(&scan->finished);
    return scan;
}

guint ek_scan_threads(const EkScan *scan)
{
    return scan->threads;
}

void ek_scan_free(EkScan *scan)
{
    ek_matcher_free(scan->matcher);
    g_mutex_clear(&scan->lock);
    g_cond_clear(&scan->finished);
    g_free(scan);
}

void ek_scan_add(EkScan *scan, const EkScanVisitor *visitor)
{
    guint first = scan->first_ids[scan->count];
    /* Whoever adds the visitor or the signature that is one too many learns it from the first test.
     */
    g_assert(scan->count < EK_SCAN_VISITORS);
    scan->visitors[scan->count++] = *visitor;
    scan->first_ids[scan->count] = visitor->enter(visitor->data, scan->matcher, first);
    g_assert(scan->first_ids[scan->count] <= EK_MATCHES_MOST);
}

void ek_scan_set_chunk(EkScan *scan, EkByte bytes)
{
    scan->chunk = bytes;
}

EkScanProgress ek_scan_progress(EkScan *scan)
{
    g_mutex_lock(&scan->lock);
    EkScanProgress progress = scan->progress;
    g_mutex_unlock(&scan->lock);
    return progress;
}

/* --- one chunk ------------------------------------------------------------------------------ */

/* Shows each visitor what of the matches is its own. */
static void show(const EkScan *scan, const Job *job, const EkMatches *matches, EkSpan span,
                 EkByte at)
{
    guint i = 0;
    for (guint visitor = 0; visitor < scan->count; visitor++) {
        EkMatches own;
        own.count = 0;
        for (; i < matches->count && matches->ids[i] < scan->first_ids[visitor + 1]; i++)
            own.ids[own.count++] = matches->ids[i] - scan->first_ids[visitor];
        if (own.count > 0)
            scan->visitors[visitor].look(scan->visitors[visitor].data, job->gathered[visitor], &own,
                                         span, at);
    }
}

static gboolean look_at_range(const EkScan *scan, Job *job, EkRange range, guint8 *buffer)
{
    EkByte limit = ek_reader_bytes(scan->reader);
    EkMatches matches;
    for (EkByte at = range.first; at < ek_range_end(range); at += READ_BYTES) {
        gsize here = (gsize)MIN(READ_BYTES, ek_range_end(range) - at);
        gsize with_rest = (gsize)MIN(here + EK_SCAN_SHOWN, limit - at);
        if (!ek_reader_read(scan->reader, at, buffer, with_rest, NULL, &job->error))
            return FALSE;
        for (guint i = 0; i < scan->count; i++)
            if (scan->visitors[i].glance != NULL)
                scan->visitors[i].glance(scan->visitors[i].data, job->gathered[i],
                                         (EkSpan){buffer, here}, at);
        for (gsize step = 0; step + EK_STEP <= here; step += EK_STEP)
            if (ek_matcher_look(scan->matcher, buffer + step, &matches) &&
                ek_reader_known(scan->reader, at + step, EK_STEP).good == EK_STEP)
                show(scan, job, &matches, (EkSpan){buffer + step, with_rest - step}, at + step);
    }
    return TRUE;
}

static gboolean next_part(const EkScan *scan, const Job *job, EkByte at, EkRange *part)
{
    *part = job->data;
    return at < ek_range_end(*part) || ek_reader_next_data(scan->reader, at, part);
}

/* A worker's task: the parts of the chunk that hold data. */
static void look_at_job(gpointer data, gpointer user)
{
    Job *job = data;
    EkScan *scan = user;
    g_autofree guint8 *buffer = g_malloc(READ_BYTES + EK_SCAN_SHOWN);
    EkByte at = job->range.first;
    EkByte end = ek_range_end(job->range);
    EkRange part;
    while (at < end && g_atomic_int_get(scan->cancel) == 0 && next_part(scan, job, at, &part)) {
        EkByte first = MAX(at, part.first - part.first % EK_STEP);
        EkByte stop = MIN(end, ek_divide_up(ek_range_end(part), EK_STEP) * EK_STEP);
        if (first >= end || !look_at_range(scan, job, (EkRange){first, stop - first}, buffer))
            break;
        at = stop;
    }
    g_mutex_lock(&scan->lock);
    job->done = TRUE;
    g_cond_signal(&scan->finished);
    g_mutex_unlock(&scan->lock);
}

/* --- in order ------------------------------------------------------------------------------- */

static gboolean commit_job(EkScan *scan, Job *job, GError **error)
{
    g_mutex_lock(&scan->lock);
    while (!job->done)
        g_cond_wait(&scan->finished, &scan->lock);
    scan->progress.done += job->range.bytes;
    scan->progress.position = ek_range_end(job->range);
    g_mutex_unlock(&scan->lock);

    if (job->error != NULL) {
        g_propagate_error(error, g_steal_pointer(&job->error));
        return FALSE;
    }
    if (g_atomic_int_get(scan->cancel) != 0)
        return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
    for (guint i = 0; i < scan->count; i++)
        if (!scan->visitors[i].commit(scan->visitors[i].data, job->gathered[i], job->range, error))
            return FALSE;
    return TRUE;
}

static Job *next_job(EkScan *scan, const GArray *ranges, guint *index, EkByte *at)
{
    while (*index < ranges->len) {
        EkRange range = g_array_index(ranges, EkRange, *index);
        EkByte from = MAX(*at, range.first);
        if (from >= ek_range_end(range)) {
            (*index)++;
            continue;
        }
        Job *job = g_new0(Job, 1);
        EkByte end = MIN(ek_range_end(range), (from / scan->chunk + 1) * scan->chunk);
        job->range = (EkRange){from, end - from};
        if (from >= ek_range_end(scan->data) &&
            !ek_reader_next_data(scan->reader, from, &scan->data))
            scan->data = (EkRange){ek_reader_bytes(scan->reader), 1};
        job->data = scan->data;
        /* A hole is one job, however large. */
        EkByte data = scan->data.first / scan->chunk * scan->chunk;
        if (data > end)
            end = MIN(ek_range_end(range), data);
        job->range.bytes = end - from;
        for (guint i = 0; i < scan->count; i++)
            job->gathered[i] = scan->visitors[i].begin(scan->visitors[i].data, job->range);
        *at = end;
        return job;
    }
    return NULL;
}

static void job_free(const EkScan *scan, Job *job)
{
    for (guint i = 0; i < scan->count; i++)
        scan->visitors[i].discard(job->gathered[i]);
    g_clear_error(&job->error);
    g_free(job);
}

gboolean ek_scan_run(EkScan *scan, const GArray *ranges, GError **error)
{
    GThreadPool *pool = g_thread_pool_new(look_at_job, scan, (gint)scan->threads, TRUE, error);
    if (pool == NULL)
        return FALSE;
    g_autoptr(GQueue) under_way = g_queue_new();
    guint index = 0;
    EkByte at = 0;
    gboolean fine = TRUE;
    Job *job;

    g_mutex_lock(&scan->lock);
    scan->progress = (EkScanProgress){0};
    for (guint i = 0; i < ranges->len; i++)
        scan->progress.total += g_array_index(ranges, EkRange, i).bytes;
    g_mutex_unlock(&scan->lock);

    do {
        while (fine && g_queue_get_length(under_way) < scan->threads * 2 &&
               (job = next_job(scan, ranges, &index, &at)) != NULL) {
            g_queue_push_tail(under_way, job);
            g_thread_pool_push(pool, job, NULL);
        }
        job = g_queue_peek_head(under_way);
        fine = fine && (job == NULL || commit_job(scan, job, error));
        if (fine && job != NULL)
            job_free(scan, g_queue_pop_head(under_way));
    } while (fine && job != NULL);
    /* Those still under way are waited for: they use the buffers' reader. */
    g_thread_pool_free(pool, FALSE, TRUE);
    while ((job = g_queue_pop_head(under_way)) != NULL)
        job_free(scan, job);
    return fine;
}
