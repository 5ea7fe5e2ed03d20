/* SPDX-License-Identifier: MIT */
/* Which volume lies on which: remains of an older layout, and images in files. */
#ifndef EK_HUNT_LAYERS_H
#define EK_HUNT_LAYERS_H

#include "hunt/hunt.h"

/* Finds out of findings (EkFinding*), whose standing to the table and anchor are known, which are
 * remains of others, and which are nested in others. */
void ek_hunt_layer(EkReader *reader, GPtrArray *findings);

#endif
