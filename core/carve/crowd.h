/* SPDX-License-Identifier: MIT */
/* Beginnings so dense that each runs into the next ones: a table of signatures, ground that was
 * filled with the same sector again and again, headers made to mislead. No file system lays files
 * like that. */
#ifndef EK_CARVE_CROWD_H
#define EK_CARVE_CROWD_H

#include "base/units.h"

#include <glib.h>

/* Where many of these places (EkByte, in order) lie close together: EkRange in bytes, in order,
 * apart, each from the first such place to the last. The caller unrefs. */
GArray *ek_crowds_of(const GArray *places);

/* Is this place in one of them? */
gboolean ek_crowds_hold(const GArray *crowds, EkByte at);

#endif
