/* SPDX-License-Identifier: MIT */
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
