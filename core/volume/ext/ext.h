/* SPDX-License-Identifier: MIT */
/* ext2, ext3 and ext4: what the parts that read them share. Only for this folder. */
#ifndef EK_VOLUME_EXT_EXT_H
#define EK_VOLUME_EXT_EXT_H

#include "volume/volume.h"

#define EK_EXT_SUPER_BYTES 1024u
#define EK_EXT_INCOMPAT_RECOVER 0x4u /* the journal must be played back */
#define EK_EXT_SUPER_OFFSET 1024u    /* of the primary one */

/* What a superblock says. */
typedef struct {
    const char *name; /* "ext2", "ext3", "ext4" */
    guint32 block_bytes;
    guint64 blocks;
    guint32 first_data_block;
    guint32 blocks_per_group;
    guint32 inodes_per_group;
    guint32 inode_bytes;
    guint32 inodes;
    guint32 descriptor_bytes;
    guint32 group;            /* in which this copy stands, as it says */
    guint64 groups;           /* at least 1 */
    guint32 first_meta_bg;    /* meta groups from here on keep their own descriptors */
    guint32 orphan_file;      /* inode; 0: none */
    guint32 seed;             /* of the checksums of all that it has */
    guint32 backup_groups[2]; /* with sparse_super2; 0: none */
    gboolean sparse;
    gboolean sparse2;
    gboolean meta_bg;
    gboolean has_checksum;
    gboolean checksum_fits;
} EkExtSuper;

/* Decodes a superblock of EK_EXT_SUPER_BYTES; FALSE when it is none, or contradicts itself. */
gboolean ek_ext_super_read(EkSpan span, EkExtSuper *super);
GPtrArray *ek_ext_super_explain(EkSpan span);

/* Makes the first EK_HEADER_BYTES of a superblock of such a geometry, which is all that it says. */
void ek_ext_super_compose(const EkExtSuper *super, guint8 *header);

#define EK_EXT_DESCRIPTOR_MOST 64u /* bytes of a group descriptor that are known */
#define EK_EXT_INODES_UNWRITTEN 1u /* flags of a group: its bitmap of inodes was never written */
#define EK_EXT_BLOCKS_UNWRITTEN 2u /* its bitmap of blocks */
#define EK_EXT_INODES_CLEARED 4u   /* its table of inodes is zeros where none was written */

/* What a group descriptor says. */
typedef struct {
    guint64 blocks_bitmap; /* block */
    guint64 inodes_bitmap;
    guint64 inode_table;
    guint32 free_blocks;
    guint32 free_inodes;
    guint32 unused_inodes; /* at the end of its table, that were never written */
    guint16 flags;
    guint16 sum;
} EkExtDescriptor;

/* Decodes one of the span's length: its upper halves where that is 64 bytes. */
EkExtDescriptor ek_ext_descriptor_read(EkSpan span);

/* Are its bitmaps and its table blocks of the volume, each another? */
gboolean ek_ext_descriptor_is_possible(const EkExtDescriptor *descriptor, const EkExtSuper *super);

/* Adds the geometry to a volume's terms. */
void ek_ext_properties(EkVolume *volume, const EkExtSuper *super);

/* The files (files.c). */
EkOpened *ek_ext_open(EkReader *reader, const EkVolume *volume, GError **error);
void ek_ext_close(EkOpened *opened);
guint64 ek_ext_root(EkOpened *opened);
gboolean ek_ext_walk(EkOpened *opened, guint64 from, const EkFileSink *sink);

/* Is its root folder gone? Then blocks of folders that a hunt saw give names to what is left. */
gboolean ek_ext_lacks(EkOpened *opened);
gboolean ek_ext_adopt(EkOpened *opened, const GArray *runs, GError **error);

/* Whether, and how far, its journal is due (files.c). */
char *ek_ext_unclean(EkReader *reader, const EkVolume *volume);

/* The distance between records of a run tells what was seen: none of these form any. */
enum {
    EK_EXT_SEEN_ROOT = 1,
    EK_EXT_SEEN_SMALL_INODES = 2,
    EK_EXT_SEEN_INODES = 3,
    EK_EXT_SEEN_FOLDER = 4, /* its first block; the number is that of its inode */
    EK_EXT_SEEN_INODE = 5   /* a step with the inode of a folder */
};

/* Secondary traces (infer.c). */
gboolean ek_ext_record_seen(EkSpan span, EkRecord *record);
gboolean ek_ext_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink, void *data,
                      GError **error);

/* Volumes that another one was made over (earlier.c). */
gboolean ek_ext_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                              void *data, GError **error);

/* Does a copy of the superblock, of `group` or the first, say what another says? The counts and
 * times in it may differ. */
gboolean ek_ext_super_agrees(EkSpan copy, EkSpan with, guint64 group);

/* What makes the primary superblock and the group descriptors right again (repair.c). */
gboolean ek_ext_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error);

/* Makes a superblock that of another group's copy, its checksum right. */
void ek_ext_super_set_group(guint8 *super, guint16 group);

/* The byte of the volume at which the copy of group `group` stands. */
EkByte ek_ext_super_place(const EkExtSuper *super, guint64 group);

/* The block behind the copy of the superblock that a group holds, where the descriptors begin. */
guint64 ek_ext_behind_super(const EkExtSuper *super, guint64 group);

/* The first groups, at most `most`, that hold a copy of the superblock, in order; returns how many.
 */
guint ek_ext_super_groups(const EkExtSuper *super, guint64 *groups, guint most);

/* Does a group hold a copy of the superblock? */
gboolean ek_ext_holds_copy(const EkExtSuper *super, guint64 group);

/* As in EkFileSystem. */
guint ek_ext_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST]);
EkVolume *ek_ext_measure(EkReader *reader, const EkCandidate *candidate, GError **error);
EkUsage ek_ext_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same);
EkByte ek_ext_backup(const EkVolume *volume);

#endif
