/* SPDX-License-Identifier: MIT */
/* Is the log of an XFS volume clean? Only for this folder. */
#ifndef EK_VOLUME_XFS_LOG_H
#define EK_VOLUME_XFS_LOG_H

#include "image/reader.h"

/* Does the log in these bytes of the image hold more than the volume? Reads at most 256 MiB of it;
 * FALSE where that is not known. */
gboolean ek_xfs_log_is_due(EkReader *reader, EkByte first, EkByte bytes);

#endif
