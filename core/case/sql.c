/* SPDX-License-Identifier: MIT */
#include "case/sql.h"

#include <string.h>
#include <unistd.h>

#define BUSY_MS 20000

static gboolean is_quiet_and_read_only(const char *path)
{
    g_autofree char *folder = g_path_get_dirname(path);
    g_autofree char *wal = g_strconcat(path, "-wal", NULL);
    return access(folder, W_OK) != 0 && !g_file_test(wal, G_FILE_TEST_EXISTS);
}

static sqlite3 *open_with(const char *path, int flags, GError **error)
{
    gboolean writable = (flags & SQLITE_OPEN_READWRITE) != 0;
    /* In a folder we may not write to, a store that nobody has open is read as it stands. */
    g_autofree char *escaped = g_uri_escape_string(path, "/", FALSE);
    g_autofree char *uri = g_strdup_printf(
        "file:%s%s", escaped, !writable && is_quiet_and_read_only(path) ? "?immutable=1" : "");
    sqlite3 *store = NULL;
    gboolean opened = sqlite3_open_v2(uri, &store, flags | SQLITE_OPEN_URI, NULL) == SQLITE_OK;
    if (opened)
        sqlite3_busy_timeout(store, BUSY_MS);
    if (!opened || (writable && !ek_sql_run(store,
                                            "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;"
                                            "PRAGMA foreign_keys=ON;",
                                            NULL))) {
        ek_sql_fail(store, error, path);
        sqlite3_close(store);
        return NULL;
    }
    return store;
}

sqlite3 *ek_sql_open(const char *path, gboolean writable, gboolean create, GError **error)
{
    int flags = writable ? SQLITE_OPEN_READWRITE : SQLITE_OPEN_READONLY;
    return open_with(path, create ? flags | SQLITE_OPEN_CREATE : flags, error);
}

sqlite3 *ek_sql_open_alone(const char *path, GError **error)
{
    return open_with(path, SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX, error);
}

gboolean ek_sql_fail(sqlite3 *store, GError **error, const char *doing)
{
    EkErrorCode code = EK_ERROR_FAILED;
    switch (store != NULL ? sqlite3_errcode(store) : SQLITE_NOMEM) {
    case SQLITE_NOTADB:
    case SQLITE_CORRUPT: code = EK_ERROR_DAMAGED; break;
    case SQLITE_FULL: code = EK_ERROR_NO_SPACE; break;
    case SQLITE_READONLY:
    case SQLITE_PERM: code = EK_ERROR_REFUSED; break;
    case SQLITE_CANTOPEN: code = EK_ERROR_ABSENT; break;
    default: break;
    }
    return ek_error_set(error, code, "%s: %s", doing,
                        store != NULL ? sqlite3_errmsg(store) : "out of memory");
}

gboolean ek_sql_run(sqlite3 *store, const char *sql, GError **error)
{
    if (sqlite3_exec(store, sql, NULL, NULL, NULL) == SQLITE_OK)
        return TRUE;
    return ek_sql_fail(store, error, "case store");
}

static sqlite3_stmt *prepare(sqlite3 *store, GError **error, const char *sql, const char *types,
                             va_list arguments)
{
    sqlite3_stmt *statement = NULL;
    if (sqlite3_prepare_v2(store, sql, -1, &statement, NULL) != SQLITE_OK) {
        ek_sql_fail(store, error, "case store");
        return NULL;
    }
    for (int i = 0; types[i] != '\0'; i++) {
        const void *bytes;
        gsize length;
        switch (types[i]) {
        case 'i': sqlite3_bind_int64(statement, i + 1, va_arg(arguments, gint64)); break;
        case 'u': sqlite3_bind_int64(statement, i + 1, (gint64)va_arg(arguments, guint64)); break;
        case 'd': sqlite3_bind_double(statement, i + 1, va_arg(arguments, double)); break;
        case 's':
            sqlite3_bind_text(statement, i + 1, va_arg(arguments, const char *), -1,
                              SQLITE_TRANSIENT);
            break;
        case 'b':
            bytes = va_arg(arguments, const void *);
            length = va_arg(arguments, gsize);
            sqlite3_bind_blob64(statement, i + 1, bytes, length, SQLITE_TRANSIENT);
            break;
        default: g_assert_not_reached();
        }
    }
    return statement;
}

sqlite3_stmt *ek_sql_prepare(sqlite3 *store, GError **error, const char *sql, const char *types,
                             ...)
{
    va_list arguments;
    va_start(arguments, types);
    sqlite3_stmt *statement = prepare(store, error, sql, types, arguments);
    va_end(arguments);
    return statement;
}

gboolean ek_sql_do(sqlite3 *store, GError **error, const char *sql, const char *types, ...)
{
    va_list arguments;
    va_start(arguments, types);
    g_autoptr(EkStatement) statement = prepare(store, error, sql, types, arguments);
    va_end(arguments);
    return statement != NULL && ek_sql_step(store, statement, error) >= 0;
}

int ek_sql_step(sqlite3 *store, sqlite3_stmt *statement, GError **error)
{
    int result = sqlite3_step(statement);
    if (result == SQLITE_ROW)
        return 1;
    if (result == SQLITE_DONE)
        return 0;
    ek_sql_fail(store, error, "case store");
    return -1;
}

char *ek_sql_text(sqlite3_stmt *statement, int column)
{
    return g_strdup((const char *)sqlite3_column_text(statement, column));
}

gboolean ek_sql_transaction(sqlite3 *store, EkSqlWork work, void *data, GError **error)
{
    if (!ek_sql_run(store, "BEGIN IMMEDIATE", error))
        return FALSE;
    if (work(store, data, error) && ek_sql_run(store, "COMMIT", error))
        return TRUE;
    /* The first failure is the one to tell. */
    (void)ek_sql_run(store, "ROLLBACK", NULL);
    return FALSE;
}

int ek_sql_version(sqlite3 *store, GError **error)
{
    g_autoptr(EkStatement) statement = ek_sql_prepare(store, error, "PRAGMA user_version", "");
    if (statement == NULL || ek_sql_step(store, statement, error) != 1)
        return -1;
    return sqlite3_column_int(statement, 0);
}

static gboolean migrate_once(sqlite3 *store, void *data, GError **error)
{
    return ek_sql_run(store, data, error);
}

gboolean ek_sql_migrate(sqlite3 *store, const char *const *migrations, int count, GError **error)
{
    int version = ek_sql_version(store, error);
    if (version < 0)
        return FALSE;
    if (version > count)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "made by a newer Ektypon (schema %d, this one knows %d). Use that one",
                            version, count);
    for (; version < count; version++) {
        g_autofree char *sql =
            g_strdup_printf("%s; PRAGMA user_version=%d", migrations[version], version + 1);
        if (!ek_sql_transaction(store, migrate_once, sql, error))
            return FALSE;
    }
    return TRUE;
}
