/* SPDX-License-Identifier: MIT */
/* The one list of types that are searched for by content. */
#ifndef EK_CARVE_TYPES_H
#define EK_CARVE_TYPES_H

#include "carve/type.h"

/* All of them, NULL last: their order is the order in which they are asked. */
extern const EkCarveType *const ek_carve_types[];

/* The one of a name ("jpeg", or an ending: "jpg"); NULL: none. */
const EkCarveType *ek_carve_type_named(const char *name);

#endif
