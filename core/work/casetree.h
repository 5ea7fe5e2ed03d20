/* SPDX-License-Identifier: MIT */
/* The files of a case as one tree of folders, as extraction would write them: for whatever shows
 * them to other programs. */
#ifndef EK_WORK_CASETREE_H
#define EK_WORK_CASETREE_H

#include "files/access.h"
#include "work/indexing.h"

/* What of a volume has a folder of its own at the top. */
typedef enum {
    EK_PART_LIVE,
    EK_PART_DELETED, /* deleted files, in folders as they were */
    EK_PART_LOST     /* files that no folder leads to */
} EkTreePart;

/* "3 Catalogue", "3 Catalogue - deleted", "3 Catalogue - no folder", "carved": what it is called.
 * The caller frees. */
char *ek_case_tree_folder(const EkCaseVolume *entry, EkTreePart part);

/* A file or folder of the tree. */
typedef struct {
    guint part; /* index of a folder at the top, from 1 on; 0: the top itself */
    guint64 number;
} EkNode;

/* For hash tables. */
guint ek_node_hash(gconstpointer node);
gboolean ek_node_equal(gconstpointer one, gconstpointer other);

typedef struct {
    const char *name; /* of no two in a folder the same; never with a slash */
    EkNode node;
    EkFile file;
    EkDamage damage;
} EkTreeEntry;

/* What is in a folder, in order of name. */
typedef struct EkTreeListing EkTreeListing;

guint ek_tree_listing_count(const EkTreeListing *listing);
const EkTreeEntry *ek_tree_listing_entry(const EkTreeListing *listing, guint index);
const EkTreeEntry *ek_tree_listing_find(const EkTreeListing *listing, const char *name);
void ek_tree_listing_unref(EkTreeListing *listing);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkTreeListing, ek_tree_listing_unref)

typedef struct EkCaseTree EkCaseTree;

EkCaseTree *ek_case_tree_new(void);
void ek_case_tree_free(EkCaseTree *tree);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkCaseTree, ek_case_tree_free)

/* Adds a volume, or the catalogue of contents, whose inventory was taken. Takes `indexing`. */
gboolean ek_case_tree_add(EkCaseTree *tree, EkIndexing *indexing, GError **error);

/* Folders at the top. */
guint ek_case_tree_parts(const EkCaseTree *tree);

/* The content of a folder; lately asked ones are kept. NULL with *error. The caller unrefs. For one
 * thread at a time, as all of these. */
EkTreeListing *ek_case_tree_list(EkCaseTree *tree, EkNode folder, GError **error);

/* Begins to read a file of it. The caller frees, before the tree. */
EkAccess *ek_case_tree_open(EkCaseTree *tree, const EkTreeEntry *entry, GError **error);

/* Its holes (EkHole). The caller unrefs. NULL with *error. */
GArray *ek_case_tree_holes(EkCaseTree *tree, EkNode node, GError **error);

#endif
