/* SPDX-License-Identifier: MIT */
/* Joining by what must come next: a page or a frame with a number of its own. */
#ifndef EK_CARVE_JOINNEXT_H
#define EK_CARVE_JOINNEXT_H

#include "carve/joining.h"

/* Looks in the free ground, behind the file and then before it, for the part that comes behind the
 * one that broke; the cut lies within that one, a few blocks before. `before` (EkRange) is how it
 * is laid; where FALSE is returned it is laid so again. */
gboolean ek_join_by_next(EkJoining *joining, const EkFollowed *broken, const GArray *before);

#endif
