/* SPDX-License-Identifier: MIT */
/* The case's plan. */
#include "case/planstore.h"

#include "case/seal.h"

#include <string.h>

typedef struct {
    gint64 event;
    const EkPlan *plan;
} Put;

static gboolean put_lists(sqlite3 *db, const EkPlan *plan, GError **error)
{
    for (guint i = 0; i < plan->partitions->len; i++) {
        const EkPlanPartition *partition = plan->partitions->pdata[i];
        const EkTableEntry *entry = &partition->entry;
        const EkPlanContents *contents = &partition->contents;
        if (!ek_sql_do(db, error,
                       "INSERT INTO plan_partition VALUES "
                       "(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
                       "iiiuuiiiibbusssssisuuuiii", (gint64)i, (gint64)entry->index,
                       (gint64)partition->volume, entry->range.first, entry->range.bytes,
                       (gint64)entry->type, (gint64)entry->active, (gint64)entry->logical,
                       (gint64)entry->extended, entry->type_uuid, sizeof entry->type_uuid,
                       entry->uuid, sizeof entry->uuid, entry->attributes, entry->type_text,
                       entry->name, partition->note, partition->now, partition->check,
                       (gint64)partition->opens, partition->label, contents->files,
                       contents->damaged, contents->folders, (gint64)contents->is_cut,
                       (gint64)contents->matching, (gint64)contents->sampled))
            return FALSE;
    }
    for (guint i = 0; i < plan->current->len; i++) {
        const EkTableEntry *entry = &g_array_index(plan->current, EkTableEntry, i);
        if (!ek_sql_do(db, error, "INSERT INTO plan_current VALUES (?,?,?,?,?,?)", "iiuuii",
                       (gint64)i, (gint64)entry->index, entry->range.first, entry->range.bytes,
                       (gint64)entry->logical, (gint64)entry->extended))
            return FALSE;
    }
    for (guint i = 0; i < plan->repairs->len; i++) {
        const EkPlanRepair *repair = plan->repairs->pdata[i];
        if (!ek_sql_do(db, error, "INSERT INTO plan_repair VALUES (?,?,?,?)", "iiss", (gint64)i,
                       (gint64)repair->volume, repair->what, repair->from))
            return FALSE;
    }
    for (guint i = 0; i < plan->alternatives->len; i++) {
        const EkPlanAlternative *alternative = plan->alternatives->pdata[i];
        if (!ek_sql_do(db, error, "INSERT INTO plan_alternative VALUES (?,?,?)", "iis", (gint64)i,
                       (gint64)alternative->volume, alternative->text))
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
    g_autofree char *sum = ek_seal_plan(put->plan);
    if (!ek_sql_run(db,
                    "DELETE FROM plan; DELETE FROM plan_partition; DELETE FROM plan_repair;"
                    "DELETE FROM plan_edit; DELETE FROM plan_warning;"
                    "DELETE FROM plan_alternative; DELETE FROM plan_current",
                    error) ||
        !ek_sql_do(db, error, "INSERT INTO plan VALUES (1,?,?,?,?,?,?,?)", "isiisis", put->event,
                   ek_scheme_name(put->plan->scheme), (gint64)put->plan->opens,
                   (gint64)put->plan->layers, ek_scheme_name(put->plan->current_scheme),
                   (gint64)put->plan->table_sectors, sum) ||
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

static void load_uuid(sqlite3_stmt *rows, int column, guint8 uuid[16])
{
    if (sqlite3_column_bytes(rows, column) == 16)
        memcpy(uuid, sqlite3_column_blob(rows, column), 16);
}

static gboolean refuse_damaged(EkCase *self, GError **error)
{
    return ek_error_set(error, EK_ERROR_DAMAGED,
                        "%s/case.db: the saved plan is damaged. Make a new one: ektypon plan %s",
                        ek_case_named(self), ek_case_named(self));
}

/* A place as a row has it in two columns; FALSE with *error when it is none. */
static gboolean load_range(EkCase *self, sqlite3_stmt *rows, int column, EkRange *range,
                           GError **error)
{
    gint64 first = sqlite3_column_int64(rows, column);
    gint64 bytes = sqlite3_column_int64(rows, column + 1);
    if (first < 0 || bytes < 0 || bytes > G_MAXINT64 - first)
        return refuse_damaged(self, error);
    *range = (EkRange){(EkByte)first, (EkByte)bytes};
    return TRUE;
}

static gboolean load_partitions(EkCase *self, EkPlan *plan, GError **error)
{
    g_autoptr(EkStatement) rows = rows_of(
        self, error,
        "SELECT slot,volume,first_byte,bytes,type,active,logical,extended,type_uuid,uuid,"
        "attributes,type_text,name,note,now,checked,opens,label,files,damaged,folders,is_cut,"
        "matching,sampled FROM plan_partition ORDER BY position");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(ek_case_store(self), rows, error)) == 1) {
        EkPlanPartition *partition = g_new0(EkPlanPartition, 1);
        EkTableEntry *entry = &partition->entry;
        g_autofree char *name = ek_sql_text(rows, 12);
        g_autofree char *type = ek_sql_text(rows, 11);
        entry->index = (guint)sqlite3_column_int(rows, 0);
        partition->volume = (guint)sqlite3_column_int64(rows, 1);
        entry->type = (guint8)sqlite3_column_int(rows, 4);
        entry->active = sqlite3_column_int(rows, 5) != 0;
        entry->logical = sqlite3_column_int(rows, 6) != 0;
        entry->extended = sqlite3_column_int(rows, 7) != 0;
        load_uuid(rows, 8, entry->type_uuid);
        load_uuid(rows, 9, entry->uuid);
        entry->attributes = (guint64)sqlite3_column_int64(rows, 10);
        g_strlcpy(entry->name, name, sizeof entry->name);
        g_strlcpy(entry->type_text, type, sizeof entry->type_text);
        partition->note = ek_sql_text(rows, 13);
        partition->now = ek_sql_text(rows, 14);
        partition->check = ek_sql_text(rows, 15);
        partition->opens =
            (EkPlanOpens)CLAMP(sqlite3_column_int(rows, 16), EK_PLAN_FAILS, EK_PLAN_NOT_OPENED);
        partition->label = ek_sql_text(rows, 17);
        partition->contents = (EkPlanContents){
            .files = (guint64)sqlite3_column_int64(rows, 18),
            .damaged = (guint64)sqlite3_column_int64(rows, 19),
            .folders = (guint64)sqlite3_column_int64(rows, 20),
            .is_cut = sqlite3_column_int(rows, 21) != 0,
            .matching = (guint)sqlite3_column_int(rows, 22),
            .sampled = (guint)sqlite3_column_int(rows, 23),
        };
        g_ptr_array_add(plan->partitions, partition);
        if (!load_range(self, rows, 2, &entry->range, error))
            return FALSE;
    }
    return got == 0;
}

static gboolean load_current(EkCase *self, EkPlan *plan, GError **error)
{
    g_autoptr(EkStatement) rows = rows_of(
        self, error,
        "SELECT slot,first_byte,bytes,logical,extended FROM plan_current ORDER BY position");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(ek_case_store(self), rows, error)) == 1) {
        EkTableEntry entry = {.index = (guint)sqlite3_column_int(rows, 0),
                              .logical = sqlite3_column_int(rows, 3) != 0,
                              .extended = sqlite3_column_int(rows, 4) != 0};
        if (!load_range(self, rows, 1, &entry.range, error))
            return FALSE;
        g_array_append_val(plan->current, entry);
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
            return refuse_damaged(self, error);
        g_ptr_array_add(plan->edits,
                        ek_edit_new((const char *)sqlite3_column_text(rows, 0),
                                    (EkByte)sqlite3_column_int64(rows, 1),
                                    sqlite3_column_blob(rows, 2), sqlite3_column_blob(rows, 3),
                                    length, (const char *)sqlite3_column_text(rows, 4)));
    }
    return got == 0;
}

static gboolean load_alternatives(EkCase *self, EkPlan *plan, GError **error)
{
    g_autoptr(EkStatement) rows =
        rows_of(self, error, "SELECT volume,text FROM plan_alternative ORDER BY position");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(ek_case_store(self), rows, error)) == 1) {
        EkPlanAlternative *alternative = g_new0(EkPlanAlternative, 1);
        alternative->volume = (guint)sqlite3_column_int64(rows, 0);
        alternative->text = ek_sql_text(rows, 1);
        g_ptr_array_add(plan->alternatives, alternative);
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
    g_autoptr(EkStatement) row = rows_of(
        self, error, "SELECT scheme,opens,layers,current_scheme,sum,table_sectors FROM plan");
    int got = row != NULL ? ek_sql_step(ek_case_store(self), row, error) : -1;
    if (got == 0)
        ek_error_set(error, EK_ERROR_ABSENT, "%s has no plan yet. Make one: ektypon plan %s",
                     ek_case_named(self), ek_case_named(self));
    if (got != 1)
        return NULL;
    g_autoptr(EkPlan) plan = ek_plan_new();
    g_autofree char *sum = ek_sql_text(row, 4);
    plan->opens = sqlite3_column_int(row, 1) != 0;
    plan->layers = (guint)sqlite3_column_int(row, 2);
    plan->table_sectors = (guint32)sqlite3_column_int64(row, 5);
    if (!ek_scheme_from_name((const char *)sqlite3_column_text(row, 0), &plan->scheme) ||
        !ek_scheme_from_name((const char *)sqlite3_column_text(row, 3), &plan->current_scheme)) {
        refuse_damaged(self, error);
        return NULL;
    }
    if (!load_partitions(self, plan, error) || !load_current(self, plan, error) ||
        !load_repairs(self, plan, error) || !load_edits(self, plan, error) ||
        !load_alternatives(self, plan, error) || !load_warnings(self, plan, error))
        return NULL;
    g_autofree char *found = ek_seal_plan(plan);
    if (!g_str_equal(found, sum)) {
        refuse_damaged(self, error);
        return NULL;
    }
    return g_steal_pointer(&plan);
}

gint64 ek_planstore_event(EkCase *self)
{
    g_autoptr(EkStatement) row = rows_of(self, NULL, "SELECT event FROM plan");
    if (row == NULL || ek_sql_step(ek_case_store(self), row, NULL) != 1)
        return 0;
    return sqlite3_column_int64(row, 0);
}
