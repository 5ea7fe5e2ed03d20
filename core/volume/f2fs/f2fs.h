/* SPDX-License-Identifier: MIT */
/* What the pieces that read F2FS share. */
#ifndef EK_VOLUME_F2FS_F2FS_H
#define EK_VOLUME_F2FS_F2FS_H

#include "volume/volume.h"

#define EK_F2FS_BLOCK_BYTES 4096u

/* Is this block the first or the last one of a checkpoint? Its checksum decides. */
gboolean ek_f2fs_is_checkpoint(EkSpan block);

/* As EkFileSystem.record and .infer: volumes without a superblock, by their checkpoints. */
gboolean ek_f2fs_record_seen(EkSpan span, EkRecord *record);
gboolean ek_f2fs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                       void *data, GError **error);

/* As in EkFileSystem. */
guint ek_f2fs_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST]);
EkVolume *ek_f2fs_measure(EkReader *reader, const EkCandidate *candidate, GError **error);

#endif
