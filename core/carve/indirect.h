/* SPDX-License-Identifier: MIT */
/* Files as ext2 and ext3 lay them: a block with the numbers of those that follow the first twelve,
 * and further on blocks with the numbers of such blocks. Where those of a file that is known by its
 * content alone are found, they tell where the rest of it lies. */
#ifndef EK_CARVE_INDIRECT_H
#define EK_CARVE_INDIRECT_H

#include "carve/carving.h"
#include "carve/lists.h"

/* Where a file lies that goes on by this block of numbers, and when `is_deep`, by those that name
 * others (EkRange; the last one may reach beyond its end). `lists` finds them; NULL: each stands
 * right behind what comes before it. The caller unrefs. */
GArray *ek_indirect_layout(EkReader *reader, const EkLists *lists, EkBlocks blocks, EkByte first,
                           EkByte list, gboolean is_deep);

/* Does a block of numbers stand behind the first twelve blocks (of 1024 to 4096 bytes) of a file,
 * right before the first that it names? */
gboolean ek_indirect_in_run(EkReader *reader, EkByte first, EkByte block, EkBlocks *blocks);

/* Follows a file of this type as the block of numbers that stands in its run lays it; NULL: none
 * stands there, or it is none of that type. The caller frees. */
EkFound *ek_indirect_follow(EkContent *content, EkReader *reader, const EkCarveType *type,
                            EkByte first);

/* The same, as one of those lays it that were seen anywhere: what most of it is right with. */
EkFound *ek_indirect_follow_listed(EkContent *content, const EkCarve *carve,
                                   const EkCarveType *type, EkByte first);

#endif
