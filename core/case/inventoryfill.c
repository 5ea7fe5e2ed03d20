/* SPDX-License-Identifier: MIT */
/* Filling an inventory from a walk. Rows go in as they come; indices are made when all are there.
 */
#include "case/inventoryrows.h"

#define ROWS_A_COMMIT 400000u

static void bind_timestamp(sqlite3_stmt *put, int place, const EkTimestamp *timestamp)
{
    /* Beyond 2262 steps of a nanosecond end. */
    if (timestamp->is_set && timestamp->seconds > -9000000000 && timestamp->seconds < 9000000000)
        sqlite3_bind_int64(put, place, ek_timestamp_nanoseconds(*timestamp));
    else
        sqlite3_bind_null(put, place);
}

static gboolean put(EkInventory *inventory, sqlite3_stmt *statement)
{
    int result = sqlite3_step(statement);
    sqlite3_reset(statement);
    inventory->rows++;
    return result == SQLITE_DONE ||
           (inventory->failure == NULL &&
            ek_sql_fail(inventory->store, &inventory->failure, "the inventory"));
}

static gboolean take_file(void *data, const EkFile *file)
{
    EkInventory *inventory = data;
    sqlite3_stmt *row = inventory->put_file;
    guint zones = (file->created.is_local ? 1u : 0u) | (file->modified.is_local ? 2u : 0u) |
                  (file->accessed.is_local ? 4u : 0u);
    sqlite3_bind_int64(row, 1, (gint64)file->number);
    sqlite3_bind_int(row, 2, (int)file->type);
    sqlite3_bind_int(row, 3, (int)file->flags);
    sqlite3_bind_int64(row, 4, (gint64)file->size);
    bind_timestamp(row, 5, &file->created);
    bind_timestamp(row, 6, &file->modified);
    bind_timestamp(row, 7, &file->accessed);
    sqlite3_bind_int(row, 8, (int)zones);
    sqlite3_bind_int64(row, 9, file->attributes);
    sqlite3_bind_int64(row, 10, file->generation);
    sqlite3_bind_int64(row, 11, (gint64)file->place);
    g_mutex_lock(&inventory->lock);
    if ((file->flags & (EK_FILE_OWN | EK_FILE_DELETED | EK_FILE_NAMED)) != 0 ||
        file->type == EK_TYPE_STREAM) {
        inventory->progress.deleted += (file->flags & EK_FILE_DELETED) != 0 ? 1 : 0;
    } else if (file->type == EK_TYPE_FOLDER) {
        inventory->progress.folders++;
    } else {
        inventory->progress.files++;
        inventory->progress.bytes += file->size;
    }
    g_mutex_unlock(&inventory->lock);
    return put(inventory, row);
}

static gboolean take_extent(void *data, guint64 file, const EkExtent *extent)
{
    EkInventory *inventory = data;
    sqlite3_stmt *row = inventory->put_extent;
    sqlite3_bind_int64(row, 1, (gint64)file);
    sqlite3_bind_int64(row, 2, (gint64)extent->offset);
    sqlite3_bind_int64(row, 3, (gint64)extent->first_byte);
    sqlite3_bind_int64(row, 4, (gint64)extent->bytes);
    sqlite3_bind_int64(row, 5, (gint64)extent->stored);
    sqlite3_bind_int64(row, 6,
                       (extent->is_packed ? EK_EXTENT_PACKED : 0) |
                           (extent->in_record ? EK_EXTENT_IN_RECORD : 0) |
                           (gint64)extent->layer << EK_EXTENT_LAYER_SHIFT);
    return put(inventory, row);
}

static gboolean take_name(void *data, const EkFileName *name)
{
    EkInventory *inventory = data;
    sqlite3_stmt *row = inventory->put_name;
    sqlite3_bind_int64(row, 1, (gint64)name->file);
    sqlite3_bind_int64(row, 2, (gint64)name->parent);
    sqlite3_bind_int64(row, 3, name->parent_generation);
    sqlite3_bind_int(row, 4, name->is_made ? 2 : name->is_deleted ? 1 : 0);
    sqlite3_bind_text(row, 5, name->text, -1, SQLITE_STATIC);
    if (name->bytes != NULL)
        sqlite3_bind_blob(row, 6, name->bytes, (int)name->length, SQLITE_STATIC);
    else
        sqlite3_bind_null(row, 6);
    return put(inventory, row);
}

static gboolean take_damage(void *data, guint64 folder, const EkFolderDamage *damage)
{
    EkInventory *inventory = data;
    sqlite3_stmt *row = inventory->put_damage;
    sqlite3_bind_int64(row, 1, (gint64)folder);
    sqlite3_bind_int(row, 2, damage->cut_short ? EK_CONDITION_UNPLACED : EK_CONDITION_HOLED);
    sqlite3_bind_int64(row, 3, (gint64)damage->bad_bytes);
    sqlite3_bind_int64(row, 4, (gint64)damage->unread_bytes);
    return put(inventory, row);
}

static gboolean take_mark(void *data, guint64 from, guint64 done, guint64 total)
{
    EkInventory *inventory = data;
    (void)done;
    (void)total;
    if (from != 0)
        inventory->mark = from;
    if (g_atomic_int_get(inventory->cancel) != 0) {
        ek_error_set(&inventory->failure, EK_ERROR_CANCELLED, "interrupted");
        return FALSE;
    }
    return from == 0 || inventory->rows < ROWS_A_COMMIT ||
           ek_inventory_commit(inventory, &inventory->failure);
}

static gboolean prepare(EkInventory *inventory, GError **error)
{
    sqlite3 *store = inventory->store;
    if (inventory->put_file != NULL)
        return TRUE;
    inventory->put_file = ek_sql_prepare(
        store, error, "INSERT OR REPLACE INTO file VALUES (?,?,?,?,?,?,?,?,?,?,?)", "");
    inventory->put_extent =
        ek_sql_prepare(store, error, "INSERT OR REPLACE INTO extent VALUES (?,?,?,?,?,?)", "");
    inventory->put_name = ek_sql_prepare(
        store, error,
        "INSERT INTO name (file,parent,generation,deleted,text,bytes) VALUES (?,?,?,?,?,?)", "");
    inventory->put_damage = ek_sql_prepare(
        store, error,
        "INSERT INTO damage VALUES (?1,?2,?3,?4,0,0) ON CONFLICT (file) DO UPDATE SET"
        " condition=max(condition,?2),bad=bad+?3,unread=unread+?4",
        "");
    return inventory->put_file != NULL && inventory->put_extent != NULL &&
           inventory->put_name != NULL && inventory->put_damage != NULL &&
           ek_sql_run(store, "PRAGMA cache_size=-16000", error);
}

/* From here on rows may come. */
static gboolean start(EkInventory *inventory, GError **error)
{
    return prepare(inventory, error) && (sqlite3_get_autocommit(inventory->store) == 0 ||
                                         ek_sql_run(inventory->store, "BEGIN", error));
}

EkFileSink ek_inventory_sink(EkInventory *inventory, const gint *cancel)
{
    inventory->cancel = cancel;
    if (inventory->failure == NULL)
        start(inventory, &inventory->failure);
    return (EkFileSink){inventory, take_file, take_extent, take_name, take_damage, take_mark};
}

guint64 ek_inventory_mark(EkInventory *inventory)
{
    return inventory->mark;
}

EkInventoryTotals ek_inventory_progress(EkInventory *inventory)
{
    g_mutex_lock(&inventory->lock);
    EkInventoryTotals now = inventory->progress;
    g_mutex_unlock(&inventory->lock);
    return now;
}

gboolean ek_inventory_commit(EkInventory *inventory, GError **error)
{
    inventory->rows = 0;
    gboolean fine = inventory->failure == NULL || inventory->failure->code == EK_ERROR_CANCELLED;
    if (fine && (!ek_sql_do(inventory->store, error, "UPDATE meta SET value=? WHERE key='mark'",
                            "u", inventory->mark) ||
                 !ek_sql_run(inventory->store, "COMMIT; BEGIN", error)))
        return FALSE;
    if (inventory->failure == NULL)
        return TRUE;
    if (error != &inventory->failure)
        g_propagate_error(error, g_steal_pointer(&inventory->failure));
    return FALSE;
}

gboolean ek_inventory_end(EkInventory *inventory, GError **error)
{
    inventory->is_listed =
        ek_inventory_commit(inventory, error) &&
        ek_sql_run(inventory->store, "UPDATE meta SET value=1 WHERE key='listed'; COMMIT", error);
    return inventory->is_listed;
}

gboolean ek_inventory_finish(EkInventory *inventory, guint64 root, const EkGround *ground,
                             GError **error)
{
    inventory->root = root;
    if (!start(inventory, error))
        return FALSE;
    inventory->is_finished =
        ek_sql_do(inventory->store, error,
                  "INSERT OR IGNORE INTO file VALUES (?,1,0,0,NULL,NULL,NULL,0,0,0,0)", "u",
                  root) &&
        /* Whatever the disk says of it. */
        ek_sql_do(inventory->store, error, "UPDATE file SET type=1,size=0 WHERE number=?", "u",
                  root) &&
        ek_sql_run(inventory->store, EK_INVENTORY_INDICES, error) &&
        ek_inventory_settle(inventory, error) && ek_inventory_judge(inventory, ground, error) &&
        ek_sql_do(inventory->store, error, "UPDATE meta SET value=? WHERE key='root'", "u", root) &&
        ek_sql_run(inventory->store, "UPDATE meta SET value=1 WHERE key='finished'; COMMIT", error);
    if (!inventory->is_finished)
        ek_sql_run(inventory->store, "ROLLBACK", NULL);
    return inventory->is_finished;
}
