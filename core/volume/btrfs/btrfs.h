/* SPDX-License-Identifier: MIT */
/* What the pieces that read Btrfs share. */
#ifndef EK_VOLUME_BTRFS_BTRFS_H
#define EK_VOLUME_BTRFS_BTRFS_H

#include "volume/volume.h"

/* As EkFileSystem.record and .infer: volumes without any superblock, by nodes of their trees. */
gboolean ek_btrfs_record_seen(EkSpan span, EkRecord *record);
gboolean ek_btrfs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                        void *data, GError **error);

#endif
