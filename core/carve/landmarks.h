/* SPDX-License-Identifier: MIT */
/* Joining by what must stand at a byte of the file: where it stands, that part of the file lies. */
#ifndef EK_CARVE_LANDMARKS_H
#define EK_CARVE_LANDMARKS_H

#include "carve/joining.h"

/* Looks for the landmark of a file that broke in the free ground, behind the file and then before
 * it, and lays the part around it there; where it was cut is told by the ground, and by following
 * it. `before` (EkRange) is how it is laid; where FALSE is returned it is laid so again. */
gboolean ek_join_by_landmark(EkJoining *joining, const EkFollowed *broken, const GArray *before);

#endif
