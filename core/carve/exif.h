/* SPDX-License-Identifier: MIT */
/* What a picture says of itself (Exif 2.3, TIFF 6.0): camera and date. */
#ifndef EK_CARVE_EXIF_H
#define EK_CARVE_EXIF_H

#include "carve/followed.h"

/* Takes date and camera from a TIFF structure that begins at the first byte of `tiff`, as far as
 * they lie within it. */
void ek_exif_take(EkFollowed *followed, EkSpan tiff);

#endif
