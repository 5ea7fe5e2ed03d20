/* SPDX-License-Identifier: MIT */
/* The inventory of a volume: all its files and folders, in a store of their own in the case folder
 * (docs/case-format.md). It is filled by a walk and then finished: folders that nothing leads to
 * get a place, and each file its condition. */
#ifndef EK_CASE_INVENTORY_H
#define EK_CASE_INVENTORY_H

#include "case/case.h"
#include "files/files.h"

typedef struct EkInventory EkInventory;

/* The folder for what no folder is left for. */
#define EK_INVENTORY_ORPHANS "no folder"

typedef struct {
    guint64 files;
    guint64 folders;
    guint64 bytes;                       /* of the files */
    guint64 deleted;                     /* files and folders */
    guint64 by_condition[EK_CONDITIONS]; /* files that are not deleted */
    guint64 hurt_folders;                /* names may be missing from them */
    guint64 named; /* files that are known by name only: not among the files */
} EkInventoryTotals;

/* Opens the inventory of a volume. `basis` says what it must stand on: one that stands on anything
 * else is begun anew. Where the case cannot be written to it is kept for as long as it is open.
 * Writers hold the lock of the inventory. */
EkInventory *ek_inventory_open(EkCase *self, guint volume, const char *basis, gboolean writable,
                               GError **error);
void ek_inventory_close(EkInventory *inventory);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkInventory, ek_inventory_close)

/* Long questions to it end with EK_ERROR_CANCELLED when *cancel (atomic) is not 0. */
void ek_inventory_watch(EkInventory *inventory, const gint *cancel);

/* Was one of this volume begun, whatever it stands on? */
gboolean ek_inventory_exists(EkCase *self, guint volume);

/* Did the walk come to its end? */
gboolean ek_inventory_is_listed(EkInventory *inventory);

/* Are its files judged too? */
gboolean ek_inventory_is_finished(EkInventory *inventory);

/* Where records of the volume's table were seen, where that does not say so itself: EkRecordRun.
 * They are kept with it; the caller unrefs what ek_inventory_runs returns, NULL on failure. */
gboolean ek_inventory_put_runs(EkInventory *inventory, const GArray *runs, GError **error);
GArray *ek_inventory_runs(EkInventory *inventory, GError **error);

/* --- filling -------------------------------------------------------------------------------- */

/* Where the walk goes on. */
guint64 ek_inventory_mark(EkInventory *inventory);

/* Files, folders and bytes so far; safe from any thread. */
EkInventoryTotals ek_inventory_progress(EkInventory *inventory);

/* Where a walk's results go. It stops the walk when *cancel is not 0, or writing fails. */
EkFileSink ek_inventory_sink(EkInventory *inventory, const gint *cancel);

/* What has come in is committed; FALSE with what stopped the walk. */
gboolean ek_inventory_commit(EkInventory *inventory, GError **error);

/* What the files of a volume are judged by. */
typedef struct {
    EkReader *reader;
    const EkVolume *volume; /* tells what it uses; NULL: it does not */
    const GPtrArray *newer; /* const EkVolume*: those that lie on it, and came after it; NULL: it is
                             * no volume, but the catalogue of contents */
    const GArray *claims;   /* EkRange, in order: where files lay that were written after it, of
                             * volumes that are gone themselves */
} EkGround;

/* All has come in, and is committed; FALSE with what stopped the walk. */
gboolean ek_inventory_end(EkInventory *inventory, GError **error);

/* All that has come in is judged. `root` is the folder everything is in. */
gboolean ek_inventory_finish(EkInventory *inventory, guint64 root, const EkGround *ground,
                             GError **error);

/* Appends where the files of one whose walk came to its end lie (EkRange), in order, those that
 * touch as one; but for those whose place is a guess. At most EK_CLAIMS_MOST. */
gboolean ek_inventory_claims(EkInventory *inventory, GArray *ranges, GError **error);
#define EK_CLAIMS_MOST (1u << 21)

/* The same of files that are there and whole. */
gboolean ek_inventory_healthy(EkInventory *inventory, GArray *ranges, GError **error);

/* Hands on the files that are there and whole, and as long as one of `lengths` (guint64). */
gboolean ek_inventory_each_of_lengths(EkInventory *inventory, const GArray *lengths,
                                      gboolean (*take)(void *data, guint64 number, guint64 bytes),
                                      void *data, GError **error);

/* --- asking --------------------------------------------------------------------------------- */

EkInventoryTotals ek_inventory_totals(EkInventory *inventory);

/* Receives a file with its path within the volume (UTF-8, no leading slash). Returns FALSE to
 * stop. What it is given is its own only during the call. */
typedef gboolean (*EkItemSink)(void *data, const char *path, const EkItem *item);

/* What a walk takes besides the files of the folder that are there. */
#define EK_WITH_BELOW                                                                              \
    1u /* also what is in the folders below it, each folder before its content                     \
        */
#define EK_WITH_DELETED 2u
#define EK_WITH_OWN 4u /* the file system's own */
#define EK_WITH_STREAMS 8u
#define EK_WITH_LOST 16u /* what is known by name only */

/* The entries of a folder by name; what is no folder alone. `with`: EK_WITH_…. */
gboolean ek_inventory_walk(EkInventory *inventory, guint64 number, guint with, EkItemSink sink,
                           void *data, GError **error);

/* A folder that a walk is about to enter. */
typedef struct {
    guint64 number;
    const char *name;
    gboolean is_deleted;
    gboolean is_last; /* of its parent's */
    guint depth;      /* 1: in the folder that the walk began with */
} EkEntered;

/* What a walk tells; each may be NULL. */
typedef struct {
    void *data;
    EkItemSink item;                                         /* each entry of a folder */
    gboolean (*enter)(void *data, const EkEntered *entered); /* FALSE: not this folder */
    void (*leave)(void *data, guint64 folder);               /* also the one it began with */
} EkWalk;

/* As ek_inventory_walk, with the folders as they are entered and left. Each is entered once,
 * however many names it has; the others are entries like those of files (`is_again`). */
gboolean ek_inventory_walk_with(EkInventory *inventory, guint64 number, guint with,
                                const EkWalk *walk, GError **error);

/* How deep folders are nested at most: what is deeper on the disk counts as lost. */
#define EK_INVENTORY_DEPTH 1024u

gboolean ek_inventory_is_folder(EkInventory *inventory, guint64 number, gboolean *is_folder,
                                GError **error);

/* The path of a file by its first names; NULL when it is not there. The caller frees. */
char *ek_inventory_path(EkInventory *inventory, guint64 number);

/* What is below a folder, kept outside of memory for as long as the inventory is open. */
typedef struct {
    guint64 folders;
    guint64 files;
    guint64 bytes;
    guint64 hurt;     /* files that are not whole */
    guint64 doubtful; /* of these: all is there, and nothing tells whether it is right */
    guint64 deleted;
} EkBelow;

gboolean ek_inventory_put_below(EkInventory *inventory, guint64 folder, const EkBelow *below,
                                GError **error);
/* All 0 where nothing was put. */
gboolean ek_inventory_get_below(EkInventory *inventory, guint64 folder, EkBelow *below,
                                GError **error);

/* Bytes of a file that have a place, or should have one: without its sparse parts. */
EkByte ek_inventory_stored(EkInventory *inventory, guint64 number);

/* The number of the file at a path ("a/b", case as written first, any case next), or "@NUMBER"; ""
 * is the root. EK_ERROR_ABSENT when there is none. */
gboolean ek_inventory_find(EkInventory *inventory, const char *path, guint64 *number,
                           GError **error);

/* Hands on the file of a number, with its path. */
gboolean ek_inventory_get(EkInventory *inventory, guint64 number, EkItemSink sink, void *data,
                          GError **error);

/* Hands on the files of which something was not read, with a path each. */
gboolean ek_inventory_each_damaged(EkInventory *inventory, EkItemSink sink, void *data,
                                   GError **error);

/* A file to remember, and where it comes among the others: by its place on the drive (what lies
 * nowhere first), else by rank, then by word. */
typedef struct {
    const EkItem *item;
    const char *path;
    gboolean by_place;
    gint64 rank;
    const char *word; /* NULL: "" */
} EkPick;

/* Remembers it, outside of memory, for as long as the inventory is open. */
gboolean ek_inventory_pick(EkInventory *inventory, const EkPick *pick, GError **error);

/* Hands on what was picked, in order, and forgets it. */
gboolean ek_inventory_take_picked(EkInventory *inventory, EkItemSink sink, void *data,
                                  GError **error);

/* Where a file lies: EkExtent, in order. The caller unrefs. NULL on failure. */
GArray *ek_inventory_extents(EkInventory *inventory, guint64 number, GError **error);

#endif
