/* SPDX-License-Identifier: MIT */
/* The rows of an inventory. */
#include "case/inventoryrows.h"

static EkTimestamp timestamp_at(sqlite3_stmt *row, int column, guint zones, guint bit)
{
    EkTimestamp timestamp = {.is_set = sqlite3_column_type(row, column) != SQLITE_NULL};
    gint64 steps = sqlite3_column_int64(row, column);
    gint64 rest = steps % 1000000000;
    if (rest < 0)
        rest += 1000000000;
    timestamp.seconds = (steps - rest) / 1000000000;
    timestamp.nanoseconds = (guint32)rest;
    timestamp.is_local = (zones >> bit & 1) != 0;
    return timestamp;
}

EkItem ek_inventory_item(sqlite3_stmt *row)
{
    guint zones = (guint)sqlite3_column_int(row, 7);
    EkItem item = {
        .file =
            {
                .number = (guint64)sqlite3_column_int64(row, 0),
                .type = (EkFileType)sqlite3_column_int(row, 1),
                .flags = (guint)sqlite3_column_int(row, 2),
                .size = (guint64)sqlite3_column_int64(row, 3),
                .created = timestamp_at(row, 4, zones, 0),
                .modified = timestamp_at(row, 5, zones, 1),
                .accessed = timestamp_at(row, 6, zones, 2),
                .attributes = (guint32)sqlite3_column_int64(row, 8),
                .generation = (guint32)sqlite3_column_int64(row, 9),
                .place = (guint64)sqlite3_column_int64(row, 10),
            },
        .parent = (guint64)sqlite3_column_int64(row, 11),
        .name = (const char *)sqlite3_column_text(row, 12),
        .name_bytes = sqlite3_column_blob(row, 13),
        .name_length = (gsize)sqlite3_column_bytes(row, 13),
        .damage =
            {
                .condition = (EkCondition)sqlite3_column_int(row, 15),
                .bad_bytes = (guint64)sqlite3_column_int64(row, 16),
                .unread_bytes = (guint64)sqlite3_column_int64(row, 17),
                .unplaced_bytes = (guint64)sqlite3_column_int64(row, 18),
                .overwritten_bytes = (guint64)sqlite3_column_int64(row, 19),
            },
    };
    item.is_again = sqlite3_column_int(row, 20) != 0;
    if (sqlite3_column_int(row, 14) != 0)
        item.file.flags |= EK_FILE_DELETED;
    if (item.name == NULL)
        item.name = "";
    return item;
}
