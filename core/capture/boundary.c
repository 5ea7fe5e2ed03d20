/* SPDX-License-Identifier: MIT */
/* Where a bad region begins, and where it ends. Its beginning is searched for from the good side in
 * steps whose chance of failing is worth their cost. Its end is searched for from the far side:
 * each success shrinks what is unknown and brings everything from there on. A region that was
 * skipped, in the skim, and the edges of what failed, in the narrow round, are the same search. */
#include "capture/scheduling.h"

#define PROBED_FOR 8u /* both ends bad: looks that much smaller */
#define BOTH_BAD_BYTES ((EkByte)128u << 20)
#define ROUGHLY 16u
#define POOR_VISIT 0.5
#define FADING 0.95
#define LIKELY 0.5
#define FORWARD 0.75 /* share of runs that should have ended where a walk goes on behind one */

/* --- the end of a bad region --- */

void ek_boundary_begin(EkScheduler *self, EkSector bad, EkSector low, EkSector high, EkSector floor,
                       gboolean slow)
{
    self->job = (EkJob){
        .kind = EK_JOB_BOUNDARY, .low = low, .bad = bad, .end = high, .floor = floor, .slow = slow};
    self->job.from = self->job.at = G_MAXUINT64;
    self->job.found = bad < low && ek_region_from(self, bad) == EK_REGION_BAD;
}

static gboolean is_exact(const EkScheduler *self)
{
    return self->job.floor <= self->parts.unit;
}

static void note_run(EkScheduler *self, EkSector first, EkSector end)
{
    ek_runs_note(&self->runs, end - first);
    ek_run_pattern_note_length(&self->edges, end - first);
}

/* A run whose beginning is known may be as long as the others were: right behind that is tried
 * first, then whether what comes right before it is bad. */
static gboolean guess(const EkScheduler *self, EkSector *from)
{
    const EkJob *job = &self->job;
    EkSector length;
    if (!is_exact(self) || !job->found || job->slow || job->bad >= job->low ||
        !ek_run_pattern_length(&self->edges, &length))
        return FALSE;
    EkSector end = job->bad + length;
    if (end == job->end && end > job->low + self->parts.unit)
        end -= self->parts.unit;
    if (end <= job->low || end >= job->end)
        return FALSE;
    *from = end;
    return TRUE;
}

/* Chooses where the next run through the rest of the gap begins; nothing is left of it where none
 * is worth its cost. */
static void choose(EkScheduler *self)
{
    EkJob *job = &self->job;
    const EkCosts *costs = &self->costs;
    EkSector from = job->low;
    gboolean forward = FALSE;
    if (job->bad < job->low) {
        double success = costs->seek + costs->command;
        double failure = costs->seek + costs->failure;
        if (job->slow)
            failure = costs->seek + ek_scheduler_slow_probe(self) * costs->slow_sector;
        const EkRuns *runs = job->slow ? &self->slow_runs : &self->runs;
        double share = ek_costs_probe(success, failure);
        /* With a bad region behind it there need not be an end at all before that. */
        forward = !job->slow && !ek_region_is_fine(ek_region_from(self, job->end));
        EkSector most = forward ? self->parts.sectors : job->end - job->bad;
        from = job->bad + ek_runs_quantile(runs, forward ? FORWARD : share, job->known, most);
        from = MAX(ek_scheduler_align_down(self, from), job->low);
        if (!job->slow && !is_exact(self) && job->known == 0 &&
            ek_scheduler_is_over(self, job->bad, job->low))
            from = job->low;
    }
    gboolean guessed = guess(self, &from);
    if (forward && !guessed && from >= job->end) {
        job->end = job->low;
        return;
    }
    /* In the skim a step is worth a block at least. */
    EkSector step = is_exact(self) ? self->parts.unit : ek_scheduler_block(self);
    EkSector latest =
        job->end > job->low + step ? ek_scheduler_align_down(self, job->end - step) : job->low;
    if (!is_exact(self) && job->end - job->low <= 2 * step)
        from = job->low;
    job->from = job->at = MAX(MIN(from, latest), job->low);
    job->probing = TRUE;
}

static void end_visit(EkScheduler *self)
{
    self->yield_good = self->yield_good * FADING + (double)self->job.good;
    self->yield_seconds = self->yield_seconds * FADING + self->job.seconds;
    self->job.kind = EK_JOB_NONE;
}

gboolean ek_boundary_next(EkScheduler *self, EkRead *read)
{
    EkJob *job = &self->job;
    for (;;) {
        if (job->at == G_MAXUINT64)
            choose(self);
        if (job->end <= job->low) {
            end_visit(self);
            return FALSE;
        }
        EkSector end = job->end;
        if (self->round == EK_ROUND_SKIM && !ek_stride_is_busy(self))
            ek_stride_step_over(self, &job->at, &end);
        if (job->at < end) {
            ek_scheduler_size(self, read, job->probing ? 0 : job->good);
            guint32 count = read->count;
            if (is_exact(self)) {
                count = self->parts.command;
                read->block = 0;
            } else if (job->slow && job->probing) {
                count = MIN(count, ek_scheduler_slow_probe(self));
            }
            read->first = job->at;
            read->count = (guint32)MIN(count, end - job->at);
            return TRUE;
        }
        /* All that was left of this run was stepped over. */
        job->end = job->from;
        job->at = G_MAXUINT64;
    }
}

/* The run reached its end: what is unknown ends where it began. */
static void run_is_through(EkScheduler *self)
{
    EkJob *job = &self->job;
    job->end = job->from;
    job->at = G_MAXUINT64;
    if (job->end > job->low) {
        if (!is_exact(self) && job->end - job->low < job->floor)
            end_visit(self);
        return;
    }
    if (job->bad < job->low && !job->slow) {
        if (is_exact(self) && job->found)
            note_run(self, job->bad, job->low);
        else if (!is_exact(self))
            ek_runs_note_at_most(&self->runs, job->low - job->bad);
    }
    end_visit(self);
}

/* Is it worth going on in this gap? Others may bring more. */
static gboolean is_worth_it(const EkScheduler *self)
{
    const EkJob *job = &self->job;
    double usual =
        self->yield_seconds > 0 ? self->yield_good / self->yield_seconds : 1 / self->costs.sector;
    return (double)job->good >= usual * POOR_VISIT * job->seconds;
}

/* What failed right behind a bad run that is likely to have ended there is another one's. */
static gboolean is_another(const EkScheduler *self, const EkResult *result)
{
    const EkJob *job = &self->job;
    gboolean alone = result->failed_end - result->good <= self->parts.unit;
    return is_exact(self) && job->found && !alone && result->good == job->low &&
           job->low - job->bad <= self->parts.unit &&
           ek_runs_share(&self->runs, result->good - job->bad, 0, self->parts.sectors) >= LIKELY;
}

static void boundary_failed(EkScheduler *self, const EkResult *result)
{
    EkJob *job = &self->job;
    gboolean at_once = result->good == job->from;
    gboolean alone = result->failed_end - result->good <= self->parts.unit;
    guint32 attempts = ek_read_map_at(self->parts.map, result->good).mark.attempts + 1;
    gboolean is_bad = alone && result->reason == EK_REASON_MEDIUM;
    ek_scheduler_set(self, result->good, result->failed_end,
                     is_bad ? EK_STATE_BAD : EK_STATE_SET_ASIDE, result->reason, attempts);
    if (!at_once || job->bad == job->low)
        ek_scheduler_note_separate_failure(self);
    if (is_another(self, result)) {
        EkSector bad = job->bad;
        ek_left_begin(self, result->good, result->failed_end);
        job->bad = bad;
        job->from = result->good;
        return;
    }
    if (at_once && job->bad < job->low) {
        if (!is_exact(self))
            ek_runs_note_more(&self->runs, job->from - job->bad);
        job->known = job->from - job->bad;
    } else {
        job->bad = result->good;
        job->known = 0;
        job->found = alone;
    }
    /* The skim leaves what failed to the narrow round, which looks for the end inside it too. */
    job->low = is_exact(self) && !alone ? result->good + self->parts.unit : result->failed_end;
    job->low = MIN(job->low, job->end);
    job->at = G_MAXUINT64;
    if (job->low >= job->end) {
        if (is_exact(self) && alone && job->found)
            note_run(self, job->bad, job->end);
        end_visit(self);
    } else if (!is_exact(self) && (job->end - job->low < job->floor || !is_worth_it(self))) {
        end_visit(self);
    }
}

static void boundary_slow(EkScheduler *self, const EkResult *result)
{
    EkJob *job = &self->job;
    if (job->slow && result->first == job->from)
        ek_scheduler_set(self, job->low, job->from, EK_STATE_SET_ASIDE, EK_REASON_SLOW, 1);
    job->low = result->end;
    job->bad = MIN(job->bad, job->low - 1);
    job->known = job->low - job->bad - 1;
    job->slow = TRUE;
    ek_scheduler_set(self, job->low, job->end, EK_STATE_SET_ASIDE, EK_REASON_SLOW, 0);
    job->at = G_MAXUINT64;
    if (job->low >= job->end || job->end - job->low < job->floor)
        end_visit(self);
}

void ek_boundary_observe(EkScheduler *self, const EkResult *result)
{
    EkJob *job = &self->job;
    job->good += result->good - result->first;
    job->seconds += result->seconds;
    if (result->reason != EK_REASON_NONE) {
        boundary_failed(self, result);
    } else if (result->slow && self->round == EK_ROUND_SKIM) {
        boundary_slow(self, result);
    } else {
        job->probing = FALSE;
        job->at = result->end;
        if (job->at >= job->end)
            run_is_through(self);
    }
}

/* Is the run of a bad region before `first` likely to have ended there? */
static gboolean is_likely_over(const EkScheduler *self, EkSector first)
{
    EkSector bad = ek_region_begin(self, first);
    return bad < first &&
           ek_runs_share(&self->runs, first - bad, 0, self->parts.sectors) >= FORWARD + 0.01;
}

/* Is it likely to end somewhere before `end`? */
static gboolean is_walkable(const EkScheduler *self, EkSector first, EkSector end)
{
    EkSector bad = ek_region_begin(self, first);
    return bad < first &&
           bad + ek_runs_quantile(&self->runs, FORWARD, 0, self->parts.sectors) < end;
}

gboolean ek_fill_reopen(EkScheduler *self, EkSectorRange window)
{
    if (self->parts.backwards || !ek_scheduler_stays(self))
        return FALSE;
    gboolean some = FALSE;
    EkSector from = self->cursor;
    EkSector block = ek_scheduler_block(self);
    EkStretch gap;
    while (ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &gap)) {
        if (ek_region_kind(&gap) != EK_REGION_SKIPPED || gap.count < block ||
            gap.first - ek_region_begin(self, gap.first) > block ||
            !is_likely_over(self, gap.first))
            continue;
        ek_scheduler_reopen(self, gap.first, gap.first + gap.count);
        some = TRUE;
    }
    self->cursor = from;
    self->came_back |= some;
    return some;
}

gboolean ek_fill_pick(EkScheduler *self, EkSectorRange window)
{
    EkStretch gap;
    EkSector floor = MAX(self->floor, ek_scheduler_block(self));
    while (ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &gap)) {
        EkSector first = gap.first;
        EkSector end = gap.first + gap.count;
        EkRegionKind kind = ek_region_kind(&gap);
        gboolean slow = kind == EK_REGION_SLOW;
        if ((kind != EK_REGION_SKIPPED && !slow) || gap.count < floor)
            continue;
        gboolean fine_before = ek_region_is_fine(ek_region_before(self, first));
        gboolean fine_after = ek_region_is_fine(ek_region_from(self, end));
        EkSector bad = first;
        if (slow)
            bad = first - MIN(first, 1);
        else if (!fine_before)
            bad = ek_region_begin(self, first);
        gboolean both_bad = !slow && !fine_before && !fine_after && !is_likely_over(self, first);
        if (both_bad && (gap.count / PROBED_FOR < floor ||
                         gap.count * self->parts.sector_size < BOTH_BAD_BYTES))
            continue;
        ek_boundary_begin(self, bad, first, end, MAX(floor, self->parts.unit + 1), slow);
        if (both_bad) {
            self->job.from = self->job.at = ek_scheduler_align_down(self, first + gap.count / 2);
            self->job.probing = TRUE;
        }
        self->found = TRUE;
        return TRUE;
    }
    return FALSE;
}

/* A stretch that failed after a bad region: the last bad sector is in it. */
static void begin_in_failed(EkScheduler *self, EkSector first, EkSector end)
{
    EkSector bad = ek_region_begin(self, first);
    ek_boundary_begin(self, bad, first + self->parts.unit, end, self->parts.unit, FALSE);
    self->job.known = first - bad;
}

/* A stretch that failed as a whole, or is what is left of one. */
static gboolean is_searchable(const EkScheduler *self, const EkStretch *stretch)
{
    return ek_region_kind(stretch) == EK_REGION_FAILED &&
           stretch->mark.reason != EK_REASON_TRANSPORT &&
           (stretch->count > self->parts.unit || stretch->mark.reason == EK_REASON_MEDIUM);
}

/* A region that nobody tried, next to a good region. */
gboolean ek_gap_pick(EkScheduler *self, EkSectorRange window)
{
    EkStretch gap;
    while (ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &gap)) {
        EkSector first = gap.first;
        EkSector end = gap.first + gap.count;
        EkRegionKind kind = ek_region_kind(&gap);
        gboolean untried = kind == EK_REGION_SKIPPED ||
                           (kind == EK_REGION_EXPECTED && self->round == EK_ROUND_SINGLE);
        EkSector bad = first;
        if (!untried)
            continue;
        if (!ek_region_is_fine(ek_region_before(self, first))) {
            if (!ek_region_is_fine(ek_region_from(self, end)) && !is_walkable(self, first, end))
                continue;
            bad = ek_region_begin(self, first);
        }
        ek_boundary_begin(self, bad, first, end, self->parts.unit, FALSE);
        self->found = self->worked = TRUE;
        return TRUE;
    }
    return FALSE;
}

gboolean ek_right_pick(EkScheduler *self, EkSectorRange window)
{
    EkStretch gap;
    while (ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &gap)) {
        EkSector end = gap.first + gap.count;
        if (!is_searchable(self, &gap) || !ek_region_is_fine(ek_region_from(self, end)) ||
            ek_region_is_fine(ek_region_before(self, gap.first)))
            continue;
        if (gap.count > self->parts.unit)
            begin_in_failed(self, gap.first, end);
        else
            ek_left_begin(self, gap.first, end);
        self->found = self->worked = TRUE;
        return TRUE;
    }
    return FALSE;
}

/* --- the beginning of a bad region --- */

void ek_left_begin(EkScheduler *self, EkSector first, EkSector end)
{
    self->job = (EkJob){.kind = EK_JOB_LEFT, .at = first, .end = end, .low = end};
}

gboolean ek_left_pick(EkScheduler *self, EkSectorRange window)
{
    EkStretch stretch;
    /* What is as long as the floor was walked into already. */
    EkSector least = self->floor > self->parts.unit ? self->floor + 1 : self->floor;
    while (ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &stretch)) {
        if (!is_searchable(self, &stretch) || stretch.count < least ||
            !ek_region_is_fine(ek_region_before(self, stretch.first)))
            continue;
        ek_left_begin(self, stretch.first, stretch.first + stretch.count);
        self->found = self->worked = TRUE;
        return TRUE;
    }
    return FALSE;
}

/* Whether failed stretches are looked into in sweeps, each a little further. */
static gboolean is_in_sweeps(const EkScheduler *self)
{
    return self->round != EK_ROUND_SKIM && ek_block_walk(&self->costs) > 0;
}

/* Far enough for now: the further a walk gets without a failure, the less there is behind the one
 * that must come, so all stretches are walked into evenly. */
static gboolean is_walked(const EkScheduler *self)
{
    return self->job.end - self->job.at <= self->floor && self->floor > self->parts.unit &&
           is_in_sweeps(self);
}

gboolean ek_left_next(EkScheduler *self, EkRead *read)
{
    EkJob *job = &self->job;
    if (job->found || job->at >= job->end || is_walked(self))
        return FALSE;
    EkSector guess;
    if (ek_run_pattern_begin(&self->edges, job->at, job->end, &guess)) {
        guess = ek_scheduler_align_down(self, guess);
        EkSector most = MIN(job->end - job->at, self->parts.command);
        EkSector count = guess > job->at ? guess - job->at : self->parts.unit;
        read->first = job->at;
        read->count = (guint32)MIN(count, most);
        return TRUE;
    }
    EkSector units = ek_divide_up(job->end - job->at, self->parts.unit);
    EkSector step = ek_block_step(&self->costs, units) * self->parts.unit;
    EkSector to = ek_scheduler_align_down(self, job->at + step);
    if (to <= job->at)
        to = ek_scheduler_align_up(self, job->at + 1);
    read->first = job->at;
    read->count = (guint32)MIN(MIN(to, job->end) - job->at, self->parts.command);
    return TRUE;
}

/* What follows a failure in the stretch is open again; it is read at once, from its far side, when
 * the bad run is likely to be over. */
static void go_on_behind(EkScheduler *self, EkSector bad, EkSector after)
{
    EkSector end = self->job.low;
    self->job.found = TRUE;
    if (self->round == EK_ROUND_SKIM) {
        /* Looked into at once: the skim goes on right behind it. */
        ek_scheduler_reopen(self, after, end);
        self->cursor = after;
        self->bad_at = bad;
        return;
    }
    if (after >= end || !ek_region_is_fine(ek_region_from(self, end)))
        return;
    double now = ek_runs_share(&self->runs, after - bad, 0, end - bad);
    if (now >= LIKELY)
        ek_boundary_begin(self, bad, after, end, self->parts.unit, FALSE);
}

/* The first bad sector stands at `bad`. */
static void left_found(EkScheduler *self, EkSector bad, EkSector after)
{
    if (self->job.from > 0 && bad > self->job.from)
        note_run(self, self->job.bad, self->job.from);
    if (ek_region_before(self, bad) == EK_REGION_BAD)
        bad = ek_region_begin(self, bad); /* the same run still */
    else
        ek_run_pattern_note_begin(&self->edges, bad);
    ek_scheduler_set(self, after, self->job.end, EK_STATE_SET_ASIDE, EK_REASON_SKIPPED, 0);
    if (ek_stride_is_busy(self)) {
        self->job.found = TRUE;
        self->learning.found = bad;
        return;
    }
    if (after >= self->job.low && ek_region_is_fine(ek_region_from(self, after)))
        note_run(self, bad, after);
    go_on_behind(self, bad, after);
}

/* Near enough for now: all stretches are looked into roughly before any is looked into exactly. */
static gboolean is_near_enough(const EkScheduler *self, EkSector failed)
{
    return failed * ROUGHLY <= self->floor && is_in_sweeps(self);
}

void ek_left_observe(EkScheduler *self, const EkResult *result)
{
    EkJob *job = &self->job;
    job->at = result->good;
    if (result->reason == EK_REASON_NONE)
        return;
    guint32 attempts = ek_read_map_at(self->parts.map, result->good).mark.attempts + 1;
    gboolean alone = result->failed_end - result->good <= self->parts.unit;
    gboolean is_bad = alone && result->reason == EK_REASON_MEDIUM;
    ek_scheduler_set(self, result->good, result->failed_end,
                     is_bad ? EK_STATE_BAD : EK_STATE_SET_ASIDE, result->reason, attempts);
    if (alone) {
        left_found(self, result->good, result->failed_end);
        return;
    }
    ek_scheduler_set(self, result->failed_end, job->end, EK_STATE_SET_ASIDE, EK_REASON_SKIPPED, 0);
    job->end = result->failed_end;
    if (is_near_enough(self, result->failed_end - result->good))
        go_on_behind(self, result->good, result->failed_end);
}
