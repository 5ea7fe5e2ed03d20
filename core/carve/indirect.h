/* SPDX-License-Identifier: MIT */
/* Files as ext2 and ext3 lay them: behind the first twelve blocks stands a block with the numbers
 * of those that follow, and further on blocks with the numbers of such blocks. Where one stands in
 * the middle of a file that is known by its content alone, it tells where the rest lies. */
#ifndef EK_CARVE_INDIRECT_H
#define EK_CARVE_INDIRECT_H

#include "image/reader.h"

/* Where a file lies that begins at `first`, by the block of numbers in its run and, when `is_deep`,
 * by those that name others (EkRange; the last one may reach beyond its end). NULL: no such block
 * stands there. The caller unrefs. */
GArray *ek_indirect_layout(EkReader *reader, EkByte first, gboolean is_deep);

#endif
