/* SPDX-License-Identifier: MIT */
/* Does the drive answer the same at addresses a fixed distance apart? Drives of faked capacity, and
 * adapters that drop the upper part of an address, do. Samples on a coarse grid are compared. */
#ifndef EK_CAPTURE_REPEATS_H
#define EK_CAPTURE_REPEATS_H

#include "base/units.h"

typedef struct EkRepeats EkRepeats;

EkRepeats *ek_repeats_new(EkSector sectors, guint32 sector_size);
void ek_repeats_free(EkRepeats *repeats);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkRepeats, ek_repeats_free)

/* These sectors were read. */
void ek_repeats_note(EkRepeats *repeats, EkSector first, EkSector count, const guint8 *data);

/* The distance at which answers come again, in sectors; 0: there is no sign of it. */
EkSector ek_repeats_every(const EkRepeats *repeats);

#endif
