/* SPDX-License-Identifier: MIT */
/* What the parts of the inventory share. */
#ifndef EK_CASE_INVENTORYROWS_H
#define EK_CASE_INVENTORYROWS_H

#include "case/inventory.h"

struct EkInventory {
    sqlite3 *store;
    gboolean is_listed;
    gboolean is_finished;
    guint64 root;
    guint64 mark;
    /* While it is filled: */
    sqlite3_stmt *put_file;
    sqlite3_stmt *put_extent;
    sqlite3_stmt *put_name;
    sqlite3_stmt *put_damage;
    sqlite3_stmt *put_picked; /* while files are picked */
    sqlite3_stmt *get_stored;
    const gint *cancel;
    GError *failure;
    guint64 rows; /* since the last commit */
    GMutex lock;
    EkInventoryTotals progress;
};

/* Numbers from here on are folders that no file system has: for what lost its own. */
#define EK_INVENTORY_MADE ((guint64)1 << 62)
#define EK_INVENTORY_ORPHANS_NUMBER (EK_INVENTORY_MADE | (guint64)1 << 61)

/* In the column `packed` of an extent. */
#define EK_EXTENT_PACKED 1
#define EK_EXTENT_IN_RECORD 2
#define EK_EXTENT_LAYER_SHIFT 8 /* above: the layer that it lies in */

/* Made when all rows are there. */
#define EK_INVENTORY_INDICES                                                                       \
    "CREATE INDEX name_by_parent ON name (parent, text);"                                          \
    "CREATE INDEX name_by_file ON name (file);"                                                    \
    "CREATE INDEX extent_by_place ON extent (first);"

/* The sum of a finished one's schema (ek_sql_schema_sum). */
#define EK_INVENTORY_SUM "27fbcebb63355c41e7c0120aa815e4894dda42a764cc759038e37e140877a854"

/* Columns of a row that ek_inventory_item reads, in its order. */
#define EK_INVENTORY_COLUMNS                                                                       \
    "f.number,f.type,f.flags,f.size,f.created,f.modified,f.accessed,f.zones,f.attributes,"         \
    "f.generation,f.place,n.parent,n.text,n.bytes,n.deleted,"                                      \
    "d.condition,d.bad,d.unread,d.unplaced,d.overwritten,n.again"

/* The row under a statement; its texts live as long as that stays there. */
EkItem ek_inventory_item(sqlite3_stmt *row);

/* Appends the path of a file (after a slash where `path` is not empty), by its first names. *lost:
 * it is below the folder for what nothing leads to. */
gboolean ek_inventory_append_path(EkInventory *inventory, guint64 number, GString *path,
                                  gboolean *lost, GError **error);

/* Doubts the deleted files, and where the volume `is_earlier` all of them, that do not begin as
 * their names say (inventorykind.c). `doubt` takes the number of a file. */
gboolean ek_inventory_judge_kinds(EkInventory *inventory, gboolean is_earlier, EkReader *reader,
                                  sqlite3_stmt *doubt, GError **error);

/* `doubt` takes a file's number and makes it doubtful. */
gboolean ek_inventory_doubt(EkInventory *inventory, sqlite3_stmt *doubt, gint64 file,
                            GError **error);

/* Doubts those behind whose end something stands in their last sector: it was another's since. For
 * volumes that others lie on. */
gboolean ek_inventory_judge_ends(EkInventory *inventory, EkReader *reader, sqlite3_stmt *doubt,
                                 GError **error);

/* Gives every folder and file that nothing leads to a place below the orphans (inventorytree.c). */
gboolean ek_inventory_settle(EkInventory *inventory, GError **error);

/* Finds each file's condition (inventoryharm.c). */
gboolean ek_inventory_judge(EkInventory *inventory, const EkGround *ground, GError **error);

#endif
