/* SPDX-License-Identifier: MIT */
/* Forks of HFS+ files and the nodes of its trees, as in Technical Note TN1150. */
#include "volume/hfsplus/fork.h"

#define EXTENTS_A_RECORD 8u
#define OVERFLOW_MOST (1u << 19) /* records of the tree of extents that are kept */
#define EXTENTS_FILE 3u
#define MAP_RECORD 248u /* of a header node */
#define HEADER_MAP_ENDS 8u
#define MAP_NODE_RECORD 14u
#define MAPS_MOST 65536u

/* Further extents of a fork. */
typedef struct {
    guint32 file;
    guint32 fork; /* 0 or EK_HFS_RESOURCE */
    guint32 start;
    gboolean is_free; /* its node is not in use */
    guint32 extents[EXTENTS_A_RECORD * 2];
} Overflow;

static void add_extents(EkHfsFork *fork, EkSpan extents)
{
    for (guint i = 0; i < EXTENTS_A_RECORD; i++) {
        const EkHfsExtent *last =
            fork->extents->len > 0
                ? &g_array_index(fork->extents, EkHfsExtent, fork->extents->len - 1)
                : NULL;
        EkHfsExtent extent = {last != NULL ? last->at + last->count : 0,
                              ek_span_be32(extents, i * 8ul), ek_span_be32(extents, i * 8ul + 4)};
        if (extent.count == 0)
            return;
        g_array_append_val(fork->extents, extent);
    }
}

static guint64 covered_by(const EkHfsFork *fork)
{
    const EkHfsExtent *last =
        fork->extents->len > 0 ? &g_array_index(fork->extents, EkHfsExtent, fork->extents->len - 1)
                               : NULL;
    return last != NULL ? last->at + last->count : 0;
}

static gint by_key(gconstpointer a, gconstpointer b)
{
    const Overflow *left = a;
    const Overflow *right = b;
    if (left->file != right->file)
        return left->file < right->file ? -1 : 1;
    if (left->fork != right->fork)
        return left->fork < right->fork ? -1 : 1;
    if (left->start != right->start)
        return left->start < right->start ? -1 : 1;
    return left->is_free - right->is_free;
}

/* What the tree of extents has of a fork from a block on. NULL: nothing. */
static const Overflow *find_overflow(const GArray *overflow, Overflow wanted)
{
    guint low = 0;
    guint high = overflow->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        if (by_key(&g_array_index(overflow, Overflow, middle), &wanted) < 0)
            low = middle + 1;
        else
            high = middle;
    }
    const Overflow *found = low < overflow->len ? &g_array_index(overflow, Overflow, low) : NULL;
    return found != NULL && found->file == wanted.file && found->fork == wanted.fork &&
                   found->start == wanted.start
               ? found
               : NULL;
}

EkHfsFork ek_hfs_fork_of(const EkHfsArea *region, EkSpan span, guint32 file, guint32 which)
{
    EkHfsFork fork = {.bytes = ek_span_be64(span, 0),
                      .blocks = ek_span_be32(span, 12),
                      .extents = g_array_new(FALSE, FALSE, sizeof(EkHfsExtent))};
    if (fork.bytes > G_MAXINT64)
        fork.bytes = 0;
    add_extents(&fork, ek_span_part(span, EK_HFS_FORK_EXTENTS, EXTENTS_A_RECORD * 8));
    for (guint64 covered = covered_by(&fork); covered < fork.blocks;) {
        guint8 extents[EXTENTS_A_RECORD * 8];
        Overflow wanted = {.file = file, .fork = which, .start = (guint32)covered};
        const Overflow *found =
            region->overflow != NULL ? find_overflow(region->overflow, wanted) : NULL;
        if (found == NULL)
            break;
        for (guint i = 0; i < EXTENTS_A_RECORD * 2; i++)
            ek_put_be32(extents + i * 4ul, found->extents[i]);
        add_extents(&fork, (EkSpan){extents, sizeof extents});
        if (covered_by(&fork) <= covered)
            break;
        covered = covered_by(&fork);
    }
    return fork;
}

void ek_hfs_fork_clear(EkHfsFork *fork)
{
    g_clear_pointer(&fork->extents, g_array_unref);
}

EkByte ek_hfs_extent_byte(const EkHfsArea *region, const EkHfsExtent *extent)
{
    return extent->first < region->blocks && extent->count <= region->blocks - extent->first
               ? region->first_byte + (EkByte)extent->first * region->block_bytes
               : EK_UNPLACED;
}

/* The extent that holds a block of a fork; NULL when none does. */
static const EkHfsExtent *extent_at(const EkHfsFork *fork, guint64 block)
{
    guint low = 0;
    guint high = fork->extents->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        const EkHfsExtent *extent = &g_array_index(fork->extents, EkHfsExtent, middle);
        if (block < extent->at)
            high = middle;
        else if (block - extent->at >= extent->count)
            low = middle + 1;
        else
            return extent;
    }
    return NULL;
}

EkByte ek_hfs_fork_place(const EkHfsArea *region, const EkHfsFork *fork, EkByte offset,
                         EkByte *together)
{
    guint32 size = region->block_bytes;
    const EkHfsExtent *extent = extent_at(fork, offset / size);
    EkByte place = extent != NULL ? ek_hfs_extent_byte(region, extent) : EK_UNPLACED;
    *together = 0;
    if (place == EK_UNPLACED)
        return place;
    EkByte into = offset - extent->at * size;
    *together = (EkByte)extent->count * size - into;
    return place + into;
}

gboolean ek_hfs_fork_read(const EkHfsArea *region, const EkHfsFork *fork, EkByte offset,
                          guint8 *buffer, gsize length, EkKnown *known)
{
    *known = (EkKnown){0};
    for (gsize done = 0; done < length;) {
        EkByte together = 0;
        EkByte place = ek_hfs_fork_place(region, fork, offset + done, &together);
        gsize part = (gsize)MIN(length - done, together);
        EkKnown own;
        if (place == EK_UNPLACED ||
            !ek_reader_read(region->reader, place, buffer + done, part, &own, NULL))
            return FALSE;
        known->good += own.good;
        known->bad += own.bad;
        known->unread += own.unread;
        done += part;
    }
    return known->good == length;
}

/* --- nodes ---------------------------------------------------------------------------------- */

EkSpan ek_hfs_record_of(EkSpan node, guint index)
{
    gsize last = node.length - 2ul * (index + 1);
    guint16 begin = ek_span_be16(node, last);
    guint16 end = ek_span_be16(node, last - 2);
    if (index >= ek_span_be16(node, 10) || 2ul * (index + 2) > node.length || begin < 14 ||
        end <= begin || end > last)
        return (EkSpan){node.data, 0};
    return ek_span_part(node, begin, end - (gsize)begin);
}

gboolean ek_hfs_fork_tree(const EkHfsArea *region, const EkHfsFork *fork, EkHfsTree *tree)
{
    guint8 head[EK_STEP];
    EkKnown known;
    return ek_hfs_fork_read(region, fork, 0, head, sizeof head, &known) &&
           ek_hfs_tree_read((EkSpan){head, sizeof head}, tree);
}

GByteArray *ek_hfs_fork_map(const EkHfsArea *region, const EkHfsFork *fork, const EkHfsTree *tree)
{
    guint32 size = tree->node_bytes;
    g_autofree guint8 *node = g_malloc(size);
    GByteArray *map = g_byte_array_new();
    guint32 number = 0;
    gsize begin = MAP_RECORD;
    for (guint count = 0; count < MAPS_MOST; count++) {
        EkKnown known;
        if (!ek_hfs_fork_read(region, fork, (guint64)number * size, node, size, &known))
            break;
        g_byte_array_append(map, node + begin, (guint)(size - begin - HEADER_MAP_ENDS));
        number = ek_span_be32((EkSpan){node, size}, 0);
        begin = MAP_NODE_RECORD;
        if (number == 0)
            break;
    }
    return map;
}

void ek_hfs_fork_records(const EkHfsArea *region, const EkHfsFork *fork, EkHfsRecordSink sink,
                         void *data)
{
    EkHfsTree tree;
    if (!ek_hfs_fork_tree(region, fork, &tree))
        return;
    g_autofree guint8 *node = g_malloc(tree.node_bytes);
    EkSpan span = {node, tree.node_bytes};
    guint64 nodes =
        MIN(tree.nodes, MIN(fork->bytes, ek_reader_bytes(region->reader)) / span.length);
    for (guint64 at = 1; at < nodes; at++) {
        EkKnown known;
        if (!ek_hfs_fork_read(region, fork, at * span.length, node, span.length, &known) ||
            ek_span_u8(span, 8) != EK_HFS_KIND_LEAF)
            continue;
        for (guint i = 0; i < ek_span_be16(span, 10); i++) {
            EkSpan record = ek_hfs_record_of(span, i);
            if (record.length > 0 &&
                !sink(data, record, at * span.length + (EkByte)(record.data - node)))
                return;
        }
    }
}

/* --- further extents ------------------------------------------------------------------------ */

typedef struct {
    const EkHfsArea *region;
    EkHfsTree tree;
    GByteArray *map;
    GArray *overflow;
} Loading;

static gboolean take_overflow(void *data, EkSpan record, EkByte at)
{
    Loading *loading = data;
    Overflow one = {.fork = ek_span_u8(record, 2),
                    .file = ek_span_be32(record, 4),
                    .start = ek_span_be32(record, 8)};
    one.is_free = !ek_hfs_map_has(loading->map, at / loading->tree.node_bytes);
    if (ek_span_be16(record, 0) != EK_HFS_EXTENTS_KEY || record.length < 12 + sizeof one.extents ||
        (loading->region->is_earlier && !one.is_free))
        return TRUE;
    for (guint i = 0; i < EXTENTS_A_RECORD * 2; i++)
        one.extents[i] = ek_span_be32(record, 12 + i * 4ul);
    g_array_append_val(loading->overflow, one);
    return loading->overflow->len < OVERFLOW_MOST;
}

void ek_hfs_overflow_load(EkHfsArea *region, EkSpan header)
{
    EkHfsFork fork = ek_hfs_fork_of(
        region, ek_span_part(header, EK_HFS_EXTENTS_FORK, EK_HFS_FORK_RECORD), EXTENTS_FILE, 0);
    Loading loading = {.region = region, .overflow = g_array_new(FALSE, FALSE, sizeof(Overflow))};
    if (ek_hfs_fork_tree(region, &fork, &loading.tree)) {
        loading.map = ek_hfs_fork_map(region, &fork, &loading.tree);
        ek_hfs_fork_records(region, &fork, take_overflow, &loading);
        g_byte_array_unref(loading.map);
    }
    g_array_sort(loading.overflow, by_key);
    ek_hfs_fork_clear(&fork);
    region->overflow = loading.overflow;
}
