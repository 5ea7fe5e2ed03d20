/* SPDX-License-Identifier: MIT */
/* The write-ahead record of edits. */
#include "case/applications.h"

#include "case/seal.h"

#include <string.h>

static const char *const state_names[] = {
    [EK_APPLICATION_WRITING] = "writing",         [EK_APPLICATION_APPLIED] = "applied",
    [EK_APPLICATION_UNDOING] = "undoing",         [EK_APPLICATION_UNDONE] = "undone",
    [EK_APPLICATION_ROLLED_BACK] = "rolled-back",
};

static void application_free(gpointer data)
{
    EkApplication *application = data;
    g_free(application->target);
    g_free(application->identity);
    g_free(application);
}

GPtrArray *ek_applications_list(EkCase *self, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GPtrArray) list = g_ptr_array_new_with_free_func(application_free);
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error, "SELECT id,event,target,identity,is_image,state FROM application ORDER BY id",
        "");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(store, rows, error)) == 1) {
        EkApplication *application = g_new0(EkApplication, 1);
        g_autofree char *state = ek_sql_text(rows, 5);
        application->id = sqlite3_column_int64(rows, 0);
        application->event = sqlite3_column_int64(rows, 1);
        application->target = ek_sql_text(rows, 2);
        application->identity = ek_sql_text(rows, 3);
        application->is_image = sqlite3_column_int(rows, 4) != 0;
        for (guint i = 0; i < G_N_ELEMENTS(state_names); i++)
            if (g_str_equal(state_names[i], state))
                application->state = (EkApplicationState)i;
        g_ptr_array_add(list, application);
    }
    return got == 0 ? g_steal_pointer(&list) : NULL;
}

/* How many edits an application has; -1 on failure, 0: one of an earlier version, it is not told.
 */
static gint64 count_edits(EkCase *self, gint64 id, GError **error)
{
    g_autoptr(EkStatement) row = ek_sql_prepare(
        ek_case_store(self), error, "SELECT edits FROM application WHERE id=?", "i", id);
    if (row == NULL || ek_sql_step(ek_case_store(self), row, error) != 1)
        return -1;
    return sqlite3_column_int64(row, 0);
}

/* The edit in a row; NULL when it is not as it was put there. */
static EkEdit *edit_of(sqlite3_stmt *row, gint64 id, guint position)
{
    gsize length = (gsize)sqlite3_column_bytes(row, 1);
    g_autofree char *sum = ek_sql_text(row, 4);
    if (length == 0 || length != (gsize)sqlite3_column_bytes(row, 2))
        return NULL;
    EkEdit *edit =
        ek_edit_new("", (EkByte)sqlite3_column_int64(row, 0), sqlite3_column_blob(row, 1),
                    sqlite3_column_blob(row, 2), length, (const char *)sqlite3_column_text(row, 3));
    g_autofree char *found = ek_seal_edit(edit, id, position);
    if (*sum == '\0' || g_str_equal(found, sum))
        return edit;
    ek_edit_free(edit);
    return NULL;
}

GPtrArray *ek_applications_edits(EkCase *self, gint64 id, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GPtrArray) edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error,
        "SELECT first_byte,before,after,why,sum FROM application_edit WHERE application=?"
        " ORDER BY position",
        "i", id);
    gint64 count = count_edits(self, id, error);
    int got = rows != NULL && count >= 0 ? 1 : -1;
    EkEdit *edit = NULL;
    while (got == 1 && (got = ek_sql_step(store, rows, error)) == 1 &&
           (edit = edit_of(rows, id, edits->len)) != NULL)
        g_ptr_array_add(edits, edit);
    if (got == -1)
        return NULL;
    if (got == 0 && (count == 0 || count == edits->len))
        return g_steal_pointer(&edits);
    ek_error_set(error, EK_ERROR_DAMAGED,
                 "%s/case.db: the record of an applied edit is damaged, so the target's previous "
                 "contents are uncertain. Nothing was written",
                 ek_case_folder(self));
    return NULL;
}

typedef struct {
    EkJournalTarget *target;
    const GPtrArray *edits;
    gint64 id;
} Begin;

static gboolean put_begin(sqlite3 *db, void *data, GError **error)
{
    Begin *begin = data;
    const EkJournalTarget *target = begin->target;
    if (!ek_sql_do(db, error,
                   "INSERT INTO application (event,target,identity,is_image,state,edits)"
                   " VALUES (?,?,?,?,'writing',?)",
                   "issii", target->event, target->target, target->identity,
                   (gint64)target->is_image, (gint64)begin->edits->len))
        return FALSE;
    begin->id = sqlite3_last_insert_rowid(db);
    for (guint i = 0; i < begin->edits->len; i++) {
        const EkEdit *edit = begin->edits->pdata[i];
        g_autofree char *sum = ek_seal_edit(edit, begin->id, i);
        if (!ek_sql_do(db, error, "INSERT INTO application_edit VALUES (?,?,?,?,?,?,?)", "iiubbss",
                       begin->id, (gint64)i, edit->first_byte, edit->before, edit->length,
                       edit->after, edit->length, edit->why, sum))
            return FALSE;
    }
    return TRUE;
}

static gboolean journal_begin(void *data, const GPtrArray *edits, gint64 *id, GError **error)
{
    EkJournalTarget *target = data;
    Begin begin = {target, edits, 0};
    if (!ek_sql_transaction(ek_case_store(target->self), put_begin, &begin, error))
        return FALSE;
    *id = begin.id;
    return TRUE;
}

static gboolean journal_set_state(void *data, gint64 id, EkApplicationState state, GError **error)
{
    EkJournalTarget *target = data;
    return ek_sql_do(ek_case_store(target->self), error,
                     "UPDATE application SET state=? WHERE id=?", "si", state_names[state], id);
}

EkJournal ek_applications_journal(EkJournalTarget *target)
{
    return (EkJournal){target, journal_begin, journal_set_state};
}

static gboolean is_in_image(const EkApplication *application)
{
    return application->is_image && (application->state == EK_APPLICATION_WRITING ||
                                     application->state == EK_APPLICATION_APPLIED ||
                                     application->state == EK_APPLICATION_UNDOING);
}

EkOverlay *ek_applications_kept(EkCase *self, GError **error)
{
    g_autoptr(GPtrArray) list = ek_applications_list(self, error);
    g_autoptr(EkOverlay) kept = ek_overlay_new();
    if (list == NULL)
        return NULL;
    for (guint i = list->len; i > 0; i--) {
        const EkApplication *application = list->pdata[i - 1];
        if (!is_in_image(application))
            continue;
        g_autoptr(GPtrArray) edits = ek_applications_edits(self, application->id, error);
        if (edits == NULL)
            return NULL;
        for (guint k = 0; k < edits->len; k++) {
            const EkEdit *edit = edits->pdata[k];
            ek_overlay_add(kept, edit->first_byte, edit->before, edit->length);
        }
    }
    return g_steal_pointer(&kept);
}

typedef struct {
    EkCase *self;
    EkByte first;
    const guint8 *bytes;
    gsize length;
} Correction;

/* Lays the bytes over the `before` of one application's edits, but for those that an older
 * application has covered already (`done`, one byte each). */
static gboolean correct_edits(sqlite3 *db, const Correction *correction, gint64 id, guint8 *done,
                              GError **error)
{
    g_autoptr(GPtrArray) edits = ek_applications_edits(correction->self, id, error);
    EkRange here = {correction->first, correction->length};
    for (guint i = 0; edits != NULL && i < edits->len; i++) {
        const EkEdit *edit = edits->pdata[i];
        EkRange covered = {edit->first_byte, edit->length};
        if (!ek_ranges_overlap(covered, here))
            continue;
        for (EkByte at = MAX(covered.first, here.first);
             at < MIN(ek_range_end(covered), ek_range_end(here)); at++) {
            gsize inside = (gsize)(at - here.first);
            if (done[inside] == 0)
                edit->before[at - covered.first] = correction->bytes[inside];
            done[inside] = 1;
        }
        g_autofree char *sum = ek_seal_edit(edit, id, i);
        if (!ek_sql_do(
                db, error,
                "UPDATE application_edit SET before=?,sum=? WHERE application=? AND position=?",
                "bsii", edit->before, edit->length, sum, id, (gint64)i))
            return FALSE;
    }
    return edits != NULL;
}

static gboolean put_correction(sqlite3 *db, void *data, GError **error)
{
    const Correction *correction = data;
    g_autofree guint8 *done = g_malloc0(correction->length);
    g_autoptr(GPtrArray) list = ek_applications_list(correction->self, error);
    if (list == NULL)
        return FALSE;
    for (guint i = 0; i < list->len; i++) {
        const EkApplication *application = list->pdata[i];
        if (is_in_image(application) &&
            !correct_edits(db, correction, application->id, done, error))
            return FALSE;
    }
    return TRUE;
}

gboolean ek_applications_correct(EkCase *self, EkByte first, const guint8 *bytes, gsize length,
                                 GError **error)
{
    Correction correction = {self, first, bytes, length};
    return ek_sql_transaction(ek_case_store(self), put_correction, &correction, error);
}
