/* SPDX-License-Identifier: MIT */
/* Is what is on a drive or in a file what the case read from its source? A few sectors tell. */
#ifndef EK_WORK_RECOGNISE_H
#define EK_WORK_RECOGNISE_H

#include "work/view.h"

typedef struct {
    guint asked; /* sectors that the case knows, that are not one value over and over, and that read
                  */
    guint equal; /* of them */
    guint silent; /* did not read */
} EkLikeness;

/* Compares at most 16 sectors of the image with those at `path`, where the source's first byte
 * would be at `first_byte`. Only sectors from `from` on in the image. Reads, and never writes; a
 * read that hangs is given up when *cancel is not 0 (NULL: never). What cannot be opened is not
 * asked. */
EkLikeness ek_recognise(const EkView *view, const char *path, gint64 first_byte, EkByte from,
                        const gint *cancel);

/* Most of what was asked is equal. */
gboolean ek_is_alike(const EkLikeness *likeness);

/* Enough was asked, and nothing is equal. */
gboolean ek_is_stranger(const EkLikeness *likeness);

#endif
