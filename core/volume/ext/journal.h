/* SPDX-License-Identifier: MIT */
/* Older copies of blocks in the journal of an ext3 or ext4 volume: as in the Linux kernel's
 * Documentation/filesystems/ext4/journal.rst. */
#ifndef EK_VOLUME_EXT_JOURNAL_H
#define EK_VOLUME_EXT_JOURNAL_H

#include "volume/ext/log.h"

/* A copy of a block of the volume. */
typedef struct {
    guint32 sequence; /* of its transaction: the later one is newer */
    guint32 place;    /* block of the journal */
    EkExtTag tag;     /* with the block it is a copy of */
} EkExtCopy;

/* A transaction that was committed. */
typedef struct {
    guint32 sequence;
    gint64 seconds; /* Unix time */
    guint32 nanoseconds;
    guint copies;         /* that are left of it */
    gboolean is_complete; /* nothing of it was written over: what comes before it is there too */
} EkExtCommit;

/* From some transaction on a block is not put in place from what came before. */
typedef struct {
    guint64 block;
    guint32 sequence;
} EkExtRevoke;

/* What a journal holds, whether it is due or long in place. */
typedef struct {
    EkExtLog *log;
    GArray *copies;  /* EkExtCopy: by block, the newest first */
    GArray *commits; /* EkExtCommit: in order */
    GArray *revokes; /* EkExtRevoke: by block, the newest first */
} EkExtJournal;

/* How far one transaction is behind another: their numbers go round. */
static inline gint32 ek_ext_sequence_apart(guint32 sequence, guint32 from)
{
    return (gint32)(sequence - from);
}

/* Loads what the journal holds. NULL when there is none, or it cannot be read. */
EkExtJournal *ek_ext_journal_open(EkExtVolume *volume);
void ek_ext_journal_close(EkExtJournal *journal);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkExtJournal, ek_ext_journal_close)

/* NULL: it was not committed, or not all of it is left. */
const EkExtCommit *ek_ext_journal_commit(const EkExtJournal *journal, guint32 sequence);

/* The index of the first copy of a block; that of what comes behind it when there is none. */
guint ek_ext_journal_copy(const EkExtJournal *journal, guint64 block);

/* The newest copy in which the deleted inode `span`, at byte `at` of the image, was not deleted
 * yet. *copy_at: where that stands. NULL: none. The caller frees. */
guint8 *ek_ext_journal_find(const EkExtJournal *journal, const EkExtVolume *volume, EkSpan span,
                            EkByte at, EkByte *copy_at);

/* The newest copy of the primary superblock that was written in one piece with its sum. FALSE:
 * there is none. */
gboolean ek_ext_journal_super(const EkExtJournal *journal, const EkExtVolume *volume,
                              guint8 super[EK_EXT_SUPER_BYTES]);

/* Was the volume in use when it was last written to, so that its journal must be played back? */
gboolean ek_ext_journal_is_due(EkExtVolume *volume);

#endif
