/* SPDX-License-Identifier: MIT */
/* The journal of an ext3 or ext4 volume as a row of blocks: as in the Linux kernel's
 * Documentation/filesystems/ext4/journal.rst. Its numbers are big-endian. */
#ifndef EK_VOLUME_EXT_LOG_H
#define EK_VOLUME_EXT_LOG_H

#include "image/moves.h"
#include "volume/ext/inode.h"

#define EK_EXT_LOG_MAGIC 0xc03b3998u
#define EK_EXT_LOG_DESCRIPTOR 1u
#define EK_EXT_LOG_COMMIT 2u
#define EK_EXT_LOG_REVOKE 5u
#define EK_EXT_LOG_HEADER_BYTES 12u

enum { /* incompatible features */
       EK_EXT_LOG_WIDE = 0x2,
       EK_EXT_LOG_ASYNC = 0x4,
       EK_EXT_LOG_SUMS_2 = 0x8,
       EK_EXT_LOG_SUMS_3 = 0x10,
       EK_EXT_LOG_FAST = 0x20
};

typedef struct {
    GArray *extents; /* EkExtent: where it lies */
    guint64 bytes;
    guint32 block_bytes;
    guint32 blocks;      /* as its superblock says; 0: that was not read, or is none */
    guint32 first;       /* block of the log */
    guint32 start;       /* block with the oldest transaction; 0: nothing is due */
    guint32 sequence;    /* of that */
    guint32 features;    /* EK_EXT_LOG_… */
    gboolean has_sum;    /* an older kind of sum over each transaction */
    guint32 fast_blocks; /* at the end, for fast commits */
    guint8 uuid[16];
} EkExtLog;

/* NULL when there is none, or its inode cannot be read. */
EkExtLog *ek_ext_log_open(EkExtVolume *volume);
void ek_ext_log_close(EkExtLog *log);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkExtLog, ek_ext_log_close)

/* Where one of its blocks stands; EK_UNPLACED: not known. */
EkByte ek_ext_log_place(const EkExtLog *log, guint64 block);

/* Reads one into `buffer`; FALSE when not all of it was read from the drive. */
gboolean ek_ext_log_read(const EkExtLog *log, EkReader *reader, guint64 block, guint8 *buffer);

/* One tag of a descriptor. */
typedef struct {
    guint64 block; /* of the volume, that the next block of the log is a copy of */
    guint32 sum;
    gboolean is_escaped; /* the copy begins with zeros where the block begins with the magic */
} EkExtTag;

/* Decodes the tags of a descriptor into `tags` (EkExtTag). */
void ek_ext_log_tags(const EkExtLog *log, EkSpan block, GArray *tags);

/* Appends the blocks of the volume that a block of the log revokes to `blocks` (guint64): what came
 * before of them is not put in place. None where its sum does not fit. */
void ek_ext_log_revokes(const EkExtLog *log, EkSpan block, GArray *blocks);

/* Have its blocks sums? Then descriptors and revokes end with one, commits have one in them. */
gboolean ek_ext_log_has_sums(const EkExtLog *log);

/* Does the sum at `at` of a block of the log fit, or are there none? */
gboolean ek_ext_log_sum_fits(const EkExtLog *log, EkSpan block, gsize at);

/* Is a block the copy that a tag of this transaction names, as far as there are sums? */
gboolean ek_ext_log_copy_fits(const EkExtLog *log, const EkExtTag *tag, guint32 sequence,
                              EkSpan block);

/* Does a descriptor in front of the block at byte `at` name it as a copy of `block` of the volume?
 * Then it lies in a journal, whatever it holds. */
gboolean ek_ext_log_names(EkReader *reader, EkByte at, guint32 block_bytes, guint64 block);

/* What was committed and is not yet where it belongs (replay.c). */
typedef struct {
    EkMoves *moves;      /* blocks of the volume whose newest copy stands in the journal */
    guint transactions;  /* that were committed */
    gboolean has_fast;   /* there are fast commits, which this version does not apply */
    gboolean is_damaged; /* some of the journal was not read, or its sums do not fit */
} EkExtReplay;

/* NULL when nothing is due. The caller frees. */
EkExtReplay *ek_ext_replay(EkExtVolume *volume);
void ek_ext_replay_free(EkExtReplay *replay);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkExtReplay, ek_ext_replay_free)

#endif
