/* SPDX-License-Identifier: MIT */
/* The drive with its volumes as a picture, for a screen or a page. */
#ifndef EK_CLI_LAYOUTPICTURE_H
#define EK_CLI_LAYOUTPICTURE_H

#include "canvas.h"

#include "case/volumestore.h"
#include "image/readmap.h"

typedef struct {
    const char *name; /* of the case */
    const EkCaseInfo *info;
    const EkReadMap *map;
    const GPtrArray *volumes; /* EkCaseVolume*: those that are drawn */
    guint left_out;
} EkLayoutPicture;

/* How high it will be, in points. */
int ek_layout_picture_height(const EkLayoutPicture *picture);

/* Draws it (EkLayoutPicture). */
void ek_layout_picture_draw(cairo_t *cr, const void *data);

#endif
