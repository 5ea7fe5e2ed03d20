/* SPDX-License-Identifier: MIT */
/* The case's plan: one at a time, the last one made. */
#ifndef EK_CASE_PLANSTORE_H
#define EK_CASE_PLANSTORE_H

#include "case/case.h"
#include "rebuild/plan.h"

gboolean ek_planstore_put(EkCase *self, gint64 event, const EkPlan *plan, GError **error);

/* The plan as stored; EK_ERROR_ABSENT when none was made. */
EkPlan *ek_planstore_load(EkCase *self, GError **error);

/* The event in which the plan was made; 0 when there is none. */
gint64 ek_planstore_event(EkCase *self);

#endif
