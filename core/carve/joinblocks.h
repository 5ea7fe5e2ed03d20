/* SPDX-License-Identifier: MIT */
/* Joining by what blocks look like: where they turn into something that is none of it, it was cut.
 */
#ifndef EK_CARVE_JOINBLOCKS_H
#define EK_CARVE_JOINBLOCKS_H

#include "carve/joining.h"

/* Looks for the first block of a file of packed data, or of text, that cannot be its own, and
 * behind it for the one that can again and with which it goes on. `before` (EkRange) is how it is
 * laid; where FALSE is returned it is laid so again. */
gboolean ek_join_by_blocks(EkJoining *joining, const EkFollowed *broken, const GArray *before);

#endif
