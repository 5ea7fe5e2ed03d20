/* SPDX-License-Identifier: MIT */
/* Forks of HFS+ files and the nodes of its trees, as in Technical Note TN1150: where they lie, and
 * what of them was read. */
#ifndef EK_VOLUME_HFSPLUS_FORK_H
#define EK_VOLUME_HFSPLUS_FORK_H

#include "volume/hfsplus/hfsplus.h"

#define EK_HFS_FORK_RECORD 80u /* bytes that a record has of a fork */
#define EK_HFS_RESOURCE 0xffu  /* which fork: 0 is the data */
#define EK_HFS_KIND_LEAF 0xffu

typedef struct {
    guint64 at; /* blocks from the beginning of the fork */
    guint32 first;
    guint32 count;
} EkHfsExtent;

typedef struct {
    EkByte bytes;
    guint64 blocks;
    GArray *extents; /* EkHfsExtent */
} EkHfsFork;

/* A volume as its forks need it. */
typedef struct {
    EkReader *reader;
    EkByte first_byte;
    guint32 block_bytes;
    guint32 blocks;
    GArray *overflow;    /* what the tree of extents has of forks; NULL: not loaded */
    gboolean is_earlier; /* what is in use in its trees is another volume's */
} EkHfsArea;

/* `span` is what a record, or the volume header, has of a fork of this file. The caller clears it.
 */
EkHfsFork ek_hfs_fork_of(const EkHfsArea *region, EkSpan span, guint32 file, guint32 which);
void ek_hfs_fork_clear(EkHfsFork *fork);

/* Where a extent begins; EK_UNPLACED when it is not inside the volume. */
EkByte ek_hfs_extent_byte(const EkHfsArea *region, const EkHfsExtent *extent);

/* Where the byte at `offset` of a fork lies; *together says how many bytes from there lie one
 * behind the other. EK_UNPLACED where that is not known. */
EkByte ek_hfs_fork_place(const EkHfsArea *region, const EkHfsFork *fork, EkByte offset,
                         EkByte *together);

/* FALSE when it is not all there, or was not all read. */
gboolean ek_hfs_fork_read(const EkHfsArea *region, const EkHfsFork *fork, EkByte offset,
                          guint8 *buffer, gsize length, EkKnown *known);

/* A record of a node; empty when it has none such. */
EkSpan ek_hfs_record_of(EkSpan node, guint index);

/* What the header node of the tree in a fork says. */
gboolean ek_hfs_fork_tree(const EkHfsArea *region, const EkHfsFork *fork, EkHfsTree *tree);

/* Which nodes of a tree are in use: a bit each, the highest first. The header node says so of the
 * first ones, further nodes of the rest, as far as they were read. The caller unrefs. */
GByteArray *ek_hfs_fork_map(const EkHfsArea *region, const EkHfsFork *fork, const EkHfsTree *tree);

static inline gboolean ek_hfs_map_has(const GByteArray *map, guint64 node)
{
    return node / 8 < map->len && (map->data[node / 8] >> (7 - node % 8) & 1) != 0;
}

/* Receives a record of a leaf, with its place in the fork. Returns FALSE to stop. */
typedef gboolean (*EkHfsRecordSink)(void *data, EkSpan record, EkByte at);

/* Hands on all records of the leaves in a tree that were read. */
void ek_hfs_fork_records(const EkHfsArea *region, const EkHfsFork *fork, EkHfsRecordSink sink,
                         void *data);

/* Loads the tree of extents of a volume header into `region`: it is small on any volume that is not
 * one heap of fragments. What stands in nodes that are in use comes before the rest. The caller
 * unrefs region->overflow. */
void ek_hfs_overflow_load(EkHfsArea *region, EkSpan header);

#endif
