/* SPDX-License-Identifier: MIT */
/* The first pass over untouched ground: large reads in order that leave at once where there is
 * trouble, and how the pattern of a damaged head is learned on the way. */
#include "capture/scheduling.h"

#define FIRST_JUMP_BYTES ((EkByte)4u << 20)
#define SLOW_JUMP_BYTES ((EkByte)8u << 20)
#define FIRST_JUMP_SHARE 64.0 /* of what could be read in the time of a failure */
#define FAR_SHARE 64u         /* of the drive, once failures repeat */
#define FARTHEST_SHARE 8u
#define NEAR_FAILURES 3u
#define LANDINGS 3u
#define PROBE_UNITS 8u
#define SLOW_PROBE 64.0 /* sectors */
#define VAIN_LESSONS 4u
#define DEAR_FAILURE 3 /* times a command: below it there is nothing to be saved */
#define REGULAR 4u     /* times what the places are uncertain by */
#define LEAST_WIDTH 8u /* units */
#define MOST_WIDTH 0.6 /* of the stride: one of two heads */

static EkSector bytes_to_sectors(const EkScheduler *self, EkByte bytes)
{
    return MAX(bytes / self->parts.sector_size, (EkByte)self->parts.unit);
}

/* --- the pattern of a damaged head --- */

static gboolean run_at(const EkStride *stride, EkSector sector, EkRepeated *run)
{
    return stride->active && ek_repetition_find(&stride->runs, sector, run);
}

gboolean ek_stride_step_over(EkScheduler *self, EkSector *first, EkSector *end)
{
    gboolean again = TRUE;
    while (again && *first < *end) {
        again = FALSE;
        for (guint i = 0; i < self->stride_count; i++) {
            EkRepeated run;
            /* Ground that was left once is given up again for a pattern that has proved itself. */
            gboolean proved = self->strides[i].confirmed >= EK_EDGES;
            if ((self->job.kind != EK_JOB_FIRST && !proved) ||
                !run_at(&self->strides[i], *first, &run))
                continue;
            if (run.first > *first) {
                *end = MIN(*end, run.first);
                continue;
            }
            EkSector stop = MIN(run.first + run.count, *end);
            ek_scheduler_set(self, *first, stop, EK_STATE_SET_ASIDE, EK_REASON_MEDIUM, 0);
            *first = stop;
            again = TRUE;
        }
    }
    return *first < *end;
}

/* What was stepped over since the pattern was last seen to hold was stepped over in vain. */
static void unlearn(EkScheduler *self, EkStride *stride)
{
    EkRepetition known = stride->runs;
    EkRepeated run = {0};
    EkSector from = known.first;
    while (stride->confirmed >= EK_EDGES && ek_repetition_find(&known, from, &run) &&
           run.number <= stride->confirmed)
        from = run.first + run.count;
    EkStretch stretch;
    guint states = EK_STATE_BIT(EK_STATE_SET_ASIDE);
    for (EkSector at = from; ek_read_map_next(self->parts.map, at, states, &stretch);
         at = stretch.first + stretch.count)
        if (ek_ground_kind(&stretch) == EK_GROUND_EXPECTED)
            ek_scheduler_set(self, stretch.first, stretch.first + stretch.count, EK_STATE_SET_ASIDE,
                             EK_REASON_SKIPPED, 0);
    stride->active = FALSE;
    self->learned_in_vain += stride->confirmed <= 2;
}

/* Whether a pattern asks for a look into the run that begins at or before `at`. */
static gboolean wants_probe(EkScheduler *self, EkSector at, EkRead *read)
{
    for (guint i = 0; i < self->stride_count; i++) {
        EkStride *stride = &self->strides[i];
        EkRepeated run;
        if (!run_at(stride, at, &run) || run.first > at || run.number < stride->to_probe)
            continue;
        EkSector middle = ek_scheduler_align_down(self, run.first + run.count / 2);
        guint32 count = self->parts.unit * (self->parts.unit < PROBE_UNITS ? PROBE_UNITS : 1);
        if (middle + count > self->parts.sectors || middle < at)
            continue;
        stride->to_probe = run.number * 2;
        read->first = middle;
        read->count = count;
        return TRUE;
    }
    return FALSE;
}

void ek_stride_probed(EkScheduler *self, EkSector sector, gboolean failed)
{
    for (guint i = 0; i < self->stride_count; i++) {
        EkStride *stride = &self->strides[i];
        EkRepeated run;
        if (!run_at(stride, sector, &run) || run.first > sector)
            continue;
        if (failed)
            stride->confirmed = run.number;
        else
            unlearn(self, stride);
    }
}

static void give_up_lesson(EkScheduler *self)
{
    self->learning = (EkLearning){0};
    self->learned_in_vain++;
}

static void fit(EkScheduler *self)
{
    const EkSector *edges = self->learning.edges;
    EkStretch good;
    gboolean known =
        ek_read_map_next(self->parts.map, edges[0], EK_STATE_BIT(EK_STATE_GOOD), &good);
    EkSector every = edges[1] - edges[0];
    EkRepetition runs = {
        .first = edges[0],
        .count = known ? good.first - edges[0] : 0,
        .every = every,
        .drift = (gint64)(edges[2] - edges[1]) - (gint64)every,
    };
    /* What the width was measured by must itself have failed. */
    EkGroundKind last = known ? ek_ground_before(self, good.first) : EK_GROUND_GOOD;
    if ((last != EK_GROUND_BAD && last != EK_GROUND_FAILED) ||
        runs.count < (EkSector)LEAST_WIDTH * self->parts.unit ||
        (double)runs.count > MOST_WIDTH * (double)every) {
        give_up_lesson(self);
        return;
    }
    /* What was learned before may have ended where this begins: its next run will tell. */
    for (guint i = 0; i < self->stride_count; i++)
        self->strides[i].to_probe = 0;
    guint slot = 0;
    while (slot < self->stride_count && self->strides[slot].active)
        slot++;
    if (slot == EK_STRIDES) {
        give_up_lesson(self);
        return;
    }
    self->stride_count = MAX(self->stride_count, slot + 1);
    self->strides[slot] = (EkStride){runs, 2, 3, TRUE};
    self->learning = (EkLearning){0};
    self->near_failures = 0;
    self->jump = 0;
}

gboolean ek_stride_learn_on(EkScheduler *self)
{
    EkLearning *learning = &self->learning;
    if (learning->stage > 0 && learning->stage <= EK_EDGES &&
        learning->edges[learning->stage - 1] == 0) {
        give_up_lesson(self);
        return FALSE;
    }
    if (learning->stage < EK_EDGES) {
        EkSectorRange block = learning->blocks[learning->stage];
        learning->edges[learning->stage++] = 0;
        ek_left_begin(self, block.first, block.first + block.count);
        return TRUE;
    }
    EkStretch good;
    EkSector bad = learning->edges[0];
    if (learning->stage == EK_EDGES &&
        ek_read_map_next(self->parts.map, bad, EK_STATE_BIT(EK_STATE_GOOD), &good)) {
        learning->stage++;
        if ((double)(good.first - bad) > MOST_WIDTH * (double)(learning->edges[1] - bad)) {
            give_up_lesson(self);
            return FALSE;
        }
        if (good.first > bad + self->parts.unit)
            ek_bracket_begin(self, bad, bad + self->parts.unit, good.first, self->parts.unit,
                             FALSE);
        return TRUE;
    }
    fit(self);
    return FALSE;
}

/* A pattern that says a run begins or ends right here, but not quite. */
static void check_patterns(EkScheduler *self, EkSector sector)
{
    EkSector near = self->parts.command;
    for (guint i = 0; i < self->stride_count; i++) {
        EkStride *stride = &self->strides[i];
        EkRepeated run;
        EkSector from = sector > near ? sector - near : 0;
        if (run_at(stride, from, &run) && run.first <= sector + near)
            stride->active = FALSE;
    }
}

gboolean ek_stride_note_edge(EkScheduler *self, EkSector first, EkSector end)
{
    EkLearning *learning = &self->learning;
    check_patterns(self, first);
    if (learning->count == EK_EDGES) {
        learning->blocks[0] = learning->blocks[1];
        learning->blocks[1] = learning->blocks[2];
        learning->count--;
    }
    learning->blocks[learning->count++] = (EkSectorRange){first, end - first};
    gboolean worth_it =
        self->costs.failure > DEAR_FAILURE * (self->costs.command + self->costs.seek);
    if (learning->count < EK_EDGES || self->learned_in_vain >= VAIN_LESSONS || !worth_it)
        return FALSE;
    EkSector one = learning->blocks[1].first - learning->blocks[0].first;
    EkSector two = learning->blocks[2].first - learning->blocks[1].first;
    EkSector apart = one > two ? one - two : two - one;
    EkSector blur = learning->blocks[0].count + 2 * learning->blocks[1].count +
                    learning->blocks[2].count + one / 256;
    if (learning->blocks[1].first < learning->blocks[0].first ||
        learning->blocks[2].first < learning->blocks[1].first || apart > blur ||
        one < REGULAR * blur)
        return FALSE;
    learning->busy = TRUE;
    learning->stage = 0;
    return TRUE;
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
    self->job = (EkJob){.kind = EK_JOB_FIRST,
                        .at = stretch.first,
                        .end = MIN(stretch.first + stretch.count, stop),
                        .probing = self->landings > 0};
    return TRUE;
}

void ek_scheduler_size(const EkScheduler *self, EkRead *read, EkSector well)
{
    guint32 block = ek_scheduler_block(self);
    EkSector count = MIN(well, self->parts.most);
    read->block = block;
    read->count = (guint32)MAX(count - count % block, block);
}

guint32 ek_scheduler_slow_probe(const EkScheduler *self)
{
    const EkCosts *costs = &self->costs;
    double patience = self->parts.patience;
    double more = costs->slow_sector - patience * costs->sector;
    double sectors = more > 0 ? (patience * (costs->command + costs->seek) + SLOW_GRACE) / more : 0;
    double most = self->parts.command;
    return MAX((guint32)CLAMP(sectors * 1.5, SLOW_PROBE, most), self->parts.unit);
}

gboolean ek_first_next(EkScheduler *self, EkRead *read)
{
    EkJob *job = &self->job;
    ek_scheduler_size(self, read, self->good_since);
    guint32 count = read->count;
    if (job->slow && job->probing)
        count = MIN(count, ek_scheduler_slow_probe(self));
    if (self->parts.backwards) {
        if (job->at <= job->end)
            return FALSE;
        count = MIN(count, read->block); /* what follows a failed one would be left out */
        EkSector first = job->at > job->end + count ? job->at - count : job->end;
        read->first = MAX(job->end, MIN(ek_scheduler_align_up(self, first), job->at - 1));
        read->count = (guint32)(job->at - read->first);
        return TRUE;
    }
    if (job->at < job->end && wants_probe(self, job->at, read)) {
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

/* How far to jump after a failure at the end of `good` sectors that read well. */
static EkSector jump_after(EkScheduler *self, gboolean landed)
{
    EkSector farthest = MAX(self->parts.sectors / FARTHEST_SHARE, self->parts.command);
    EkSector far = self->parts.sectors / FAR_SHARE;
    double scale = ek_scheduler_failure_sectors(self);
    EkSector first = (EkSector)MIN(scale / FIRST_JUMP_SHARE, (double)G_MAXINT64);
    first = CLAMP(first, self->parts.command,
                  MAX(bytes_to_sectors(self, FIRST_JUMP_BYTES), self->parts.command));
    if (self->stride_count > 0)
        first = MAX(first, self->strides[self->stride_count - 1].runs.count + self->parts.command);
    self->landings = landed ? self->landings + 1 : 0;
    if ((double)self->good_since >= scale)
        self->near_failures = 0;
    else if (!landed)
        self->near_failures++;
    if ((self->near_failures == 0 && !landed) || self->jump == 0)
        self->jump = first;
    else if (self->landings >= LANDINGS || self->near_failures > NEAR_FAILURES)
        self->jump = MAX(self->jump * 4, far);
    else if (landed)
        self->jump *= 2;
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
    if (!landed && !self->parts.backwards &&
        ek_stride_note_edge(self, result->good, result->failed_end)) {
        self->cursor = result->failed_end;
        self->good_since = 0;
        self->job = (EkJob){0};
        return;
    }
    EkSector far = jump_after(self, landed);
    self->good_since = 0;
    self->job.slow = FALSE;
    skip(self, self->parts.backwards ? result->first : result->failed_end, far, EK_REASON_SKIPPED);
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
    self->good_since += result->end - result->first;
    job->at = self->cursor = edge;
    job->probing = job->slow = FALSE;
}
