/* SPDX-License-Identifier: MIT */
/* Reading the inodes of an ext volume: offsets as in the Linux kernel's
 * Documentation/filesystems/ext4/inodes.rst and group_descr.rst. */
#ifndef EK_VOLUME_EXT_INODE_H
#define EK_VOLUME_EXT_INODE_H

#include "volume/ext/ext.h"

#define EK_EXT_ROOT 2u
#define EK_EXT_JOURNAL 8u

typedef struct {
    EkReader *reader;
    EkReader *groups;  /* that the table of groups is read with, which an earlier one has in
                                common with the newer one; NULL: the same */
    EkByte first_byte; /* of the volume */
    EkExtSuper super;
    gboolean has_types;   /* folder entries tell the type of what they name */
    gboolean has_unused;  /* descriptors tell which inodes were never written */
    guint32 first_inode;  /* that is not the format's own */
    guint32 blocks_a_bit; /* of the bitmaps */
    gboolean is_earlier;  /* only inodes that the newer volume here never wrote are its own */
    guint64 steps;        /* blocks of maps that may still be read: a hostile volume has no end */
} EkExtVolume;

/* Loads what the superblock says. FALSE when it is none. */
gboolean ek_ext_volume_open(EkExtVolume *volume, EkReader *reader, const EkVolume *of);

typedef struct {
    guint64 table;  /* block; 0: not known */
    guint64 bitmap; /* of blocks: where it stands; 0: it was never written */
    guint32 used;   /* inodes that were ever written */
} EkExtGroup;

EkExtGroup ek_ext_group(const EkExtVolume *volume, guint64 number);

/* Where a block of the volume begins; EK_UNPLACED when it has no such block. */
EkByte ek_ext_block_byte(const EkExtVolume *volume, guint64 block);

#define EK_EXT_INODE_LEAST 128u /* bytes of the oldest inodes */
#define EK_EXT_MAP 40u          /* where the map stands in an inode */
#define EK_EXT_MAP_BYTES 60u
#define EK_EXT_SUM_LOW 124u
#define EK_EXT_SUM_HIGH 130u

/* What an inode says. */
typedef struct {
    guint16 mode;
    guint16 links;
    guint64 size;
    guint32 flags;
    guint32 deleted; /* Unix time; 0: it is not */
    guint32 generation;
    guint64 sectors;    /* of 512 bytes that it takes, but for EK_EXT_HUGE */
    guint32 attributes; /* lower half of the block that holds more of them; 0: none */
    gsize held;         /* bytes of it that have a meaning */
    guint32 sum;        /* both halves */
    EkSpan map;         /* EK_EXT_MAP_BYTES: where its content lies, or the content */
    EkTimestamp created;
    EkTimestamp modified;
    EkTimestamp accessed;
} EkExtInode;

#define EK_EXT_TYPE 0xf000u
#define EK_EXT_FOLDER 0x4000u
#define EK_EXT_FILE 0x8000u
#define EK_EXT_LINK 0xa000u
#define EK_EXT_ENCRYPTED 0x800u /* flags */
#define EK_EXT_EXTENTS 0x80000u
#define EK_EXT_INLINE 0x10000000u
#define EK_EXT_ATTRIBUTES 0x200000u /* it holds an attribute of another inode */
#define EK_EXT_HUGE 0x40000u        /* its blocks are counted in blocks */

EkExtInode ek_ext_inode_read(EkSpan inode);

/* The block in which a folder begins, by its inode; 0: it is no folder that is there. */
guint64 ek_ext_folder_block(const EkExtInode *inode);

/* The seed of the volume's sums, which makes the sum in inode `number` right: where several agree
 * in it, their numbers are right, and nothing in them was changed. FALSE: it has no sum of 32
 * bits. */
gboolean ek_ext_inode_seed(EkSpan inode, guint32 number, guint32 *seed);

/* May this be an inode at all? One of noise is none. */
gboolean ek_ext_inode_is_possible(const EkExtVolume *volume, EkSpan inode);

/* Receives where content lies. Returns FALSE to stop. */
typedef gboolean (*EkExtSink)(void *data, const EkExtent *extent);

/* Hands on the extents of an inode that stands at byte `at` of the image; unread parts of its map
 * as EK_UNPLACED. FALSE when the sink stopped it. */
gboolean ek_ext_extents(EkExtVolume *volume, EkSpan span, const EkExtInode *inode, EkByte at,
                        EkExtSink sink, void *data);

#endif
