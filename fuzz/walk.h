/* SPDX-License-Identifier: MIT */
/* Walks the files of a volume, and aborts where what is handed on breaks a promise. */
#ifndef EK_FUZZ_WALK_H
#define EK_FUZZ_WALK_H

#include "volume/volume.h"

void fuzz_walk(EkReader *reader, const EkVolume *volume);

#endif
