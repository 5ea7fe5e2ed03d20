/* SPDX-License-Identifier: MIT */
/* What the parts of HFS+ share: the volume header and the B-trees, as in Technical Note TN1150. */
#ifndef EK_VOLUME_HFSPLUS_H
#define EK_VOLUME_HFSPLUS_H

#include "volume/volume.h"

#define EK_HFS_HEADER_OFFSET 1024u /* from the beginning, and from the end */
#define EK_HFS_NODE_MOST 32768u
#define EK_HFS_BLOCK_MOST (1u << 20)
#define EK_HFS_ROOT_PARENT 1u
#define EK_HFS_ROOT_FOLDER 2u

#define EK_HFS_CATALOG_FILE 4u /* numbers of the volume's own files */
#define EK_HFS_BITMAP_FILE 6u

/* The longest key of a tree tells which one it is. */
#define EK_HFS_CATALOG_KEY 516u
#define EK_HFS_EXTENTS_KEY 10u

/* The forks of a volume header, and what stands in each. */
#define EK_HFS_BITMAP_FORK 112u
#define EK_HFS_EXTENTS_FORK 192u
#define EK_HFS_CATALOG_FORK 272u
#define EK_HFS_ATTRIBUTES_FORK 352u
#define EK_HFS_FORK_EXTENTS 16u

typedef struct {
    guint32 block_bytes;
    guint32 blocks;
    guint32 free_blocks;
    guint32 files;
    guint32 folders;
    guint32 bitmap_block; /* each is that of its first extent */
    guint32 extents_block;
    guint32 catalog_block;
    guint32 catalog_blocks; /* of its first extent */
} EkHfsHeader;

/* FALSE when `span` is no volume header, or one that cannot be. */
gboolean ek_hfs_header_read(EkSpan span, EkHfsHeader *header);

/* A date, in seconds since 1904 UTC. */
EkTimestamp ek_hfs_timestamp(EkSpan span, gsize at);

/* What the header node of a B-tree says. */
typedef struct {
    guint32 node_bytes;
    guint32 nodes;
    guint32 first_leaf;
    guint32 key_most;      /* bytes */
    gboolean is_sensitive; /* its keys tell upper from lower case */
} EkHfsTree;

/* FALSE when `span` (512 bytes or more) begins with no header node. */
gboolean ek_hfs_tree_read(EkSpan span, EkHfsTree *tree);

/* A leaf of the catalog: how it hangs together with its neighbours, and its first key. */
typedef struct {
    guint32 next; /* numbers of nodes; 0: none */
    guint32 previous;
    guint records;
    guint32 parent;
} EkHfsLeaf;

/* FALSE when `span` (512 bytes or more) begins with no leaf of a catalog. */
gboolean ek_hfs_leaf_read(EkSpan span, EkHfsLeaf *leaf);

/* Takes dates, numbers and names of a header into the terms of its volume. */
void ek_hfs_take_header(EkVolume *volume, const EkHfsHeader *header);

/* Takes the volume's name, which its root folder has, from the catalog's first leaf. */
void ek_hfs_take_label(EkReader *reader, EkVolume *volume, EkByte leaf);

/* The files (files.c). */
EkOpened *ek_hfs_open(EkReader *reader, const EkVolume *volume, GError **error);
void ek_hfs_close(EkOpened *opened);
guint64 ek_hfs_root(EkOpened *opened);
gboolean ek_hfs_walk(EkOpened *opened, guint64 from, const EkFileSink *sink);
gboolean ek_hfs_decode(EkOpened *opened, const EkFile *file, EkContentSink sink, void *data);

/* Does it use the first byte of `range`? (use.c) As EkFileSystem.use. */
EkUsage ek_hfs_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same);

/* Secondary traces (infer.c). */
gboolean ek_hfs_record_seen(EkSpan span, EkRecord *record);
gboolean ek_hfs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink, void *data,
                      GError **error);
/* What another one was made over (earlier.c). */
gboolean ek_hfs_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                              void *data, GError **error);

/* What makes the volume header and its copy right again, and what its fields mean (repair.c). */
gboolean ek_hfs_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error);
GPtrArray *ek_hfs_header_explain(EkSpan span);

/* As in EkFileSystem. */
guint ek_hfs_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST]);
EkVolume *ek_hfs_measure(EkReader *reader, const EkCandidate *candidate, GError **error);
char *ek_hfs_unclean(EkReader *reader, const EkVolume *volume);

#endif
