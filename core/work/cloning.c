/* SPDX-License-Identifier: MIT */
/* Writes the image, with the plan applied or without it, to a target, and verifies it. */
#include "work/cloning.h"

#include "base/bytes.h"
#include "base/text.h"
#include "case/applications.h"
#include "case/clonestore.h"
#include "case/planstore.h"
#include "work/guard.h"

#include <string.h>

#define PIECE_BYTES (4u << 20)
#define HOLE_BYTES 4096u
#define SAVE_BYTES ((EkByte)64 << 20) /* from one point to go on from to the next */

struct EkCloning {
    EkView view;
    EkLock *lock;
    EkTarget *target;
    EkPlan *plan;     /* NULL: as imaged */
    GPtrArray *edits; /* EkEdit*, the plan's */
    EkByte bytes;     /* that are written */
    EkOverlay *repairs;
    EkReader *reader;
    const gint *cancel;
    gint64 event;
    gint64 id;
    gboolean is_extended;
    EkByte begun; /* bytes that an earlier attempt wrote, and that stay */
    GMutex mutex; /* of `progress` */
    EkCloneProgress progress;
};

/* Where the last planned partition ends, and with it all that a clone must hold. */
static EkByte end_of_plan(const EkPlan *plan)
{
    EkByte end = 0;
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        end = MAX(end, ek_range_end(partition->entry.range));
    }
    return plan->scheme == EK_SCHEME_GPT ? end + ek_gpt_backup_bytes(plan->table_sectors) : end;
}

/* A smaller device will do when all that is planned has room on it, and it is asked for. */
static gboolean check_room(const EkCloning *cloning, const EkCloneOrder *order,
                           const EkTarget *target, EkByte bytes, GError **error)
{
    const EkPlan *plan = cloning->plan;
    EkByte there = ek_target_bytes(target);
    if (there >= bytes)
        return TRUE;
    g_autofree char *missing = ek_text_size(bytes - there);
    gboolean has_end = plan != NULL && plan->partitions->len > 0 &&
                       (plan->scheme == EK_SCHEME_MBR || plan->scheme == EK_SCHEME_GPT);
    if (has_end && end_of_plan(plan) <= there)
        return order->skip_tail ||
               ek_error_set(error, EK_ERROR_REFUSED,
                            "%s is smaller than the image (short by %s), but all planned "
                            "partitions fit. To skip the rest: --skip-tail",
                            order->target, missing);
    g_autofree char *needed = has_end ? ek_text_size(end_of_plan(plan)) : NULL;
    return ek_error_set(
        error, EK_ERROR_REFUSED, "%s is smaller than the image: %s are missing%s%s", order->target,
        missing, has_end ? ", and the planned partitions alone need " : "", has_end ? needed : "");
}

/* Opens the target: a new file, one that an earlier clone of this case left unfinished, or a
 * device. */
static EkTarget *open_target(EkCloning *cloning, const EkCloneOrder *order, EkByte bytes,
                             GError **error)
{
    if (!g_file_test(order->target, G_FILE_TEST_EXISTS))
        return ek_target_create(order->target, bytes, error);
    g_autoptr(EkTarget) target = ek_target_open(order->target, error);
    if (target == NULL)
        return NULL;
    gboolean is_ours = ek_clonestore_is_unfinished(cloning->view.opened, ek_target_identity(target),
                                                   order->as_imaged, &cloning->begun);
    cloning->begun = MIN(cloning->begun, bytes);
    if (ek_target_is_device(target)) {
        const EkCaseInfo *info = ek_case_info(cloning->view.opened);
        guint32 sectors = cloning->plan != NULL ? cloning->plan->table_sectors : info->sector_size;
        return ek_target_has_sectors(target, sectors, error) &&
                       check_room(cloning, order, target, bytes, error)
                   ? g_steal_pointer(&target)
                   : NULL;
    }
    if (ek_target_bytes(target) != bytes || !is_ours) {
        ek_error_set(error, EK_ERROR_REFUSED, "%s already exists. Specify a new file or a device",
                     order->target);
        return NULL;
    }
    if (cloning->begun == 0 && !ek_target_blank(target, error))
        return NULL;
    return g_steal_pointer(&target);
}

/* The edits that have their place on the target: a GPT's backup behind the end of a smaller one is
 * composed anew for it. */
static void choose_edits(EkCloning *cloning)
{
    EkByte there = ek_target_bytes(cloning->target);
    cloning->edits = g_ptr_array_new();
    for (guint i = 0; cloning->plan != NULL && i < cloning->plan->edits->len; i++) {
        EkEdit *edit = cloning->plan->edits->pdata[i];
        if (edit->first_byte + edit->length <= there)
            g_ptr_array_add(cloning->edits, edit);
    }
}

static gboolean load_repairs(EkCloning *cloning, const EkCloneOrder *order, GError **error)
{
    if (order->as_imaged) {
        cloning->repairs = ek_overlay_new();
        return TRUE;
    }
    cloning->plan = ek_planstore_load(cloning->view.opened, error);
    if (cloning->plan != NULL)
        cloning->repairs = ek_plan_overlay(cloning->plan->edits);
    return cloning->plan != NULL;
}

/* Of a drive of which nothing was read a clone is empty. */
static gboolean check_content(const EkCloning *cloning, const EkCloneOrder *order, GError **error)
{
    gboolean has_edits = cloning->plan != NULL && cloning->plan->edits->len > 0;
    if (ek_read_map_total(cloning->view.map, EK_STATE_GOOD) > 0 || has_edits)
        return TRUE;
    return ek_error_set(error, EK_ERROR_REFUSED,
                        "there is nothing to write: no sector of the drive was read yet%s. Nothing "
                        "was written. Image it first: ektypon image %s",
                        order->as_imaged ? "" : ", and nothing is planned", order->folder);
}

EkCloning *ek_cloning_new(EkSystem *system, const EkCloneOrder *order, const gint *cancel,
                          GError **error)
{
    g_autoptr(EkCloning) cloning = g_new0(EkCloning, 1);
    g_mutex_init(&cloning->mutex);
    cloning->cancel = cancel;
    if (!ek_view_open_locked(&cloning->view, order->folder, EK_LOCK_EDITS, &cloning->lock, error))
        return NULL;
    const EkCaseInfo *info = ek_case_info(cloning->view.opened);
    EkGuard guard = {system, &cloning->view, NULL, cancel};
    if (!ek_guard_over(&guard, order->target, order->confirmed, error) ||
        !load_repairs(cloning, order, error) || !check_content(cloning, order, error))
        return NULL;
    EkRange data = {0, 0};
    EkByte needed = 0;
    for (EkByte at = 0; ek_reader_next_data(cloning->view.reader, at, &data);
         at = ek_range_end(data))
        needed += data.bytes;
    gboolean exists = g_file_test(order->target, G_FILE_TEST_EXISTS);
    if (!exists && !ek_guard_space(order->target, needed, "the clone", error))
        return NULL;
    cloning->target = open_target(cloning, order, info->bytes, error);
    if (cloning->target == NULL)
        return NULL;
    choose_edits(cloning);
    cloning->bytes = MIN(info->bytes, ek_target_bytes(cloning->target));
    cloning->event = ek_event_begin(cloning->view.opened, "clone", order->options, error);
    cloning->id = cloning->event == 0
                      ? 0
                      : ek_clonestore_begin(cloning->view.opened, cloning->event, order->target,
                                            ek_target_identity(cloning->target), order->as_imaged,
                                            cloning->begun, error);
    if (cloning->id == 0)
        return NULL;
    EkImageReaderParts parts = ek_view_parts(&cloning->view);
    parts.repairs = cloning->repairs;
    cloning->reader = ek_image_reader_new(&parts, EK_FACE_AS_REPAIRED);
    cloning->progress.total = cloning->bytes * 2;
    return g_steal_pointer(&cloning);
}

void ek_cloning_free(EkCloning *cloning)
{
    g_clear_pointer(&cloning->reader, ek_reader_free);
    g_clear_pointer(&cloning->repairs, ek_overlay_free);
    g_clear_pointer(&cloning->edits, g_ptr_array_unref);
    g_clear_pointer(&cloning->plan, ek_plan_free);
    g_clear_pointer(&cloning->target, ek_target_close);
    g_clear_pointer(&cloning->lock, ek_lock_release);
    ek_view_close(&cloning->view);
    g_mutex_clear(&cloning->mutex);
    g_free(cloning);
}

EkCloneProgress ek_cloning_progress(EkCloning *cloning)
{
    g_mutex_lock(&cloning->mutex);
    EkCloneProgress progress = cloning->progress;
    g_mutex_unlock(&cloning->mutex);
    return progress;
}

guint ek_cloning_edits(const EkCloning *cloning)
{
    return cloning->edits->len;
}

gboolean ek_cloning_is_extended(const EkCloning *cloning)
{
    return cloning->is_extended;
}

EkByte ek_cloning_left_out(const EkCloning *cloning)
{
    return ek_reader_bytes(cloning->reader) - cloning->bytes;
}

EkByte ek_cloning_begun(const EkCloning *cloning)
{
    return cloning->begun;
}

EkByte ek_cloning_unread(const EkCloning *cloning)
{
    EkKnown known = ek_reader_known(cloning->reader, 0, cloning->bytes);
    return known.bad + known.unread;
}

static void tell(EkCloning *cloning, EkByte done, gboolean verifying)
{
    g_mutex_lock(&cloning->mutex);
    cloning->progress.done = done;
    cloning->progress.verifying = verifying;
    g_mutex_unlock(&cloning->mutex);
}

/* A file gets holes for zeros; a device, which may hold anything, gets the zeros. */
static gboolean write_piece(EkCloning *cloning, EkByte first, const guint8 *data, gsize length,
                            GError **error)
{
    if (ek_target_is_device(cloning->target))
        return ek_target_write(cloning->target, first, data, length, error);
    for (gsize at = 0; at < length; at += HOLE_BYTES) {
        gsize part = MIN(HOLE_BYTES, length - at);
        if (!ek_bytes_are_zero(data + at, part) &&
            !ek_target_write(cloning->target, first + at, data + at, part, error))
            return FALSE;
    }
    return TRUE;
}

static gboolean compare_piece(EkCloning *cloning, EkByte first, const guint8 *data, guint8 *back,
                              gsize length, GError **error)
{
    if (!ek_target_read(cloning->target, first, back, length, error))
        return FALSE;
    if (memcmp(data, back, length) == 0)
        return TRUE;
    gsize at = 0;
    while (data[at] == back[at])
        at++;
    return ek_error_set(error, EK_ERROR_FAILED,
                        "%s gives back something else than was written at sector "
                        "%" G_GUINT64_FORMAT ". Do not use it: the target itself is failing",
                        ek_target_path(cloning->target), (first + at) / EK_STEP);
}

/* What is written so far is on stable storage, and can stay if this is cut off. */
static gboolean save(EkCloning *cloning, EkByte done, GError **error)
{
    return ek_target_sync(cloning->target, error) &&
           ek_clonestore_progress(cloning->view.opened, cloning->id, done, error);
}

static gboolean pass(EkCloning *cloning, gboolean verifying, GError **error)
{
    g_autofree guint8 *data = g_malloc(PIECE_BYTES);
    g_autofree guint8 *back = g_malloc(PIECE_BYTES);
    EkByte bytes = cloning->bytes;
    EkByte saved = cloning->begun;
    for (EkByte at = verifying ? 0 : cloning->begun; at < bytes; at += PIECE_BYTES) {
        gsize length = (gsize)MIN(PIECE_BYTES, bytes - at);
        if (!verifying && at - saved >= SAVE_BYTES) {
            if (!save(cloning, at, error))
                return FALSE;
            saved = at;
        }
        if (g_atomic_int_get(cloning->cancel) != 0 && !verifying && !save(cloning, at, error))
            return FALSE;
        if (g_atomic_int_get(cloning->cancel) != 0)
            return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
        if (!ek_reader_read(cloning->reader, at, data, length, NULL, error))
            return FALSE;
        if (verifying ? !compare_piece(cloning, at, data, back, length, error)
                      : !write_piece(cloning, at, data, length, error))
            return FALSE;
        tell(cloning, (verifying ? bytes : 0) + at + length, verifying);
    }
    return TRUE;
}

/* --- a target of another size ----------------------------------------------------------------- */

typedef struct {
    EkCloning *cloning;
    GPtrArray *edits; /* EkEdit* */
} Extending;

static gboolean take_part(void *data, const char *structure, EkByte first_byte, const guint8 *after,
                          gsize length, const char *what, GError **error)
{
    const Extending *extending = data;
    g_autofree guint8 *before = g_malloc(length);
    if (!ek_target_read(extending->cloning->target, first_byte, before, length, error))
        return FALSE;
    if (memcmp(before, after, length) != 0)
        g_ptr_array_add(extending->edits,
                        ek_edit_new(structure, first_byte, before, after, length, what));
    return TRUE;
}

/* On a larger device, or a smaller one, a GPT's backup goes to the device's end: an application of
 * its own. */
static gboolean extend_table(EkCloning *cloning, const EkJournal *journal, GError **error)
{
    EkByte bytes = ek_target_bytes(cloning->target);
    guint32 size = cloning->plan != NULL ? cloning->plan->table_sectors : EK_STEP;
    g_autofree EkTable *table = g_new0(EkTable, 1);
    /* An old GPT may still stand on a drive that an MBR is planned for: it rules nothing. */
    if (cloning->plan == NULL || cloning->plan->scheme != EK_SCHEME_GPT ||
        bytes == ek_reader_bytes(cloning->reader) ||
        !ek_table_load(&ek_table_gpt, cloning->reader, size, size, table) || !table->is_whole)
        return TRUE;
    g_autoptr(GPtrArray) edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    Extending extending = {cloning, edits};
    table->drive_bytes = bytes;
    if (!ek_table_gpt.compose(table, cloning->reader, take_part, &extending, error))
        return FALSE;
    ek_edits_sort(edits);
    cloning->is_extended = edits->len > 0;
    return edits->len == 0 || ek_apply(cloning->target, edits, journal, error);
}

/* The edits that came along count as applied to the clone, so that `undo` can take them back. */
static gboolean note_edits(EkCloning *cloning, GError **error)
{
    EkJournalTarget named = {cloning->view.opened, cloning->event, ek_target_path(cloning->target),
                             ek_target_identity(cloning->target), FALSE};
    EkJournal journal = ek_applications_journal(&named);
    gint64 id = 0;
    if (ek_cloning_edits(cloning) > 0 &&
        (!journal.begin(journal.data, cloning->edits, &id, error) ||
         !journal.set_state(journal.data, id, EK_APPLICATION_APPLIED, error)))
        return FALSE;
    return extend_table(cloning, &journal, error);
}

gboolean ek_cloning_run(EkCloning *cloning, GError **error)
{
    GError *failure = NULL;
    EkCase *opened = cloning->view.opened;
    gboolean fine = pass(cloning, FALSE, &failure) && ek_target_sync(cloning->target, &failure) &&
                    pass(cloning, TRUE, &failure) && note_edits(cloning, &failure) &&
                    ek_clonestore_finish(opened, cloning->id, &failure);
    ek_target_reread(cloning->target);
    gboolean cancelled = g_error_matches(failure, EK_ERROR, EK_ERROR_CANCELLED);
    g_autofree char *detail =
        fine ? g_strdup_printf("%s written and verified", ek_target_path(cloning->target))
             : g_strdup(failure->message);
    if (!ek_event_end(opened, cloning->event,
                      fine        ? "done"
                      : cancelled ? "interrupted"
                                  : "failed",
                      detail, failure == NULL ? &failure : NULL))
        fine = FALSE;
    if (failure != NULL)
        g_propagate_error(error, failure);
    return fine;
}
