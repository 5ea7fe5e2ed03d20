/* SPDX-License-Identifier: MIT */
/* The order is always: image written, image synced, corrections of kept bytes durable, map and sums
 * durable in one transaction. A kill between any two of these leaves the map saying less than the
 * image holds, never more. */
#include "capture/imagewriter.h"

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

struct EkImageWriter {
    EkImageWriterParts parts;
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

static guint64 *sum_of_block(EkImageWriter *writer, guint64 number, GError **error)
{
    guint64 *sum = g_hash_table_lookup(writer->sums, &number);
    if (sum != NULL)
        return sum;
    guint64 stored = 0;
    if (!writer->parts.sink.block_sum(writer->parts.sink.data, number, &stored, error))
        return NULL;
    sum = g_memdup2(&stored, sizeof stored);
    g_hash_table_insert(writer->sums, g_memdup2(&number, sizeof number), sum);
    return sum;
}

static gboolean add_to_sums(EkImageWriter *writer, const Note *note, GError **error)
{
    for (guint i = 0; i < G_N_ELEMENTS(note->sums); i++) {
        guint64 *sum = note->sums[i] != 0 ? sum_of_block(writer, note->block + i, error) : NULL;
        if (note->sums[i] != 0 && sum == NULL)
            return FALSE;
        if (sum != NULL)
            *sum += note->sums[i];
    }
    return TRUE;
}

/* What the note's sectors add to the sums of their blocks. Done by the thread that reads, which has
 * less to do than the image writer, and the data still in its cache. */
static void sum_note(EkImageWriter *writer, Note *note)
{
    guint32 size = writer->parts.sector_size;
    EkByte at = note->first * size;
    gsize done = 0;
    note->block = at / EK_BLOCK_BYTES;
    for (guint i = 0; i < G_N_ELEMENTS(note->sums) && done < note->length; i++) {
        gsize part =
            (gsize)MIN(note->length - done, (note->block + i + 1) * EK_BLOCK_BYTES - at - done);
        note->sums[i] = ek_block_sum_and_fill((at + done) / size, size, note->buffer + done, part,
                                              writer->fill);
        done += part;
    }
    g_assert(done == note->length); /* buffers are smaller than blocks */
}

/* Zeros are left as holes of the image; where an applied edit lies in it, they are what it covers.
 */
static gboolean keep_hole(const EkImageWriter *writer, const Note *note, GError **error)
{
    const EkOverlay *kept = writer->parts.kept;
    EkByte at = note->first * writer->parts.sector_size;
    EkByte end = at + note->length;
    EkRange covered;
    while (kept != NULL && ek_overlay_next(kept, at, end, &covered)) {
        g_autofree guint8 *zeros = g_malloc0((gsize)covered.bytes);
        if (!writer->parts.sink.correct(writer->parts.sink.data, covered.first, zeros,
                                        (gsize)covered.bytes, error))
            return FALSE;
        at = ek_range_end(covered);
    }
    return ek_image_zero(writer->parts.image, note->first * writer->parts.sector_size, note->length,
                         error);
}

/* Writes to the image, around what applied edits cover there. */
static gboolean write_note(EkImageWriter *writer, const Note *note, GError **error)
{
    if (note->buffer == NULL)
        return keep_hole(writer, note, error);
    EkImage *image = writer->parts.image;
    const EkOverlay *kept = writer->parts.kept;
    EkByte start = note->first * writer->parts.sector_size;
    EkByte at = start;
    EkByte end = start + note->length;
    EkRange covered;
    while (kept != NULL && ek_overlay_next(kept, at, end, &covered)) {
        if (!ek_image_write(image, at, note->buffer + (at - start), (gsize)(covered.first - at),
                            error) ||
            !writer->parts.sink.correct(writer->parts.sink.data, covered.first,
                                        note->buffer + (covered.first - start),
                                        (gsize)covered.bytes, error))
            return FALSE;
        at = ek_range_end(covered);
    }
    return ek_image_write(image, at, note->buffer + (at - start), (gsize)(end - at), error) &&
           add_to_sums(writer, note, error);
}

static gboolean commit(EkImageWriter *writer, GError **error)
{
    if (!ek_image_sync(writer->parts.image, error))
        return FALSE;
    g_autoptr(GPtrArray) changes = ek_read_map_take_changes(writer->map);
    g_autofree EkBlockSum *sums = g_new(EkBlockSum, g_hash_table_size(writer->sums) + 1);
    gsize count = 0;
    GHashTableIter iterator;
    gpointer number;
    gpointer sum;
    g_hash_table_iter_init(&iterator, writer->sums);
    while (g_hash_table_iter_next(&iterator, &number, &sum))
        sums[count++] = (EkBlockSum){*(guint64 *)number, *(guint64 *)sum};
    for (int state = 0; state < EK_STATES; state++) {
        writer->state.totals[state] = ek_read_map_total(writer->map, (EkState)state);
        writer->state.stretches[state] = ek_read_map_stretches(writer->map, (EkState)state);
    }
    if (!writer->parts.sink.commit(writer->parts.sink.data, changes, sums, count, &writer->state,
                                   error))
        return FALSE;
    if (count > SUMS_KEPT)
        g_hash_table_remove_all(writer->sums);
    writer->committed_at = g_get_monotonic_time();
    writer->waiting = 0;
    return TRUE;
}

static void fail(EkImageWriter *writer, GError *error)
{
    if (writer->error == NULL)
        writer->error = error;
    else
        g_error_free(error);
    g_atomic_int_set(&writer->failed, 1);
}

static void keep_note(EkImageWriter *writer, const Note *note)
{
    GError *error = NULL;
    if (note->kind == NOTE_WRITE && !write_note(writer, note, &error)) {
        fail(writer, error);
        return;
    }
    ek_read_map_set(writer->map, note->first, note->count, note->mark);
    writer->state = note->state;
    writer->waiting++;
    if (writer->waiting < MARKS_BEFORE_COMMIT &&
        g_get_monotonic_time() - writer->committed_at < COMMIT_EVERY)
        return;
    if (!commit(writer, &error))
        fail(writer, error);
}

/* One of those who were at work on the buffer is through. */
static void release(void *data, guint8 *buffer)
{
    EkImageWriter *writer = data;
    guint i = 0;
    while (writer->all_buffers[i] != buffer)
        i++;
    if (g_atomic_int_dec_and_test(&writer->users[i]))
        g_async_queue_push(writer->buffers, buffer);
}

static void set_users(EkImageWriter *writer, const guint8 *buffer, gint users)
{
    for (guint i = 0; i < BUFFERS; i++)
        if (writer->all_buffers[i] == buffer)
            g_atomic_int_set(&writer->users[i], users);
}

static gpointer keep(gpointer data)
{
    EkImageWriter *writer = data;
    GError *error = NULL;
    writer->committed_at = g_get_monotonic_time();
    for (;;) {
        /* A read that takes long must not hold up what was read before it. */
        Note *note = g_async_queue_timeout_pop(writer->notes, COMMIT_EVERY);
        if (note == NULL) {
            if (writer->waiting > 0 && writer->error == NULL && !commit(writer, &error))
                fail(writer, g_steal_pointer(&error));
            continue;
        }
        NoteKind kind = note->kind;
        if (kind == NOTE_WRITE || kind == NOTE_MARK) {
            /* After a failure nothing more is kept: a later success would hide it. */
            if (writer->error == NULL)
                keep_note(writer, note);
            if (note->buffer != NULL)
                release(writer, note->buffer);
        } else if (kind == NOTE_DRAIN) {
            g_async_queue_push(writer->drained, writer);
        } else if (writer->error == NULL) {
            writer->state = note->state;
            if (!commit(writer, &error))
                fail(writer, g_steal_pointer(&error));
        }
        g_free(note);
        if (kind == NOTE_FINISH)
            return NULL;
    }
}

EkImageWriter *ek_image_writer_new(const EkImageWriterParts *parts)
{
    EkImageWriter *writer = g_new0(EkImageWriter, 1);
    writer->parts = *parts;
    writer->map = ek_read_map_copy(parts->map);
    writer->notes = g_async_queue_new();
    writer->buffers = g_async_queue_new();
    writer->drained = g_async_queue_new();
    writer->sums = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, g_free);
    for (int i = 0; i < BUFFERS; i++) {
        void *buffer = NULL;
        if (posix_memalign(&buffer, BUFFER_ALIGNMENT, parts->buffer_bytes) != 0)
            g_error("no memory for %d read buffers", BUFFERS);
        writer->all_buffers[i] = buffer;
        g_async_queue_push(writer->buffers, buffer);
    }
    if (parts->prefix != NULL)
        writer->prefix = ek_prefix_work_new(parts->prefix, release, writer);
    writer->thread = g_thread_new("keeper", keep, writer);
    return writer;
}

guint8 *ek_image_writer_take_buffer(EkImageWriter *writer)
{
    return g_async_queue_pop(writer->buffers);
}

void ek_image_writer_return_buffer(EkImageWriter *writer, guint8 *buffer)
{
    g_async_queue_push(writer->buffers, buffer);
}

static void hand_over(EkImageWriter *writer, Note note)
{
    /* Behind the last note nobody answers any more. */
    gboolean may_wait = note.kind == NOTE_WRITE || note.kind == NOTE_MARK;
    g_async_queue_push(writer->notes, g_memdup2(&note, sizeof note));
    if (may_wait && g_async_queue_length(writer->notes) > MOST_NOTES)
        ek_image_writer_drain(writer);
}

void ek_image_writer_write(EkImageWriter *writer, EkSector first, EkSector count, guint8 *buffer,
                           gsize length, EkMark mark, const EkKeptState *state)
{
    Note note = {.kind = NOTE_WRITE,
                 .first = first,
                 .count = count,
                 .mark = mark,
                 .state = *state,
                 .buffer = buffer,
                 .length = length};
    sum_note(writer, &note);
    set_users(writer, buffer, writer->prefix != NULL ? 2 : 1);
    if (writer->prefix != NULL &&
        !ek_prefix_take(writer->prefix, first * writer->parts.sector_size, buffer, length))
        release(writer, buffer);
    hand_over(writer, note);
}

void ek_image_writer_hole(EkImageWriter *writer, EkSector first, EkSector count, EkByte length,
                          EkMark mark, const EkKeptState *state)
{
    writer->fill[EK_FILL_ZEROS] += count;
    if (writer->prefix != NULL)
        (void)ek_prefix_take(writer->prefix, first * writer->parts.sector_size, NULL, length);
    hand_over(writer, (Note){.kind = NOTE_WRITE,
                             .first = first,
                             .count = count,
                             .mark = mark,
                             .state = *state,
                             .length = length});
}

void ek_image_writer_count_fill(EkImageWriter *writer, EkSector fill[EK_FILLS])
{
    for (int kind = 0; kind < EK_FILLS; kind++)
        fill[kind] += writer->fill[kind];
    memset(writer->fill, 0, sizeof writer->fill);
}

void ek_image_writer_mark(EkImageWriter *writer, EkSector first, EkSector count, EkMark mark,
                          const EkKeptState *state)
{
    hand_over(
        writer,
        (Note){.kind = NOTE_MARK, .first = first, .count = count, .mark = mark, .state = *state});
}

void ek_image_writer_drain(EkImageWriter *writer)
{
    hand_over(writer, (Note){.kind = NOTE_DRAIN});
    g_async_queue_pop(writer->drained);
}

gboolean ek_image_writer_has_failed(EkImageWriter *writer)
{
    return g_atomic_int_get(&writer->failed) != 0;
}

gboolean ek_image_writer_finish(EkImageWriter *writer, const EkKeptState *state, GError **error)
{
    hand_over(writer, (Note){.kind = NOTE_FINISH, .state = *state});
    g_thread_join(writer->thread);
    gboolean kept = writer->error == NULL;
    if (writer->prefix != NULL)
        ek_prefix_work_finish(writer->prefix, kept);
    if (!kept)
        g_propagate_error(error, writer->error);
    for (int i = 0; i < BUFFERS; i++)
        free(writer->all_buffers[i]);
    g_async_queue_unref(writer->notes);
    g_async_queue_unref(writer->buffers);
    g_async_queue_unref(writer->drained);
    g_hash_table_unref(writer->sums);
    ek_read_map_free(writer->map);
    g_free(writer);
    return kept;
}
