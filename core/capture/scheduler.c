/* SPDX-License-Identifier: MIT */
/* The order of things: rounds, within a round the wanted stretches by rank and then everything,
 * within these the levels of the round, and within a level sweeps over the map. */
#include "capture/scheduling.h"

#include <math.h>

#define LEAST_FAILURE 0.1 /* share of a read that failed */
#define FAR_SHARE 16u
#define FLOOR_STEP 4u
#define INSIDE_BYTES                                                                               \
    ((EkByte)64u << 20) /* a region that is bad throughout costs one failure for it */
#define INSIDE_UNITS 64u
#define INSIDE_SECONDS 300.0
#define AVOID_BYTES ((EkByte)32u << 20)

typedef enum {
    LEVEL_FIRST,
    LEVEL_CHECK,
    LEVEL_FILL,
    LEVEL_LOOK,
    LEVEL_GAPS,
    LEVEL_LEFT,
    LEVEL_RIGHT,
    LEVEL_SLOW,
    LEVEL_SLOW_IN,
    LEVEL_INSIDE,
    LEVEL_INSIDE_FINE,
    LEVEL_AVOIDED,
    LEVEL_SINGLE,
    LEVEL_AGAIN,
    LEVEL_END
} Level;

#define MOST_LEVELS 7

static const Level skim_levels[MOST_LEVELS] = {LEVEL_FIRST, LEVEL_CHECK, LEVEL_FILL, LEVEL_LOOK,
                                               LEVEL_END};
static const Level narrow_levels[MOST_LEVELS] = {
    LEVEL_GAPS, LEVEL_LEFT, LEVEL_RIGHT, LEVEL_SLOW, LEVEL_SLOW_IN, LEVEL_INSIDE, LEVEL_END};
static const Level narrow_slow_levels[MOST_LEVELS] = {
    LEVEL_SLOW, LEVEL_SLOW_IN, LEVEL_GAPS, LEVEL_LEFT, LEVEL_RIGHT, LEVEL_INSIDE, LEVEL_END};
static const Level single_levels[MOST_LEVELS] = {
    LEVEL_GAPS, LEVEL_LEFT, LEVEL_RIGHT, LEVEL_INSIDE_FINE, LEVEL_AVOIDED, LEVEL_SINGLE, LEVEL_END};
static const Level again_levels[MOST_LEVELS] = {LEVEL_AGAIN, LEVEL_END};

const char *ek_round_name(EkRound round)
{
    switch (round) {
    case EK_ROUND_SKIM: return "skim";
    case EK_ROUND_NARROW: return "narrow";
    case EK_ROUND_SINGLE: return "single";
    case EK_ROUND_AGAIN: return "again";
    case EK_ROUND_NONE: break;
    }
    return "";
}

/* --- rounds and levels --- */

static EkSector sectors_in(const EkScheduler *self, EkByte bytes)
{
    return MAX(bytes / self->parts.sector_size, 1);
}

static const Level *levels_of(EkScheduler *self)
{
    switch (self->round) {
    case EK_ROUND_SKIM: return skim_levels;
    case EK_ROUND_NARROW: {
        /* A slow region brings something for sure; which brings more for the time? */
        double slow = 1 / self->costs.slow_sector;
        double narrow = ek_scheduler_block(self) / (2 * self->costs.failure);
        return slow > narrow ? narrow_slow_levels : narrow_levels;
    }
    case EK_ROUND_SINGLE: return single_levels;
    case EK_ROUND_AGAIN:
    case EK_ROUND_NONE: break;
    }
    return again_levels;
}

/* The size of stretches a level begins with and ends with. */
static EkSector first_floor(const EkScheduler *self, Level level)
{
    switch (level) {
    case LEVEL_FILL: return MAX(self->parts.sectors / FAR_SHARE, self->parts.unit);
    case LEVEL_INSIDE: return MAX(self->parts.sectors / FAR_SHARE, sectors_in(self, INSIDE_BYTES));
    case LEVEL_LEFT:
        return MAX((EkSector)(self->parts.command * ek_block_walk(&self->costs)), self->parts.unit);
    case LEVEL_INSIDE_FINE: return sectors_in(self, INSIDE_BYTES);
    default: return self->parts.unit;
    }
}

/* How closely a region that seems bad throughout is looked into before anybody is asked whether the
 * rest is wanted: as closely as a few minutes allow. */
static EkSector inside_floor(const EkScheduler *self)
{
    EkSector left = ek_read_map_total(self->parts.map, EK_STATE_SET_ASIDE);
    double floor = (double)left * self->costs.failure / INSIDE_SECONDS;
    EkSector least = (EkSector)self->parts.unit * INSIDE_UNITS;
    return MAX(least, MIN((EkSector)MIN(floor, 1e15), sectors_in(self, INSIDE_BYTES)));
}

static EkSector last_floor(const EkScheduler *self, Level level)
{
    switch (level) {
    case LEVEL_INSIDE: return inside_floor(self);
    case LEVEL_INSIDE_FINE: return (EkSector)self->parts.unit * INSIDE_UNITS;
    default: return self->parts.unit;
    }
}

static gboolean is_inside(Level level)
{
    return level == LEVEL_INSIDE || level == LEVEL_INSIDE_FINE;
}

static void begin_level(EkScheduler *self)
{
    EkSectorRange window = g_array_index(self->windows, EkSectorRange, self->window);
    Level level = levels_of(self)[self->level];
    self->cursor = window.first;
    self->found = FALSE;
    self->floor = first_floor(self, level);
    if (is_inside(level) && self->inside_floor > 0)
        self->floor = self->inside_floor;
    if (self->round == EK_ROUND_AGAIN || (self->round == EK_ROUND_SKIM && self->parts.backwards))
        self->cursor = self->again % 2 == 0 ? window.first + window.count : window.first;
}

static void begin_round(EkScheduler *self)
{
    self->level = 0;
    begin_level(self);
}

static void begin_sweep(EkScheduler *self)
{
    self->cursor = g_array_index(self->windows, EkSectorRange, self->window).first;
    self->found = FALSE;
}

/* What was found may have made work for levels that were through: they come again before any that
 * costs more. */
static gboolean go_back(EkScheduler *self)
{
    if (!self->worked || self->round == EK_ROUND_SKIM)
        return FALSE;
    self->worked = FALSE;
    begin_round(self);
    return TRUE;
}

/* The next window, or the next round with the first. FALSE when there is none. */
static gboolean advance_window(EkScheduler *self)
{
    self->level = 0;
    self->inside_floor = 0;
    self->worked = FALSE;
    if (++self->window == self->windows->len) {
        self->window = 0;
        if (self->round == EK_ROUND_AGAIN)
            self->again++;
        else
            self->round++;
    }
    if (self->round == EK_ROUND_AGAIN && self->again >= self->parts.again)
        return FALSE;
    begin_level(self);
    return TRUE;
}

/* On to the next sweep, level, window or round. FALSE when there is none. */
static gboolean advance(EkScheduler *self)
{
    const Level *levels = levels_of(self);
    Level level = levels[self->level];
    if (is_inside(level)) {
        self->inside_floor = self->floor;
        if (go_back(self))
            return TRUE;
    }
    EkSectorRange window = g_array_index(self->windows, EkSectorRange, self->window);
    if (level == LEVEL_FIRST && ek_stride_reopen(self, window)) {
        begin_level(self);
        return TRUE;
    }
    gboolean repeats = level != LEVEL_FIRST && level != LEVEL_AGAIN;
    if (repeats && self->found) {
        begin_sweep(self);
        return TRUE;
    }
    if (self->floor > last_floor(self, level)) {
        double walk = level == LEVEL_LEFT ? ek_block_walk(&self->costs) : 0;
        EkSector floor =
            walk > 0 ? (EkSector)((double)self->floor * walk) : self->floor / FLOOR_STEP;
        self->floor = MAX(floor, last_floor(self, level));
        begin_sweep(self);
        return TRUE;
    }
    Level next = levels[++self->level];
    gboolean dearer = is_inside(next) || next == LEVEL_AVOIDED || next == LEVEL_END;
    if (dearer && go_back(self))
        return TRUE;
    if (next == LEVEL_END)
        return advance_window(self);
    begin_level(self);
    return TRUE;
}

static gboolean pick_fill(EkScheduler *self, EkSectorRange window)
{
    if (!ek_fill_reopen(self, window))
        return ek_fill_pick(self, window);
    begin_round(self);
    return TRUE;
}

static gboolean pick_look(EkScheduler *self, EkSectorRange window)
{
    if (self->parts.backwards || !ek_stride_look_pick(self, window))
        return FALSE;
    begin_round(self);
    return TRUE;
}

static gboolean pick_slow(EkScheduler *self, EkSectorRange window)
{
    return ek_plain_pick(self, window, EK_REGION_SLOW);
}

static gboolean pick_slow_inside(EkScheduler *self, EkSectorRange window)
{
    return ek_plain_pick(self, window, EK_REGION_SLOW_IN);
}

static gboolean pick_avoided(EkScheduler *self, EkSectorRange window)
{
    return ek_plain_pick(self, window, EK_REGION_AVOIDED);
}

/* Begins the next job of a level in this window; FALSE when it has none. */
static gboolean (*const picks[LEVEL_END])(EkScheduler *self, EkSectorRange window) = {
    [LEVEL_FIRST] = ek_first_pick,
    [LEVEL_CHECK] = ek_stride_check_pick,
    [LEVEL_FILL] = pick_fill,
    [LEVEL_LOOK] = pick_look,
    [LEVEL_GAPS] = ek_gap_pick,
    [LEVEL_LEFT] = ek_left_pick,
    [LEVEL_RIGHT] = ek_right_pick,
    [LEVEL_SLOW] = pick_slow,
    [LEVEL_SLOW_IN] = pick_slow_inside,
    [LEVEL_INSIDE] = ek_inside_pick,
    [LEVEL_INSIDE_FINE] = ek_inside_pick,
    [LEVEL_AVOIDED] = pick_avoided,
    [LEVEL_SINGLE] = ek_single_pick,
    [LEVEL_AGAIN] = ek_again_pick,
};

static gboolean pick(EkScheduler *self)
{
    Level level = levels_of(self)[self->level];
    return level != LEVEL_END &&
           picks[level](self, g_array_index(self->windows, EkSectorRange, self->window));
}

/* What each kind of job reads next, and what it makes of what came. */
static const struct {
    gboolean (*next)(EkScheduler *self, EkRead *read); /* FALSE: it is done */
    void (*observe)(EkScheduler *self, const EkResult *result);
} jobs[] = {
    [EK_JOB_FIRST] = {ek_first_next, ek_first_observe},
    [EK_JOB_BOUNDARY] = {ek_boundary_next, ek_boundary_observe},
    [EK_JOB_LEFT] = {ek_left_next, ek_left_observe},
    [EK_JOB_PLAIN] = {ek_plain_next, ek_plain_observe},
    [EK_JOB_PROBE] = {ek_probe_next, ek_probe_observe},
    [EK_JOB_SINGLE] = {ek_single_next, ek_single_observe},
    [EK_JOB_AGAIN] = {ek_again_next, ek_again_observe},
};

gboolean ek_scheduler_next(EkScheduler *self, EkRead *read)
{
    for (;;) {
        read->block = 0;
        if (self->job.kind != EK_JOB_NONE && jobs[self->job.kind].next(self, read)) {
            read->round = self->round;
            return TRUE;
        }
        self->job = (EkJob){0};
        if (ek_stride_is_busy(self) && ek_stride_learn_on(self))
            continue;
        if (self->round == EK_ROUND_AGAIN && self->again >= self->parts.again)
            return FALSE;
        if (!pick(self) && !advance(self))
            return FALSE;
    }
}

/* --- what came of a read --- */

/* The device vanished: what was asked for is no longer asked soon, nor what lies near it. */
static void lose(EkScheduler *self, const EkRead *read)
{
    EkSector margin = sectors_in(self, AVOID_BYTES);
    EkSector from = read->first > margin ? read->first - margin : 0;
    EkSector to = MIN(read->first + read->count + margin, self->parts.sectors);
    gboolean again = self->job.kind == EK_JOB_AGAIN;
    gboolean last = self->job.kind == EK_JOB_PLAIN || self->job.kind == EK_JOB_SINGLE || again;
    gboolean downwards =
        again ? self->again % 2 == 0 : self->job.kind == EK_JOB_FIRST && self->parts.backwards;
    EkStretch stretch;
    /* A drive that is gone from the start did not vanish here. */
    gboolean here = (self->answered || self->lost_at == read->first + 1) && !last;
    self->answered = FALSE;
    self->lost_at = read->first + 1;
    if (!here && !last) {
        self->job = (EkJob){0}; /* asked for once more, when it is back */
        self->learning.stage = EK_PATTERN_SEARCH_NONE;
        return;
    }
    for (EkSector at = from;
         here && ek_read_map_next(self->parts.map, at, EK_STATES_UNREAD, &stretch) &&
         stretch.first < to;
         at = stretch.first + stretch.count) {
        EkRegionKind kind = ek_region_kind(&stretch);
        if (kind != EK_REGION_BAD && kind != EK_REGION_FAILED)
            ek_scheduler_set(self, stretch.first, MIN(stretch.first + stretch.count, to),
                             EK_STATE_SET_ASIDE, EK_REASON_TRANSPORT, 0);
    }
    /* What was read alone twice when the device vanished is what it vanishes for; once can be the
     * aftermath of the command before. */
    EkStretch there = ek_read_map_at(self->parts.map, read->first);
    gboolean alone = read->count <= self->parts.unit;
    guint32 attempts = there.mark.attempts + 1;
    if (self->failed_before)
        attempts = there.mark.attempts;
    else if (last && alone && !again)
        attempts = MAX(attempts, EK_GONE_ALONE);
    gboolean tried = last || (here && ek_region_kind(&there) == EK_REGION_FAILED);
    gboolean bad = again || (last && alone && attempts > EK_GONE_ALONE && !self->failed_before);
    self->failed_before = FALSE;
    if (tried)
        ek_scheduler_set(self, read->first, read->first + read->count,
                         bad ? EK_STATE_BAD : EK_STATE_SET_ASIDE, EK_REASON_TRANSPORT, attempts);
    if (downwards)
        self->cursor = MIN(self->cursor, read->first);
    else
        self->cursor = MAX(self->cursor, MIN(read->first + read->count, self->parts.sectors));
    self->job = (EkJob){0};
    self->learning.stage = EK_PATTERN_SEARCH_NONE;
}

void ek_scheduler_observe(EkScheduler *self, const EkRead *read, const EkReadOutcome *outcome,
                          double seconds)
{
    gboolean continues = read->first == self->next;
    guint32 block = read->block > 0 ? read->block : self->parts.command;
    double commands = ceil((double)read->count / block);
    EkResult result = {
        .first = read->first,
        .end = read->first + read->count,
        .good = read->first + outcome->good,
        .reason = outcome->reason,
        .seconds = seconds,
    };
    guint32 whole = outcome->good - outcome->good % block;
    result.failed_end = MIN(result.end, read->first + whole + block);

    ek_scheduler_set(self, result.first, result.good, EK_STATE_GOOD, EK_REASON_NONE, 0);
    self->odometer += result.failed_end - result.first;
    if (outcome->gone) {
        EkRead lost = {result.good, (guint32)(result.failed_end - result.good), 0, read->round};
        lose(self, &lost);
        return;
    }
    self->answered = TRUE;
    self->failed_before = outcome->reason != EK_REASON_NONE;
    if (outcome->reason == EK_REASON_NONE) {
        self->next = result.end;
        double usual = ek_costs_most(&self->costs, read->count, commands, continues);
        result.slow = ek_costs_know_normal(&self->costs) &&
                      seconds > usual * self->parts.patience + SLOW_GRACE;
        if (result.slow)
            self->costs.slow_sector = seconds / read->count;
        else
            ek_costs_note_good(&self->costs, read->count, commands, continues, seconds);
    } else {
        self->next = G_MAXUINT64;
        /* Less what it took to get there. */
        double before = ek_costs_expected(&self->costs, whole, (double)whole / block, continues);
        ek_costs_note_failure(&self->costs, MAX(seconds - before, seconds * LEAST_FAILURE));
    }
    if (self->job.kind != EK_JOB_NONE)
        jobs[self->job.kind].observe(self, &result);
}

/* --- making one --- */

EkScheduler *ek_scheduler_new(const EkSchedulerParts *parts)
{
    EkScheduler *self = g_new0(EkScheduler, 1);
    self->parts = *parts;
    g_assert(parts->unit > 0 && parts->command >= parts->unit && parts->most >= parts->command);
    EkSectorRange all = {0, parts->sectors};
    if (parts->limits.count > 0)
        all = parts->limits;
    self->windows = g_array_new(FALSE, FALSE, sizeof(EkSectorRange));
    for (gsize i = 0; i < parts->wanted_count; i++) {
        EkSector first = MAX(parts->wanted[i].first, all.first);
        EkSector end = MIN(parts->wanted[i].first + parts->wanted[i].count, all.first + all.count);
        EkSectorRange window = {first, end > first ? end - first : 0};
        if (window.count > 0)
            g_array_append_val(self->windows, window);
    }
    /* The last window is never missing: it may be empty. */
    if (parts->only_wanted)
        all.count = 0;
    g_array_append_val(self->windows, all);
    ek_costs_init(&self->costs, parts->sector_size);
    ek_costs_recall(&self->costs, &parts->costs);
    ek_runs_init(&self->runs);
    ek_runs_init_long(&self->slow_runs);
    self->next = G_MAXUINT64;
    self->round = EK_ROUND_SKIM;
    if (!parts->backwards)
        ek_stride_recall(self);
    begin_level(self);
    return self;
}

void ek_scheduler_free(EkScheduler *self)
{
    g_array_unref(self->windows);
    g_free(self);
}

EkRound ek_scheduler_round(const EkScheduler *self)
{
    return self->round;
}

double ek_scheduler_estimate(const EkScheduler *self)
{
    const EkCosts *costs = &self->costs;
    guint states = EK_STATE_BIT(EK_STATE_UNTOUCHED) | EK_STATE_BIT(EK_STATE_SET_ASIDE);
    double seconds = 0;
    EkStretch stretch;
    for (EkSector at = 0; ek_read_map_next(self->parts.map, at, states, &stretch);
         at = stretch.first + stretch.count) {
        double sectors = (double)stretch.count;
        switch (ek_region_kind(&stretch)) {
        case EK_REGION_UNTOUCHED:
        case EK_REGION_AVOIDED:
            seconds += sectors * (costs->sector + costs->command / self->parts.command);
            break;
        case EK_REGION_SLOW:
        case EK_REGION_SLOW_IN: seconds += sectors * costs->slow_sector; break;
        default: seconds += sectors / self->parts.unit * (costs->failure + costs->seek); break;
        }
    }
    return seconds;
}

EkCostsKept ek_scheduler_costs(const EkScheduler *self)
{
    return ek_costs_keep(&self->costs);
}

void ek_scheduler_resize(EkScheduler *self, guint32 unit, guint32 command, guint32 most)
{
    self->parts.unit = unit;
    self->parts.command = command;
    self->parts.most = most;
}
