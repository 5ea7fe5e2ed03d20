/* SPDX-License-Identifier: MIT */
/* Walks over an inventory. Each folder is entered once, by its first name, whatever the disk says;
 * how deep they are nested is bounded (inventorytree.c). So a walk needs room for one path only,
 * and for where it stands in each folder on it. */
#include "case/inventoryrows.h"

#include <string.h>

/* A folder on the path, and its subfolder that comes next. */
typedef struct {
    guint64 number;
    gsize path_length;
    gboolean is_lost;
    gint64 next_id; /* 0: there is none */
    char *next_name;
    guint64 next_number;
    gboolean next_is_deleted;
} Level;

typedef struct {
    EkInventory *inventory;
    guint with;
    const EkWalk *walk;
    sqlite3_stmt *entries;
    sqlite3_stmt *folders;
    GArray *levels; /* Level */
    GString *path;
    gboolean stopped;
    GError **error;
} Walker;

static gboolean is_wanted(const EkFile *file, guint with)
{
    return ((file->flags & EK_FILE_DELETED) == 0 || (with & EK_WITH_DELETED) != 0) &&
           ((file->flags & EK_FILE_OWN) == 0 || (with & EK_WITH_OWN) != 0) &&
           ((file->flags & EK_FILE_NAMED) == 0 || (with & EK_WITH_LOST) != 0) &&
           (file->type != EK_TYPE_STREAM || (with & EK_WITH_STREAMS) != 0);
}

static gboolean is_cancelled(const Walker *walker)
{
    const gint *cancel = walker->inventory->cancel;
    return cancel != NULL && g_atomic_int_get(cancel) != 0;
}

static Level *top(const Walker *walker)
{
    return &g_array_index(walker->levels, Level, walker->levels->len - 1);
}

static void add_to_path(GString *path, const char *name)
{
    if (path->len > 0)
        g_string_append_c(path, '/');
    g_string_append(path, name);
}

/* Hands on the entries of the folder on top. FALSE on failure. */
static gboolean list_entries(Walker *walker)
{
    const Level level = *top(walker);
    int got = 0;
    if (walker->walk->item == NULL)
        return TRUE;
    sqlite3_reset(walker->entries);
    sqlite3_bind_int64(walker->entries, 1, (gint64)level.number);
    while (!walker->stopped &&
           (got = ek_sql_step(walker->inventory->store, walker->entries, walker->error)) == 1) {
        EkItem item = ek_inventory_item(walker->entries);
        walker->stopped = is_cancelled(walker);
        if (walker->stopped || !is_wanted(&item.file, walker->with))
            continue;
        item.is_lost = level.is_lost;
        add_to_path(walker->path, item.name);
        walker->stopped = !walker->walk->item(walker->walk->data, walker->path->str, &item);
        g_string_truncate(walker->path, level.path_length);
    }
    sqlite3_reset(walker->entries);
    return got >= 0;
}

/* Finds the next subfolder of the folder on top. FALSE on failure. */
static gboolean find_next(Walker *walker)
{
    Level *level = top(walker);
    int got = 0;
    gboolean found = FALSE;
    sqlite3_reset(walker->folders);
    sqlite3_bind_int64(walker->folders, 1, (gint64)level->number);
    sqlite3_bind_text(walker->folders, 2, level->next_name != NULL ? level->next_name : "", -1,
                      SQLITE_TRANSIENT);
    sqlite3_bind_int64(walker->folders, 3, level->next_id);
    while (!found && !walker->stopped &&
           (got = ek_sql_step(walker->inventory->store, walker->folders, walker->error)) == 1) {
        EkItem item = ek_inventory_item(walker->folders);
        walker->stopped = is_cancelled(walker);
        found = is_wanted(&item.file, walker->with);
        if (!found)
            continue;
        g_free(level->next_name);
        level->next_name = g_strdup(item.name);
        level->next_id = sqlite3_column_int64(walker->folders, 21);
        level->next_number = item.file.number;
        level->next_is_deleted = (item.file.flags & EK_FILE_DELETED) != 0;
    }
    sqlite3_reset(walker->folders);
    if (!found)
        level->next_id = 0;
    return got >= 0;
}

static gboolean push(Walker *walker, guint64 number, gboolean is_lost)
{
    Level level = {.number = number, .path_length = walker->path->len, .is_lost = is_lost};
    g_array_append_val(walker->levels, level);
    return list_entries(walker) &&
           ((walker->with & EK_WITH_BELOW) == 0 || walker->stopped || find_next(walker));
}

static void pop(Walker *walker)
{
    Level *level = top(walker);
    g_free(level->next_name);
    if (walker->walk->leave != NULL && !walker->stopped)
        walker->walk->leave(walker->walk->data, level->number);
    g_array_set_size(walker->levels, walker->levels->len - 1);
}

/* Enters the next subfolder of the folder on top. FALSE on failure. */
static gboolean descend(Walker *walker)
{
    Level *level = top(walker);
    g_string_truncate(walker->path, level->path_length);
    EkEntered entered = {.number = level->next_number,
                         .name = g_strdup(level->next_name),
                         .is_deleted = level->next_is_deleted,
                         .depth = walker->levels->len};
    gboolean is_lost = level->is_lost || entered.number == EK_INVENTORY_ORPHANS_NUMBER;
    gboolean fine = find_next(walker);
    entered.is_last = top(walker)->next_id == 0;
    gboolean enters =
        walker->walk->enter == NULL || walker->walk->enter(walker->walk->data, &entered);
    if (fine && enters && !walker->stopped) {
        add_to_path(walker->path, entered.name);
        fine = push(walker, entered.number, is_lost);
    }
    g_free((char *)entered.name);
    return fine;
}

static gboolean walk_all(Walker *walker, guint64 number, gboolean is_lost)
{
    gboolean fine = push(walker, number, is_lost || number == EK_INVENTORY_ORPHANS_NUMBER);
    while (fine && !walker->stopped && walker->levels->len > 0) {
        if (top(walker)->next_id != 0)
            fine = descend(walker);
        else
            pop(walker);
    }
    while (walker->levels->len > 0) {
        walker->stopped = TRUE;
        pop(walker);
    }
    return fine;
}

gboolean ek_inventory_walk_with(EkInventory *inventory, guint64 number, guint with,
                                const EkWalk *walk, GError **error)
{
    gboolean lost = FALSE;
    g_autoptr(GString) path = g_string_new(NULL);
    g_autoptr(GArray) levels = g_array_new(FALSE, TRUE, sizeof(Level));
    g_autoptr(EkStatement) type = ek_sql_prepare(
        inventory->store, error, "SELECT type FROM file WHERE number=?", "u", number);
    if (type == NULL || !ek_inventory_append_path(inventory, number, path, &lost, error))
        return FALSE;
    if (walk->item != NULL && ek_sql_step(inventory->store, type, error) == 1 &&
        sqlite3_column_int(type, 0) != EK_TYPE_FOLDER)
        return ek_inventory_get(inventory, number, walk->item, walk->data, error);
#define OF_FOLDER                                                                                  \
    " FROM name n JOIN file f ON f.number=n.file LEFT JOIN damage d ON d.file=f.number"            \
    " WHERE n.parent=?1"
    g_autoptr(EkStatement) entries =
        ek_sql_prepare(inventory->store, error,
                       "SELECT " EK_INVENTORY_COLUMNS OF_FOLDER " ORDER BY n.text,n.id", "");
    g_autoptr(EkStatement) folders =
        ek_sql_prepare(inventory->store, error,
                       "SELECT " EK_INVENTORY_COLUMNS ",n.id" OF_FOLDER
                       " AND (n.text,n.id)>(?2,?3) AND f.type=1 AND n.again=0 ORDER BY n.text,n.id",
                       "");
    if (entries == NULL || folders == NULL)
        return FALSE;
    Walker walker = {inventory, with, walk, entries, folders, levels, path, FALSE, error};
    return walk_all(&walker, number, lost);
}

gboolean ek_inventory_walk(EkInventory *inventory, guint64 number, guint with, EkItemSink sink,
                           void *data, GError **error)
{
    EkWalk walk = {.data = data, .item = sink};
    return ek_inventory_walk_with(inventory, number, with, &walk, error);
}

gboolean ek_inventory_append_path(EkInventory *inventory, guint64 number, GString *path,
                                  gboolean *lost, GError **error)
{
    *lost = FALSE;
    g_autoptr(GPtrArray) names = g_ptr_array_new_with_free_func(g_free);
    g_autoptr(EkStatement) row =
        ek_sql_prepare(inventory->store, error,
                       "SELECT parent,text FROM name WHERE file=? ORDER BY deleted,id LIMIT 1", "");
    if (row == NULL)
        return FALSE;
    while (number != inventory->root && names->len <= EK_INVENTORY_DEPTH + 8) {
        sqlite3_reset(row);
        sqlite3_bind_int64(row, 1, (gint64)number);
        int got = ek_sql_step(inventory->store, row, error);
        if (got < 0)
            return FALSE;
        if (got == 0)
            break;
        g_ptr_array_add(names, ek_sql_text(row, 1));
        *lost = *lost || number == EK_INVENTORY_ORPHANS_NUMBER;
        number = (guint64)sqlite3_column_int64(row, 0);
    }
    for (guint i = names->len; i > 0; i--)
        g_string_append_printf(path, "%s%s", path->len > 0 ? "/" : "",
                               (const char *)names->pdata[i - 1]);
    return TRUE;
}

gboolean ek_inventory_get(EkInventory *inventory, guint64 number, EkItemSink sink, void *data,
                          GError **error)
{
    g_autoptr(GString) path = g_string_new(NULL);
    gboolean lost = FALSE;
    if (!ek_inventory_append_path(inventory, number, path, &lost, error))
        return FALSE;
    g_autoptr(EkStatement) row = ek_sql_prepare(
        inventory->store, error,
        "SELECT " EK_INVENTORY_COLUMNS " FROM file f LEFT JOIN name n ON n.file=f.number"
        " LEFT JOIN damage d ON d.file=f.number WHERE f.number=?"
        " ORDER BY n.deleted,n.id LIMIT 1",
        "u", number);
    int got = row != NULL ? ek_sql_step(inventory->store, row, error) : -1;
    if (got == 0)
        return ek_error_set(error, EK_ERROR_ABSENT,
                            "there is no file @%" G_GUINT64_FORMAT " in this volume", number);
    if (got < 0)
        return FALSE;
    EkItem item = ek_inventory_item(row);
    item.is_lost = lost && number != EK_INVENTORY_ORPHANS_NUMBER;
    sink(data, path->str, &item);
    return TRUE;
}

char *ek_inventory_path(EkInventory *inventory, guint64 number)
{
    gboolean lost = FALSE;
    g_autoptr(GString) path = g_string_new(NULL);
    if (!ek_inventory_append_path(inventory, number, path, &lost, NULL))
        return NULL;
    return g_strdup(path->str);
}

/* --- picking -------------------------------------------------------------------------------- */

gboolean ek_inventory_pick(EkInventory *inventory, const EkPick *pick, GError **error)
{
    sqlite3 *store = inventory->store;
    if (inventory->put_picked == NULL) {
        if (!ek_sql_run(store,
                        "CREATE TEMP TABLE picked (id INTEGER PRIMARY KEY, place INTEGER NOT NULL,"
                        " word TEXT NOT NULL, file INTEGER NOT NULL, lost INTEGER NOT NULL,"
                        " deleted INTEGER NOT NULL, path TEXT NOT NULL)",
                        error))
            return FALSE;
        inventory->put_picked = ek_sql_prepare(
            store, error,
            "INSERT INTO picked (place,word,file,lost,deleted,path) VALUES (CASE WHEN ?6 THEN"
            " coalesce((SELECT first FROM extent WHERE file=?1 ORDER BY offset LIMIT 1),-1) ELSE ?5"
            " END,?4,?1,?2,?7,?3)",
            "");
        if (inventory->put_picked == NULL)
            return FALSE;
    }
    sqlite3_stmt *put = inventory->put_picked;
    const EkItem *item = pick->item;
    sqlite3_bind_int64(put, 1, (gint64)item->file.number);
    sqlite3_bind_int(put, 2, item->is_lost ? 1 : 0);
    sqlite3_bind_text(put, 3, pick->path, -1, SQLITE_STATIC);
    sqlite3_bind_text(put, 4, pick->word != NULL ? pick->word : "", -1, SQLITE_STATIC);
    sqlite3_bind_int64(put, 5, pick->rank);
    sqlite3_bind_int(put, 6, pick->by_place ? 1 : 0);
    sqlite3_bind_int(put, 7, (item->file.flags & EK_FILE_DELETED) != 0 ? 1 : 0);
    gboolean fine = ek_sql_step(store, put, error) == 0;
    sqlite3_reset(put);
    return fine;
}

gboolean ek_inventory_take_picked(EkInventory *inventory, EkItemSink sink, void *data,
                                  GError **error)
{
    if (inventory->put_picked == NULL)
        return TRUE;
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, error,
        "SELECT f.number,f.type,f.flags,f.size,f.created,f.modified,f.accessed,f.zones,"
        "f.attributes,f.generation,f.place,0,p.path,NULL,p.deleted,"
        "d.condition,d.bad,d.unread,d.unplaced,d.overwritten,0,p.lost"
        " FROM picked p JOIN file f ON f.number=p.file LEFT JOIN damage d ON d.file=f.number"
        " ORDER BY p.place,p.word,p.id",
        "");
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(inventory->store, rows, error)) == 1) {
        EkItem item = ek_inventory_item(rows);
        const char *path = item.name;
        const char *slash = strrchr(path, '/');
        item.name = slash != NULL ? slash + 1 : path;
        item.is_lost = sqlite3_column_int(rows, 21) != 0;
        if (!sink(data, path, &item)) {
            got = 0;
            break;
        }
    }
    g_clear_pointer(&rows, sqlite3_finalize);
    g_clear_pointer(&inventory->put_picked, sqlite3_finalize);
    return got == 0 && ek_sql_run(inventory->store, "DROP TABLE picked", error);
}

/* --- what is below a folder ------------------------------------------------------------------ */

gboolean ek_inventory_put_below(EkInventory *inventory, guint64 folder, const EkBelow *below,
                                GError **error)
{
    sqlite3 *store = inventory->store;
    return ek_sql_run(store,
                      "CREATE TEMP TABLE IF NOT EXISTS below (folder INTEGER PRIMARY KEY, folders"
                      " INTEGER, files INTEGER, bytes INTEGER, hurt INTEGER, doubtful INTEGER, "
                      "deleted INTEGER)",
                      error) &&
           ek_sql_do(store, error, "INSERT OR REPLACE INTO below VALUES (?,?,?,?,?,?,?)", "uuuuuuu",
                     folder, below->folders, below->files, below->bytes, below->hurt,
                     below->doubtful, below->deleted);
}

gboolean ek_inventory_get_below(EkInventory *inventory, guint64 folder, EkBelow *below,
                                GError **error)
{
    g_autoptr(EkStatement) row = ek_sql_prepare(
        inventory->store, error,
        "SELECT folders,files,bytes,hurt,doubtful,deleted FROM below WHERE folder=?", "u", folder);
    int got = row != NULL ? ek_sql_step(inventory->store, row, error) : -1;
    *below = (EkBelow){0};
    if (got == 1)
        *below =
            (EkBelow){(guint64)sqlite3_column_int64(row, 0), (guint64)sqlite3_column_int64(row, 1),
                      (guint64)sqlite3_column_int64(row, 2), (guint64)sqlite3_column_int64(row, 3),
                      (guint64)sqlite3_column_int64(row, 4), (guint64)sqlite3_column_int64(row, 5)};
    return got >= 0;
}

EkByte ek_inventory_stored(EkInventory *inventory, guint64 number)
{
    if (inventory->get_stored == NULL)
        inventory->get_stored = ek_sql_prepare(inventory->store, NULL,
                                               "SELECT total(bytes) FROM extent WHERE file=?", "");
    sqlite3_stmt *row = inventory->get_stored;
    if (row == NULL)
        return 0;
    sqlite3_reset(row);
    sqlite3_bind_int64(row, 1, (gint64)number);
    double bytes =
        ek_sql_step(inventory->store, row, NULL) == 1 ? sqlite3_column_double(row, 0) : 0;
    sqlite3_reset(row);
    return bytes < 9e18 ? (EkByte)bytes : G_MAXINT64;
}

gboolean ek_inventory_is_folder(EkInventory *inventory, guint64 number, gboolean *is_folder,
                                GError **error)
{
    g_autoptr(EkStatement) row = ek_sql_prepare(
        inventory->store, error, "SELECT type FROM file WHERE number=?", "u", number);
    int got = row != NULL ? ek_sql_step(inventory->store, row, error) : -1;
    *is_folder = got == 1 && sqlite3_column_int(row, 0) == EK_TYPE_FOLDER;
    return got >= 0;
}
