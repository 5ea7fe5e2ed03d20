/* SPDX-License-Identifier: MIT */
/* Older copies of blocks in the journal of an ext3 or ext4 volume: as in the Linux kernel's
 * Documentation/filesystems/ext4/journal.rst. */
#ifndef EK_VOLUME_EXT_JOURNAL_H
#define EK_VOLUME_EXT_JOURNAL_H

#include "volume/ext/inode.h"

typedef struct EkExtJournal EkExtJournal;

/* Loads which blocks the journal holds copies of. NULL when there is none, or it cannot be read. */
EkExtJournal *ek_ext_journal_open(EkExtVolume *volume);
void ek_ext_journal_close(EkExtJournal *journal);

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
