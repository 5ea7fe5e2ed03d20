/* SPDX-License-Identifier: MIT */
/* Joining the pieces of a file that breaks. */
#ifndef EK_CARVE_JOIN_H
#define EK_CARVE_JOIN_H

#include "carve/carving.h"

/* Tries to go on with a file that broke at `tries` places at most, or until *cancel (atomic) is not
 * 0. From any thread, as long as nothing changes what is held. NULL where it comes to no more than
 * there was; the caller frees. */
EkFound *ek_join(const EkCarve *carve, const EkCarveType *type, EkByte first, guint tries,
                 const gint *cancel);

/* The same, but only where a block of numbers says that it goes on, and to an end. */
EkFound *ek_join_listed(const EkCarve *carve, const EkCarveType *type, EkByte first,
                        const gint *cancel);

#endif
