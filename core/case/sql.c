/* SPDX-License-Identifier: MIT */
/* SQLite with our errors. */
#include "case/sql.h"

#include "base/digest.h"
#include "case/folder.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#define BUSY_MS 20000

/* No text, value or statement of ours is longer: the largest are edits, of one structure each. */
#define LENGTH_MOST (72 << 20)
#define STEPS_BETWEEN_LOOKS 50000 /* of a long statement, at the cancel flag */

static gboolean is_quiet_and_read_only(const char *folder, const char *path)
{
    g_autofree char *wal = g_strconcat(path, "-wal", NULL);
    return access(folder, W_OK) != 0 && !g_file_test(wal, G_FILE_TEST_EXISTS);
}

/* The store, and what SQLite keeps beside it, which it opens by name. */
static gboolean check_files(const char *folder, const char *name, GError **error)
{
    static const char *const endings[] = {"", "-wal", "-shm", "-journal"};
    for (gsize i = 0; i < G_N_ELEMENTS(endings); i++) {
        g_autofree char *file = g_strconcat(name, endings[i], NULL);
        if (!ek_folder_check(folder, file, error))
            return FALSE;
    }
    return TRUE;
}

/* A store may be anybody's: nothing in it is run, and no value is boundless. */
static gboolean disarm(sqlite3 *store, GError **error)
{
    sqlite3_limit(store, SQLITE_LIMIT_LENGTH, LENGTH_MOST);
    sqlite3_limit(store, SQLITE_LIMIT_ATTACHED, 0);
    if (sqlite3_db_config(store, SQLITE_DBCONFIG_DEFENSIVE, 1, NULL) == SQLITE_OK &&
        sqlite3_db_config(store, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, NULL) == SQLITE_OK &&
        sqlite3_db_config(store, SQLITE_DBCONFIG_ENABLE_TRIGGER, 0, NULL) == SQLITE_OK &&
        sqlite3_db_config(store, SQLITE_DBCONFIG_ENABLE_VIEW, 0, NULL) == SQLITE_OK &&
        ek_sql_run(store, "PRAGMA cell_size_check=ON", NULL))
        return TRUE;
    return ek_sql_fail(store, error, "case store");
}

/* Without a link on the way: SQLite follows none. */
static char *path_of(const char *folder, const char *name)
{
    char *resolved = realpath(folder, NULL);
    char *path = g_build_filename(resolved != NULL ? resolved : folder, name, NULL);
    free(resolved);
    return path;
}

static sqlite3 *open_with(const char *folder, const char *name, int flags, GError **error)
{
    if (!check_files(folder, name, error))
        return NULL;
    g_autofree char *path = path_of(folder, name);
    gboolean writable = (flags & SQLITE_OPEN_READWRITE) != 0;
    /* In a folder we may not write to, a store that nobody has open is read as it stands. */
    g_autofree char *escaped = g_uri_escape_string(path, "/", FALSE);
    g_autofree char *uri =
        g_strdup_printf("file:%s%s", escaped,
                        !writable && is_quiet_and_read_only(folder, path) ? "?immutable=1" : "");
    sqlite3 *store = NULL;
    flags |= SQLITE_OPEN_URI | SQLITE_OPEN_NOFOLLOW;
    gboolean opened = sqlite3_open_v2(uri, &store, flags, NULL) == SQLITE_OK;
    if (opened)
        sqlite3_busy_timeout(store, BUSY_MS);
    if (!opened || !disarm(store, NULL) ||
        (writable && !ek_sql_run(store,
                                 "PRAGMA journal_mode=WAL; PRAGMA synchronous=FULL;"
                                 "PRAGMA foreign_keys=ON;",
                                 NULL))) {
        ek_sql_fail(store, error, path);
        sqlite3_close(store);
        return NULL;
    }
    return store;
}

sqlite3 *ek_sql_open(const char *folder, const char *name, gboolean writable, gboolean create,
                     GError **error)
{
    int flags = writable ? SQLITE_OPEN_READWRITE : SQLITE_OPEN_READONLY;
    return open_with(folder, name, create ? flags | SQLITE_OPEN_CREATE : flags, error);
}

sqlite3 *ek_sql_open_alone(const char *folder, const char *name, GError **error)
{
    return open_with(folder, name, SQLITE_OPEN_READONLY | SQLITE_OPEN_NOMUTEX, error);
}

sqlite3 *ek_sql_open_plain(const char *folder, const char *name, gboolean writable, GError **error)
{
    sqlite3 *store = NULL;
    int flags = SQLITE_OPEN_NOMUTEX | SQLITE_OPEN_NOFOLLOW |
                (writable ? SQLITE_OPEN_READWRITE | SQLITE_OPEN_CREATE : SQLITE_OPEN_READONLY);
    g_autofree char *path = *name != '\0' ? path_of(folder, name) : g_strdup("");
    if (*name != '\0' && !check_files(folder, name, error))
        return NULL;
    if (sqlite3_open_v2(path, &store, flags, NULL) == SQLITE_OK && disarm(store, NULL)) {
        sqlite3_busy_timeout(store, BUSY_MS);
        return store;
    }
    ek_sql_fail(store, error, path);
    sqlite3_close(store);
    return NULL;
}

static int is_called_off(void *data)
{
    return g_atomic_int_get((const gint *)data) != 0;
}

void ek_sql_watch(sqlite3 *store, const gint *cancel)
{
    if (cancel != NULL)
        sqlite3_progress_handler(store, STEPS_BETWEEN_LOOKS, is_called_off, (void *)cancel);
    else
        sqlite3_progress_handler(store, 0, NULL, NULL);
}

/* --- schemas --- */

/* SQL without what versions of SQLite write differently: space and quotes. */
static char *plain_sql(const char *sql)
{
    GString *plain = g_string_new(NULL);
    for (const char *p = sql; *p != '\0'; p++)
        if (!g_ascii_isspace(*p) && *p != '"' && *p != ';')
            g_string_append_c(plain, *p);
    return g_string_free(plain, FALSE);
}

/* All that a store has made, as "type name table sql"; what SQLite makes itself has no SQL. */
static GHashTable *objects_of(sqlite3 *store, GError **error)
{
    g_autoptr(GHashTable) objects = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error,
        "SELECT type,name,tbl_name,coalesce(sql,'') FROM sqlite_schema ORDER BY rowid", "");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(store, rows, error)) == 1) {
        const char *sql = (const char *)sqlite3_column_text(rows, 3);
        g_autofree char *plain = plain_sql(sql != NULL ? sql : "?");
        g_hash_table_add(objects,
                         g_strdup_printf("%s %s %s %s", (const char *)sqlite3_column_text(rows, 0),
                                         (const char *)sqlite3_column_text(rows, 1),
                                         (const char *)sqlite3_column_text(rows, 2), plain));
    }
    return got == 0 ? g_steal_pointer(&objects) : NULL;
}

static gint by_text(gconstpointer a, gconstpointer b)
{
    return strcmp(a, b);
}

static char *sum_of(GHashTable *objects)
{
    g_autoptr(EkSha256) digest = ek_sha256_new();
    GList *list = g_list_sort(g_hash_table_get_keys(objects), by_text);
    for (GList *at = list; at != NULL; at = at->next)
        ek_sha256_update(digest, at->data, strlen(at->data) + 1);
    g_list_free(list);
    return ek_sha256_finish_hex(digest);
}

char *ek_sql_schema_sum(sqlite3 *store, GError **error)
{
    g_autoptr(GHashTable) objects = objects_of(store, error);
    return objects != NULL ? sum_of(objects) : NULL;
}

gboolean ek_sql_check_schema(sqlite3 *store, const char *const *made_by, int count,
                             const char *known_sum, GError **error)
{
    g_autoptr(GHashTable) theirs = objects_of(store, error);
    g_autofree char *sum = theirs != NULL ? sum_of(theirs) : NULL;
    if (theirs == NULL || g_strcmp0(sum, known_sum) == 0)
        return theirs != NULL;
    g_autoptr(sqlite3) model = NULL;
    if (sqlite3_open_v2(":memory:", &model, SQLITE_OPEN_READWRITE | SQLITE_OPEN_MEMORY, NULL) !=
        SQLITE_OK)
        return ek_sql_fail(model, error, "case store");
    for (int i = 0; i < count; i++)
        if (!ek_sql_run(model, made_by[i], error))
            return FALSE;
    g_autoptr(GHashTable) ours = objects_of(model, error);
    if (ours == NULL)
        return FALSE;
    GHashTableIter iterator;
    gpointer object;
    gboolean same = TRUE;
    g_hash_table_iter_init(&iterator, theirs);
    while (g_hash_table_iter_next(&iterator, &object, NULL))
        same = same && g_hash_table_contains(ours, object);
    g_hash_table_iter_init(&iterator, ours);
    while (g_hash_table_iter_next(&iterator, &object, NULL))
        same =
            same && (!g_str_has_prefix(object, "table ") || g_hash_table_contains(theirs, object));
    return same || ek_error_set(error, EK_ERROR_DAMAGED,
                                "its tables are not those that Ektypon makes. Nothing in it is "
                                "used or changed");
}

gboolean ek_sql_fail(sqlite3 *store, GError **error, const char *doing)
{
    EkErrorCode code = EK_ERROR_FAILED;
    int errnum = store != NULL ? sqlite3_system_errno(store) : 0;
    switch (store != NULL ? sqlite3_errcode(store) : SQLITE_NOMEM) {
    case SQLITE_NOTADB:
    case SQLITE_CORRUPT: code = EK_ERROR_DAMAGED; break;
    case SQLITE_FULL: code = EK_ERROR_NO_SPACE; break;
    case SQLITE_IOERR:
        /* Its own words would not say that room is all that is missing. */
        if (errnum == ENOSPC || errnum == EDQUOT)
            return ek_error_from_errno(error, EK_ERROR_NO_SPACE, errnum, "%s", doing);
        break;
    case SQLITE_READONLY:
    case SQLITE_PERM: code = EK_ERROR_REFUSED; break;
    case SQLITE_CANTOPEN: code = EK_ERROR_ABSENT; break;
    case SQLITE_INTERRUPT: return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
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

int ek_sql_known_version(sqlite3 *store, int count, GError **error)
{
    int version = ek_sql_version(store, error);
    if (version <= count)
        return version;
    ek_error_set(error, EK_ERROR_UNSUPPORTED,
                 "made by a newer Ektypon (schema %d, this one knows %d). Use that one", version,
                 count);
    return -1;
}

gboolean ek_sql_migrate(sqlite3 *store, const char *const *migrations, int count, GError **error)
{
    int version = ek_sql_known_version(store, count, error);
    if (version < 0)
        return FALSE;
    for (; version < count; version++) {
        g_autofree char *sql =
            g_strdup_printf("%s; PRAGMA user_version=%d", migrations[version], version + 1);
        if (!ek_sql_transaction(store, migrate_once, sql, error))
            return FALSE;
    }
    return TRUE;
}
