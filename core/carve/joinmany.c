/* SPDX-License-Identifier: MIT */
/* Files that are tried at the same time. Each sees the ground as it was before all of them, so that
 * only those count up to the first that came to something: the result is that of one after another,
 * on however many threads. */
#include "carve/carving.h"
#include "carve/join.h"

#define THREADS_MOST 8u /* each keeps what it unpacks */
#define LOOK_US 50000   /* how often it is looked whether the search was asked to end */

typedef struct {
    EkJoinTask *task;
    gint is_dropped;  /* atomic: its result does not count any more */
    gboolean is_over; /* under the lock */
} Job;

typedef struct {
    EkCarve *carve;
    guint tries;
    GMutex lock;
    GCond changed;
    Job *jobs;
    guint count;
} Batch;

static void try_one(void *data, void *batch_data)
{
    Job *job = data;
    Batch *batch = batch_data;
    /* A type that this program does not know (the catalogue may be older) comes to nothing. */
    const EkJoinTask *task = job->task;
    if (task->type != NULL && g_atomic_int_get(&job->is_dropped) == 0)
        job->task->joined =
            task->only_listed
                ? ek_join_listed(batch->carve, task->type, task->first, &job->is_dropped)
                : ek_join(batch->carve, task->type, task->first, batch->tries, &job->is_dropped);
    g_mutex_lock(&batch->lock);
    job->is_over = TRUE;
    g_cond_signal(&batch->changed);
    g_mutex_unlock(&batch->lock);
}

static void drop_from(Batch *batch, guint index)
{
    for (guint i = index; i < batch->count; i++)
        g_atomic_int_set(&batch->jobs[i].is_dropped, 1);
}

/* Waits for one of them. FALSE: the search was asked to end. */
static gboolean wait_for(Batch *batch, guint index)
{
    gboolean is_asked = FALSE;
    g_mutex_lock(&batch->lock);
    while (!batch->jobs[index].is_over) {
        g_cond_wait_until(&batch->changed, &batch->lock, g_get_monotonic_time() + LOOK_US);
        is_asked = is_asked || g_atomic_int_get(batch->carve->cancel) != 0;
        if (is_asked)
            drop_from(batch, index);
    }
    g_mutex_unlock(&batch->lock);
    return !is_asked;
}

/* How many of them count. */
static guint run(Batch *batch, GThreadPool *pool)
{
    for (guint i = 0; i < batch->count; i++)
        g_thread_pool_push(pool, &batch->jobs[i], NULL);
    guint done = 0;
    while (done < batch->count && wait_for(batch, done)) {
        done++;
        if (batch->jobs[done - 1].task->joined != NULL)
            break;
    }
    drop_from(batch, done);
    return done;
}

guint ek_carve_join_many(EkCarve *carve, EkJoinTask *tasks, guint count, guint tries)
{
    guint threads = MIN(MIN(count, THREADS_MOST), ek_scan_threads(carve->scan));
    Batch batch = {.carve = carve, .tries = tries, .count = count};
    batch.jobs = g_new0(Job, count);
    for (guint i = 0; i < count; i++)
        batch.jobs[i].task = &tasks[i];
    g_mutex_init(&batch.lock);
    g_cond_init(&batch.changed);
    GThreadPool *pool = g_thread_pool_new(try_one, &batch, (gint)threads, FALSE, NULL);
    guint done = run(&batch, pool);
    g_thread_pool_free(pool, FALSE, TRUE);
    for (guint i = done; i < count; i++) {
        ek_found_free(tasks[i].joined);
        tasks[i].joined = NULL;
    }
    if (done > 0 && tasks[done - 1].joined != NULL)
        ek_carving_hold(carve, tasks[done - 1].joined);
    g_mutex_clear(&batch.lock);
    g_cond_clear(&batch.changed);
    g_free(batch.jobs);
    return done;
}
