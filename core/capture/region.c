/* SPDX-License-Identifier: MIT */
/* The regions that the map divides a drive into, as the scheduler sees them. */
#include "capture/scheduling.h"

#define WEAR 0.2 /* seconds that a failure counts at least, for what it does to a drive */

EkRegionKind ek_region_kind(const EkStretch *stretch)
{
    switch (stretch->mark.state) {
    case EK_STATE_GOOD: return EK_REGION_GOOD;
    case EK_STATE_BAD: return EK_REGION_BAD;
    case EK_STATE_UNTOUCHED: return EK_REGION_UNTOUCHED;
    case EK_STATE_SET_ASIDE: break;
    }
    gboolean tried = stretch->mark.attempts > 0;
    switch (stretch->mark.reason) {
    case EK_REASON_MEDIUM: return tried ? EK_REGION_FAILED : EK_REGION_EXPECTED;
    case EK_REASON_TIMEOUT: return EK_REGION_FAILED;
    case EK_REASON_TRANSPORT: return tried ? EK_REGION_FAILED : EK_REGION_AVOIDED;
    case EK_REASON_SLOW: return tried ? EK_REGION_SLOW_IN : EK_REGION_SLOW;
    case EK_REASON_SKIPPED:
    case EK_REASON_NONE: break;
    }
    return EK_REGION_SKIPPED;
}

gboolean ek_region_is_fine(EkRegionKind kind)
{
    return kind == EK_REGION_GOOD || kind == EK_REGION_UNTOUCHED;
}

gboolean ek_scheduler_next_stretch(EkScheduler *self, EkSectorRange window, EkState state,
                                   EkStretch *stretch)
{
    EkSector stop = window.first + window.count;
    if (!ek_read_map_next(self->parts.map, self->cursor, EK_STATE_BIT(state), stretch) ||
        stretch->first >= stop)
        return FALSE;
    stretch->count = MIN(stretch->count, stop - stretch->first);
    self->cursor = stretch->first + stretch->count;
    return TRUE;
}

EkRegionKind ek_region_before(const EkScheduler *self, EkSector first)
{
    if (first == 0)
        return EK_REGION_GOOD;
    EkStretch stretch = ek_read_map_at(self->parts.map, first - 1);
    return ek_region_kind(&stretch);
}

EkRegionKind ek_region_from(const EkScheduler *self, EkSector end)
{
    if (end >= self->parts.sectors)
        return EK_REGION_GOOD;
    EkStretch stretch = ek_read_map_at(self->parts.map, end);
    return ek_region_kind(&stretch);
}

EkSector ek_region_begin(const EkScheduler *self, EkSector first)
{
    /* A few steps are enough: what lies further back says little about this edge. */
    for (int steps = 0; steps < 8 && first > 0; steps++) {
        EkStretch stretch = ek_read_map_at(self->parts.map, first - 1);
        EkRegionKind kind = ek_region_kind(&stretch);
        if (ek_region_is_fine(kind))
            break;
        first = stretch.first;
    }
    return first;
}

void ek_scheduler_set(EkScheduler *self, EkSector first, EkSector end, EkState state,
                      EkReason reason, guint32 attempts)
{
    if (end > first)
        self->parts.set(self->parts.data, first, end - first, state, reason, attempts);
}

void ek_scheduler_reopen(EkScheduler *self, EkSector first, EkSector end)
{
    ek_scheduler_set(self, first, end, EK_STATE_UNTOUCHED, EK_REASON_NONE, 0);
}

EkSector ek_scheduler_align_down(const EkScheduler *self, EkSector sector)
{
    return sector - sector % self->parts.unit;
}

EkSector ek_scheduler_align_up(const EkScheduler *self, EkSector sector)
{
    return MIN(ek_divide_up(sector, self->parts.unit) * self->parts.unit, self->parts.sectors);
}

double ek_scheduler_failure_sectors(const EkScheduler *self)
{
    return self->costs.failure / self->costs.sector;
}

gboolean ek_scheduler_is_over(const EkScheduler *self, EkSector bad, EkSector end)
{
    double longer = 1 - ek_runs_share(&self->runs, end - bad, 0, self->parts.sectors);
    return longer * MAX(self->costs.failure, WEAR) < 2 * self->costs.seek;
}

void ek_scheduler_note_separate_failure(EkScheduler *self)
{
    self->failed_at[self->failed_count++ % G_N_ELEMENTS(self->failed_at)] = self->odometer;
}
