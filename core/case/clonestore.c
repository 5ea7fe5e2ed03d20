/* SPDX-License-Identifier: MIT */
/* Which targets clones of this case were written to. */
#include "case/clonestore.h"

gint64 ek_clonestore_begin(EkCase *self, gint64 event, const char *target, const char *identity,
                           gboolean as_imaged, EkByte done, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    if (!ek_sql_do(store, error,
                   "INSERT INTO clone (event,target,identity,finished,as_imaged,done)"
                   " VALUES (?,?,?,0,?,?)",
                   "issiu", event, target, identity, (gint64)as_imaged, done))
        return 0;
    return sqlite3_last_insert_rowid(store);
}

gboolean ek_clonestore_progress(EkCase *self, gint64 id, EkByte done, GError **error)
{
    return ek_sql_do(ek_case_store(self), error, "UPDATE clone SET done=? WHERE id=?", "ui", done,
                     id);
}

gboolean ek_clonestore_finish(EkCase *self, gint64 id, GError **error)
{
    return ek_sql_do(ek_case_store(self), error, "UPDATE clone SET finished=1 WHERE id=?", "i", id);
}

gboolean ek_clonestore_is_unfinished(EkCase *self, const char *identity, gboolean as_imaged,
                                     EkByte *done)
{
    sqlite3 *store = ek_case_store(self);
    *done = 0;
    g_autoptr(EkStatement) row = ek_sql_prepare(
        store, NULL,
        "SELECT finished, as_imaged, done, (SELECT count(*) FROM event WHERE event.id>clone.event"
        " AND command IN ('image','plan','apply','undo'))"
        " FROM clone WHERE identity=? ORDER BY id DESC LIMIT 1",
        "s", identity);
    if (row == NULL || ek_sql_step(store, row, NULL) != 1 || sqlite3_column_int(row, 0) != 0)
        return FALSE;
    if ((sqlite3_column_int(row, 1) != 0) == (as_imaged != 0) && sqlite3_column_int64(row, 3) == 0)
        *done = (EkByte)sqlite3_column_int64(row, 2);
    return TRUE;
}

gboolean ek_clonestore_knows(EkCase *self, const char *identity)
{
    g_autoptr(EkStatement) row = ek_sql_prepare(
        ek_case_store(self), NULL, "SELECT 1 FROM clone WHERE identity=? LIMIT 1", "s", identity);
    return row != NULL && ek_sql_step(ek_case_store(self), row, NULL) == 1;
}

static void target_free(gpointer data)
{
    EkKnownTarget *target = data;
    g_free(target->path);
    g_free(target->identity);
    g_free(target);
}

GPtrArray *ek_clonestore_targets(EkCase *self)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GPtrArray) list = g_ptr_array_new_with_free_func(target_free);
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store, NULL,
                       "SELECT target,identity FROM clone UNION SELECT target,identity"
                       " FROM application WHERE is_image=0 ORDER BY 1,2",
                       "");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(store, rows, NULL)) == 1) {
        EkKnownTarget *target = g_new0(EkKnownTarget, 1);
        target->path = ek_sql_text(rows, 0);
        target->identity = ek_sql_text(rows, 1);
        g_ptr_array_add(list, target);
    }
    return got == 0 ? g_steal_pointer(&list) : NULL;
}
