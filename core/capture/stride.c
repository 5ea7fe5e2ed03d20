/* SPDX-License-Identifier: MIT */
/* The pattern of a damaged head: runs of bad sectors at a regular distance. A search for a pattern
 * finds where one run begins and ends and where the next two begin; from there on the skim steps
 * over what the pattern predicts, looks into it now and then, and unlearns it when it no longer
 * holds. */
#include "capture/scheduling.h"

#include <string.h>

#define PROBE_UNITS 8u
#define PROBE_STEP 8u    /* each probe so many times as many runs on as the one before */
#define DEAR_FAILURE 2.0 /* times a command: below it there is nothing to be saved */
#define REGULAR 4u       /* times what the places are uncertain by */
#define LEAST_WIDTH 8u   /* units */
#define MOST_WIDTH 0.6   /* of the stride: one of two heads */
#define MOST_STRIDE 64u  /* widths: more heads than any drive has */
#define UNEVEN 64u       /* a stride changes by less than this part of it from one to the next */
#define FAR_AT_FIRST 512u
#define FARTHEST_BYTES ((EkByte)256u << 20)
#define LONG_RUNS 2u     /* that were met on landing */
#define NEAR_FAILURES 4u /* in a row */
#define VAIN_STEP                                                                                  \
    4u /* after each search for a pattern in vain so many times as many failures to the next */
#define FAILURES_IN_PATTERN_SEARCH 30
#define NEXT_TO_NOTHING 0.001 /* of the time that reading the drive takes */
#define REOPENED 4u           /* strides */
#define MOST_BEFORE 65536u    /* runs before the first, which were met before anything was known */

EkSector ek_stride_width(const EkScheduler *self)
{
    return self->stride_count > 0 ? self->strides[self->stride_count - 1].runs.count : 0;
}

static EkSector middle_of(const EkScheduler *self, const EkRepeated *run)
{
    return ek_scheduler_align_down(self, run->first + run->count / 2);
}

static EkSector difference(EkSector one, EkSector two)
{
    return MAX(one, two) - MIN(one, two);
}

static gboolean is_in_another(const EkScheduler *self, const EkStride *stride, EkSector sector)
{
    EkRepeated run;
    for (guint i = 0; i < self->stride_count; i++)
        if (&self->strides[i] != stride && ek_stride_run_at(&self->strides[i], sector, &run) &&
            run.first <= sector)
            return TRUE;
    return FALSE;
}

/* What was stepped over since the pattern was last seen to hold was stepped over in vain. */
static void unlearn(EkScheduler *self, EkStride *stride)
{
    EkRepeated run;
    EkStretch stretch;
    guint states = EK_STATE_BIT(EK_STATE_SET_ASIDE);
    guint64 number = stride->proofs > 0 ? stride->confirmed + 1 : 0;
    for (; number <= stride->last && ek_repetition_run(&stride->runs, number, &run); number++) {
        EkSector end = run.first + run.count;
        for (EkSector at = run.first;
             at < end && ek_read_map_next(self->parts.map, at, states, &stretch) &&
             stretch.first < end;
             at = stretch.first + stretch.count)
            if (ek_region_kind(&stretch) == EK_REGION_EXPECTED &&
                !is_in_another(self, stride, stretch.first))
                ek_scheduler_set(self, stretch.first, MIN(stretch.first + stretch.count, end),
                                 EK_STATE_SET_ASIDE, EK_REASON_SKIPPED, 0);
    }
    stride->active = FALSE;
    stride->ended = stride->last = 0;
    self->learning.in_vain += stride->proofs == 0;
}

/* It begins after this run, then: no sooner than half way to where it was learned, unless that is
 * seen to read as well. What lies between is read, not stepped over. */
static void cut_before(EkStride *stride, const EkRepeated *run)
{
    EkRepeated next;
    guint64 known = stride->learned_at - (EK_EDGES - 1);
    guint64 less = run->number + 1;
    if (less < known)
        less += (known - less) / 2;
    less = MIN(less, known);
    if (!ek_repetition_run(&stride->runs, less, &next))
        return;
    stride->runs.first = next.first;
    stride->runs.every += (EkSector)((gint64)less * stride->runs.drift);
    stride->learned_at -= less;
    stride->confirmed -= MIN(stride->confirmed, less);
    stride->last -= MIN(stride->last, less);
    stride->to_probe = 0;
}

gboolean ek_stride_wants_probe(EkScheduler *self, EkSector at, EkRead *read)
{
    for (guint i = 0; i < self->stride_count && self->learning.stage == EK_PATTERN_SEARCH_NONE;
         i++) {
        EkStride *stride = &self->strides[i];
        EkRepeated run;
        if (!ek_stride_run_at(stride, at, &run) || run.first > at || run.number < stride->to_probe)
            continue;
        EkSector middle = middle_of(self, &run);
        guint32 count = self->parts.unit * (self->parts.unit < PROBE_UNITS ? PROBE_UNITS : 1);
        /* What another pattern says too would prove nothing. */
        if (middle + count > self->parts.sectors || middle < at ||
            is_in_another(self, stride, middle))
            continue;
        stride->to_probe = stride->learned_at + 1;
        if (run.number > stride->learned_at)
            stride->to_probe = run.number + (PROBE_STEP - 1) * (run.number - stride->learned_at);
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
        if (!ek_stride_run_at(stride, sector, &run) || run.first > sector)
            continue;
        if (failed) {
            stride->confirmed = MAX(stride->confirmed, run.number);
            self->learning.proved += stride->proofs++ == 0;
        } else if (run.number < stride->learned_at) {
            cut_before(stride, &run);
        } else if (stride->proofs > 0) {
            /* It held for a while: where it ended is looked for at the end of the region. */
            stride->ended = run.number;
            stride->active = FALSE;
        } else {
            unlearn(self, stride);
        }
    }
}

/* A pattern that says a run begins or ends right here, but not quite. */
static void check_patterns(EkScheduler *self, EkSector sector)
{
    EkSector near = self->parts.command;
    for (guint i = 0; i < self->stride_count; i++) {
        EkStride *stride = &self->strides[i];
        EkRepeated run;
        EkSector from = sector > near ? sector - near : 0;
        if (ek_stride_run_at(stride, from, &run) && run.first <= sector + near)
            stride->active = FALSE;
    }
}

static void begin_probe(EkScheduler *self, EkSector at)
{
    EkSector count = MAX(PROBE_UNITS, self->parts.unit);
    at = ek_scheduler_align_down(self, at);
    EkStretch stretch = ek_read_map_at(self->parts.map, at);
    self->job = (EkJob){0};
    if (stretch.mark.state != EK_STATE_GOOD)
        self->job = (EkJob){
            .kind = EK_JOB_PROBE, .at = at, .end = MIN(at + count, stretch.first + stretch.count)};
}

/* From a run that read back to the last one that failed: in growing steps at first, since what
 * reads costs little. */
static gboolean begin_check(EkScheduler *self, EkStride *stride)
{
    EkRepeated run;
    while ((stride->active || stride->ended > 0) && stride->last > stride->confirmed) {
        if (stride->asked > 0 && ek_repetition_run(&stride->runs, stride->asked, &run)) {
            gboolean reads = ek_region_from(self, middle_of(self, &run)) == EK_REGION_GOOD;
            if (reads)
                stride->ended = stride->asked;
            else
                stride->confirmed = stride->asked;
            stride->step = reads && !stride->narrowing ? MAX(stride->step, 1) * 2 : 0;
            stride->narrowing |= !reads;
        }
        if (stride->ended > 0 && stride->ended - stride->confirmed <= 1) {
            unlearn(self, stride);
            return FALSE;
        }
        stride->asked = stride->last;
        if (stride->ended > 0)
            stride->asked =
                stride->narrowing
                    ? stride->confirmed + (stride->ended - stride->confirmed) / 2
                    : stride->ended - CLAMP(stride->step, 1, stride->ended - stride->confirmed - 1);
        if (stride->asked <= stride->confirmed ||
            !ek_repetition_run(&stride->runs, stride->asked, &run))
            return FALSE;
        EkSector middle = middle_of(self, &run);
        if (is_in_another(self, stride, middle) && stride->asked > stride->confirmed + 1 &&
            ek_repetition_run(&stride->runs, --stride->asked, &run))
            middle = middle_of(self, &run);
        EkRegionKind kind = ek_region_from(self, middle);
        if (kind == EK_REGION_EXPECTED || kind == EK_REGION_SKIPPED) {
            begin_probe(self, middle);
            return TRUE;
        }
    }
    return FALSE;
}

gboolean ek_stride_check_pick(EkScheduler *self, EkSectorRange window)
{
    (void)window;
    for (guint i = 0; i < self->stride_count; i++)
        if (begin_check(self, &self->strides[i])) {
            self->found = TRUE;
            return TRUE;
        }
    return FALSE;
}

gboolean ek_stride_reopen(EkScheduler *self, EkSectorRange window)
{
    if (self->learning.proved == self->learning.reopened)
        return FALSE;
    self->learning.reopened = self->learning.proved;
    EkSector every = 0;
    for (guint i = 0; i < self->stride_count; i++) {
        every = MAX(every, self->strides[i].runs.every);
        self->strides[i].to_probe = 0;
    }
    gboolean some = FALSE;
    EkStretch gap;
    self->cursor = window.first;
    while (ek_scheduler_next_stretch(self, window, EK_STATE_SET_ASIDE, &gap))
        if (ek_region_kind(&gap) == EK_REGION_SKIPPED && gap.count / REOPENED > every) {
            ek_scheduler_reopen(self, gap.first, gap.first + gap.count);
            some = TRUE;
        }
    return some;
}

/* --- a search for a pattern --- */

static void give_up(EkScheduler *self)
{
    EkLearning *learning = &self->learning;
    learning->stage = EK_PATTERN_SEARCH_NONE;
    learning->in_vain++;
    learning->failures = learning->long_runs = learning->count = 0;
}

/* Three runs of one width, at about the same distance. */
static gboolean is_pattern(const EkSectorRange runs[EK_EDGES])
{
    EkSector width = runs[0].count;
    if (width == 0 || runs[1].count != width || runs[2].count != width)
        return FALSE;
    EkSector one = runs[1].first - runs[0].first;
    EkSector two = runs[2].first - runs[1].first;
    return difference(one, two) <= one / UNEVEN && (double)width <= MOST_WIDTH * (double)one;
}

void ek_stride_recall(EkScheduler *self)
{
    EkSectorRange runs[EK_EDGES] = {0};
    EkSectorRange found[EK_EDGES] = {0};
    EkStretch stretch;
    guint states = EK_STATE_BIT(EK_STATE_SET_ASIDE);
    for (EkSector at = 0; ek_read_map_next(self->parts.map, at, states, &stretch);
         at = stretch.first + stretch.count) {
        if (ek_region_kind(&stretch) != EK_REGION_EXPECTED)
            continue;
        runs[0] = runs[1];
        runs[1] = runs[2];
        runs[2] = (EkSectorRange){stretch.first, stretch.count};
        if (is_pattern(runs))
            memcpy(found, runs, sizeof found);
    }
    if (!is_pattern(found))
        return;
    EkSector every = found[1].first - found[0].first;
    self->strides[0] = (EkStride){
        .runs = {.first = found[0].first,
                 .count = found[0].count,
                 .every = every,
                 .drift = (gint64)(found[2].first - found[1].first) - (gint64)every},
        .learned_at = EK_EDGES - 1,
        .confirmed = EK_EDGES - 1,
        .last = EK_EDGES - 1,
        .to_probe = EK_EDGES,
        .proofs = 1,
        .active = TRUE,
    };
    self->stride_count = 1;
}

/* A region that nobody has tried yet, in [first, end), is left for this reason. */
static void leave(EkScheduler *self, EkSector first, EkSector end, EkReason reason)
{
    EkStretch stretch;
    guint states = EK_STATE_BIT(EK_STATE_UNTOUCHED) | EK_STATE_BIT(EK_STATE_SET_ASIDE);
    while (first < end && ek_read_map_next(self->parts.map, first, states, &stretch) &&
           stretch.first < end) {
        EkRegionKind kind = ek_region_kind(&stretch);
        EkSector stop = MIN(stretch.first + stretch.count, end);
        if (kind == EK_REGION_UNTOUCHED || kind == EK_REGION_SKIPPED || kind == EK_REGION_EXPECTED)
            ek_scheduler_set(self, stretch.first, stop, EK_STATE_SET_ASIDE, reason, 0);
        first = stop;
    }
}

static void begin_edge(EkScheduler *self, EkPatternStage stage, EkSector first, EkSector end)
{
    EkStretch stretch;
    self->learning.stage = stage;
    self->learning.found = G_MAXUINT64;
    self->job = (EkJob){0};
    /* It may have been looked into before. */
    if (!ek_read_map_next(self->parts.map, first, EK_STATES_UNREAD, &stretch) ||
        stretch.first >= end)
        return;
    if (ek_region_kind(&stretch) == EK_REGION_BAD)
        self->learning.found = stretch.first;
    else
        ek_left_begin(self, stretch.first, MIN(stretch.first + stretch.count, end));
}

/* Reading goes on at `from`, which is good or about to be: the next failure is the next search for
 * a pattern. */
static void read_on(EkScheduler *self, EkPatternStage stage, EkSector from, EkSector limit)
{
    self->learning.stage = stage;
    self->learning.from = from;
    self->learning.limit = limit;
    self->cursor = from;
    self->good_since = 0;
    self->jump = 0;
    self->near_failures = self->landings = 0;
    /* What is left of the block that failed is read on over, too. */
    EkStretch rest;
    if (ek_read_map_next(self->parts.map, from, EK_STATES_UNREAD, &rest) &&
        ek_region_kind(&rest) == EK_REGION_SKIPPED)
        ek_scheduler_reopen(self, rest.first, rest.first + rest.count);
}

static gboolean learn_far(EkScheduler *self)
{
    EkLearning *learning = &self->learning;
    EkSector edge = learning->edges[0];
    EkSector at = ek_scheduler_align_down(self, edge + learning->distance);
    EkSector low = edge + self->parts.unit;
    if (ek_region_from(self, at) == EK_REGION_GOOD) {
        if (learning->distance > learning->first_distance)
            low = MAX(low, ek_scheduler_align_down(self, edge + learning->distance / 2) + 1);
        learning->stage = EK_PATTERN_SEARCH_WIDTH;
        low = ek_scheduler_align_up(self, low);
        EkStretch good;
        if (ek_read_map_next(self->parts.map, low, EK_STATE_BIT(EK_STATE_GOOD), &good))
            at = MIN(at, good.first);
        leave(self, edge, at, EK_REASON_SKIPPED);
        ek_boundary_begin(self, edge, low, at, self->parts.unit, FALSE);
        self->job.known = self->job.low - edge - 1;
        return TRUE;
    }
    learning->distance *= 2;
    if (learning->distance * self->parts.sector_size > FARTHEST_BYTES ||
        edge + learning->distance + PROBE_UNITS * self->parts.unit >= self->parts.sectors) {
        leave(self, edge, at, EK_REASON_SKIPPED);
        give_up(self);
        return FALSE;
    }
    begin_probe(self, edge + learning->distance);
    return TRUE;
}

/* The run that begins at the first edge has this many sectors; 0: nothing to learn from. */
static EkSector width_of_first(const EkScheduler *self)
{
    EkStretch good;
    EkSector edge = self->learning.edges[0];
    if (!ek_read_map_next(self->parts.map, edge, EK_STATE_BIT(EK_STATE_GOOD), &good))
        return 0;
    /* What the width is measured by must itself have failed. */
    EkRegionKind last = ek_region_before(self, good.first);
    gboolean sure = last == EK_REGION_BAD || last == EK_REGION_FAILED;
    gboolean wide = good.first - edge >= (EkSector)LEAST_WIDTH * self->parts.unit;
    return sure && wide ? good.first - edge : 0;
}

/* Runs before the first were met without knowing: as many as there may have been. */
static guint extend_back(EkRepetition *runs)
{
    guint more = 0;
    for (; more < MOST_BEFORE; more++) {
        gint64 before = (gint64)runs->every - runs->drift;
        if (before <= (gint64)runs->count || runs->first < (EkSector)before)
            break;
        runs->first -= (EkSector)before;
        runs->every = (EkSector)before;
    }
    return more;
}

/* The number in `runs` of what is run `number` of another description of the same pattern. */
static guint64 number_in(const EkRepetition *runs, const EkRepetition *same, guint64 number)
{
    EkRepeated run;
    if (number == 0 || !ek_repetition_run(same, number, &run) ||
        !ek_repetition_find(runs, run.first + run.count / 2, &run))
        return 0;
    return run.number;
}

/* Whether both say the same of the region from `edge` on. */
static gboolean is_same(const EkRepetition *runs, const EkRepetition *other, EkSector edge)
{
    EkRepeated one;
    EkRepeated two;
    EkSector far = edge + 64 * runs->every;
    return runs->every == other->every && runs->drift == other->drift &&
           ek_repetition_find(runs, far, &one) && ek_repetition_find(other, far, &two) &&
           difference(one.first, two.first) <= runs->count / 4;
}

/* It was known before, if not from so early on: what was seen of it since counts. */
static void take_over(EkStride *stride, const EkStride *known)
{
    guint64 confirmed = number_in(&stride->runs, &known->runs, known->confirmed);
    stride->confirmed = MAX(stride->confirmed, confirmed);
    stride->last = number_in(&stride->runs, &known->runs, known->last);
    stride->ended = number_in(&stride->runs, &known->runs, known->ended);
    stride->proofs = known->proofs;
}

static void fit(EkScheduler *self)
{
    EkLearning *learning = &self->learning;
    const EkSector *edges = learning->edges;
    EkSector every = edges[1] - edges[0];
    EkRepetition runs = {
        .first = edges[0],
        .count = learning->width,
        .every = every,
        .drift = (gint64)(edges[2] - edges[1]) - (gint64)every,
    };
    /* What was learned before may have ended where this begins: its next run will tell. */
    for (guint i = 0; i < self->stride_count; i++)
        self->strides[i].to_probe = 0;
    guint slot = 0;
    gboolean is_known = FALSE;
    while (slot < self->stride_count &&
           (self->strides[slot].active || self->strides[slot].ended > 0)) {
        is_known = is_same(&runs, &self->strides[slot].runs, edges[2]);
        if (is_known)
            break;
        slot++;
    }
    if (slot == EK_STRIDES) {
        give_up(self);
        return;
    }
    for (guint i = 0; i < EK_EDGES; i++)
        leave(self, edges[i], edges[i] + learning->width, EK_REASON_MEDIUM);
    guint64 number = extend_back(&runs) + EK_EDGES - 1;
    self->stride_count = MAX(self->stride_count, slot + 1);
    EkStride known = self->strides[slot];
    self->strides[slot] = (EkStride){.runs = runs,
                                     .learned_at = number,
                                     .confirmed = number,
                                     .to_probe = number + 1,
                                     .active = TRUE};
    if (is_known)
        take_over(&self->strides[slot], &known);
    learning->stage = EK_PATTERN_SEARCH_NONE;
    learning->failures = learning->long_runs = learning->count = 0;
    self->near_failures = self->landings = 0;
    self->jump = 0;
    /* Where it fails is known now: that is no reason to read in small pieces. */
    self->failed_count = 0;
}

gboolean ek_stride_learn_on(EkScheduler *self)
{
    EkLearning *learning = &self->learning;
    EkPatternStage stage = learning->stage;
    gboolean is_edge = stage == EK_PATTERN_SEARCH_FIRST_EDGE ||
                       stage == EK_PATTERN_SEARCH_SECOND_EDGE ||
                       stage == EK_PATTERN_SEARCH_THIRD_EDGE;
    if (is_edge && learning->found == G_MAXUINT64) {
        give_up(self);
        return FALSE;
    }
    EkSector every = learning->edges[1] - learning->edges[0];
    switch (stage) {
    case EK_PATTERN_SEARCH_FIRST_EDGE:
        learning->edges[0] = learning->found;
        /* Another zone of the same head is not all that different. */
        learning->distance = MAX(FAR_AT_FIRST, ek_stride_width(self) / 2);
        learning->first_distance = learning->distance;
        learning->stage = EK_PATTERN_SEARCH_FAR;
        if (learning->found + learning->distance + PROBE_UNITS * self->parts.unit >=
            self->parts.sectors)
            break;
        begin_probe(self, learning->found + learning->distance);
        return TRUE;
    case EK_PATTERN_SEARCH_FAR: return learn_far(self);
    case EK_PATTERN_SEARCH_WIDTH:
        learning->width = width_of_first(self);
        if (learning->width == 0)
            break;
        read_on(self, EK_PATTERN_SEARCH_TO_SECOND, learning->edges[0] + learning->width,
                learning->edges[0] + learning->width * MOST_STRIDE);
        return FALSE;
    case EK_PATTERN_SEARCH_SECOND_EDGE:
        learning->edges[1] = learning->found;
        every = learning->edges[1] - learning->edges[0];
        if ((double)learning->width > MOST_WIDTH * (double)every)
            break;
        leave(self, learning->edges[1], learning->edges[1] + learning->width, EK_REASON_SKIPPED);
        read_on(self, EK_PATTERN_SEARCH_TO_THIRD, learning->edges[1] + learning->width,
                learning->edges[1] + every + every / UNEVEN + self->parts.command);
        return FALSE;
    case EK_PATTERN_SEARCH_THIRD_EDGE:
        learning->edges[2] = learning->found;
        fit(self);
        return FALSE;
    default: return FALSE;
    }
    give_up(self);
    return FALSE;
}

/* Everything was good from where reading went on. */
static gboolean is_next(const EkScheduler *self, EkSector first)
{
    const EkLearning *learning = &self->learning;
    if (learning->stage == EK_PATTERN_SEARCH_NONE || first < learning->from ||
        first > learning->limit)
        return FALSE;
    if (first == learning->from)
        return TRUE;
    EkStretch stretch = ek_read_map_at(self->parts.map, learning->from);
    return stretch.mark.state == EK_STATE_GOOD && stretch.first + stretch.count >= first;
}

/* Three failures at regular distances. */
static gboolean is_regular(const EkLearning *learning)
{
    const EkSectorRange *blocks = learning->blocks;
    if (learning->count < EK_EDGES || blocks[1].first < blocks[0].first ||
        blocks[2].first < blocks[1].first)
        return FALSE;
    EkSector one = blocks[1].first - blocks[0].first;
    EkSector two = blocks[2].first - blocks[1].first;
    EkSector apart = difference(one, two);
    EkSector blur = blocks[0].count + 2 * blocks[1].count + blocks[2].count + one / 256;
    return apart <= blur && one >= REGULAR * blur;
}

static gboolean is_worth_a_pattern_search(const EkScheduler *self)
{
    const EkLearning *learning = &self->learning;
    guint64 wait = 1;
    for (guint i = 0; i < learning->in_vain && wait < G_MAXUINT32; i++)
        wait *= VAIN_STEP;
    if (learning->failures < wait || self->costs.failure < DEAR_FAILURE * self->costs.command)
        return FALSE;
    return is_regular(learning) || learning->long_runs >= LONG_RUNS ||
           self->near_failures >= NEAR_FAILURES || self->stride_count > 0;
}

/* A region that failed again where a jump landed may be worth a look later. */
static void note_landing(EkScheduler *self)
{
    EkLearning *learning = &self->learning;
    if (learning->count > 0 && learning->left.count == 0)
        learning->left = learning->blocks[learning->count - 1];
}

/* Jumped over, or failed where the jump landed: nothing that is left for another reason. */
static gboolean is_jumped_over(const EkStretch *stretch)
{
    EkRegionKind kind = ek_region_kind(stretch);
    return kind == EK_REGION_SKIPPED ||
           (kind == EK_REGION_FAILED && stretch->mark.reason == EK_REASON_MEDIUM);
}

gboolean ek_stride_look_pick(EkScheduler *self, EkSectorRange window)
{
    EkLearning *learning = &self->learning;
    EkSectorRange block = learning->left;
    double drive = (double)self->parts.sectors * self->costs.sector;
    double pattern_search = FAILURES_IN_PATTERN_SEARCH * (self->costs.failure + self->costs.seek);
    EkSector stop = window.first + window.count;
    learning->left = (EkSectorRange){0};
    if (block.count == 0 || learning->in_vain > 0 || self->stride_count > 0 ||
        pattern_search > drive * NEXT_TO_NOTHING ||
        self->costs.failure < DEAR_FAILURE * self->costs.command ||
        ek_region_before(self, block.first) != EK_REGION_GOOD)
        return FALSE;
    /* What was jumped over is what there is to learn from. */
    EkSector at = block.first + block.count;
    while (at < stop) {
        EkStretch stretch = ek_read_map_at(self->parts.map, at);
        EkSector end = MIN(stretch.first + stretch.count, stop);
        if (ek_region_kind(&stretch) == EK_REGION_GOOD && stretch.count > self->parts.command)
            break;
        if (is_jumped_over(&stretch))
            ek_scheduler_reopen(self, at, end);
        at = end;
    }
    begin_edge(self, EK_PATTERN_SEARCH_FIRST_EDGE, block.first, block.first + block.count);
    return TRUE;
}

gboolean ek_stride_note_failure(EkScheduler *self, EkSector first, EkSector end, gboolean landed)
{
    EkLearning *learning = &self->learning;
    /* Right behind the good region that the search for a pattern reads on from is no landing. */
    if (landed && !is_next(self, first)) {
        learning->long_runs += !learning->counted;
        learning->counted = TRUE;
        if (learning->stage != EK_PATTERN_SEARCH_NONE)
            give_up(self);
        else
            note_landing(self);
        return FALSE;
    }
    check_patterns(self, first);
    learning->counted = FALSE;
    learning->failures++;
    if (learning->count == EK_EDGES) {
        learning->blocks[0] = learning->blocks[1];
        learning->blocks[1] = learning->blocks[2];
        learning->count--;
    }
    learning->blocks[learning->count++] = (EkSectorRange){first, end - first};
    if (learning->stage != EK_PATTERN_SEARCH_NONE) {
        if (!is_next(self, first)) {
            give_up(self);
            return FALSE;
        }
        begin_edge(self,
                   learning->stage == EK_PATTERN_SEARCH_TO_SECOND ? EK_PATTERN_SEARCH_SECOND_EDGE
                                                                  : EK_PATTERN_SEARCH_THIRD_EDGE,
                   first, end);
        return TRUE;
    }
    if (ek_region_before(self, first) != EK_REGION_GOOD || !is_worth_a_pattern_search(self))
        return FALSE;
    begin_edge(self, EK_PATTERN_SEARCH_FIRST_EDGE, first, end);
    return TRUE;
}
