/* SPDX-License-Identifier: MIT */
/* Where bad runs begin and end when one is like the other, as where a scratch crosses track after
 * track: a guess, tried before anything is searched for. */
#ifndef EK_CAPTURE_RUNPATTERN_H
#define EK_CAPTURE_RUNPATTERN_H

#include "base/units.h"

typedef struct {
    EkSector last;     /* begin of the run that was found last */
    EkSector distance; /* between runs, so far; 0: none yet */
    guint fits;        /* how often it was right of late */
    EkSector length;
    guint same;
} EkRunPattern;

/* All zeros: nothing is known. */

/* A run begins exactly here; a run has exactly this many sectors. */
void ek_run_pattern_note_begin(EkRunPattern *edges, EkSector begin);
void ek_run_pattern_note_length(EkRunPattern *edges, EkSector length);

/* Where in [first, end) a run should begin. FALSE: there is no telling. */
gboolean ek_run_pattern_begin(const EkRunPattern *edges, EkSector first, EkSector end,
                              EkSector *begin);

/* How long a run should be. FALSE: there is no telling. */
gboolean ek_run_pattern_length(const EkRunPattern *edges, EkSector *length);

#endif
