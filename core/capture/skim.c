/* SPDX-License-Identifier: MIT */
/* The first pass over an untouched region: large reads in order that leave at once where there is
 * trouble. */
#include "capture/scheduling.h"

#define FIRST_JUMP_BYTES ((EkByte)8u << 20)
#define SLOW_JUMP_BYTES ((EkByte)8u << 20)
#define DEAR_SHARE 100.0  /* so many failures in the time that reading the drive takes, or fewer */
#define SMALL_SHARE 2048u /* of the drive: a first jump is no smaller */
#define FIRST_JUMP_SHARE 64.0 /* of what could be read in the time of a failure */
#define FAR_SHARE 64u         /* of the drive, once failures repeat */
#define FARTHEST_SHARE 8u
#define NEAR_FAILURES 3u
#define POOR_YIELD 4 /* times what could be read in the time that a failure costs in all */
#define LANDINGS 3u
#define LANDING 32u    /* sectors: of what is read first where a jump lands */
#define DEAR_FAILURE 8 /* times a command */

static EkSector bytes_to_sectors(const EkScheduler *self, EkByte bytes)
{
    return MAX(bytes / self->parts.sector_size, (EkByte)self->parts.unit);
}

/* --- reading on --- */

gboolean ek_first_pick(EkScheduler *self, EkSectorRange window)
{
    EkStretch stretch;
    if (self->parts.backwards) {
        while (self->cursor > window.first) {
            stretch = ek_read_map_at(self->parts.map, self->cursor - 1);
            EkSector low = MAX(stretch.first, window.first);
            if (stretch.mark.state == EK_STATE_UNTOUCHED) {
                self->job = (EkJob){.kind = EK_JOB_FIRST, .at = self->cursor, .end = low};
                return TRUE;
            }
            self->cursor = low;
        }
        return FALSE;
    }
    EkSector stop = window.first + window.count;
    if (!ek_read_map_next(self->parts.map, self->cursor, EK_STATE_BIT(EK_STATE_UNTOUCHED),
                          &stretch) ||
        stretch.first >= stop)
        return FALSE;
    if (ek_region_before(self, stretch.first) != EK_REGION_GOOD)
        self->good_since = 0;
    self->job = (EkJob){.kind = EK_JOB_FIRST,
                        .at = stretch.first,
                        .end = MIN(stretch.first + stretch.count, stop),
                        .probing = self->landings > 0};
    return TRUE;
}

gboolean ek_first_next(EkScheduler *self, EkRead *read)
{
    EkJob *job = &self->job;
    ek_scheduler_size(self, read, self->good_since);
    guint32 count = read->count;
    if (job->slow && job->probing)
        count = MIN(count, ek_scheduler_slow_probe(self));
    else if (job->probing && self->costs.failure > DEAR_FAILURE * self->costs.command)
        count = MIN(count, MAX(LANDING, self->parts.unit));
    if (self->parts.backwards) {
        if (job->at <= job->end)
            return FALSE;
        count = MIN(count, read->block); /* what follows a failed one would be left out */
        EkSector first = job->at > job->end + count ? job->at - count : job->end;
        read->first = MAX(job->end, MIN(ek_scheduler_align_up(self, first), job->at - 1));
        read->count = (guint32)(job->at - read->first);
        return TRUE;
    }
    if (job->at < job->end && ek_stride_wants_probe(self, job->at, read)) {
        read->block = 0;
        job->low = read->first;
        return TRUE;
    }
    EkSector end = job->end;
    gboolean some = ek_stride_step_over(self, &job->at, &end);
    self->cursor = job->at;
    if (!some)
        return FALSE;
    read->first = job->at;
    read->count = (guint32)MIN(count, end - job->at);
    return TRUE;
}

/* Counts failures that follow each other so closely that other regions would bring more. */
static void note_yield(EkScheduler *self, gboolean landed)
{
    double trouble = (self->costs.failure + 2 * self->costs.seek) / self->costs.sector;
    if ((double)self->good_since >= trouble * POOR_YIELD)
        self->near_failures = 0;
    else if (!landed)
        self->near_failures++;
}

/* How far to jump after a failure at the end of `good` sectors that read well. */
static EkSector jump_after(EkScheduler *self, gboolean landed)
{
    EkSector farthest = MAX(self->parts.sectors / FARTHEST_SHARE, self->parts.command);
    EkSector far = self->parts.sectors / FAR_SHARE;
    double scale = ek_scheduler_failure_sectors(self);
    EkSector first = (EkSector)MIN(scale / FIRST_JUMP_SHARE, (double)G_MAXINT64);
    EkSector most = MAX(bytes_to_sectors(self, FIRST_JUMP_BYTES), self->parts.command);
    EkSector least = CLAMP(self->parts.sectors / SMALL_SHARE, self->parts.command, most);
    first = CLAMP(first, least, most);
    first = MAX(first, ek_stride_width(self) + self->parts.command);
    self->landings = landed ? self->landings + 1 : 0;
    if ((self->near_failures == 0 && !landed) || self->jump == 0)
        self->jump = first;
    else if (self->landings >= LANDINGS || self->near_failures > NEAR_FAILURES)
        self->jump = MAX(self->jump * 8, far);
    else if (landed)
        self->jump *= (double)self->parts.sectors < scale * DEAR_SHARE ? 4 : 2;
    else
        self->jump = first;
    self->jump = MIN(self->jump, farthest);
    return self->jump;
}

/* Leaves `sectors` sectors from where the read ended for later. */
static void skip(EkScheduler *self, EkSector from, EkSector sectors, EkReason reason)
{
    EkJob *job = &self->job;
    if (self->parts.backwards) {
        EkSector to = from > job->end + sectors ? from - sectors : job->end;
        to = MIN(ek_scheduler_align_up(self, to), from);
        ek_scheduler_set(self, to, from, EK_STATE_SET_ASIDE, reason, 0);
        job->at = self->cursor = to;
    } else {
        EkSector to = MIN(ek_scheduler_align_down(self, from + sectors), job->end);
        ek_scheduler_set(self, from, to, EK_STATE_SET_ASIDE, reason, 0);
        job->at = self->cursor = MAX(to, from);
    }
    job->probing = TRUE;
}

static void after_failure(EkScheduler *self, const EkResult *result)
{
    gboolean landed =
        self->good_since == 0 && result->good == result->first && self->failed_count > 0;
    if (!landed)
        ek_scheduler_note_separate_failure(self);
    ek_scheduler_set(self, result->good, result->failed_end, EK_STATE_SET_ASIDE, result->reason, 1);
    self->good_since += result->good - result->first;
    if (!self->parts.backwards &&
        ek_stride_note_failure(self, result->good, result->failed_end, landed)) {
        self->good_since = 0;
        return;
    }
    note_yield(self, landed);
    gboolean poor = self->near_failures > NEAR_FAILURES && !self->came_back;
    if (!landed && !poor && !self->parts.backwards && ek_scheduler_stays(self)) {
        self->good_since = 0;
        self->landings = 0;
        self->bad_at = result->good;
        ek_left_begin(self, result->good, result->failed_end);
        return;
    }
    EkSector far = jump_after(self, landed);
    if (!landed && self->near_failures <= NEAR_FAILURES && !self->parts.backwards &&
        ek_scheduler_is_over(self, result->good, result->failed_end))
        self->jump = far = 0;
    if (!landed)
        self->bad_at = result->good;
    else if (!self->parts.backwards && result->first > self->bad_at)
        ek_runs_note_more(&self->runs, result->first - self->bad_at);
    self->good_since = 0;
    self->job.slow = FALSE;
    skip(self, self->parts.backwards ? result->first : result->failed_end, far, EK_REASON_SKIPPED);
}

/* Reads well: if a bad region came right before, this is where it ended, or somewhat further on. */
static void note_end(EkScheduler *self, const EkResult *result)
{
    if (self->good_since > 0 || result->first <= self->bad_at || self->failed_count == 0 ||
        self->parts.backwards)
        return;
    EkSector length = result->first - self->bad_at;
    if (length <= self->parts.unit && ek_region_from(self, self->bad_at) == EK_REGION_BAD)
        ek_runs_note(&self->runs, length);
    else if (self->job.probing)
        ek_runs_note_at_most(&self->runs, length);
}

void ek_first_observe(EkScheduler *self, const EkResult *result)
{
    EkJob *job = &self->job;
    gboolean failed = result->reason != EK_REASON_NONE;
    if (job->low != 0 && result->first == job->low) {
        job->low = 0;
        if (failed)
            ek_scheduler_set(self, result->good, result->failed_end, EK_STATE_SET_ASIDE,
                             result->reason, 1);
        ek_stride_probed(self, result->first, failed);
        /* What was stepped over in vain is read around what the probe read. */
        if (!failed)
            *job = (EkJob){0};
        return;
    }
    if (failed) {
        after_failure(self, result);
        return;
    }
    EkSector edge = self->parts.backwards ? result->first : result->end;
    if (result->slow) {
        EkSector first = bytes_to_sectors(self, SLOW_JUMP_BYTES);
        self->slow_jump = job->slow && job->probing ? self->slow_jump * 2 : first;
        self->slow_jump =
            MIN(self->slow_jump, MAX(self->parts.sectors / FARTHEST_SHARE, self->parts.command));
        job->slow = TRUE;
        self->good_since = 0;
        skip(self, edge, self->slow_jump, EK_REASON_SLOW);
        return;
    }
    note_end(self, result);
    self->good_since += result->end - result->first;
    job->at = self->cursor = edge;
    job->probing = job->slow = FALSE;
}
