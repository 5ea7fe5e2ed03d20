/* SPDX-License-Identifier: MIT */
/* Planning, applying and taking back as jobs on a case. */
#ifndef EK_WORK_REBUILDING_H
#define EK_WORK_REBUILDING_H

#include "case/applications.h"
#include "device/system.h"
#include "rebuild/plan.h"
#include "work/view.h"

/* Makes the plan of the case, as it is wished (NULL: no wishes), and stores it. A plan that cannot
 * be made leaves the one that was. */
EkPlan *ek_rebuilding_plan(const char *folder, const char *options, const EkPlanWishes *wishes,
                           GError **error);

typedef struct {
    const char *folder;
    const char *target;
    const char *options;     /* for the log */
    const char *confirmed;   /* what the user typed or gave for the target: ek_guard_word; NULL */
    gboolean allow_unopened; /* lifts "a planned volume does not open" */
} EkRebuildOrder;

/* What applying or undoing did. */
typedef struct {
    guint edits;
    guint recovered; /* applications that had been cut off, and were rolled back first */
    gboolean is_image;
    gboolean nothing_to_do; /* the target holds the plan's bytes already, or the plan is empty */
} EkRebuildResult;

gboolean ek_rebuilding_apply(EkSystem *system, const EkRebuildOrder *order, EkRebuildResult *result,
                             GError **error);
gboolean ek_rebuilding_undo(EkSystem *system, const EkRebuildOrder *order, EkRebuildResult *result,
                            GError **error);

#endif
