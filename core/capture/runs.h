/* SPDX-License-Identifier: MIT */
/* How long bad runs are on this drive: what was learned of it, as a distribution over lengths that
 * is even within each doubling. From it follows where the far edge of a run is to be looked for. */
#ifndef EK_CAPTURE_RUNS_H
#define EK_CAPTURE_RUNS_H

#include "base/units.h"

#define EK_RUN_BINS 40 /* lengths from 2^n to 2^(n+1) - 1 sectors */

typedef struct {
    double weight[EK_RUN_BINS];
} EkRuns;

/* Before anything is known: single sectors, more than any other length. */
void ek_runs_init(EkRuns *runs);

/* The same for a slow region, which comes in long runs. */
void ek_runs_init_long(EkRuns *runs);

/* A run of this many sectors was found. */
void ek_runs_note(EkRuns *runs, EkSector length);

/* A run has this many sectors at most, or (note_more) more than this many. */
void ek_runs_note_at_most(EkRuns *runs, EkSector length);
void ek_runs_note_more(EkRuns *runs, EkSector length);

/* The share of runs that end within `length` sectors, of those that have more than `than` and at
 * most `most` sectors. */
double ek_runs_share(const EkRuns *runs, EkSector length, EkSector than, EkSector most);

/* The least length in (than, most] by which `share` of such runs have ended. */
EkSector ek_runs_quantile(const EkRuns *runs, double share, EkSector than, EkSector most);

#endif
