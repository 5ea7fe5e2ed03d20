/* SPDX-License-Identifier: MIT */
/* One of the targets that a clone is written to: opened, written, read back, and noted. */
#include "work/clonetarget.h"

#include "base/bytes.h"
#include "base/text.h"
#include "case/applications.h"
#include "case/clonestore.h"

#include <string.h>
#include <unistd.h>

#define HOLE_BYTES 4096u

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
static gboolean check_room(const EkCloneSource *source, const EkTarget *target, EkByte bytes,
                           GError **error)
{
    const EkPlan *plan = source->plan;
    EkByte there = ek_target_bytes(target);
    if (there >= bytes)
        return TRUE;
    g_autofree char *missing = ek_text_size(bytes - there);
    gboolean has_end = plan != NULL && plan->partitions->len > 0 &&
                       (plan->scheme == EK_SCHEME_MBR || plan->scheme == EK_SCHEME_GPT);
    if (has_end && end_of_plan(plan) <= there)
        return source->skip_tail ||
               ek_error_set(error, EK_ERROR_REFUSED,
                            "%s is smaller than the image (short by %s), but all planned "
                            "partitions fit. To skip the rest: --skip-tail",
                            ek_target_path(target), missing);
    g_autofree char *needed = has_end ? ek_text_size(end_of_plan(plan)) : NULL;
    return ek_error_set(error, EK_ERROR_REFUSED, "%s is smaller than the image: %s are missing%s%s",
                        ek_target_path(target), missing,
                        has_end ? ", and the planned partitions alone need " : "",
                        has_end ? needed : "");
}

static EkTarget *open_target(EkCloneTarget *self, const char *path, EkByte bytes, GError **error)
{
    const EkCloneSource *source = self->source;
    if (!g_file_test(path, G_FILE_TEST_EXISTS)) {
        self->is_new = TRUE;
        return ek_target_create(path, bytes, error);
    }
    g_autoptr(EkTarget) target = ek_target_open(path, error);
    if (target == NULL)
        return NULL;
    gboolean is_ours = ek_clonestore_is_unfinished(source->opened, ek_target_identity(target),
                                                   source->as_imaged, &self->begun);
    self->begun = MIN(self->begun, bytes);
    if (ek_target_is_device(target)) {
        const EkCaseInfo *info = ek_case_info(source->opened);
        guint32 sectors = source->plan != NULL ? source->plan->table_sectors : info->sector_size;
        return ek_target_has_sectors(target, sectors, error) &&
                       check_room(source, target, bytes, error)
                   ? g_steal_pointer(&target)
                   : NULL;
    }
    if (ek_target_bytes(target) != bytes || !is_ours) {
        ek_error_set(error, EK_ERROR_REFUSED, "%s already exists. Specify a new file or a device",
                     path);
        return NULL;
    }
    if (self->begun == 0 && !ek_target_blank(target, error))
        return NULL;
    return g_steal_pointer(&target);
}

/* The edits that have their place on the target: a GPT's backup behind the end of a smaller one is
 * composed anew for it. */
static void choose_edits(EkCloneTarget *self)
{
    const EkPlan *plan = self->source->plan;
    EkByte there = ek_target_bytes(self->target);
    self->edits = g_ptr_array_new();
    for (guint i = 0; plan != NULL && i < plan->edits->len; i++) {
        EkEdit *edit = plan->edits->pdata[i];
        if (edit->first_byte + edit->length <= there)
            g_ptr_array_add(self->edits, edit);
    }
}

EkCloneTarget *ek_clone_target_open(const EkCloneSource *source, const char *path, GError **error)
{
    EkCloneTarget *self = g_new0(EkCloneTarget, 1);
    EkByte bytes = ek_reader_bytes(source->reader);
    self->source = source;
    self->target = open_target(self, path, bytes, error);
    if (self->target == NULL) {
        ek_clone_target_free(self);
        return NULL;
    }
    choose_edits(self);
    self->bytes = MIN(bytes, ek_target_bytes(self->target));
    return self;
}

void ek_clone_target_free(EkCloneTarget *self)
{
    g_clear_pointer(&self->edits, g_ptr_array_unref);
    g_clear_pointer(&self->target, ek_target_close);
    g_clear_error(&self->failure);
    g_free(self->back);
    g_free(self);
}

void ek_clone_target_drop(EkCloneTarget *self)
{
    if (self->is_new)
        unlink(ek_target_path(self->target));
}

gboolean ek_clone_target_begin(EkCloneTarget *self, GError **error)
{
    const EkCloneSource *source = self->source;
    self->id = ek_clonestore_begin(source->opened, source->event, ek_target_path(self->target),
                                   ek_target_identity(self->target), source->as_imaged, self->begun,
                                   error);
    return self->id != 0;
}

/* --- its content ------------------------------------------------------------------------------ */

/* A file gets holes for zeros; a device, which may hold anything, gets the zeros. */
static gboolean write_piece(EkCloneTarget *self, EkByte first, const guint8 *data, gsize length,
                            GError **error)
{
    if (ek_target_is_device(self->target))
        return ek_target_write(self->target, first, data, length, error);
    for (gsize at = 0; at < length; at += HOLE_BYTES) {
        gsize part = MIN(HOLE_BYTES, length - at);
        if (!ek_bytes_are_zero(data + at, part) &&
            !ek_target_write(self->target, first + at, data + at, part, error))
            return FALSE;
    }
    return TRUE;
}

static gboolean compare_piece(EkCloneTarget *self, EkByte first, const guint8 *data, gsize length,
                              GError **error)
{
    if (!ek_target_read(self->target, first, self->back, length, error))
        return FALSE;
    if (memcmp(data, self->back, length) == 0)
        return TRUE;
    gsize at = 0;
    while (data[at] == self->back[at])
        at++;
    return ek_error_set(error, EK_ERROR_FAILED,
                        "%s gives back something else than was written at sector "
                        "%" G_GUINT64_FORMAT ". Do not use it: the target itself is failing",
                        ek_target_path(self->target), (first + at) / EK_STEP);
}

void ek_clone_target_take(EkCloneTarget *self, EkByte first, const guint8 *data, gsize length,
                          gboolean verifying)
{
    if (self->failure != NULL || first >= self->bytes ||
        (!verifying && first + length <= self->begun))
        return;
    length = (gsize)MIN(length, self->bytes - first);
    if (verifying && self->back == NULL)
        self->back = g_malloc(length); /* the first is the longest */
    if (verifying)
        compare_piece(self, first, data, length, &self->failure);
    else
        write_piece(self, first, data, length, &self->failure);
}

void ek_clone_target_save(EkCloneTarget *self, EkByte done)
{
    if (ek_clone_target_sync(self) && done > self->begun)
        ek_clonestore_progress(self->source->opened, self->id, MIN(done, self->bytes),
                               &self->failure);
}

gboolean ek_clone_target_sync(EkCloneTarget *self)
{
    return self->failure == NULL && ek_target_sync(self->target, &self->failure);
}

/* --- a target of another size ----------------------------------------------------------------- */

typedef struct {
    EkCloneTarget *self;
    GPtrArray *edits; /* EkEdit* */
} Extending;

static gboolean take_part(void *data, const char *structure, EkByte first_byte, const guint8 *after,
                          gsize length, const char *what, GError **error)
{
    const Extending *extending = data;
    g_autofree guint8 *before = g_malloc(length);
    if (!ek_target_read(extending->self->target, first_byte, before, length, error))
        return FALSE;
    if (memcmp(before, after, length) != 0)
        g_ptr_array_add(extending->edits,
                        ek_edit_new(structure, first_byte, before, after, length, what));
    return TRUE;
}

/* On a larger device, or a smaller one, a GPT's backup goes to the device's end: an application of
 * its own. */
static gboolean extend_table(EkCloneTarget *self, const EkJournal *journal, GError **error)
{
    EkByte bytes = ek_target_bytes(self->target);
    guint32 size = self->source->plan != NULL ? self->source->plan->table_sectors : EK_STEP;
    g_autofree EkTable *table = g_new0(EkTable, 1);
    /* An old GPT may still stand on a drive that an MBR is planned for: it rules nothing. */
    if (self->source->plan == NULL || self->source->plan->scheme != EK_SCHEME_GPT ||
        bytes == ek_reader_bytes(self->source->reader) ||
        !ek_table_load(&ek_table_gpt, self->source->reader, size, size, table) || !table->is_whole)
        return TRUE;
    g_autoptr(GPtrArray) edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    Extending extending = {self, edits};
    table->drive_bytes = bytes;
    if (!ek_table_gpt.compose(table, self->source->reader, take_part, &extending, error))
        return FALSE;
    ek_edits_sort(edits);
    self->is_extended = edits->len > 0;
    return edits->len == 0 || ek_apply(self->target, edits, journal, error);
}

/* The edits that came along count as applied to the clone, so that `undo` can take them back. */
static gboolean note_edits(EkCloneTarget *self, GError **error)
{
    EkJournalTarget named = {self->source->opened, self->source->event,
                             ek_target_path(self->target), ek_target_identity(self->target), FALSE};
    EkJournal journal = ek_applications_journal(&named);
    gint64 id = 0;
    if (self->edits->len > 0 &&
        (!journal.begin(journal.data, self->edits, &id, error) ||
         !journal.set_state(journal.data, id, EK_APPLICATION_APPLIED, error)))
        return FALSE;
    return extend_table(self, &journal, error);
}

gboolean ek_clone_target_finish(EkCloneTarget *self)
{
    gboolean fine = self->failure == NULL && note_edits(self, &self->failure) &&
                    ek_clonestore_finish(self->source->opened, self->id, &self->failure);
    ek_target_reread(self->target);
    return fine;
}
