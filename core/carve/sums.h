/* SPDX-License-Identifier: MIT */
/* Where a part of known sum goes on: found by arithmetic, not by trying. */
#ifndef EK_CARVE_SUMS_H
#define EK_CARVE_SUMS_H

#include "carve/type.h"

/* `content` breaks in `part`, which has a sum. Looks for a block of `ground` (blocks of `grid`
 * bytes that may go on there, one behind the other as they lie) and an offset of the file, a
 * multiple of `grid` in the part, so that what is before it and the blocks from that one on come to
 * the sum. Reads each of `blocks` blocks once. FALSE where there is none. */
gboolean ek_sums_find(EkContent *content, EkContent *ground, const EkBroken *part, gsize grid,
                      guint blocks, EkByte *offset, EkByte *in_ground);

#endif
