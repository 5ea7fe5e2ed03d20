/* SPDX-License-Identifier: MIT */
/* Opening a case for a drive. */
#ifndef EK_WORK_OPENING_H
#define EK_WORK_OPENING_H

#include "case/case.h"
#include "device/health.h"
#include "device/system.h"

typedef struct {
    const char *folder;
    const char *source;
    const char *image;   /* NULL: image.raw in the folder */
    guint32 sector_size; /* files only; 0 for 512 */
    gboolean allow_partition;
    gboolean allow_short_space;
    const gint *cancel; /* atomic; NULL */
    EkHealth *health;   /* initialised with what the drive says, when the case is made; NULL */
    gboolean is_drive;  /* set where the source is one that can be asked */
    gboolean *told;     /* set when the kernel was made to refuse writes to the source; NULL */
} EkOpening;

/* A finished image that was made elsewhere becomes a case, where it lies. */
typedef struct {
    const char *folder;
    const char *image;
    guint32 sector_size; /* 0 for 512 */
    gboolean has_list;   /* else nothing is known of which sectors were read */
    const EkRange *list; /* bytes */
    gsize count;
    gboolean means_good; /* the list names what was read, not what was not */
} EkAdoption;

/* Makes a case for it; the image is not written to. The caller closes the case. */
EkCase *ek_opening_adopt(EkSystem *system, const EkAdoption *adoption, GError **error);

/* Checks everything that must hold, makes the case and its image. The caller closes the case.
 * Nothing is left behind when it fails. */
EkCase *ek_opening_make(EkSystem *system, EkOpening *opening, GError **error);

#endif
