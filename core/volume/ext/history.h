/* SPDX-License-Identifier: MIT */
/* An ext3 or ext4 volume as it was when a transaction of its journal was committed: its structures
 * are read with the copies that the journal kept from up to then. Content is kept by no journal,
 * but for what it was told to keep: that of files which were deleted or changed since is judged by
 * all copies of the bitmaps since then. */
#ifndef EK_VOLUME_EXT_HISTORY_H
#define EK_VOLUME_EXT_HISTORY_H

#include "volume/ext/journal.h"

typedef struct EkExtPast EkExtPast;

/* Finds the transaction that `of->as_of` means. NULL with *error when the journal does not lead
 * back to it. The volume and its reader must live as long. */
EkExtPast *ek_ext_past_open(EkExtVolume *volume, const EkVolume *of, GError **error);
void ek_ext_past_close(EkExtPast *past);

/* The copies with which the structures are read; belongs to the past. */
const EkExtReplay *ek_ext_past_replay(const EkExtPast *past);

/* Was the block of the volume that holds byte `at` of the image written later, and no copy is left
 * of what it was? Then what is read there is newer. */
gboolean ek_ext_past_lacks(const EkExtPast *past, const EkExtVolume *volume, EkByte at);

typedef enum {
    EK_EXT_PAST_ABSENT,  /* it was not there yet, or nothing tells what it was */
    EK_EXT_PAST_SAME,    /* the file is now what it was */
    EK_EXT_PAST_CHANGED, /* it is not: its blocks may have been used again */
    EK_EXT_PAST_UNSURE   /* it may have been written to since, or not all of the journal was read */
} EkExtPastState;

/* Compares the inode `span`, as it was, with what stands at byte `at` of the image now. `volume` is
 * the volume as it was. */
EkExtPastState ek_ext_past_state(EkExtPast *past, EkExtVolume *volume, EkSpan span,
                                 const EkExtInode *inode, EkByte at);

/* Hands on an extent of a file that changed; what was used for something else since without a
 * place. FALSE when the sink stopped it. */
gboolean ek_ext_past_pass(EkExtPast *past, const EkExtVolume *volume, const EkExtent *extent,
                          EkExtSink sink, void *data);

/* As EkFileSystem.moments. */
GArray *ek_ext_moments(EkReader *reader, const EkVolume *volume);

#endif
