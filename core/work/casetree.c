/* SPDX-License-Identifier: MIT */
/* The tree: folders are listed out of the inventories as they are asked for. */
#include "work/casetree.h"

#include "base/error.h"
#include "files/names.h"

#include <string.h>

#define KEPT_MOST 262144u /* entries of listings that are kept */

struct EkTreeListing {
    gint references;
    guint64 asked;       /* when */
    GArray *entries;     /* EkTreeEntry */
    GHashTable *by_name; /* of its entries' names to their index + 1 */
    GStringChunk *names;
};

typedef struct {
    char *name;
    EkTreePart kind;
    EkIndexing *indexing; /* of the volume's, which `volumes` of the tree owns */
    guint64 root;
    guint64 lost;      /* of deleted files: the folder of those without one; 0: there is none */
    GHashTable *leads; /* of deleted files: folders that are there, and lead to some; NULL: not
                          known yet */
} Part;

struct EkCaseTree {
    GPtrArray *volumes; /* EkIndexing */
    GArray *parts;      /* Part */
    GHashTable *kept;   /* EkNode to EkTreeListing */
    guint64 kept_entries;
    guint64 asked;
};

/* --- listings -------------------------------------------------------------------------------- */

static EkTreeListing *listing_new(void)
{
    EkTreeListing *listing = g_new0(EkTreeListing, 1);
    listing->references = 1;
    listing->entries = g_array_new(FALSE, FALSE, sizeof(EkTreeEntry));
    listing->by_name = g_hash_table_new(g_str_hash, g_str_equal);
    listing->names = g_string_chunk_new(4096);
    return listing;
}

void ek_tree_listing_unref(EkTreeListing *listing)
{
    if (listing == NULL || --listing->references > 0)
        return;
    g_array_unref(listing->entries);
    g_hash_table_unref(listing->by_name);
    g_string_chunk_free(listing->names);
    g_free(listing);
}

guint ek_tree_listing_count(const EkTreeListing *listing)
{
    return listing->entries->len;
}

const EkTreeEntry *ek_tree_listing_entry(const EkTreeListing *listing, guint index)
{
    return &g_array_index(listing->entries, EkTreeEntry, index);
}

const EkTreeEntry *ek_tree_listing_find(const EkTreeListing *listing, const char *name)
{
    guint index = GPOINTER_TO_UINT(g_hash_table_lookup(listing->by_name, name));
    return index > 0 ? ek_tree_listing_entry(listing, index - 1) : NULL;
}

/* A second file of a name gets another. */
static void add_entry(EkTreeListing *listing, const char *name, EkTreeEntry entry)
{
    gboolean renamed = FALSE;
    g_autofree char *own = ek_name_for_target(name, FALSE, &renamed);
    for (guint number = 1;; number++) {
        g_autofree char *numbered = ek_name_numbered(own, number);
        if (g_hash_table_contains(listing->by_name, numbered))
            continue;
        entry.name = g_string_chunk_insert(listing->names, numbered);
        break;
    }
    g_array_append_val(listing->entries, entry);
    g_hash_table_insert(listing->by_name, (char *)entry.name,
                        GUINT_TO_POINTER(listing->entries->len));
}

/* --- parts ----------------------------------------------------------------------------------- */

char *ek_case_tree_folder(const EkCaseVolume *entry, EkTreePart part)
{
    static const char *const endings[] = {"", " - deleted", " - no folder"};
    const char *label = entry->volume->label;
    if (entry->number == EK_CONTENTS)
        return g_strdup("carved");
    char *name = g_strdup_printf(
        "%u %s%s", entry->number,
        label != NULL && *label != '\0' ? label : entry->volume->filesystem, endings[part]);
    for (char *p = name; *p != '\0'; p++)
        if (*p == '/')
            *p = '_';
    return name;
}

static void part_clear(void *data)
{
    Part *part = data;
    g_free(part->name);
    if (part->leads != NULL)
        g_hash_table_unref(part->leads);
}

static void add_part(EkCaseTree *tree, EkIndexing *indexing, EkTreePart kind, guint64 root,
                     guint64 lost)
{
    const EkCaseVolume *entry = ek_indexing_volume(indexing);
    Part part = {ek_case_tree_folder(entry, kind), kind, indexing, root, lost, NULL};
    g_array_append_val(tree->parts, part);
}

static gboolean note_lost(void *data, const char *path, const EkItem *item)
{
    (void)path;
    *(gboolean *)data = item->is_lost;
    return TRUE;
}

/* The folder of files without one; 0: there is none. */
static guint64 lost_folder(EkInventory *inventory)
{
    guint64 number = 0;
    gboolean is_lost = FALSE;
    if (!ek_inventory_find(inventory, EK_INVENTORY_ORPHANS, &number, NULL) ||
        !ek_inventory_get(inventory, number, note_lost, &is_lost, NULL))
        return 0;
    return is_lost ? number : 0;
}

gboolean ek_case_tree_add(EkCaseTree *tree, EkIndexing *indexing, GError **error)
{
    EkInventory *inventory = ek_indexing_inventory(indexing);
    guint64 root = 0;
    g_ptr_array_add(tree->volumes, indexing);
    if (!ek_inventory_find(inventory, "", &root, error))
        return FALSE;
    guint64 lost = lost_folder(inventory);
    add_part(tree, indexing, EK_PART_LIVE, root, 0);
    if (ek_inventory_totals(inventory).deleted > 0)
        add_part(tree, indexing, EK_PART_DELETED, root, lost);
    if (lost != 0)
        add_part(tree, indexing, EK_PART_LOST, lost, 0);
    return TRUE;
}

/* What leads to deleted files, as a walk goes through all folders. */
typedef struct {
    GHashTable *leads; /* guint64 */
    GArray *inside;    /* guint64: the folders that the walk is in */
} Leading;

static gboolean enter_folder(void *data, const EkEntered *entered)
{
    Leading *leading = data;
    g_array_append_val(leading->inside, entered->number);
    return TRUE;
}

static void leave_folder(void *data, guint64 folder)
{
    Leading *leading = data;
    (void)folder;
    if (leading->inside->len > 0)
        g_array_set_size(leading->inside, leading->inside->len - 1);
}

static gboolean note_deleted(void *data, const char *path, const EkItem *item)
{
    Leading *leading = data;
    (void)path;
    for (guint i = leading->inside->len; (item->file.flags & EK_FILE_DELETED) != 0 && i > 0; i--) {
        guint64 folder = g_array_index(leading->inside, guint64, i - 1);
        if (!g_hash_table_add(leading->leads, g_memdup2(&folder, sizeof folder)))
            break;
    }
    return TRUE;
}

static gboolean find_leads(Part *part, GError **error)
{
    if (part->leads != NULL)
        return TRUE;
    Leading leading = {g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL),
                       g_array_new(FALSE, FALSE, sizeof(guint64))};
    EkWalk walk = {&leading, note_deleted, enter_folder, leave_folder};
    gboolean fine = ek_inventory_walk_with(ek_indexing_inventory(part->indexing), part->root,
                                           EK_WITH_BELOW | EK_WITH_DELETED, &walk, error);
    g_array_unref(leading.inside);
    if (fine)
        part->leads = leading.leads;
    else
        g_hash_table_unref(leading.leads);
    return fine;
}

/* --- listing --------------------------------------------------------------------------------- */

typedef struct {
    const Part *part;
    guint index; /* of the part, from 1 on */
    EkTreeListing *listing;
} Filling;

static gboolean take_item(void *data, const char *path, const EkItem *item)
{
    Filling *filling = data;
    const Part *part = filling->part;
    gboolean is_deleted = (item->file.flags & EK_FILE_DELETED) != 0;
    gboolean is_folder = item->file.type == EK_TYPE_FOLDER;
    (void)path;
    if (item->is_again)
        return TRUE;
    if (part->kind == EK_PART_DELETED && !is_deleted &&
        !(is_folder && !item->is_lost && g_hash_table_contains(part->leads, &item->file.number)))
        return TRUE;
    /* The folder of lost files has a place of its own. */
    if (part->kind == EK_PART_LIVE && is_folder && item->is_lost)
        return TRUE;
    EkTreeEntry entry = {
        .node = {filling->index, item->file.number}, .file = item->file, .damage = item->damage};
    add_entry(filling->listing, item->name, entry);
    return TRUE;
}

static EkTreeListing *list_top(const EkCaseTree *tree)
{
    EkTreeListing *listing = listing_new();
    for (guint i = 0; i < tree->parts->len; i++) {
        const Part *part = &g_array_index(tree->parts, Part, i);
        EkTreeEntry entry = {.node = {i + 1, part->root}, .file = {.type = EK_TYPE_FOLDER}};
        entry.file.modified = ek_indexing_volume(part->indexing)->volume->used;
        add_entry(listing, part->name, entry);
    }
    return listing;
}

static EkTreeListing *list_folder(EkCaseTree *tree, EkNode folder, GError **error)
{
    Part *part = &g_array_index(tree->parts, Part, folder.part - 1);
    EkInventory *inventory = ek_indexing_inventory(part->indexing);
    guint with = part->kind == EK_PART_DELETED ? EK_WITH_DELETED : 0;
    if (part->kind == EK_PART_DELETED && !find_leads(part, error))
        return NULL;
    g_autoptr(EkTreeListing) listing = listing_new();
    Filling filling = {part, folder.part, listing};
    if (!ek_inventory_walk(inventory, folder.number, with, take_item, &filling, error))
        return NULL;
    if (part->lost != 0 && folder.number == part->root &&
        !ek_inventory_walk(inventory, part->lost, with, take_item, &filling, error))
        return NULL;
    return g_steal_pointer(&listing);
}

/* --- what is kept ---------------------------------------------------------------------------- */

guint ek_node_hash(gconstpointer data)
{
    const EkNode *node = data;
    return (guint)(node->number ^ node->number >> 32) * 31 + node->part;
}

gboolean ek_node_equal(gconstpointer one, gconstpointer other)
{
    const EkNode *a = one;
    const EkNode *b = other;
    return a->part == b->part && a->number == b->number;
}

static void drop_oldest(EkCaseTree *tree)
{
    GHashTableIter all;
    gpointer key;
    gpointer value;
    gpointer oldest = NULL;
    guint64 asked = G_MAXUINT64;
    g_hash_table_iter_init(&all, tree->kept);
    while (g_hash_table_iter_next(&all, &key, &value)) {
        const EkTreeListing *listing = value;
        if (listing->asked < asked) {
            asked = listing->asked;
            oldest = key;
        }
    }
    const EkTreeListing *listing = g_hash_table_lookup(tree->kept, oldest);
    tree->kept_entries -= listing->entries->len + 1;
    g_hash_table_remove(tree->kept, oldest);
}

EkTreeListing *ek_case_tree_list(EkCaseTree *tree, EkNode folder, GError **error)
{
    EkTreeListing *listing = g_hash_table_lookup(tree->kept, &folder);
    if (listing == NULL) {
        listing = folder.part == 0 ? list_top(tree) : list_folder(tree, folder, error);
        if (listing == NULL)
            return NULL;
        while (tree->kept_entries > 0 && tree->kept_entries + listing->entries->len > KEPT_MOST)
            drop_oldest(tree);
        tree->kept_entries += listing->entries->len + 1;
        g_hash_table_insert(tree->kept, g_memdup2(&folder, sizeof folder), listing);
    }
    listing->asked = ++tree->asked;
    listing->references++;
    return listing;
}

/* --- the tree -------------------------------------------------------------------------------- */

EkCaseTree *ek_case_tree_new(void)
{
    EkCaseTree *tree = g_new0(EkCaseTree, 1);
    tree->volumes = g_ptr_array_new_with_free_func((GDestroyNotify)ek_indexing_free);
    tree->parts = g_array_new(FALSE, FALSE, sizeof(Part));
    g_array_set_clear_func(tree->parts, part_clear);
    tree->kept = g_hash_table_new_full(ek_node_hash, ek_node_equal, g_free,
                                       (GDestroyNotify)ek_tree_listing_unref);
    return tree;
}

void ek_case_tree_free(EkCaseTree *tree)
{
    g_hash_table_unref(tree->kept);
    g_array_unref(tree->parts);
    g_ptr_array_unref(tree->volumes);
    g_free(tree);
}

guint ek_case_tree_parts(const EkCaseTree *tree)
{
    return tree->parts->len;
}

static EkIndexing *indexing_of(const EkCaseTree *tree, EkNode node)
{
    return g_array_index(tree->parts, Part, node.part - 1).indexing;
}

EkAccess *ek_case_tree_open(EkCaseTree *tree, const EkTreeEntry *entry, GError **error)
{
    EkIndexing *indexing = indexing_of(tree, entry->node);
    GArray *extents =
        ek_inventory_extents(ek_indexing_inventory(indexing), entry->node.number, error);
    if (extents == NULL)
        return NULL;
    return ek_access_new(ek_indexing_files(indexing)->reader, ek_indexing_volume(indexing)->volume,
                         &entry->file, extents, error);
}

GArray *ek_case_tree_holes(EkCaseTree *tree, EkNode node, GError **error)
{
    EkIndexing *indexing = indexing_of(tree, node);
    g_autoptr(GArray) extents =
        ek_inventory_extents(ek_indexing_inventory(indexing), node.number, error);
    return extents != NULL ? ek_files_holes(ek_indexing_files(indexing)->reader, extents) : NULL;
}
