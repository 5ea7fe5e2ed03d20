/* SPDX-License-Identifier: MIT */
/* Opening a case for a drive. */
#ifndef EK_WORK_OPENING_H
#define EK_WORK_OPENING_H

#include "case/case.h"
#include "device/system.h"

typedef struct {
    const char *folder;
    const char *source;
    const char *image;   /* NULL: image.raw in the folder */
    guint32 sector_size; /* files only; 0 for 512 */
    gboolean allow_partition;
    gboolean allow_short_space;
} EkOpening;

/* Checks everything that must hold, makes the case and its image. The caller closes the case.
 * Nothing is left behind when it fails. */
EkCase *ek_opening_make(EkSystem *system, const EkOpening *opening, GError **error);

#endif
