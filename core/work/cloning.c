/* SPDX-License-Identifier: MIT */
/* Writes the image, with the plan applied or without it, to one or several targets, reading it
 * once, and verifies each. */
#include "work/cloning.h"

#include "base/text.h"
#include "case/planstore.h"
#include "work/clonetarget.h"
#include "work/guard.h"

#include <string.h>
#include <sys/stat.h>

#define PIECE_BYTES (4u << 20)
#define SAVE_BYTES ((EkByte)64 << 20) /* from one point to go on from to the next */

struct EkCloning {
    EkView view;
    EkLock *lock;
    EkPlan *plan; /* NULL: as imaged */
    EkOverlay *repairs;
    EkReader *reader;
    EkCloneSource source;
    GPtrArray *targets; /* EkCloneTarget */
    const gint *cancel;
    EkByte bytes; /* of the longest target that are written */
    GMutex mutex; /* of `progress`, `busy` */
    GCond idle;
    guint busy; /* targets that a piece is on its way to */
    EkCloneProgress progress;
    /* The piece. */
    EkByte first;
    const guint8 *data;
    gsize length;
    gboolean verifying;
};

static gboolean load_repairs(EkCloning *cloning, const EkCloneOrder *order, GError **error)
{
    if (order->as_imaged) {
        cloning->repairs = ek_overlay_new();
        return TRUE;
    }
    cloning->plan = ek_planstore_load(cloning->view.opened, error);
    cloning->source.plan = cloning->plan;
    if (cloning->plan != NULL)
        cloning->repairs = ek_plan_overlay(cloning->plan->edits);
    return cloning->plan != NULL;
}

/* Of a drive of which nothing was read a clone is empty. */
static gboolean check_content(const EkCloning *cloning, const EkCloneOrder *order, GError **error)
{
    gboolean has_edits = cloning->source.plan != NULL && cloning->source.plan->edits->len > 0;
    if (ek_read_map_total(cloning->view.map, EK_STATE_GOOD) > 0 || has_edits)
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "there is nothing to write: no sector of the drive was read yet%s. Nothing "
                        "was written. Image it first: ektypon image %s",
                        order->as_imaged ? "" : ", and nothing is planned", order->folder);
}

/* --- targets ---------------------------------------------------------------------------------- */

static dev_t disk_of(const char *path)
{
    struct stat st;
    g_autofree char *folder = g_path_get_dirname(path);
    return stat(folder, &st) == 0 ? st.st_dev : 0;
}

/* How many of the new files up to `index` go to its disk: they share the space that is there. */
static guint files_beside(const EkCloneOrder *order, guint index)
{
    guint count = 0;
    for (guint i = 0; i <= index; i++)
        count += !g_file_test(order->targets[i], G_FILE_TEST_EXISTS) &&
                 disk_of(order->targets[i]) == disk_of(order->targets[index]);
    return count;
}

static EkByte data_bytes(EkReader *reader)
{
    EkRange data = {0, 0};
    EkByte bytes = 0;
    for (EkByte at = 0; ek_reader_next_data(reader, at, &data); at = ek_range_end(data))
        bytes += data.bytes;
    return bytes;
}

/* All are asked about before anything is made. */
static gboolean check_targets(EkCloning *cloning, EkSystem *system, const EkCloneOrder *order,
                              GError **error)
{
    EkGuard guard = {system, &cloning->view, NULL, cloning->cancel};
    EkByte needed = data_bytes(cloning->view.reader);
    for (guint i = 0; order->targets[i] != NULL; i++) {
        const char *path = order->targets[i];
        const char *word = order->confirmed != NULL ? order->confirmed[i] : NULL;
        if (!ek_guard_over(&guard, path, word, error))
            return FALSE;
        for (guint k = 0; k < i; k++)
            if (ek_system_is_same_storage(system, path, order->targets[k]) ||
                g_str_equal(path, order->targets[k]))
                return ek_error_set(error, EK_ERROR_REFUSED,
                                    "%s and %s are the same target, or share space. Nothing was "
                                    "written",
                                    order->targets[k], path);
    }
    for (guint i = 0; order->targets[i] != NULL; i++) {
        const char *path = order->targets[i];
        if (!g_file_test(path, G_FILE_TEST_EXISTS) &&
            !ek_guard_space(path, needed * files_beside(order, i), "the clone", error))
            return FALSE;
    }
    return TRUE;
}

static gboolean is_twice(const EkCloning *cloning, const EkCloneTarget *target)
{
    for (guint i = 0; i < cloning->targets->len; i++) {
        const EkCloneTarget *other = cloning->targets->pdata[i];
        if (g_str_equal(ek_target_identity(other->target), ek_target_identity(target->target)))
            return TRUE;
    }
    return FALSE;
}

/* All of them, or none: files that were made for it go again. */
static gboolean open_targets(EkCloning *cloning, const EkCloneOrder *order, GError **error)
{
    gboolean fine = TRUE;
    for (guint i = 0; fine && order->targets[i] != NULL; i++) {
        EkCloneTarget *target = ek_clone_target_open(&cloning->source, order->targets[i], error);
        fine = target != NULL;
        if (fine && is_twice(cloning, target)) {
            ek_clone_target_free(target);
            fine = ek_error_set(error, EK_ERROR_REFUSED, "%s is named twice. Nothing was written",
                                order->targets[i]);
        } else if (fine) {
            g_ptr_array_add(cloning->targets, target);
            cloning->bytes = MAX(cloning->bytes, target->bytes);
        }
    }
    cloning->source.event =
        fine ? ek_event_begin(cloning->view.opened, "clone", order->options, error) : 0;
    fine = cloning->source.event != 0;
    for (guint i = 0; fine && i < cloning->targets->len; i++)
        fine = ek_clone_target_begin(cloning->targets->pdata[i], error);
    for (guint i = 0; !fine && i < cloning->targets->len; i++)
        ek_clone_target_drop(cloning->targets->pdata[i]);
    return fine;
}

static void free_target(void *data)
{
    ek_clone_target_free(data);
}

EkCloning *ek_cloning_new(EkSystem *system, const EkCloneOrder *order, const gint *cancel,
                          GError **error)
{
    g_autoptr(EkCloning) cloning = g_new0(EkCloning, 1);
    g_mutex_init(&cloning->mutex);
    g_cond_init(&cloning->idle);
    cloning->cancel = cancel;
    cloning->targets = g_ptr_array_new_with_free_func(free_target);
    if (!ek_view_open_locked(&cloning->view, order->folder, EK_LOCK_EDITS, &cloning->lock, error) ||
        !check_targets(cloning, system, order, error) || !load_repairs(cloning, order, error) ||
        !check_content(cloning, order, error))
        return NULL;
    EkImageReaderParts parts = ek_view_parts(&cloning->view);
    parts.repairs = cloning->repairs;
    cloning->reader = ek_image_reader_new(&parts, EK_FACE_AS_REPAIRED);
    cloning->source.opened = cloning->view.opened;
    cloning->source.reader = cloning->reader;
    cloning->source.as_imaged = order->as_imaged;
    cloning->source.skip_tail = order->skip_tail;
    if (!open_targets(cloning, order, error))
        return NULL;
    cloning->progress.total = cloning->bytes * 2;
    return g_steal_pointer(&cloning);
}

void ek_cloning_free(EkCloning *cloning)
{
    g_clear_pointer(&cloning->targets, g_ptr_array_unref);
    g_clear_pointer(&cloning->reader, ek_reader_free);
    g_clear_pointer(&cloning->repairs, ek_overlay_free);
    g_clear_pointer(&cloning->plan, ek_plan_free);
    g_clear_pointer(&cloning->lock, ek_lock_release);
    ek_view_close(&cloning->view);
    g_mutex_clear(&cloning->mutex);
    g_cond_clear(&cloning->idle);
    g_free(cloning);
}

/* --- what is told of them --------------------------------------------------------------------- */

EkCloneProgress ek_cloning_progress(EkCloning *cloning)
{
    g_mutex_lock(&cloning->mutex);
    EkCloneProgress progress = cloning->progress;
    g_mutex_unlock(&cloning->mutex);
    return progress;
}

static const EkCloneTarget *target_at(const EkCloning *cloning, guint index)
{
    return cloning->targets->pdata[index];
}

const GError *ek_cloning_failure(const EkCloning *cloning, guint index)
{
    return target_at(cloning, index)->failure;
}

guint ek_cloning_edits(const EkCloning *cloning, guint index)
{
    return target_at(cloning, index)->edits->len;
}

gboolean ek_cloning_is_extended(const EkCloning *cloning, guint index)
{
    return target_at(cloning, index)->is_extended;
}

EkByte ek_cloning_left_out(const EkCloning *cloning, guint index)
{
    return ek_reader_bytes(cloning->reader) - target_at(cloning, index)->bytes;
}

EkByte ek_cloning_begun(const EkCloning *cloning, guint index)
{
    return target_at(cloning, index)->begun;
}

EkByte ek_cloning_unread(const EkCloning *cloning, guint index)
{
    EkKnown known = ek_reader_known(cloning->reader, 0, target_at(cloning, index)->bytes);
    return known.bad + known.unread;
}

/* --- writing and reading back ----------------------------------------------------------------- */

static void take_piece(gpointer target, gpointer data)
{
    EkCloning *cloning = data;
    ek_clone_target_take(target, cloning->first, cloning->data, cloning->length,
                         cloning->verifying);
    g_mutex_lock(&cloning->mutex);
    cloning->busy--;
    g_cond_signal(&cloning->idle);
    g_mutex_unlock(&cloning->mutex);
}

/* Each target in a thread of its own: the slowest sets the pace, not the sum of them. */
static void hand_out(EkCloning *cloning, GThreadPool *pool)
{
    cloning->busy = cloning->targets->len;
    for (guint i = 0; i < cloning->targets->len; i++)
        if (pool == NULL || !g_thread_pool_push(pool, cloning->targets->pdata[i], NULL))
            take_piece(cloning->targets->pdata[i], cloning);
    g_mutex_lock(&cloning->mutex);
    while (cloning->busy > 0)
        g_cond_wait(&cloning->idle, &cloning->mutex);
    cloning->progress.done =
        (cloning->verifying ? cloning->bytes : 0) + cloning->first + cloning->length;
    cloning->progress.verifying = cloning->verifying;
    g_mutex_unlock(&cloning->mutex);
}

static gboolean is_any_left(const EkCloning *cloning)
{
    for (guint i = 0; i < cloning->targets->len; i++)
        if (target_at(cloning, i)->failure == NULL)
            return TRUE;
    return FALSE;
}

static void save(EkCloning *cloning, EkByte done)
{
    for (guint i = 0; i < cloning->targets->len; i++)
        ek_clone_target_save(cloning->targets->pdata[i], done);
}

/* FALSE with *error where none of the targets can go on. */
static gboolean pass(EkCloning *cloning, gboolean verifying, GThreadPool *pool, GError **error)
{
    g_autofree guint8 *data = g_malloc(PIECE_BYTES);
    EkByte from = cloning->bytes;
    for (guint i = 0; i < cloning->targets->len; i++)
        from = MIN(from, verifying ? 0 : target_at(cloning, i)->begun);
    EkByte saved = from;
    for (EkByte at = from; at < cloning->bytes && is_any_left(cloning); at += PIECE_BYTES) {
        gboolean is_called_off = g_atomic_int_get(cloning->cancel) != 0;
        if (!verifying && (is_called_off || at - saved >= SAVE_BYTES)) {
            save(cloning, at);
            saved = at;
        }
        if (is_called_off)
            return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
        cloning->first = at;
        cloning->data = data;
        cloning->length = (gsize)MIN(PIECE_BYTES, cloning->bytes - at);
        cloning->verifying = verifying;
        if (!ek_reader_read(cloning->reader, at, data, cloning->length, NULL, error))
            return FALSE;
        hand_out(cloning, pool);
    }
    return TRUE;
}

/* What came of each, for the log; *failed counts those that came to nothing. */
static char *describe(const EkCloning *cloning, guint *failed)
{
    GString *text = g_string_new(NULL);
    *failed = 0;
    for (guint i = 0; i < cloning->targets->len; i++) {
        const EkCloneTarget *target = target_at(cloning, i);
        const char *path = ek_target_path(target->target);
        *failed += target->failure != NULL;
        if (i > 0)
            g_string_append(text, "; ");
        if (target->failure != NULL)
            g_string_append(text, target->failure->message);
        else
            g_string_append_printf(text, "%s written and verified", path);
    }
    return g_string_free(text, FALSE);
}

static gboolean write_all(EkCloning *cloning, GError **error)
{
    guint count = cloning->targets->len;
    GThreadPool *pool =
        count > 1 ? g_thread_pool_new(take_piece, cloning, (gint)count, FALSE, NULL) : NULL;
    gboolean fine = pass(cloning, FALSE, pool, error);
    for (guint i = 0; fine && i < count; i++)
        (void)ek_clone_target_sync(cloning->targets->pdata[i]);
    fine = fine && pass(cloning, TRUE, pool, error);
    if (pool != NULL)
        g_thread_pool_free(pool, FALSE, TRUE);
    for (guint i = 0; fine && i < count; i++)
        (void)ek_clone_target_finish(cloning->targets->pdata[i]);
    return fine;
}

gboolean ek_cloning_run(EkCloning *cloning, GError **error)
{
    GError *failure = NULL;
    guint failed = 0;
    gboolean fine = write_all(cloning, &failure);
    gboolean cancelled = g_error_matches(failure, EK_ERROR, EK_ERROR_CANCELLED);
    g_autofree char *detail = describe(cloning, &failed);
    /* The only one's failure is that of all. */
    if (fine && failed == cloning->targets->len)
        failure = g_error_copy(target_at(cloning, 0)->failure);
    fine = fine && failed == 0;
    if (!ek_event_end(cloning->view.opened, cloning->source.event,
                      fine                                           ? "done"
                      : cancelled                                    ? "interrupted"
                      : failed > 0 && failed < cloning->targets->len ? "failed in part"
                                                                     : "failed",
                      cancelled ? failure->message : detail, failure == NULL ? &failure : NULL))
        fine = FALSE;
    if (failure != NULL)
        g_propagate_error(error, failure);
    return fine;
}
