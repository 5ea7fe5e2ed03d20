/* SPDX-License-Identifier: MIT */
#include "case/clonestore.h"

gint64 ek_clonestore_begin(EkCase *self, gint64 event, const char *target, const char *identity,
                           GError **error)
{
    sqlite3 *store = ek_case_store(self);
    if (!ek_sql_do(store, error,
                   "INSERT INTO clone (event,target,identity,finished) VALUES (?,?,?,0)", "iss",
                   event, target, identity))
        return 0;
    return sqlite3_last_insert_rowid(store);
}

gboolean ek_clonestore_finish(EkCase *self, gint64 id, GError **error)
{
    return ek_sql_do(ek_case_store(self), error, "UPDATE clone SET finished=1 WHERE id=?", "i", id);
}

gboolean ek_clonestore_is_unfinished(EkCase *self, const char *identity)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(EkStatement) row = ek_sql_prepare(
        store, NULL, "SELECT finished FROM clone WHERE identity=? ORDER BY id DESC LIMIT 1", "s",
        identity);
    return row != NULL && ek_sql_step(store, row, NULL) == 1 && sqlite3_column_int(row, 0) == 0;
}
