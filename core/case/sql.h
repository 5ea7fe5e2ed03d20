/* SPDX-License-Identifier: MIT */
/* SQLite with our errors. */
#ifndef EK_CASE_SQL_H
#define EK_CASE_SQL_H

#include "base/error.h"

#include <sqlite3.h>

/* Opens the store called `name` in a case folder, disarmed: nothing that it holds is run. With
 * `writable` it is made when absent and `create` is set. EK_ERROR_REFUSED where it, or what SQLite
 * keeps beside it, is a link or no regular file. */
sqlite3 *ek_sql_open(const char *folder, const char *name, gboolean writable, gboolean create,
                     GError **error);

/* Opens a store once more for reading, by one thread only: without the locks that a step and each
 * column of millions of rows would cost. */
sqlite3 *ek_sql_open_alone(const char *folder, const char *name, GError **error);

/* Opens, or makes, a store that can be made again at any time: without the log that the others
 * have. An empty name is a store for the time being, which no folder holds. For one thread. */
sqlite3 *ek_sql_open_plain(const char *folder, const char *name, gboolean writable, GError **error);

/* A long statement ends with EK_ERROR_CANCELLED when *cancel (atomic) is not 0; NULL: no more.
 * Short ones, and commits, are not held up by it. */
void ek_sql_watch(sqlite3 *store, const gint *cancel);

/* The sum of a store's schema: of all that it has made, whatever order and spacing. The caller
 * frees.
 */
char *ek_sql_schema_sum(sqlite3 *store, GError **error);

/* EK_ERROR_DAMAGED unless the store has exactly the tables that running the first `count` of
 * `made_by` makes, and nothing else but indices that it makes: no trigger, no view, no column more.
 * `known_sum` is the sum of a schema that is right, which is told at once; NULL: none is known. */
gboolean ek_sql_check_schema(sqlite3 *store, const char *const *made_by, int count,
                             const char *known_sum, GError **error);

/* *error from what SQLite said last: EK_ERROR_DAMAGED for a file that is no store (any more),
 * EK_ERROR_NO_SPACE for a full disk. Returns FALSE. */
gboolean ek_sql_fail(sqlite3 *store, GError **error, const char *doing);

/* Runs statements without results. */
gboolean ek_sql_run(sqlite3 *store, const char *sql, GError **error);

/* Prepares a statement and binds its parameters, one letter each in `types`: i gint64, u guint64,
 * d double, s text or NULL, b bytes (const void *, gsize). NULL on failure. The caller finalizes.
 */
sqlite3_stmt *ek_sql_prepare(sqlite3 *store, GError **error, const char *sql, const char *types,
                             ...);

/* Prepares, binds and runs a statement that has no results. */
gboolean ek_sql_do(sqlite3 *store, GError **error, const char *sql, const char *types, ...);

/* Steps: 1 a row, 0 the end, -1 failure with *error. */
int ek_sql_step(sqlite3 *store, sqlite3_stmt *statement, GError **error);

/* A copy of a text column, NULL where it is NULL. */
char *ek_sql_text(sqlite3_stmt *statement, int column);

typedef gboolean (*EkSqlWork)(sqlite3 *store, void *data, GError **error);

/* Runs `work` in one transaction: all of it, durable on return, or nothing. */
gboolean ek_sql_transaction(sqlite3 *store, EkSqlWork work, void *data, GError **error);

/* Brings a store to version `count` by running migrations[its version] and so on, each in a
 * transaction of its own. A store of a newer version is EK_ERROR_UNSUPPORTED. */
gboolean ek_sql_migrate(sqlite3 *store, const char *const *migrations, int count, GError **error);

/* The store's version, or -1 with *error. */
int ek_sql_version(sqlite3 *store, GError **error);

/* The same; EK_ERROR_UNSUPPORTED for one behind `count`, which a newer program made. */
int ek_sql_known_version(sqlite3 *store, int count, GError **error);

G_DEFINE_AUTOPTR_CLEANUP_FUNC(sqlite3, sqlite3_close)
typedef sqlite3_stmt EkStatement;
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkStatement, sqlite3_finalize)

#endif
