/* SPDX-License-Identifier: MIT */
/* Is what a deleted file, or one of an earlier volume, begins with of the kind that its name says,
 * and does it end where it must? Its region may have been another's since, and nothing tells. */
#include "case/inventoryrows.h"

#include "kind/kind.h"

#include <string.h>

#define LOOK_BYTES 4096u
#define SECTOR 512u
#define ALIKE_LEAST 512u /* bytes that are all alike say something */

static gboolean are_alike(const guint8 *data, gsize length)
{
    return length >= ALIKE_LEAST && memcmp(data, data + 1, length - 1) == 0;
}

/* FALSE where it is not, or is one byte over and over, as a drive gives what it has let go of. */
static gboolean is_of_kind(EkReader *reader, const char *name, EkByte first, EkByte bytes)
{
    guint8 start[LOOK_BYTES];
    gsize length = (gsize)MIN(bytes, sizeof start);
    const EkContentType *type = ek_content_type_of(name);
    EkKnown known;
    if (!ek_reader_read(reader, first, start, length, &known, NULL) || known.good < length)
        return TRUE;
    if (are_alike(start, length))
        return FALSE;
    return type == NULL || type->length == 0 ||
           (type->offset + (gsize)type->length <= length &&
            memcmp(start + type->offset, type->start, type->length) == 0);
}

gboolean ek_inventory_doubt(EkInventory *inventory, sqlite3_stmt *doubt, gint64 file,
                            GError **error)
{
    sqlite3_bind_int64(doubt, 1, file);
    gboolean fine = ek_sql_step(inventory->store, doubt, error) == 0;
    sqlite3_reset(doubt);
    return fine;
}

gboolean ek_inventory_judge_kinds(EkInventory *inventory, gboolean is_earlier, EkReader *reader,
                                  sqlite3_stmt *doubt, GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, error,
        "SELECT f.number,e.first,e.bytes,n.text FROM extent e JOIN file f ON f.number=e.file"
        " JOIN name n ON n.file=f.number WHERE e.offset=0 AND e.packed=0 AND e.first>=0"
        " AND e.bytes>0 AND f.type=0 AND (f.flags&1 OR ?) AND f.flags&22=0 ORDER BY e.first",
        "i", (gint64)is_earlier);
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(inventory->store, rows, error)) == 1) {
        const char *name = (const char *)sqlite3_column_text(rows, 3);
        if (name == NULL || is_of_kind(reader, name, (guint64)sqlite3_column_int64(rows, 1),
                                       (guint64)sqlite3_column_int64(rows, 2)))
            continue;
        if (!ek_inventory_doubt(inventory, doubt, sqlite3_column_int64(rows, 0), error))
            return FALSE;
    }
    return got == 0;
}

/* Is something behind the end of a file, in its last sector? Systems fill that up with zeros. */
static gboolean goes_on(EkReader *reader, EkByte end)
{
    guint8 rest[SECTOR];
    gsize length = (gsize)(SECTOR - end % SECTOR);
    EkKnown known;
    return length < SECTOR && ek_reader_read(reader, end, rest, length, &known, NULL) &&
           known.good == length && !ek_bytes_are_zero(rest, length);
}

gboolean ek_inventory_judge_ends(EkInventory *inventory, EkReader *reader, sqlite3_stmt *doubt,
                                 GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, error,
        "SELECT f.number,e.first+e.bytes FROM extent e JOIN file f ON f.number=e.file"
        " WHERE e.packed=0 AND e.first>=0 AND e.bytes>0 AND e.bytes=e.stored"
        " AND e.offset+e.bytes=f.size AND f.type=0 AND f.flags&22=0 ORDER BY e.first",
        "");
    int got = rows != NULL ? 0 : -1;
    while (rows != NULL && (got = ek_sql_step(inventory->store, rows, error)) == 1)
        if (goes_on(reader, (guint64)sqlite3_column_int64(rows, 1)) &&
            !ek_inventory_doubt(inventory, doubt, sqlite3_column_int64(rows, 0), error))
            return FALSE;
    return got == 0;
}
