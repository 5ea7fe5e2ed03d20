/* SPDX-License-Identifier: MIT */
/* The image against the sums of its blocks that the case keeps. */
#ifndef EK_WORK_SUMS_H
#define EK_WORK_SUMS_H

#include "work/view.h"

/* The sum of a block (see EkBlockSum) as the reader gives it now. FALSE with *error. */
gboolean ek_sums_of_block(EkReader *reader, guint32 sector_size, guint64 block, guint64 *sum,
                          GError **error);

/* Does the case keep sums at all? One that was begun by an early version, or adopted, does not. */
gboolean ek_sums_are_kept(EkCase *self);

/* Compares up to `most` blocks, spread over all that have a sum that is not 0. Returns how many are
 * as they were read, *asked how many were compared; a block that cannot be read is not. */
guint ek_sums_compare(EkCase *self, EkReader *reader, guint most, guint *asked);

#endif
