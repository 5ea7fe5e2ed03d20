/* SPDX-License-Identifier: MIT */
/* One plan on top of another: what has to be written to a target that holds an earlier plan. */
#ifndef EK_REBUILD_STACK_H
#define EK_REBUILD_STACK_H

#include "rebuild/plan.h"

/* The edits that make of a target with these edits applied (lists of EkEdit*, the oldest first) one
 * with the plan's edits and nothing else. What an earlier plan changed and this one leaves alone
 * goes back to what it was. EkEdit*, in order of position; the caller unrefs. */
GPtrArray *ek_stack_edits(const GPtrArray *plan, const GPtrArray *applied);

#endif
