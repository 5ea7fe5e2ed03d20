/* SPDX-License-Identifier: MIT */
/* What is left when the edges are known: looks into a region that seems bad throughout, reading on
 * over a slow region, one by one, and once more. */
#include "capture/scheduling.h"

#define PROBE_SECTORS 8u
#define GALLOP 8u
#define STREAK 2u
#define TRIES 2u /* of a sector that fails for another reason than the medium */
#define AVOIDED_UNITS 64u

static guint32 attempts_at(const EkScheduler *self, EkSector sector)
{
    return ek_read_map_at(self->parts.map, sector).mark.attempts;
}

/* Marks what failed: bad, when it was read alone and there is no doubt left. */
static gboolean mark_failed(EkScheduler *self, const EkResult *result)
{
    guint32 attempts = attempts_at(self, result->good) + 1;
    gboolean alone = result->failed_end - result->good <= self->parts.unit;
    gboolean sure = result->reason == EK_REASON_MEDIUM || attempts >= TRIES;
    ek_scheduler_set(self, result->good, result->failed_end,
                     alone && sure ? EK_STATE_BAD : EK_STATE_SET_ASIDE, result->reason, attempts);
    return alone;
}

/* --- reading on --- */

gboolean ek_plain_pick(EkScheduler *self, EkSectorRange window, EkRegionKind kind)
{
    EkStretch stretch;
    while (ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &stretch)) {
        if (ek_region_kind(&stretch) != kind)
            continue;
        self->job = (EkJob){.kind = EK_JOB_PLAIN,
                            .at = stretch.first,
                            .end = stretch.first + stretch.count,
                            .gallop = kind == EK_REGION_AVOIDED ? AVOIDED_UNITS : 0};
        self->found = TRUE;
        return TRUE;
    }
    return FALSE;
}

gboolean ek_plain_next(EkScheduler *self, EkRead *read)
{
    EkJob *job = &self->job;
    if (job->at >= job->end)
        return FALSE;
    guint32 count = ek_scheduler_block(self);
    if (job->gallop > 0)
        count = MIN(self->parts.command, job->gallop * self->parts.unit);
    read->first = job->at;
    read->count = (guint32)MIN(count, job->end - job->at);
    return TRUE;
}

void ek_plain_observe(EkScheduler *self, const EkResult *result)
{
    if (result->reason != EK_REASON_NONE) {
        mark_failed(self, result);
        ek_scheduler_note_separate_failure(self);
    }
    self->job.at = result->failed_end;
}

/* --- a look into the middle --- */

gboolean ek_inside_pick(EkScheduler *self, EkSectorRange window)
{
    EkStretch stretch;
    EkSector count = MAX(PROBE_SECTORS, self->parts.unit);
    while (ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &stretch)) {
        EkRegionKind kind = ek_region_kind(&stretch);
        gboolean fits = kind == EK_REGION_SKIPPED || kind == EK_REGION_EXPECTED ||
                        (kind == EK_REGION_FAILED && stretch.mark.reason != EK_REASON_TRANSPORT);
        EkSector end = stretch.first + stretch.count;
        if (!fits || stretch.count < MAX(self->floor, 4 * count) ||
            ek_region_is_fine(ek_region_before(self, stretch.first)) ||
            ek_region_is_fine(ek_region_from(self, end)))
            continue;
        EkSector at = ek_scheduler_align_down(self, stretch.first + stretch.count / 2);
        self->job = (EkJob){.kind = EK_JOB_PROBE, .at = at, .end = at + count};
        self->found = TRUE;
        return TRUE;
    }
    return FALSE;
}

gboolean ek_probe_next(EkScheduler *self, EkRead *read)
{
    EkJob *job = &self->job;
    if (job->at >= job->end)
        return FALSE;
    read->first = job->at;
    read->count = (guint32)(job->end - job->at);
    return TRUE;
}

void ek_probe_observe(EkScheduler *self, const EkResult *result)
{
    if (result->reason != EK_REASON_NONE)
        mark_failed(self, result);
    if (result->good > result->first)
        self->worked = TRUE;
    self->job.at = self->job.end;
}

/* --- one by one --- */

gboolean ek_single_pick(EkScheduler *self, EkSectorRange window)
{
    EkStretch stretch;
    do {
        if (!ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &stretch))
            return FALSE;
        /* The device vanished for these more than once: they are not asked again. */
        if (stretch.mark.attempts > EK_GONE_ALONE)
            ek_scheduler_set(self, stretch.first, stretch.first + stretch.count, EK_STATE_BAD,
                             stretch.mark.reason, stretch.mark.attempts);
    } while (stretch.mark.attempts > EK_GONE_ALONE);
    self->job = (EkJob){.kind = EK_JOB_SINGLE,
                        .at = stretch.first,
                        .end = stretch.first + stretch.count,
                        .gallop = 1};
    self->found = TRUE;
    return TRUE;
}

gboolean ek_single_next(EkScheduler *self, EkRead *read)
{
    EkJob *job = &self->job;
    if (job->at >= job->end)
        return FALSE;
    EkSector count = (EkSector)self->parts.unit * job->gallop;
    /* `low`: the end of something that failed as a whole. */
    EkSector end = job->low > job->at ? job->low : job->end;
    if (job->gallop == 1 && job->streak < STREAK) {
        double share = ek_costs_probe(self->costs.command, self->costs.failure + self->costs.seek);
        count = MAX(count, (EkSector)((double)(end - job->at) * (1 - share)));
    }
    EkSector to = ek_scheduler_align_down(self, job->at + MIN(count, self->parts.command));
    if (to <= job->at)
        to = ek_scheduler_align_up(self, job->at + 1);
    read->first = job->at;
    read->count = (guint32)(MIN(to, end) - job->at);
    return TRUE;
}

void ek_single_observe(EkScheduler *self, const EkResult *result)
{
    EkJob *job = &self->job;
    job->at = result->good;
    if (result->reason == EK_REASON_NONE) {
        job->gallop = MIN(job->gallop * GALLOP, self->parts.command / self->parts.unit);
        job->gallop = MAX(job->gallop, 1);
        job->streak = 0;
        return;
    }
    job->gallop = 1;
    if (mark_failed(self, result)) {
        job->at = result->failed_end;
        job->streak++;
    } else {
        job->low = result->failed_end;
    }
}

/* --- once more --- */

/* Backwards first, since the singles went forwards; then in turn. */
gboolean ek_again_pick(EkScheduler *self, EkSectorRange window)
{
    EkStretch stretch;
    gboolean backwards = self->again % 2 == 0;
    if (!backwards) {
        if (!ek_scheduler_next_stretch(self, window, EK_STATE_BAD, &stretch))
            return FALSE;
        self->job = (EkJob){
            .kind = EK_JOB_AGAIN, .at = stretch.first, .end = stretch.first + stretch.count};
        return TRUE;
    }
    while (self->cursor > window.first) {
        stretch = ek_read_map_at(self->parts.map, self->cursor - 1);
        EkSector low = MAX(stretch.first, window.first);
        EkSector high = self->cursor;
        self->cursor = low;
        if (stretch.mark.state != EK_STATE_BAD)
            continue;
        self->job = (EkJob){.kind = EK_JOB_AGAIN, .at = high, .end = low};
        return TRUE;
    }
    return FALSE;
}

gboolean ek_again_next(EkScheduler *self, EkRead *read)
{
    EkJob *job = &self->job;
    if (job->at == job->end)
        return FALSE;
    if (job->at < job->end) {
        read->first = job->at;
        read->count = (guint32)(MIN(ek_scheduler_align_up(self, job->at + 1), job->end) - job->at);
        return TRUE;
    }
    read->first = MAX(ek_scheduler_align_down(self, job->at - 1), job->end);
    read->count = (guint32)(job->at - read->first);
    return TRUE;
}

void ek_again_observe(EkScheduler *self, const EkResult *result)
{
    EkJob *job = &self->job;
    if (result->reason != EK_REASON_NONE)
        ek_scheduler_set(self, result->good, result->failed_end, EK_STATE_BAD, result->reason,
                         attempts_at(self, result->good) + 1);
    job->at = job->at < job->end ? result->end : result->first;
}
