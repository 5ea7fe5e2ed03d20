/* SPDX-License-Identifier: MIT */
/* The catalog of an HFS+ volume as its nodes, as in Technical Note TN1150. A volume that is made
 * over another one takes the same place for its catalog, and writes a few of its nodes: what stands
 * in the others is told apart by dates and numbers. */
#include "volume/hfsplus/catalog.h"

#include "volume/beneath.h"

#define GUESS_NODES 256u      /* that are looked at for the size of a node */
#define LEAVES_LEAST 2u       /* where something else stands in place of the header node */
#define CLOCK (14 * 3600)     /* seconds that a clock without a zone may be off */
#define FIRST_NUMBER 16u      /* those before it are the volume's own */
#define SPREADS_MOST 16u      /* times that what hangs together is looked for */
#define UNDECIDED_MOST 65536u /* nodes that may hang together with others */
#define FIRST_RECORD 14u      /* of a node */
#define THREAD_OF_FOLDER 3u
#define THREAD_OF_FILE 4u
#define CHANGED 20u /* in a record: when it was changed last */

gboolean ek_hfs_entry_read(EkSpan record, EkHfsEntry *entry)
{
    guint key = ek_span_be16(record, 0);
    gsize bytes = ek_span_be16(record, 6) * 2ul;
    *entry = (EkHfsEntry){.parent = ek_span_be32(record, 2),
                          .name = ek_span_part(record, 8, bytes),
                          .body = ek_span_part(record, 2ul + key + (key & 1), record.length)};
    entry->type = ek_span_be16(entry->body, 0);
    entry->number = ek_span_be32(entry->body, 8);
    return entry->name.length == bytes && key >= 6 + bytes && entry->number >= EK_HFS_ROOT_FOLDER &&
           ((entry->type == EK_HFS_RECORD_FOLDER && entry->body.length >= EK_HFS_FOLDER_BYTES) ||
            (entry->type == EK_HFS_RECORD_FILE && entry->body.length >= EK_HFS_FILE_BYTES));
}

/* --- nodes ---------------------------------------------------------------------------------- */

static gboolean read_leaf(const EkHfsCatalog *catalog, guint64 node, guint32 node_bytes,
                          EkHfsLeaf *leaf)
{
    guint8 head[EK_STEP];
    EkKnown known;
    return ek_hfs_fork_read(&catalog->region, &catalog->fork, node * node_bytes, head, sizeof head,
                            &known) &&
           ek_hfs_leaf_read((EkSpan){head, sizeof head}, leaf);
}

gboolean ek_hfs_catalog_leaf(const EkHfsCatalog *catalog, guint64 node, EkHfsLeaf *leaf)
{
    return read_leaf(catalog, node, catalog->tree.node_bytes, leaf);
}

gboolean ek_hfs_catalog_follows(const EkHfsCatalog *catalog, guint64 node, guint64 before)
{
    EkHfsLeaf leaf;
    return ek_hfs_catalog_leaf(catalog, node, &leaf) && leaf.previous == before;
}

static gboolean precedes(const EkHfsCatalog *catalog, guint64 node, guint64 behind)
{
    EkHfsLeaf leaf;
    return ek_hfs_catalog_leaf(catalog, node, &leaf) && leaf.next == behind;
}

/* Does a leaf hang together with its neighbours, as far as they were read? */
static gboolean is_linked(const EkHfsCatalog *catalog, guint64 node)
{
    EkHfsLeaf leaf;
    EkHfsLeaf other;
    if (!ek_hfs_catalog_leaf(catalog, node, &leaf))
        return TRUE;
    return (leaf.previous == 0 || !ek_hfs_catalog_leaf(catalog, leaf.previous, &other) ||
            other.next == node) &&
           (leaf.next == 0 || !ek_hfs_catalog_leaf(catalog, leaf.next, &other) ||
            other.previous == node);
}

gboolean ek_hfs_catalog_is_used(const EkHfsCatalog *catalog, guint64 node)
{
    if (node / 8 < catalog->used->len)
        return ek_hfs_map_has(catalog->used, node);
    return !catalog->is_headless || is_linked(catalog, node);
}

/* --- opening -------------------------------------------------------------------------------- */

/* Where the header node was not read, or was written over, the size at which most leaves stand
 * tells that of a node. */
static gboolean guess_tree(EkHfsCatalog *catalog, gboolean by_backup)
{
    guint8 head[EK_STEP];
    EkKnown known;
    guint most = 0;
    gboolean is_read =
        ek_hfs_fork_read(&catalog->region, &catalog->fork, 0, head, sizeof head, &known) ||
        known.bad + known.unread == 0;
    if (is_read && !by_backup)
        return FALSE;
    for (guint32 size = EK_STEP; size <= EK_HFS_NODE_MOST; size *= 2) {
        guint64 nodes = catalog->fork.bytes / size;
        guint64 step = MAX(nodes / GUESS_NODES, 1);
        guint leaves = 0;
        EkHfsLeaf leaf;
        for (guint64 node = 1; node < nodes; node += step)
            leaves +=
                read_leaf(catalog, node, size, &leaf) && leaf.next != node && leaf.previous != node;
        /* Every leaf stands at a smaller size as well: the largest at which as many do is it. */
        if (leaves > 0 && leaves >= most) {
            most = leaves;
            catalog->tree = (EkHfsTree){
                .node_bytes = size,
                .nodes = (guint32)MIN(catalog->fork.bytes / size, G_MAXUINT32),
                .key_most = EK_HFS_CATALOG_KEY,
            };
        }
    }
    catalog->is_headless = most >= (is_read ? LEAVES_LEAST : 1);
    return catalog->is_headless;
}

static gboolean begins_at(EkHfsCatalog *catalog, EkByte start, gboolean by_backup)
{
    catalog->region.first_byte = start;
    return (ek_hfs_fork_tree(&catalog->region, &catalog->fork, &catalog->tree) &&
            catalog->tree.key_most == EK_HFS_CATALOG_KEY) ||
           guess_tree(catalog, by_backup);
}

/* Where its block 0 is: the volume may be in a wrapper, and be known by either of its headers. */
static gboolean find_start(EkHfsCatalog *catalog, const EkVolume *volume)
{
    guint32 size = catalog->region.block_bytes;
    EkByte blocks = (EkByte)catalog->region.blocks * size;
    EkByte end = volume->header_byte + EK_HFS_HEADER_OFFSET;
    if (begins_at(catalog, volume->first_byte, volume->by_backup) ||
        (volume->header_byte >= EK_HFS_HEADER_OFFSET &&
         begins_at(catalog, volume->header_byte - EK_HFS_HEADER_OFFSET, FALSE)))
        return TRUE;
    for (EkByte rest = 0; rest < size && rest < 16 * EK_STEP; rest += EK_STEP)
        if (end >= blocks + rest && begins_at(catalog, end - blocks - rest, FALSE))
            return TRUE;
    return FALSE;
}

/* What this volume itself has in use must not look as if it were older: somebody may have set all
 * dates, or an old copy of the header is all there is. */
static void trust_less(EkHfsCatalog *catalog)
{
    g_autofree guint8 *node = g_malloc(catalog->tree.node_bytes);
    EkSpan span = {node, catalog->tree.node_bytes};
    guint64 nodes = ek_hfs_catalog_nodes(catalog);
    for (guint64 at = 1; at < MIN(nodes, GUESS_NODES); at++) {
        EkKnown known;
        if (!ek_hfs_catalog_is_used(catalog, at) ||
            !ek_hfs_fork_read(&catalog->region, &catalog->fork, at * span.length, node, span.length,
                              &known))
            continue;
        for (guint i = 0; ek_span_u8(span, 8) == EK_HFS_KIND_LEAF && i < ek_span_be16(span, 10);
             i++) {
            EkHfsEntry entry;
            if (!ek_hfs_entry_read(ek_hfs_record_of(span, i), &entry) ||
                entry.number < FIRST_NUMBER)
                continue;
            EkTimestamp changed = ek_hfs_timestamp(entry.body, CHANGED);
            if (changed.is_set && changed.seconds < catalog->created - CLOCK)
                catalog->created = 0;
            if (entry.number >= catalog->next_number)
                catalog->next_number = 0;
        }
    }
}

gboolean ek_hfs_catalog_open(EkHfsCatalog *catalog, EkReader *reader, const EkVolume *volume)
{
    EkSpan span = ek_volume_header(volume);
    EkSpan fork = ek_span_part(span, EK_HFS_CATALOG_FORK, EK_HFS_FORK_RECORD);
    EkHfsHeader header;
    *catalog = (EkHfsCatalog){0};
    if (!ek_hfs_header_read(span, &header))
        return FALSE;
    /* Both have their catalogs in the same place: the newer one uses what it does not write. */
    EkReader *whole = volume->is_earlier ? ek_reader_whole(reader) : reader;
    catalog->region = (EkHfsArea){.reader = whole,
                                  .block_bytes = header.block_bytes,
                                  .blocks = header.blocks,
                                  .is_earlier = volume->is_earlier};
    catalog->next_number = ek_span_be32(span, 64);
    catalog->created = volume->created.is_set ? volume->created.seconds : 0;
    catalog->fork = ek_hfs_fork_of(&catalog->region, fork, EK_HFS_CATALOG_FILE, 0);
    if (!find_start(catalog, volume))
        return FALSE;
    ek_hfs_overflow_load(&catalog->region, span);
    ek_hfs_fork_clear(&catalog->fork);
    catalog->fork = ek_hfs_fork_of(&catalog->region, fork, EK_HFS_CATALOG_FILE, 0);
    catalog->used = catalog->is_headless
                        ? g_byte_array_new()
                        : ek_hfs_fork_map(&catalog->region, &catalog->fork, &catalog->tree);
    trust_less(catalog);
    return TRUE;
}

void ek_hfs_catalog_clear(EkHfsCatalog *catalog)
{
    ek_hfs_fork_clear(&catalog->fork);
    g_clear_pointer(&catalog->used, g_byte_array_unref);
    g_clear_pointer(&catalog->region.overflow, g_array_unref);
    ek_cluster_bitmap_clear(&catalog->older);
}

guint64 ek_hfs_catalog_nodes(const EkHfsCatalog *catalog)
{
    EkByte room = MIN(catalog->fork.bytes, ek_reader_bytes(catalog->region.reader));
    return MIN(catalog->tree.nodes, room / catalog->tree.node_bytes);
}

/* --- a leaf in parts ------------------------------------------------------------------------ */

/* A bit for each step that is lost. */
typedef struct {
    EkSpan node;
    guint64 lost;
} Torn;

static gboolean is_there(const Torn *torn, gsize at, gsize bytes)
{
    if (at + bytes > torn->node.length || bytes == 0)
        return FALSE;
    for (gsize step = at / EK_STEP; step <= (at + bytes - 1) / EK_STEP; step++)
        if ((torn->lost >> step & 1) != 0)
            return FALSE;
    return TRUE;
}

/* How long the record is that begins there, as it says itself; 0 when it is not all there. */
static gsize length_of_record(const Torn *torn, gsize at)
{
    EkSpan node = torn->node;
    gsize key = is_there(torn, at, 2) ? 2 + (gsize)ek_span_be16(node, at) : 0;
    gsize behind = at + key;
    if (key < 8 || !is_there(torn, at, key + 10))
        return 0;
    guint type = ek_span_be16(node, behind);
    gsize body = type == EK_HFS_RECORD_FOLDER ? EK_HFS_FOLDER_BYTES
                 : type == EK_HFS_RECORD_FILE ? EK_HFS_FILE_BYTES
                 : type == THREAD_OF_FOLDER || type == THREAD_OF_FILE
                     ? 10 + 2ul * ek_span_be16(node, behind + 8)
                     : 0;
    return body != 0 && is_there(torn, at, key + body) ? key + body : 0;
}

gboolean ek_hfs_catalog_torn(const EkHfsCatalog *catalog, guint64 at, guint8 *node,
                             EkHfsLeafSink sink, void *data)
{
    Torn torn = {{node, catalog->tree.node_bytes}, 0};
    EkKnown known;
    for (gsize step = 0; step < torn.node.length / EK_STEP; step++)
        if (!ek_hfs_fork_read(&catalog->region, &catalog->fork,
                              at * torn.node.length + step * EK_STEP, node + step * EK_STEP,
                              EK_STEP, &known))
            torn.lost |= (guint64)1 << step;
    /* Without its head it may be any node; what says where the others begin may be lost. */
    if (!is_there(&torn, 0, EK_STEP) || ek_span_u8(torn.node, 8) != EK_HFS_KIND_LEAF)
        return TRUE;
    gsize place = FIRST_RECORD;
    for (guint i = 0; i < ek_span_be16(torn.node, 10); i++) {
        gsize entry = 2 * ((gsize)i + 1);
        if (entry < torn.node.length && is_there(&torn, torn.node.length - entry, 2))
            place = ek_span_be16(torn.node, torn.node.length - entry);
        gsize length = place >= FIRST_RECORD ? length_of_record(&torn, place) : 0;
        if (length > 0 && !sink(data, torn.node, ek_span_part(torn.node, place, length)))
            return FALSE;
        place = length > 0 ? place + length : 0;
    }
    return TRUE;
}

/* --- an earlier catalog --------------------------------------------------------------------- */

guint ek_hfs_catalog_weigh_older(const EkHfsCatalog *catalog, EkSpan node)
{
    guint votes = 0;
    for (guint i = 0; ek_span_u8(node, 8) == EK_HFS_KIND_LEAF && i < ek_span_be16(node, 10); i++) {
        EkHfsEntry entry;
        if (!ek_hfs_entry_read(ek_hfs_record_of(node, i), &entry))
            continue;
        EkTimestamp changed = ek_hfs_timestamp(entry.body, CHANGED);
        gboolean is_dated = catalog->created != 0 && changed.is_set;
        gboolean is_before = is_dated && changed.seconds < catalog->created - CLOCK;
        gboolean is_beyond =
            catalog->next_number > FIRST_NUMBER && entry.number >= catalog->next_number;
        if (is_dated && !is_before && !is_beyond)
            return 0;
        votes += is_before || is_beyond ? 1 : 0;
    }
    return votes;
}

/* A free leaf that names one of the earlier catalog, and is named by it. */
static gboolean hangs_together(const EkHfsCatalog *catalog, guint64 node)
{
    EkHfsLeaf leaf;
    return ek_hfs_catalog_leaf(catalog, node, &leaf) &&
           ((ek_cluster_bitmap_has(&catalog->older, leaf.next) &&
             ek_hfs_catalog_follows(catalog, leaf.next, node)) ||
            (ek_cluster_bitmap_has(&catalog->older, leaf.previous) &&
             precedes(catalog, leaf.previous, node)));
}

/* Does a neighbour name it, by the number that it has here? Then the nodes are counted from the
 * same place: a leaf of some other volume is not. */
static gboolean is_numbered(const EkHfsCatalog *catalog, guint64 node)
{
    EkHfsLeaf leaf;
    return ek_hfs_catalog_leaf(catalog, node, &leaf) &&
           ((leaf.next != 0 && ek_hfs_catalog_follows(catalog, leaf.next, node)) ||
            (leaf.previous != 0 && precedes(catalog, leaf.previous, node)));
}

guint ek_hfs_catalog_find_older(EkHfsCatalog *catalog)
{
    guint64 nodes = ek_hfs_catalog_nodes(catalog);
    g_autofree guint8 *node = g_malloc(catalog->tree.node_bytes);
    EkSpan span = {node, catalog->tree.node_bytes};
    g_autoptr(GArray) undecided = g_array_new(FALSE, FALSE, sizeof(guint64));
    guint votes = 0;
    catalog->older = ek_cluster_bitmap_new(nodes);
    for (guint64 at = 1; at < nodes; at++) {
        EkKnown known;
        EkHfsLeaf leaf;
        if (ek_hfs_catalog_is_used(catalog, at) ||
            !ek_hfs_fork_read(&catalog->region, &catalog->fork, at * span.length, node, span.length,
                              &known) ||
            !ek_hfs_leaf_read(span, &leaf))
            continue;
        guint own = is_numbered(catalog, at) ? ek_hfs_catalog_weigh_older(catalog, span) : 0;
        votes += own;
        if (own > 0)
            ek_cluster_bitmap_add(&catalog->older, at);
        else if (undecided->len < UNDECIDED_MOST)
            g_array_append_val(undecided, at);
    }
    gboolean more = votes > 0;
    for (guint i = 0; i < SPREADS_MOST && more; i++) {
        more = FALSE;
        for (guint k = undecided->len; k > 0; k--) {
            guint64 at = g_array_index(undecided, guint64, k - 1);
            if (!hangs_together(catalog, at))
                continue;
            ek_cluster_bitmap_add(&catalog->older, at);
            g_array_remove_index_fast(undecided, k - 1);
            more = TRUE;
        }
    }
    return votes;
}

gboolean ek_hfs_catalog_was_used(const EkHfsCatalog *catalog, guint64 node)
{
    EkHfsLeaf leaf;
    EkHfsLeaf other;
    if (!ek_hfs_catalog_leaf(catalog, node, &leaf))
        return FALSE;
    return (!ek_cluster_bitmap_has(&catalog->older, leaf.previous) ||
            !ek_hfs_catalog_leaf(catalog, leaf.previous, &other) || other.next == node) &&
           (!ek_cluster_bitmap_has(&catalog->older, leaf.next) ||
            !ek_hfs_catalog_leaf(catalog, leaf.next, &other) || other.previous == node);
}
