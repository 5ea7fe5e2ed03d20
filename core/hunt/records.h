/* SPDX-License-Identifier: MIT */
/* All numbered records of one format in a part of the image: for a volume whose own table of them
 * is gone, where the traces are only some of them. */
#ifndef EK_HUNT_RECORDS_H
#define EK_HUNT_RECORDS_H

#include "volume/volume.h"

/* Looks at every step that was read of `range`. Returns EkRecordRun, in order of position; the
 * caller unrefs. NULL with EK_ERROR_CANCELLED when *cancel (atomic) is not 0. */
GArray *ek_hunt_records(EkReader *reader, const EkFileSystem *format, EkRange range,
                        const gint *cancel, GError **error);

#endif
