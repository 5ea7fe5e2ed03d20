/* SPDX-License-Identifier: MIT */
/* Looking at one step: who recognises what stands there? Safe from several threads at once. */
#ifndef EK_HUNT_STEPS_H
#define EK_HUNT_STEPS_H

#include "hunt/hunt.h"

typedef struct EkHuntSteps EkHuntSteps;

EkHuntSteps *ek_hunt_steps_new(void);
void ek_hunt_steps_free(EkHuntSteps *steps);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkHuntSteps, ek_hunt_steps_free)

/* `span` begins at `at`, has at least EK_STEP bytes, and EK_RECOGNISE_BYTES but for the end. What
 * is recognised in its first step is appended to `traces`, records to the runs that they continue
 * (EkTrace both; `runs` may be NULL). */
void ek_hunt_steps_look(const EkHuntSteps *steps, EkReader *reader, EkSpan span, EkByte at,
                        GArray *traces, GArray *runs);

#endif
