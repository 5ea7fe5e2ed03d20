/* SPDX-License-Identifier: MIT */
/* A picture that another file carries: the cover of a recording. */
#ifndef EK_CARVE_COVER_H
#define EK_CARVE_COVER_H

#include "carve/content.h"

/* Is what lies in [first, end) one whole picture, of which every part was checked: a JPEG that
 * decodes, a PNG with its checksums? Anything else is FALSE. */
gboolean ek_cover_is_right(EkContent *content, EkByte first, EkByte end);

#endif
