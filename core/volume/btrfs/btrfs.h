/* SPDX-License-Identifier: MIT */
/* What the pieces that read Btrfs share. */
#ifndef EK_VOLUME_BTRFS_BTRFS_H
#define EK_VOLUME_BTRFS_BTRFS_H

#include "volume/volume.h"

/* As EkFileSystem.record and .infer: volumes without any superblock, by nodes of their trees. */
gboolean ek_btrfs_record_seen(EkSpan span, EkRecord *record);
gboolean ek_btrfs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                        void *data, GError **error);

/* As in EkFileSystem. */
guint ek_btrfs_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST]);
EkVolume *ek_btrfs_measure(EkReader *reader, const EkCandidate *candidate, GError **error);
gboolean ek_btrfs_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                         GError **error);

#endif
