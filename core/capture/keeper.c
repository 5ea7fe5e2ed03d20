/* SPDX-License-Identifier: MIT */
/* The order is always: image written, image synced, corrections of kept bytes durable, map and sums
 * durable in one transaction. A kill between any two of these leaves the map saying less than the
 * image holds, never more. */
#include "capture/keeper.h"

#include "base/digest.h"

#include <stdlib.h>
#include <string.h>

#define BUFFERS 8
#define BUFFER_ALIGNMENT 4096u
#define COMMIT_EVERY (2 * G_USEC_PER_SEC)
#define MARKS_BEFORE_COMMIT 262144u
#define MOST_NOTES 65536 /* on their way, before whoever hands them over has to wait */
#define SUMS_KEPT 256u   /* blocks whose sums stay in memory between commits */

typedef enum { NOTE_WRITE, NOTE_MARK, NOTE_DRAIN, NOTE_FINISH } NoteKind;

typedef struct {
    NoteKind kind;
    EkSector first;
    EkSector count;
    EkMark mark;
    EkKeptState state;
    guint8 *buffer;
    EkByte length;
    guint64 block;   /* the first that it touches */
    guint64 sums[2]; /* what it adds to that one, and to the next */
} Note;

struct EkKeeper {
    EkKeeperParts parts;
    EkReadMap *map;
    GThread *thread;
    GAsyncQueue *notes;
    GAsyncQueue *buffers;
    GAsyncQueue *drained;
    guint8 *all_buffers[BUFFERS];
    gint users[BUFFERS];     /* atomic: who is at work on a buffer that was handed over */
    EkPrefixWork *prefix;    /* NULL: nobody asks */
    EkSector fill[EK_FILLS]; /* the reader's: since it was last asked for */

    /* The thread's own. */
    GHashTable *sums; /* block number to sum, both guint64* */
    EkKeptState state;
    gint64 committed_at;
    guint waiting; /* notes since the last commit */
    gint failed;   /* atomic */
    GError *error;
};

static guint64 *sum_of_block(EkKeeper *keeper, guint64 number, GError **error)
{
    guint64 *sum = g_hash_table_lookup(keeper->sums, &number);
    if (sum != NULL)
        return sum;
    guint64 stored = 0;
    if (!keeper->parts.sink.block_sum(keeper->parts.sink.data, number, &stored, error))
        return NULL;
    sum = g_memdup2(&stored, sizeof stored);
    g_hash_table_insert(keeper->sums, g_memdup2(&number, sizeof number), sum);
    return sum;
}

static gboolean add_to_sums(EkKeeper *keeper, const Note *note, GError **error)
{
    for (guint i = 0; i < G_N_ELEMENTS(note->sums); i++) {
        guint64 *sum = note->sums[i] != 0 ? sum_of_block(keeper, note->block + i, error) : NULL;
        if (note->sums[i] != 0 && sum == NULL)
            return FALSE;
        if (sum != NULL)
            *sum += note->sums[i];
    }
    return TRUE;
}

/* What the note's sectors add to the sums of their blocks. Done by the thread that reads, which has
 * less to do than the keeper, and the data still in its cache. */
static void sum_note(EkKeeper *keeper, Note *note)
{
    guint32 size = keeper->parts.sector_size;
    EkByte at = note->first * size;
    gsize done = 0;
    note->block = at / EK_BLOCK_BYTES;
    for (guint i = 0; i < G_N_ELEMENTS(note->sums) && done < note->length; i++) {
        gsize part = MIN(note->length - done, (note->block + i + 1) * EK_BLOCK_BYTES - at - done);
        note->sums[i] = ek_block_sum_and_fill((at + done) / size, size, note->buffer + done, part,
                                              keeper->fill);
        done += part;
    }
    g_assert(done == note->length); /* buffers are smaller than blocks */
}

/* Zeros are left as holes of the image; where an applied edit lies in it, they are what it covers.
 */
static gboolean keep_hole(const EkKeeper *keeper, const Note *note, GError **error)
{
    const EkOverlay *kept = keeper->parts.kept;
    EkByte at = note->first * keeper->parts.sector_size;
    EkByte end = at + note->length;
    EkRange covered;
    while (kept != NULL && ek_overlay_next(kept, at, end, &covered)) {
        g_autofree guint8 *zeros = g_malloc0(covered.bytes);
        if (!keeper->parts.sink.correct(keeper->parts.sink.data, covered.first, zeros,
                                        covered.bytes, error))
            return FALSE;
        at = ek_range_end(covered);
    }
    return ek_image_zero(keeper->parts.image, note->first * keeper->parts.sector_size, note->length,
                         error);
}

/* Writes to the image, around what applied edits cover there. */
static gboolean write_note(EkKeeper *keeper, const Note *note, GError **error)
{
    if (note->buffer == NULL)
        return keep_hole(keeper, note, error);
    EkImage *image = keeper->parts.image;
    const EkOverlay *kept = keeper->parts.kept;
    EkByte start = note->first * keeper->parts.sector_size;
    EkByte at = start;
    EkByte end = start + note->length;
    EkRange covered;
    while (kept != NULL && ek_overlay_next(kept, at, end, &covered)) {
        if (!ek_image_write(image, at, note->buffer + (at - start), covered.first - at, error) ||
            !keeper->parts.sink.correct(keeper->parts.sink.data, covered.first,
                                        note->buffer + (covered.first - start), covered.bytes,
                                        error))
            return FALSE;
        at = ek_range_end(covered);
    }
    return ek_image_write(image, at, note->buffer + (at - start), end - at, error) &&
           add_to_sums(keeper, note, error);
}

static gboolean commit(EkKeeper *keeper, GError **error)
{
    if (!ek_image_sync(keeper->parts.image, error))
        return FALSE;
    g_autoptr(GPtrArray) changes = ek_read_map_take_changes(keeper->map);
    g_autofree EkBlockSum *sums = g_new(EkBlockSum, g_hash_table_size(keeper->sums) + 1);
    gsize count = 0;
    GHashTableIter iterator;
    gpointer number;
    gpointer sum;
    g_hash_table_iter_init(&iterator, keeper->sums);
    while (g_hash_table_iter_next(&iterator, &number, &sum))
        sums[count++] = (EkBlockSum){*(guint64 *)number, *(guint64 *)sum};
    for (int state = 0; state < EK_STATES; state++) {
        keeper->state.totals[state] = ek_read_map_total(keeper->map, (EkState)state);
        keeper->state.stretches[state] = ek_read_map_stretches(keeper->map, (EkState)state);
    }
    if (!keeper->parts.sink.commit(keeper->parts.sink.data, changes, sums, count, &keeper->state,
                                   error))
        return FALSE;
    if (count > SUMS_KEPT)
        g_hash_table_remove_all(keeper->sums);
    keeper->committed_at = g_get_monotonic_time();
    keeper->waiting = 0;
    return TRUE;
}

static void fail(EkKeeper *keeper, GError *error)
{
    if (keeper->error == NULL)
        keeper->error = error;
    else
        g_error_free(error);
    g_atomic_int_set(&keeper->failed, 1);
}

static void keep_note(EkKeeper *keeper, const Note *note)
{
    GError *error = NULL;
    if (note->kind == NOTE_WRITE && !write_note(keeper, note, &error)) {
        fail(keeper, error);
        return;
    }
    ek_read_map_set(keeper->map, note->first, note->count, note->mark);
    keeper->state = note->state;
    keeper->waiting++;
    if (keeper->waiting < MARKS_BEFORE_COMMIT &&
        g_get_monotonic_time() - keeper->committed_at < COMMIT_EVERY)
        return;
    if (!commit(keeper, &error))
        fail(keeper, error);
}

/* One of those who were at work on the buffer is through. */
static void release(void *data, guint8 *buffer)
{
    EkKeeper *keeper = data;
    guint i = 0;
    while (keeper->all_buffers[i] != buffer)
        i++;
    if (g_atomic_int_dec_and_test(&keeper->users[i]))
        g_async_queue_push(keeper->buffers, buffer);
}

static void set_users(EkKeeper *keeper, const guint8 *buffer, gint users)
{
    for (guint i = 0; i < BUFFERS; i++)
        if (keeper->all_buffers[i] == buffer)
            g_atomic_int_set(&keeper->users[i], users);
}

static gpointer keep(gpointer data)
{
    EkKeeper *keeper = data;
    GError *error = NULL;
    keeper->committed_at = g_get_monotonic_time();
    for (;;) {
        /* A read that takes long must not hold up what was read before it. */
        Note *note = g_async_queue_timeout_pop(keeper->notes, COMMIT_EVERY);
        if (note == NULL) {
            if (keeper->waiting > 0 && keeper->error == NULL && !commit(keeper, &error))
                fail(keeper, g_steal_pointer(&error));
            continue;
        }
        NoteKind kind = note->kind;
        if (kind == NOTE_WRITE || kind == NOTE_MARK) {
            /* After a failure nothing more is kept: a later success would hide it. */
            if (keeper->error == NULL)
                keep_note(keeper, note);
            if (note->buffer != NULL)
                release(keeper, note->buffer);
        } else if (kind == NOTE_DRAIN) {
            g_async_queue_push(keeper->drained, keeper);
        } else if (keeper->error == NULL) {
            keeper->state = note->state;
            if (!commit(keeper, &error))
                fail(keeper, g_steal_pointer(&error));
        }
        g_free(note);
        if (kind == NOTE_FINISH)
            return NULL;
    }
}

EkKeeper *ek_keeper_new(const EkKeeperParts *parts)
{
    EkKeeper *keeper = g_new0(EkKeeper, 1);
    keeper->parts = *parts;
    keeper->map = ek_read_map_copy(parts->map);
    keeper->notes = g_async_queue_new();
    keeper->buffers = g_async_queue_new();
    keeper->drained = g_async_queue_new();
    keeper->sums = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, g_free);
    for (int i = 0; i < BUFFERS; i++) {
        void *buffer = NULL;
        if (posix_memalign(&buffer, BUFFER_ALIGNMENT, parts->buffer_bytes) != 0)
            g_error("no memory for %d read buffers", BUFFERS);
        keeper->all_buffers[i] = buffer;
        g_async_queue_push(keeper->buffers, buffer);
    }
    if (parts->prefix != NULL)
        keeper->prefix = ek_prefix_work_new(parts->prefix, release, keeper);
    keeper->thread = g_thread_new("keeper", keep, keeper);
    return keeper;
}

guint8 *ek_keeper_take_buffer(EkKeeper *keeper)
{
    return g_async_queue_pop(keeper->buffers);
}

void ek_keeper_return_buffer(EkKeeper *keeper, guint8 *buffer)
{
    g_async_queue_push(keeper->buffers, buffer);
}

static void hand_over(EkKeeper *keeper, Note note)
{
    /* Behind the last note nobody answers any more. */
    gboolean may_wait = note.kind == NOTE_WRITE || note.kind == NOTE_MARK;
    g_async_queue_push(keeper->notes, g_memdup2(&note, sizeof note));
    if (may_wait && g_async_queue_length(keeper->notes) > MOST_NOTES)
        ek_keeper_drain(keeper);
}

void ek_keeper_write(EkKeeper *keeper, EkSector first, EkSector count, guint8 *buffer, gsize length,
                     EkMark mark, const EkKeptState *state)
{
    Note note = {.kind = NOTE_WRITE,
                 .first = first,
                 .count = count,
                 .mark = mark,
                 .state = *state,
                 .buffer = buffer,
                 .length = length};
    sum_note(keeper, &note);
    set_users(keeper, buffer, keeper->prefix != NULL ? 2 : 1);
    if (keeper->prefix != NULL &&
        !ek_prefix_take(keeper->prefix, first * keeper->parts.sector_size, buffer, length))
        release(keeper, buffer);
    hand_over(keeper, note);
}

void ek_keeper_hole(EkKeeper *keeper, EkSector first, EkSector count, EkByte length, EkMark mark,
                    const EkKeptState *state)
{
    keeper->fill[EK_FILL_ZEROS] += count;
    if (keeper->prefix != NULL)
        (void)ek_prefix_take(keeper->prefix, first * keeper->parts.sector_size, NULL, length);
    hand_over(keeper, (Note){.kind = NOTE_WRITE,
                             .first = first,
                             .count = count,
                             .mark = mark,
                             .state = *state,
                             .length = length});
}

void ek_keeper_count_fill(EkKeeper *keeper, EkSector fill[EK_FILLS])
{
    for (int kind = 0; kind < EK_FILLS; kind++)
        fill[kind] += keeper->fill[kind];
    memset(keeper->fill, 0, sizeof keeper->fill);
}

void ek_keeper_mark(EkKeeper *keeper, EkSector first, EkSector count, EkMark mark,
                    const EkKeptState *state)
{
    hand_over(
        keeper,
        (Note){.kind = NOTE_MARK, .first = first, .count = count, .mark = mark, .state = *state});
}

void ek_keeper_drain(EkKeeper *keeper)
{
    hand_over(keeper, (Note){.kind = NOTE_DRAIN});
    g_async_queue_pop(keeper->drained);
}

gboolean ek_keeper_has_failed(EkKeeper *keeper)
{
    return g_atomic_int_get(&keeper->failed) != 0;
}

gboolean ek_keeper_finish(EkKeeper *keeper, const EkKeptState *state, GError **error)
{
    hand_over(keeper, (Note){.kind = NOTE_FINISH, .state = *state});
    g_thread_join(keeper->thread);
    gboolean kept = keeper->error == NULL;
    if (keeper->prefix != NULL)
        ek_prefix_work_finish(keeper->prefix, kept);
    if (!kept)
        g_propagate_error(error, keeper->error);
    for (int i = 0; i < BUFFERS; i++)
        free(keeper->all_buffers[i]);
    g_async_queue_unref(keeper->notes);
    g_async_queue_unref(keeper->buffers);
    g_async_queue_unref(keeper->drained);
    g_hash_table_unref(keeper->sums);
    ek_read_map_free(keeper->map);
    g_free(keeper);
    return kept;
}
