/* SPDX-License-Identifier: MIT */
/* The catalog of an HFS+ volume as its nodes: where it lies, which of them are in use, and which
 * are what another catalog left, that was there before. As in Technical Note TN1150. */
#ifndef EK_VOLUME_HFSPLUS_CATALOG_H
#define EK_VOLUME_HFSPLUS_CATALOG_H

#include "volume/clusterbitmap.h"
#include "volume/hfsplus/fork.h"

#define EK_HFS_RECORD_FOLDER 1u
#define EK_HFS_RECORD_FILE 2u
#define EK_HFS_FILE_BYTES 248u
#define EK_HFS_FOLDER_BYTES 88u
#define EK_HFS_DATA_FORK 88u      /* in a file's record */
#define EK_HFS_RESOURCE_FORK 168u /* the same */

/* A record of the catalog that has a folder or a file. */
typedef struct {
    guint type; /* EK_HFS_RECORD_FOLDER or EK_HFS_RECORD_FILE */
    guint32 parent;
    guint32 number;
    EkSpan name; /* UTF-16, the highest byte first */
    EkSpan body;
} EkHfsEntry;

/* FALSE when `record` is something else, or is cut short. */
gboolean ek_hfs_entry_read(EkSpan record, EkHfsEntry *entry);

typedef struct {
    EkHfsArea region;
    EkHfsFork fork;
    EkHfsTree tree;
    gboolean is_headless;  /* its header node was not read, or is something else now */
    guint32 next_number;   /* as the volume header says; 0: it does not */
    gint64 created;        /* seconds, by a clock that may be a day off; 0: not told */
    GByteArray *used;      /* a bit a node, the highest first, as its map has them */
    EkClusterBitmap older; /* nodes of an earlier catalog */
} EkHfsCatalog;

/* FALSE when no catalog begins where the header of the volume says. Cleared by the caller either
 * way. */
gboolean ek_hfs_catalog_open(EkHfsCatalog *catalog, EkReader *reader, const EkVolume *volume);
void ek_hfs_catalog_clear(EkHfsCatalog *catalog);

/* How many of its nodes there can be, with its header node. */
guint64 ek_hfs_catalog_nodes(const EkHfsCatalog *catalog);

/* The beginning of a node; FALSE when it was not read, or is no leaf. */
gboolean ek_hfs_catalog_leaf(const EkHfsCatalog *catalog, guint64 node, EkHfsLeaf *leaf);

/* Is a node a leaf, and does it name `before` as the one before it? */
gboolean ek_hfs_catalog_follows(const EkHfsCatalog *catalog, guint64 node, guint64 before);

/* Receives a record of a leaf, and the leaf. Returns FALSE to stop. */
typedef gboolean (*EkHfsLeafSink)(void *data, EkSpan node, EkSpan record);

/* Hands on those records of a leaf, of which a part was not read, that lie in what was. `node` is
 * room for one. FALSE when the sink stopped it. */
gboolean ek_hfs_catalog_torn(const EkHfsCatalog *catalog, guint64 at, guint8 *node,
                             EkHfsLeafSink sink, void *data);

/* Is it in use, as its map says? Where that is not known, leaves that their neighbours name are. */
gboolean ek_hfs_catalog_is_used(const EkHfsCatalog *catalog, guint64 node);

/* How much a node, that was read whole, tells of an earlier volume: records that are older than
 * this one, or have numbers that it did not give yet. 0 when some of them may be its own. */
guint ek_hfs_catalog_weigh_older(const EkHfsCatalog *catalog, EkSpan node);

/* Finds the nodes that an earlier catalog left where this one uses none: those that tell so, and
 * those that hang together with them. Returns how much tells of it. */
guint ek_hfs_catalog_find_older(EkHfsCatalog *catalog);

/* Was a node of the earlier catalog in use there, as far as its neighbours are still there? */
gboolean ek_hfs_catalog_was_used(const EkHfsCatalog *catalog, guint64 node);

#endif
