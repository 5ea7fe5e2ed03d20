/* SPDX-License-Identifier: MIT */
/* The descriptors of all file systems and containers: ek_fs_ntfs and so on, as list.h names them.
 */
#ifndef EK_VOLUME_FORMATS_H
#define EK_VOLUME_FORMATS_H

#include "volume/volume.h"

#define EK_FORMAT(name) extern const EkFileSystem ek_fs_##name;
#include "volume/list.h"
#undef EK_FORMAT

#endif
