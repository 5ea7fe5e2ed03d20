/* SPDX-License-Identifier: MIT */
/* Where the inodes of an ext volume stand of which neither a superblock nor a table of groups is
 * left: runs of them, kept behind the superblock in the header that it is opened with. Only for
 * this folder. */
#ifndef EK_VOLUME_EXT_REMNANTS_H
#define EK_VOLUME_EXT_REMNANTS_H

#include "volume/ext/inode.h"

typedef struct {
    EkByte first_byte;
    guint32 first; /* inode */
    guint32 count;
    gboolean is_copy; /* they may be of a journal: what they say may be out of date */
} EkExtInodeRun;

#define EK_EXT_RUNS_MOST 4000u

/* A folder whose inode leads to its first block, which names that inode. */
typedef struct {
    EkByte zero; /* where inode 0 would stand, by this one; may be below 0: only whether they are
                    alike counts */
    EkByte place;
    guint32 inode;
} EkExtPair;

/* Does a volume that is there now use this place? */
gboolean ek_ext_is_of_newer(EkReader *reader, const EkSightings *sightings, EkByte at);

/* Where the volume's inodes stand (EkExtInodeRun, by number), by these pairs (EkExtPair, by `zero`;
 * inoderuns.c). The caller unrefs. */
GArray *ek_ext_find_runs(EkExtVolume *volume, const EkSightings *sightings, const GArray *pairs);

/* Keeps a superblock of EK_EXT_SUPER_BYTES with these runs (EkExtInodeRun, at most
 * EK_EXT_RUNS_MOST) in the volume. */
void ek_ext_runs_keep(EkVolume *volume, const guint8 *super, const GArray *runs);

/* The runs that are kept; NULL when the header has none. The caller unrefs. */
GArray *ek_ext_runs_of(const EkVolume *volume);

/* Volumes of which folders and inodes are left that agree on where blocks lie, as infer_earlier. */
void ek_ext_infer_remnants(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                           void *data);

#endif
