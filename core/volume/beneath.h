/* SPDX-License-Identifier: MIT */
/* What newer volumes leave of an older one. */
#ifndef EK_VOLUME_BENEATH_H
#define EK_VOLUME_BENEATH_H

#include "volume/volume.h"

/* The same bytes, but for those that one of these volumes (EkVolume*) uses for itself or for its
 * files: they are given as bad ones are. So no structure of an older volume is read out of what was
 * written later. Takes nothing over: both must live as long. For one thread. The caller frees. */
EkReader *ek_reader_beneath(EkReader *inner, const GPtrArray *newer);

/* The reader beneath such a one, which gives all bytes; any other itself. For what an older volume
 * and the newer one have in common. */
EkReader *ek_reader_whole(EkReader *reader);

#endif
