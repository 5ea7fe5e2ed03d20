/* SPDX-License-Identifier: MIT */
/* The inventory of a volume. */
#include "case/inventory.h"

#include "base/text.h"
#include "case/folder.h"
#include "case/inventoryrows.h"

#include <string.h>
#include <unistd.h>

/* --- opening -------------------------------------------------------------------------------- */

static const char schema[] =
    "CREATE TABLE meta (key TEXT PRIMARY KEY, value) WITHOUT ROWID;"
    "CREATE TABLE file ("
    " number INTEGER PRIMARY KEY, type INTEGER NOT NULL, flags INTEGER NOT NULL,"
    " size INTEGER NOT NULL, created INTEGER, modified INTEGER, accessed INTEGER,"
    " zones INTEGER NOT NULL, attributes INTEGER NOT NULL, generation INTEGER NOT NULL,"
    " place INTEGER NOT NULL);"
    /* again: a further name of a folder, which is entered by its first one only */
    "CREATE TABLE name ("
    " id INTEGER PRIMARY KEY, file INTEGER NOT NULL, parent INTEGER NOT NULL,"
    " generation INTEGER NOT NULL, deleted INTEGER NOT NULL, text TEXT NOT NULL, bytes BLOB,"
    " again INTEGER NOT NULL DEFAULT 0);"
    "CREATE TABLE extent ("
    " file INTEGER NOT NULL, offset INTEGER NOT NULL, first INTEGER NOT NULL,"
    " bytes INTEGER NOT NULL, stored INTEGER NOT NULL, packed INTEGER NOT NULL, PRIMARY KEY (file, "
    "offset, first))"
    " WITHOUT ROWID;"
    "CREATE TABLE run ("
    " first INTEGER PRIMARY KEY, record INTEGER NOT NULL, count INTEGER NOT NULL,"
    " stride INTEGER NOT NULL);"
    "CREATE TABLE damage ("
    " file INTEGER PRIMARY KEY, condition INTEGER NOT NULL, bad INTEGER NOT NULL,"
    " unread INTEGER NOT NULL, unplaced INTEGER NOT NULL, overwritten INTEGER NOT NULL);"
    "PRAGMA user_version=2;";

/* All that one may hold: the indices are made when it is finished. */
static const char *const made_by[] = {schema, EK_INVENTORY_INDICES};

static gboolean get_meta(EkInventory *inventory, const char *key, gint64 *number, char **text)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(inventory->store, NULL, "SELECT value FROM meta WHERE key=?", "s", key);
    if (row == NULL || ek_sql_step(inventory->store, row, NULL) != 1)
        return FALSE;
    if (number != NULL)
        *number = sqlite3_column_int64(row, 0);
    if (text != NULL)
        *text = ek_sql_text(row, 0);
    return TRUE;
}

/* TRUE when the store holds an inventory that stands on this basis. */
static gboolean load(EkInventory *inventory, const char *basis)
{
    g_autofree char *kept = NULL;
    gint64 mark = 0;
    gint64 finished = 0;
    gint64 root = 0;
    gint64 listed = 0;
    if (!get_meta(inventory, "basis", NULL, &kept) || g_strcmp0(kept, basis) != 0 ||
        !get_meta(inventory, "finished", &finished, NULL) ||
        !get_meta(inventory, "listed", &listed, NULL) ||
        !get_meta(inventory, "mark", &mark, NULL) || !get_meta(inventory, "root", &root, NULL))
        return FALSE;
    inventory->is_finished = finished != 0;
    inventory->is_listed = listed != 0;
    inventory->mark = (guint64)mark;
    inventory->root = (guint64)root;
    return inventory->is_listed || inventory->mark != 0;
}

/* Begins an empty one. A walk may come again: what is durable is worth nothing while it lasts, but
 * for the marks from which it goes on. */
static gboolean begin(EkInventory *inventory, const char *basis, GError **error)
{
    return ek_sql_run(inventory->store, schema, error) &&
           ek_sql_do(inventory->store, error,
                     "INSERT INTO meta VALUES ('basis',?),('listed',0),('finished',0),('mark',0),"
                     "('root',0)",
                     "s", basis);
}

static char *name_of(guint volume)
{
    return g_strdup_printf("files-%u.db", volume);
}

static gboolean exists(EkCase *self, const char *name)
{
    g_autofree char *path = g_build_filename(ek_case_folder(self), name, NULL);
    return g_file_test(path, G_FILE_TEST_EXISTS);
}

gboolean ek_inventory_exists(EkCase *self, guint volume)
{
    g_autofree char *name = name_of(volume);
    return exists(self, name);
}

static void remove_store(const char *folder, const char *name)
{
    static const char *const endings[] = {"", "-wal", "-shm", "-journal"};
    for (gsize i = 0; i < G_N_ELEMENTS(endings); i++) {
        g_autofree char *file = g_strconcat(name, endings[i], NULL);
        ek_folder_remove(folder, file);
    }
}

EkInventory *ek_inventory_open(EkCase *self, guint volume, const char *basis, gboolean writable,
                               GError **error)
{
    g_autofree char *name = name_of(volume);
    const char *folder = ek_case_folder(self);
    g_autoptr(EkInventory) inventory = g_new0(EkInventory, 1);
    g_mutex_init(&inventory->lock);
    if (exists(self, name)) {
        if (!ek_folder_check(folder, name, error))
            return NULL;
        inventory->store = ek_sql_open_plain(folder, name, writable, NULL);
        if (inventory->store != NULL &&
            ek_sql_check_schema(inventory->store, made_by, G_N_ELEMENTS(made_by), EK_INVENTORY_SUM,
                                NULL) &&
            load(inventory, basis))
            return g_steal_pointer(&inventory);
        g_clear_pointer(&inventory->store, sqlite3_close);
        if (writable)
            remove_store(folder, name);
    }
    inventory->is_finished = FALSE;
    inventory->is_listed = FALSE;
    inventory->mark = 0;
    /* A name that is empty is a store for the time being. */
    inventory->store = ek_sql_open_plain(folder, writable ? name : "", TRUE, error);
    if (inventory->store == NULL || !begin(inventory, basis, error))
        return NULL;
    return g_steal_pointer(&inventory);
}

void ek_inventory_watch(EkInventory *inventory, const gint *cancel)
{
    inventory->cancel = cancel;
    ek_sql_watch(inventory->store, cancel);
}

void ek_inventory_close(EkInventory *inventory)
{
    sqlite3_finalize(inventory->put_file);
    sqlite3_finalize(inventory->put_extent);
    sqlite3_finalize(inventory->put_name);
    sqlite3_finalize(inventory->put_damage);
    sqlite3_finalize(inventory->put_picked);
    sqlite3_finalize(inventory->get_stored);
    sqlite3_close(inventory->store);
    g_clear_error(&inventory->failure);
    g_mutex_clear(&inventory->lock);
    g_free(inventory);
}

/* --- runs of records ------------------------------------------------------------------------ */

gboolean ek_inventory_put_runs(EkInventory *inventory, const GArray *runs, GError **error)
{
    gboolean fine = ek_sql_run(inventory->store, "BEGIN; DELETE FROM run", error);
    for (guint i = 0; fine && i < runs->len; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        fine = ek_sql_do(inventory->store, error, "INSERT OR REPLACE INTO run VALUES (?,?,?,?)",
                         "uuuu", run->first_byte, run->first_record, run->count, run->stride);
    }
    return fine ? ek_sql_run(inventory->store, "COMMIT", error)
                : (ek_sql_run(inventory->store, "ROLLBACK", NULL), FALSE);
}

GArray *ek_inventory_runs(EkInventory *inventory, GError **error)
{
    g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, error, "SELECT first,record,count,stride FROM run ORDER BY first", "");
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(inventory->store, rows, error)) == 1) {
        EkRecordRun run = {
            (guint64)sqlite3_column_int64(rows, 0), (guint64)sqlite3_column_int64(rows, 1),
            (guint64)sqlite3_column_int64(rows, 2), (guint64)sqlite3_column_int64(rows, 3)};
        g_array_append_val(runs, run);
    }
    return got == 0 ? g_steal_pointer(&runs) : NULL;
}

gboolean ek_inventory_is_listed(EkInventory *inventory)
{
    return inventory->is_listed;
}

gboolean ek_inventory_is_finished(EkInventory *inventory)
{
    return inventory->is_finished;
}

/* --- totals --------------------------------------------------------------------------------- */

/* One pass, no sorting: of ten million rows too. */
EkInventoryTotals ek_inventory_totals(EkInventory *inventory)
{
#define SUM_OF(what, when) "total(CASE WHEN " when " THEN " what " ELSE 0 END)"
#define LIVE_FILE "f.type<>1 AND f.flags&1=0"
    EkInventoryTotals totals = {0};
    g_autoptr(EkStatement) row = ek_sql_prepare(
        inventory->store, NULL,
        "SELECT " SUM_OF("1", LIVE_FILE) "," SUM_OF("1", "f.type=1 AND f.flags&1=0") "," SUM_OF(
            "f.size",
            LIVE_FILE) "," SUM_OF("1",
                                  "f.flags&1") " FROM file f WHERE f.number<4611686018427387904 "
                                               "AND f.flags&96=0 AND f.type<>4",
        "");
    g_autoptr(EkStatement) hurt = ek_sql_prepare(
        inventory->store, NULL,
        "SELECT f.type=1,d.condition,count(*) FROM damage d JOIN file f ON f.number=d.file"
        " WHERE f.flags&97=0 AND f.type<>4 GROUP BY 1,2",
        "");
    g_autoptr(EkStatement) named = ek_sql_prepare(
        inventory->store, NULL, "SELECT count(*) FROM file f WHERE f.flags&97=64 AND f.type=0", "");
    if (named != NULL && ek_sql_step(inventory->store, named, NULL) == 1)
        totals.named = (guint64)sqlite3_column_int64(named, 0);
    if (row != NULL && ek_sql_step(inventory->store, row, NULL) == 1) {
        totals.files = (guint64)sqlite3_column_double(row, 0);
        /* The root is not counted among the folders in it. */
        totals.folders = MAX((guint64)sqlite3_column_double(row, 1), 1) - 1;
        totals.bytes = (guint64)sqlite3_column_double(row, 2);
        totals.deleted = (guint64)sqlite3_column_double(row, 3);
    }
    totals.by_condition[EK_CONDITION_WHOLE] = totals.files;
    while (hurt != NULL && ek_sql_step(inventory->store, hurt, NULL) == 1) {
        guint condition = (guint)sqlite3_column_int(hurt, 1);
        guint64 count = (guint64)sqlite3_column_int64(hurt, 2);
        if (condition == EK_CONDITION_WHOLE || condition >= EK_CONDITIONS)
            continue;
        if (sqlite3_column_int(hurt, 0) != 0) {
            totals.hurt_folders += count;
            continue;
        }
        totals.by_condition[condition] += count;
        totals.by_condition[EK_CONDITION_WHOLE] -=
            MIN(count, totals.by_condition[EK_CONDITION_WHOLE]);
    }
    return totals;
}

/* --- finding -------------------------------------------------------------------------------- */

static gboolean same_folded(const char *a, const char *b)
{
    g_autofree char *left = g_utf8_casefold(a, -1);
    g_autofree char *right = g_utf8_casefold(b, -1);
    return g_str_equal(left, right);
}

/* The entry of a folder by its name; files that were not deleted first. */
static gboolean find_in(EkInventory *inventory, guint64 folder, const char *name, guint64 *number)
{
    g_autoptr(EkStatement) exact = ek_sql_prepare(
        inventory->store, NULL,
        "SELECT file FROM name WHERE parent=? AND text=? ORDER BY deleted,id LIMIT 1", "us", folder,
        name);
    if (exact != NULL && ek_sql_step(inventory->store, exact, NULL) == 1) {
        *number = (guint64)sqlite3_column_int64(exact, 0);
        return TRUE;
    }
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, NULL,
        "SELECT file,text FROM name WHERE parent=? ORDER BY deleted,text,id", "u", folder);
    while (rows != NULL && ek_sql_step(inventory->store, rows, NULL) == 1)
        if (same_folded((const char *)sqlite3_column_text(rows, 1), name)) {
            *number = (guint64)sqlite3_column_int64(rows, 0);
            return TRUE;
        }
    return FALSE;
}

static gboolean is_there(EkInventory *inventory, guint64 number)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(inventory->store, NULL, "SELECT 1 FROM file WHERE number=?", "u", number);
    return row != NULL && ek_sql_step(inventory->store, row, NULL) == 1;
}

gboolean ek_inventory_find(EkInventory *inventory, const char *path, guint64 *number,
                           GError **error)
{
    *number = inventory->root;
    if (*path == '@' && strchr(path, '/') == NULL) {
        if (ek_text_parse_u64(path + 1, number) && is_there(inventory, *number))
            return TRUE;
        return ek_error_set(error, EK_ERROR_ABSENT, "there is no file %s in this volume", path);
    }
    g_autoptr(GString) walked = g_string_new(NULL);
    g_auto(GStrv) parts = g_strsplit(path, "/", -1);
    for (char **part = parts; *part != NULL; part++) {
        if (**part == '\0')
            continue;
        if (!find_in(inventory, *number, *part, number)) {
            g_autofree char *where = ek_text_escape(walked->str);
            g_autofree char *what = ek_text_escape(*part);
            return ek_error_set(error, EK_ERROR_ABSENT, "there is no \"%s\" in \"/%s\"", what,
                                where);
        }
        g_string_append_printf(walked, "%s%s", walked->len > 0 ? "/" : "", *part);
    }
    return TRUE;
}

/* --- damage --------------------------------------------------------------------------------- */

typedef struct {
    EkItemSink sink;
    void *data;
    gboolean goes_on;
} Passing;

static gboolean pass_item(void *data, const char *path, const EkItem *item)
{
    Passing *passing = data;
    passing->goes_on = passing->sink(passing->data, path, item);
    return passing->goes_on;
}

gboolean ek_inventory_each_damaged(EkInventory *inventory, EkItemSink sink, void *data,
                                   GError **error)
{
    Passing passing = {sink, data, TRUE};
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(inventory->store, error,
                       "SELECT d.file FROM damage d JOIN file f ON f.number=d.file"
                       " WHERE d.bad+d.unread>0 AND f.type<>1 AND f.flags&1=0 ORDER BY d.file",
                       "");
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && passing.goes_on &&
           (got = ek_sql_step(inventory->store, rows, error)) == 1)
        if (!ek_inventory_get(inventory, (guint64)sqlite3_column_int64(rows, 0), pass_item,
                              &passing, error))
            return FALSE;
    return got >= 0;
}

GArray *ek_inventory_extents(EkInventory *inventory, guint64 number, GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, error,
        "SELECT offset,bytes,first,stored,packed FROM extent WHERE file=? ORDER BY offset", "u",
        number);
    if (rows == NULL)
        return NULL;
    g_autoptr(GArray) extents = g_array_new(FALSE, FALSE, sizeof(EkExtent));
    int got;
    while ((got = ek_sql_step(inventory->store, rows, error)) == 1) {
        EkExtent extent = {(guint64)sqlite3_column_int64(rows, 0),
                           (guint64)sqlite3_column_int64(rows, 1),
                           (guint64)sqlite3_column_int64(rows, 2),
                           (guint64)sqlite3_column_int64(rows, 3),
                           (sqlite3_column_int(rows, 4) & EK_EXTENT_PACKED) != 0,
                           (sqlite3_column_int(rows, 4) & EK_EXTENT_IN_RECORD) != 0,
                           (guint32)(sqlite3_column_int64(rows, 4) >> EK_EXTENT_LAYER_SHIFT)};
        g_array_append_val(extents, extent);
    }
    return got == 0 ? g_steal_pointer(&extents) : NULL;
}
