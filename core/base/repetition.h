/* SPDX-License-Identifier: MIT */
/* Runs of sectors that come again at a distance which itself changes by a constant: what a damaged
 * head leaves on a drive. */
#ifndef EK_BASE_REPETITION_H
#define EK_BASE_REPETITION_H

#include "base/units.h"

typedef struct {
    EkSector first;
    EkSector count; /* sectors in each run, at least 1 */
    EkSector every; /* from the first run to the second; 0: there is only one */
    gint64 drift;   /* added to the distance each time */
    EkSector until; /* last sector it may touch; 0: no limit */
} EkRepetition;

typedef struct {
    guint64 number; /* 0 for the first */
    EkSector first;
    EkSector count;
} EkRepeated;

/* The first run that ends after `sector`: it may begin before or after it. FALSE when there is
 * none. Runs end where a negative drift would make them overlap. */
gboolean ek_repetition_find(const EkRepetition *repetition, EkSector sector, EkRepeated *run);

/* The run of this number. FALSE when it does not exist. */
gboolean ek_repetition_run(const EkRepetition *repetition, guint64 number, EkRepeated *run);

#endif
