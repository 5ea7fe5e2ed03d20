/* SPDX-License-Identifier: MIT */
/* Disk images that were found by content are named by the volumes in them. */
#ifndef EK_WORK_DISKIMAGES_H
#define EK_WORK_DISKIMAGES_H

#include "case/contentstore.h"
#include "case/volumestore.h"

/* Gives each disk image of the catalogue the names of those of these volumes (EkCaseVolume) that
 * begin in it, in order of place: "ntfs Seeds, fat32 and 2 more". One without any keeps the words
 * that it has. */
gboolean ek_disk_images_name(EkContentStore *store, const GPtrArray *volumes, GError **error);

#endif
