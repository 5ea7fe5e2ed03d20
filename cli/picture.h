/* SPDX-License-Identifier: MIT */
/* The profile of a drive as a picture, for a screen or a page. */
#ifndef EK_CLI_PICTURE_H
#define EK_CLI_PICTURE_H

#include "capture/scheduler.h"
#include "case/case.h"

typedef struct {
    const char *name; /* of the case */
    const EkCaseInfo *info;
    const EkReadMap *map;
    EkSectorRange part; /* what is drawn of it */
} EkPicture;

/* Write it to a file; one that is there is replaced. */
gboolean ek_picture_png(const EkPicture *picture, const char *path, GError **error);
gboolean ek_picture_svg(const EkPicture *picture, const char *path, GError **error);

#endif
