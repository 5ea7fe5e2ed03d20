/* SPDX-License-Identifier: MIT */
/* Looking at one step: who recognises what stands there? Safe from several threads at once. */
#ifndef EK_HUNT_STEPS_H
#define EK_HUNT_STEPS_H

#include "hunt/hunt.h"
#include "scan/matcher.h"

typedef struct EkHuntSteps EkHuntSteps;

EkHuntSteps *ek_hunt_steps_new(void);
void ek_hunt_steps_free(EkHuntSteps *steps);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkHuntSteps, ek_hunt_steps_free)

/* Enters all signatures into a matcher, with ids from `first` on; returns the first free one. */
guint ek_hunt_steps_enter(EkMatcher *matcher, guint first);

/* `span` begins at `at`, has at least EK_STEP bytes, and EK_RECOGNISE_BYTES but for the end;
 * `matches` has the ids that stand there, counted from the first. What is recognised in its first
 * step is appended to `traces`, records to the runs that they continue (EkTrace both; `runs` may be
 * NULL). */
void ek_hunt_steps_recognise(const EkHuntSteps *steps, const EkMatches *matches, EkSpan span,
                             EkByte at, GArray *traces, GArray *runs);

/* The same, with a matcher of its own. */
void ek_hunt_steps_look(const EkHuntSteps *steps, EkReader *reader, EkSpan span, EkByte at,
                        GArray *traces, GArray *runs);

#endif
