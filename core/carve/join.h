/* SPDX-License-Identifier: MIT */
/* Joining the pieces of a file that breaks. */
#ifndef EK_CARVE_JOIN_H
#define EK_CARVE_JOIN_H

#include "carve/carving.h"

/* As ek_carve_join. */
EkFound *ek_join(EkCarve *carve, const EkCarveType *type, EkByte first, guint tries);

#endif
