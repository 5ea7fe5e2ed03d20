/* SPDX-License-Identifier: MIT */
/* The profile of a drive as a picture, for a screen or a page. */
#ifndef EK_CLI_PICTURE_H
#define EK_CLI_PICTURE_H

#include "canvas.h"

#include "capture/scheduler.h"
#include "case/case.h"

typedef struct {
    const char *name; /* of the case */
    const EkCaseInfo *info;
    const EkReadMap *map;
    EkSectorRange part; /* what is drawn of it */
} EkPicture;

#define EK_PICTURE_HEIGHT 660

/* Draws it (EkPicture). */
void ek_picture_draw(cairo_t *cr, const void *data);

#endif
