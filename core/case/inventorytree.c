/* SPDX-License-Identifier: MIT */
/* Folders as a tree. What a disk says of parents is not to be trusted: they may be gone, be files,
 * have been used again, or lead in a circle. */
#include "case/inventoryrows.h"

/* All folders, by number: 16 bytes each. */
typedef struct {
    guint64 number;
    guint64 parent;
} Folder;

enum { UNKNOWN, ON_THE_WAY, REACHES };

/* Names of what has no record of its own: it is known that it was there. A folder of which there
 * are files is shown as any other. */
static gboolean adopt_named(EkInventory *inventory, GError **error)
{
    static const char sql[] =
        "INSERT INTO file SELECT n.file,"
        " EXISTS (SELECT 1 FROM name c WHERE c.parent=n.file),64|min(n.deleted,1),"
        " 0,NULL,NULL,NULL,0,0,0,0"
        " FROM name n LEFT JOIN file f ON f.number=n.file WHERE f.number IS NULL"
        " GROUP BY n.file;"
        "UPDATE file SET flags=flags&~64 WHERE type=1 AND flags&64 AND EXISTS"
        " (SELECT 1 FROM name c WHERE c.parent=file.number)";
    return ek_sql_run(inventory->store, sql, error);
}

/* A folder for what was in folder N, which is none any more: it is called by its number. */
static gboolean adopt_orphans(EkInventory *inventory, GError **error)
{
    static const char sql[] =
        /* Names whose parent is no folder, or one that came later under the same number. */
        "CREATE TEMP TABLE lost (name INTEGER PRIMARY KEY, parent INTEGER NOT NULL);"
        "INSERT INTO lost SELECT n.id,n.parent FROM name n LEFT JOIN file f ON f.number=n.parent"
        " WHERE f.number IS NULL OR f.type<>1 OR (n.generation<>0 AND f.generation<>0 AND"
        "  n.generation<>f.generation AND NOT ((f.flags&1) AND n.generation+1=f.generation));"
        "INSERT OR IGNORE INTO file SELECT DISTINCT "
        "(parent&2305843009213693951)|4611686018427387904,"
        " 1,0,0,NULL,NULL,NULL,0,0,0,0 FROM lost;"
        "INSERT INTO name (file,parent,generation,deleted,text) SELECT DISTINCT"
        " (parent&2305843009213693951)|4611686018427387904,6917529027641081856,0,0,'folder "
        "'||(parent&1099511627775)"
        " FROM lost;"
        "UPDATE name SET parent=(parent&2305843009213693951)|4611686018427387904"
        " WHERE id IN (SELECT name FROM lost);"
        "DROP TABLE lost";
    return ek_sql_run(inventory->store, sql, error);
}

static gboolean adopt_nameless(EkInventory *inventory, GError **error)
{
    return ek_sql_do(
        inventory->store, error,
        "INSERT INTO name (file,parent,generation,deleted,text)"
        " SELECT number,6917529027641081856,0,flags&1,"
        " CASE type WHEN 1 THEN 'folder ' ELSE 'file ' END||(number&1099511627775) FROM file"
        " WHERE number<>? AND type<>4 AND flags&32=0 AND number<4611686018427387904"
        " AND NOT EXISTS (SELECT 1 FROM name WHERE file=number)",
        "u", inventory->root);
}

static GArray *load_folders(EkInventory *inventory, GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        inventory->store, error,
        "SELECT f.number,(SELECT n.parent FROM name n WHERE n.file=f.number"
        " ORDER BY n.deleted,n.id LIMIT 1) FROM file f WHERE f.type=1 ORDER BY f.number",
        "");
    if (rows == NULL)
        return NULL;
    g_autoptr(GArray) folders = g_array_new(FALSE, FALSE, sizeof(Folder));
    int got;
    while ((got = ek_sql_step(inventory->store, rows, error)) == 1) {
        Folder folder = {(guint64)sqlite3_column_int64(rows, 0),
                         (guint64)sqlite3_column_int64(rows, 1)};
        g_array_append_val(folders, folder);
    }
    return got == 0 ? g_steal_pointer(&folders) : NULL;
}

static gint by_number(gconstpointer a, gconstpointer b)
{
    const Folder *left = a;
    const Folder *right = b;
    /* As SQLite orders them. */
    gint64 x = (gint64)left->number;
    gint64 y = (gint64)right->number;
    return x < y ? -1 : x > y;
}

static gboolean place_of(GArray *folders, guint64 number, guint *place)
{
    Folder wanted = {number, 0};
    return g_array_binary_search(folders, &wanted, by_number, place);
}

/* Climbs from a folder; what it passes is marked. Where the way comes back to itself it is cut. */
static gboolean climb(EkInventory *inventory, GArray *folders, guint8 *states, guint from,
                      GError **error)
{
    guint at = from;
    while (states[at] == UNKNOWN) {
        Folder *folder = &g_array_index(folders, Folder, at);
        states[at] = ON_THE_WAY;
        guint next = 0;
        if (folder->number == inventory->root || folder->number == EK_INVENTORY_ORPHANS_NUMBER ||
            !place_of(folders, folder->parent, &next))
            break;
        if (states[next] == ON_THE_WAY) {
            folder->parent = EK_INVENTORY_ORPHANS_NUMBER;
            if (!ek_sql_do(inventory->store, error,
                           "UPDATE name SET parent=6917529027641081856 WHERE file=?", "u",
                           folder->number))
                return FALSE;
            break;
        }
        at = next;
    }
    for (at = from; states[at] == ON_THE_WAY;) {
        states[at] = REACHES;
        guint next = at;
        if (place_of(folders, g_array_index(folders, Folder, at).parent, &next))
            at = next;
    }
    return TRUE;
}

static gboolean cut_circles(EkInventory *inventory, GError **error)
{
    g_autoptr(GArray) folders = load_folders(inventory, error);
    if (folders == NULL)
        return FALSE;
    g_autofree guint8 *states = g_malloc0(folders->len + 1);
    for (guint i = 0; i < folders->len; i++)
        if (!climb(inventory, folders, states, i, error))
            return FALSE;
    return TRUE;
}

/* Numbers of folders above each, as far as they are known: 0 is not yet. Where they are nested too
 * deep the way is cut, and what is below begins anew among the orphans. */
static gboolean number_way(EkInventory *inventory, GArray *folders, guint16 *depths, guint from,
                           GError **error)
{
    guint64 steps = 0;
    guint at = from;
    guint next = 0;
    while (depths[at] == 0 && g_array_index(folders, Folder, at).number != inventory->root &&
           place_of(folders, g_array_index(folders, Folder, at).parent, &next) && next != at) {
        at = next;
        steps++;
    }
    guint64 depth = (depths[at] != 0 ? depths[at] : 1) + steps;
    for (at = from; depths[at] == 0; depth--) {
        Folder *folder = &g_array_index(folders, Folder, at);
        gboolean cut = depth > 1 && depth % EK_INVENTORY_DEPTH == 1;
        depths[at] = (guint16)((depth - 1) % EK_INVENTORY_DEPTH + 1);
        if (cut && !ek_sql_do(inventory->store, error,
                              "UPDATE name SET parent=6917529027641081856 WHERE file=?", "u",
                              folder->number))
            return FALSE;
        if (!place_of(folders, folder->parent, &next))
            return TRUE;
        at = next;
    }
    return TRUE;
}

static gboolean limit_depth(EkInventory *inventory, GError **error)
{
    g_autoptr(GArray) folders = load_folders(inventory, error);
    if (folders == NULL)
        return FALSE;
    g_autofree guint16 *depths = g_new0(guint16, folders->len + 1);
    for (guint i = 0; i < folders->len; i++)
        if (!number_way(inventory, folders, depths, i, error))
            return FALSE;
    return TRUE;
}

/* A folder is entered by its first name; the root, which needs none, by no name. */
static gboolean mark_further_names(EkInventory *inventory, GError **error)
{
    return ek_sql_do(inventory->store, error,
                     "UPDATE name SET again=1 WHERE file IN (SELECT n.file FROM file f JOIN name n"
                     "  ON n.file=f.number WHERE f.type=1 GROUP BY n.file HAVING count(*)>1)"
                     " AND id<>(SELECT o.id FROM name o WHERE o.file=name.file"
                     "  ORDER BY o.deleted,o.id LIMIT 1)",
                     "") &&
           ek_sql_do(inventory->store, error, "UPDATE name SET again=1 WHERE file=?", "u",
                     inventory->root);
}

/* A name for their folder that nothing else in the root has. */
static char *orphans_name(EkInventory *inventory, GError **error)
{
    for (guint number = 1;; number++) {
        g_autofree char *name = number == 1 ? g_strdup(EK_INVENTORY_ORPHANS)
                                            : g_strdup_printf(EK_INVENTORY_ORPHANS " (%u)", number);
        g_autoptr(EkStatement) row =
            ek_sql_prepare(inventory->store, error,
                           "SELECT 1 FROM name WHERE parent=? AND text=? COLLATE NOCASE LIMIT 1",
                           "us", inventory->root, name);
        int got = row != NULL ? ek_sql_step(inventory->store, row, error) : -1;
        if (got <= 0)
            return got == 0 ? g_steal_pointer(&name) : NULL;
    }
}

/* The folder of the orphans is there only where there are any. */
static gboolean add_orphans(EkInventory *inventory, GError **error)
{
    /* Made folders in which all is deleted are shown with that only. */
    static const char mark[] =
        "UPDATE file SET flags=1 WHERE number>=4611686018427387904 AND NOT EXISTS"
        " (SELECT 1 FROM name n JOIN file f ON f.number=n.file"
        "  WHERE n.parent=file.number AND n.deleted=0 AND f.flags&1=0)";
    g_autofree char *name = orphans_name(inventory, error);
    return name != NULL && ek_sql_run(inventory->store, mark, error) &&
           ek_sql_do(inventory->store, error,
                     "INSERT INTO file SELECT 6917529027641081856,1,0,0,NULL,NULL,NULL,0,0,0,0"
                     " WHERE EXISTS (SELECT 1 FROM name WHERE parent=6917529027641081856)",
                     "") &&
           ek_sql_run(inventory->store, mark, error) &&
           ek_sql_do(inventory->store, error,
                     "INSERT INTO name (file,parent,generation,deleted,text)"
                     " SELECT number,?,0,0,? FROM file WHERE number=6917529027641081856",
                     "us", inventory->root, name);
}

gboolean ek_inventory_settle(EkInventory *inventory, GError **error)
{
    /* A made name counts where no other is left. */
    static const char made[] =
        "DELETE FROM name WHERE deleted=2 AND EXISTS"
        " (SELECT 1 FROM name o WHERE o.file=name.file AND o.deleted<2);"
        "UPDATE name SET deleted=ifnull((SELECT flags&1 FROM file WHERE number=name.file),0)"
        " WHERE deleted=2";
    /* What is left of a name that a file had before it was renamed leads to no deleted file. */
    return ek_sql_run(inventory->store, made, error) &&
           ek_sql_run(inventory->store,
                      "DELETE FROM name WHERE deleted=1 AND EXISTS (SELECT 1 FROM file f"
                      " WHERE f.number=name.file AND f.flags&1=0)",
                      error) &&
           adopt_named(inventory, error) && adopt_orphans(inventory, error) &&
           adopt_nameless(inventory, error) && cut_circles(inventory, error) &&
           limit_depth(inventory, error) && add_orphans(inventory, error) &&
           mark_further_names(inventory, error);
}
