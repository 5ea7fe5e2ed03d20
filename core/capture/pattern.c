/* SPDX-License-Identifier: MIT */
/* The patterns that are known: what they predict is stepped over. */
#include "capture/scheduling.h"

gboolean ek_stride_run_at(const EkStride *stride, EkSector sector, EkRepeated *run)
{
    return stride->active && ek_repetition_find(&stride->runs, sector, run);
}

gboolean ek_stride_step_over(EkScheduler *self, EkSector *first, EkSector *end)
{
    /* What a search for a pattern is about must be seen. */
    gboolean again =
        self->learning.stage == EK_PATTERN_SEARCH_NONE || self->job.kind != EK_JOB_FIRST;
    while (again && *first < *end) {
        again = FALSE;
        for (guint i = 0; i < self->stride_count; i++) {
            EkRepeated run;
            /* A region that was left once is given up again for a pattern that has proved itself.
             */
            gboolean counts = self->job.kind == EK_JOB_FIRST || self->strides[i].proofs > 0;
            if (!counts || !ek_stride_run_at(&self->strides[i], *first, &run))
                continue;
            if (run.first > *first) {
                *end = MIN(*end, run.first);
                continue;
            }
            EkSector stop = MIN(run.first + run.count, *end);
            if (self->job.kind == EK_JOB_FIRST)
                self->strides[i].last = MAX(self->strides[i].last, run.number);
            ek_scheduler_set(self, *first, stop, EK_STATE_SET_ASIDE, EK_REASON_MEDIUM, 0);
            *first = stop;
            again = TRUE;
        }
    }
    return *first < *end;
}

gboolean ek_stride_is_busy(const EkScheduler *self)
{
    switch (self->learning.stage) {
    case EK_PATTERN_SEARCH_NONE:
    case EK_PATTERN_SEARCH_TO_SECOND:
    case EK_PATTERN_SEARCH_TO_THIRD: return FALSE;
    default: return TRUE;
    }
}
