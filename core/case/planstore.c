/* SPDX-License-Identifier: MIT */
#include "case/planstore.h"

typedef struct {
    gint64 event;
    const EkPlan *plan;
} Put;

static gboolean put_lists(sqlite3 *db, const EkPlan *plan, GError **error)
{
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        if (!ek_sql_do(db, error, "INSERT INTO plan_partition VALUES (?,?,?,?,?,?,'')", "iiuuii",
                       (gint64)partition->index, (gint64)partition->volume, partition->range.first,
                       partition->range.bytes, (gint64)partition->type, (gint64)partition->active))
            return FALSE;
    }
    for (guint i = 0; i < plan->repairs->len; i++) {
        const EkPlanRepair *repair = plan->repairs->pdata[i];
        if (!ek_sql_do(db, error, "INSERT INTO plan_repair VALUES (?,?,?,?)", "iiss", (gint64)i,
                       (gint64)repair->volume, repair->what, repair->from))
            return FALSE;
    }
    for (guint i = 0; i < plan->warnings->len; i++)
        if (!ek_sql_do(db, error, "INSERT INTO plan_warning VALUES (?,?)", "is", (gint64)i,
                       plan->warnings->pdata[i]))
            return FALSE;
    return TRUE;
}

static gboolean put_plan(sqlite3 *db, void *data, GError **error)
{
    const Put *put = data;
    if (!ek_sql_run(db,
                    "DELETE FROM plan; DELETE FROM plan_partition; DELETE FROM plan_repair;"
                    "DELETE FROM plan_edit; DELETE FROM plan_warning",
                    error) ||
        !ek_sql_do(db, error, "INSERT INTO plan VALUES (1,?,?,?)", "isi", put->event,
                   put->plan->scheme, (gint64)put->plan->opens) ||
        !put_lists(db, put->plan, error))
        return FALSE;
    for (guint i = 0; i < put->plan->edits->len; i++) {
        const EkEdit *edit = put->plan->edits->pdata[i];
        if (!ek_sql_do(db, error, "INSERT INTO plan_edit VALUES (?,?,?,?,?,?)", "isubbs", (gint64)i,
                       edit->structure, edit->first_byte, edit->before, edit->length, edit->after,
                       edit->length, edit->why))
            return FALSE;
    }
    return TRUE;
}

gboolean ek_planstore_put(EkCase *self, gint64 event, const EkPlan *plan, GError **error)
{
    Put put = {event, plan};
    return ek_sql_transaction(ek_case_store(self), put_plan, &put, error);
}

static sqlite3_stmt *rows_of(EkCase *self, GError **error, const char *sql)
{
    return ek_sql_prepare(ek_case_store(self), error, sql, "");
}

static gboolean load_partitions(EkCase *self, EkPlan *plan, GError **error)
{
    g_autoptr(EkStatement) rows = rows_of(
        self, error,
        "SELECT position,volume,first_byte,bytes,type,active FROM plan_partition ORDER BY 1");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(ek_case_store(self), rows, error)) == 1) {
        EkPlanPartition *partition = g_new0(EkPlanPartition, 1);
        partition->index = (guint)sqlite3_column_int(rows, 0);
        partition->volume = (guint)sqlite3_column_int64(rows, 1);
        partition->range.first = (EkByte)sqlite3_column_int64(rows, 2);
        partition->range.bytes = (EkByte)sqlite3_column_int64(rows, 3);
        partition->type = (guint8)sqlite3_column_int(rows, 4);
        partition->active = sqlite3_column_int(rows, 5) != 0;
        g_ptr_array_add(plan->partitions, partition);
    }
    return got == 0;
}

static gboolean load_repairs(EkCase *self, EkPlan *plan, GError **error)
{
    g_autoptr(EkStatement) rows =
        rows_of(self, error, "SELECT volume,what,source FROM plan_repair ORDER BY position");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(ek_case_store(self), rows, error)) == 1) {
        EkPlanRepair *repair = g_new0(EkPlanRepair, 1);
        repair->volume = (guint)sqlite3_column_int64(rows, 0);
        repair->what = ek_sql_text(rows, 1);
        repair->from = ek_sql_text(rows, 2);
        g_ptr_array_add(plan->repairs, repair);
    }
    return got == 0;
}

static gboolean load_edits(EkCase *self, EkPlan *plan, GError **error)
{
    g_autoptr(EkStatement) rows =
        rows_of(self, error,
                "SELECT structure,first_byte,before,after,why FROM plan_edit ORDER BY position");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(ek_case_store(self), rows, error)) == 1) {
        gsize length = (gsize)sqlite3_column_bytes(rows, 2);
        if (length == 0 || length != (gsize)sqlite3_column_bytes(rows, 3))
            return ek_error_set(error, EK_ERROR_DAMAGED, "%s/case.db: an edit of the plan is torn",
                                ek_case_folder(self));
        g_ptr_array_add(plan->edits,
                        ek_edit_new((const char *)sqlite3_column_text(rows, 0),
                                    (EkByte)sqlite3_column_int64(rows, 1),
                                    sqlite3_column_blob(rows, 2), sqlite3_column_blob(rows, 3),
                                    length, (const char *)sqlite3_column_text(rows, 4)));
    }
    return got == 0;
}

static gboolean load_warnings(EkCase *self, EkPlan *plan, GError **error)
{
    g_autoptr(EkStatement) rows =
        rows_of(self, error, "SELECT text FROM plan_warning ORDER BY position");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(ek_case_store(self), rows, error)) == 1)
        g_ptr_array_add(plan->warnings, ek_sql_text(rows, 0));
    return got == 0;
}

EkPlan *ek_planstore_load(EkCase *self, GError **error)
{
    g_autoptr(EkStatement) row = rows_of(self, error, "SELECT scheme,opens FROM plan");
    int got = row != NULL ? ek_sql_step(ek_case_store(self), row, error) : -1;
    if (got == 0)
        ek_error_set(error, EK_ERROR_ABSENT, "%s has no plan yet. Make one: ektypon plan %s",
                     ek_case_folder(self), ek_case_folder(self));
    if (got != 1)
        return NULL;
    g_autoptr(EkPlan) plan = ek_plan_new();
    plan->scheme = ek_sql_text(row, 0);
    plan->opens = sqlite3_column_int(row, 1) != 0;
    if (!load_partitions(self, plan, error) || !load_repairs(self, plan, error) ||
        !load_edits(self, plan, error) || !load_warnings(self, plan, error))
        return NULL;
    return g_steal_pointer(&plan);
}

gint64 ek_planstore_event(EkCase *self)
{
    g_autoptr(EkStatement) row = rows_of(self, NULL, "SELECT event FROM plan");
    if (row == NULL || ek_sql_step(ek_case_store(self), row, NULL) != 1)
        return 0;
    return sqlite3_column_int64(row, 0);
}
