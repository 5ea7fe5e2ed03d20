/* SPDX-License-Identifier: MIT */
/* The scheduler's inside, for its own files only. */
#ifndef EK_CAPTURE_SCHEDULING_H
#define EK_CAPTURE_SCHEDULING_H

#include "base/repetition.h"
#include "capture/blocksize.h"
#include "capture/runpattern.h"
#include "capture/runs.h"
#include "capture/scheduler.h"

/* What a stretch is to the scheduler: all of it can be told from the map's marks. */
typedef enum {
    EK_REGION_GOOD,
    EK_REGION_UNTOUCHED,
    EK_REGION_SKIPPED,  /* never tried */
    EK_REGION_SLOW,     /* never tried, beside a slow region */
    EK_REGION_SLOW_IN,  /* never tried, between a slow region and a slow region */
    EK_REGION_EXPECTED, /* never tried: a damaged head is expected to fail here */
    EK_REGION_AVOIDED,  /* never tried: near where the device vanished */
    EK_REGION_FAILED,   /* a read of all of it failed */
    EK_REGION_BAD
} EkRegionKind;

/* Failed attempts from here on: read alone, and the device vanished. */
#define EK_GONE_ALONE 64u

typedef enum {
    EK_JOB_NONE,
    EK_JOB_FIRST,    /* reading on over an untouched region */
    EK_JOB_BOUNDARY, /* looking for where a bad region ends, from the far side */
    EK_JOB_LEFT,     /* looking for where it begins, in a stretch that failed */
    EK_JOB_PLAIN,    /* reading on, whatever it costs */
    EK_JOB_PROBE,    /* one small read in the middle of nowhere */
    EK_JOB_SINGLE,   /* one by one */
    EK_JOB_AGAIN     /* bad ones once more */
} EkJobKind;

typedef struct {
    EkJobKind kind;
    EkSector at;      /* the next read begins here; going backwards: ends here */
    EkSector end;     /* the run ends here; going backwards: begins here */
    EkSector low;     /* boundary: the first sector that nobody knows about; left: the end of what
                         was searched at first */
    EkSector bad;     /* boundary: where the bad run before it began; left: the same, with `from` */
    EkSector known;   /* boundary: sectors that the bad run has at least */
    EkSector from;    /* boundary: where this run began; left: where it was begun right behind a bad
                         run that should have ended; 0: it was not */
    EkSector floor;   /* boundary: what is shorter is left for later */
    EkSector good;    /* read well in this job */
    double seconds;   /* spent on it */
    guint gallop;     /* single: units in the next read */
    guint streak;     /* single: failures in a row */
    gboolean slow;    /* boundary: it is a slow region whose end is looked for */
    gboolean found;   /* the first bad sector stands at `bad`, exactly */
    gboolean probing; /* the next read is the first after a jump: a small one */
} EkJob;

#define EK_STRIDES 8
#define EK_EDGES 3

/* A damaged head, as learned. */
typedef struct {
    EkRepetition runs;
    guint64 learned_at; /* number of the last run that it was learned from */
    guint64 confirmed;  /* number of the last run that was seen to fail */
    guint64 to_probe;   /* number of the next one whose middle is tried */
    guint64 last;       /* number of the last run that was stepped over */
    guint64 ended;      /* number of a later run that was seen to read; 0: none */
    guint64 asked;      /* number of the run that is being looked into for this; 0: none */
    guint64 step;       /* runs back to the next one that is */
    gboolean narrowing; /* one that was looked into for this failed */
    guint proofs;       /* runs that failed as it said */
    gboolean active;
} EkStride;

/* What a search for a pattern is about to find out. */
typedef enum {
    EK_PATTERN_SEARCH_NONE,
    EK_PATTERN_SEARCH_FIRST_EDGE,  /* where exactly the failed run begins */
    EK_PATTERN_SEARCH_FAR,         /* some place behind it that reads */
    EK_PATTERN_SEARCH_WIDTH,       /* where exactly it ends */
    EK_PATTERN_SEARCH_TO_SECOND,   /* reading on to the next */
    EK_PATTERN_SEARCH_SECOND_EDGE, /* where exactly that begins */
    EK_PATTERN_SEARCH_TO_THIRD,
    EK_PATTERN_SEARCH_THIRD_EDGE
} EkPatternStage;

typedef struct {
    EkPatternStage stage;
    EkSector found; /* the edge that was looked for; G_MAXUINT64: not yet */
    EkSector edges[EK_EDGES];
    EkSector width;    /* of the first run */
    EkSector distance; /* from the first edge, where something that reads is looked for */
    EkSector first_distance;
    EkSector from;  /* reading on from here */
    EkSector limit; /* a failure further on belongs to something else */
    guint in_vain;  /* searches for a pattern */
    EkSectorRange
        left;       /* failed after a good region, what follows was jumped over; 0 sectors: none */
    guint proved;   /* patterns that held after they were learned */
    guint reopened; /* of these, when a jumped-over region was last given back */

    /* What speaks for a search for a pattern. */
    EkSectorRange blocks[EK_EDGES]; /* that failed right after a good region, the latest last */
    guint count;
    guint failures;   /* separate ones since the last search for a pattern */
    guint long_runs;  /* runs in which a jump landed, since then */
    gboolean counted; /* the present one is among them */
} EkLearning;

/* The size of a read that was found best, and for what. */
typedef struct {
    double rate; /* separate failures a sector */
    double failure;
    double command;
    guint32 most;
    EkBlockSize size; /* of 0 sectors: none yet */
} EkBlockChoice;

struct EkScheduler {
    EkSchedulerParts parts;
    GArray *windows; /* EkSectorRange: the wanted ones, then everything */
    EkCosts costs;
    EkRuns runs;
    EkRuns slow_runs;
    EkRunPattern edges;

    EkRound round;
    guint window;
    guint level;
    EkSector cursor;
    EkSector floor;
    EkSector inside_floor; /* where the level that looks inside goes on; 0: at its beginning */
    gboolean found;        /* something, in this sweep */
    gboolean worked;       /* something, in this round of levels */
    guint again;

    EkJob job;
    gboolean answered;      /* the device did, since it was last gone */
    EkSector lost_at;       /* the read at which it was, + 1 */
    gboolean failed_before; /* the last read did, but the device was there */
    EkSector next;          /* where the last good read ended */
    EkSector odometer;      /* sectors tried */
    EkSector failed_at[32]; /* odometer at the last separate failures */
    guint failed_count;
    EkBlockChoice chosen;

    /* The skim over an untouched region. */
    EkSector jump;
    EkSector slow_jump;
    EkSector bad_at;     /* where the last bad run was met */
    EkSector good_since; /* sectors read well since the last failure */
    guint near_failures;
    gboolean came_back; /* to a region that was left for its poor yield */
    guint landings;     /* jumps in a row that landed on a bad region */
    EkStride strides[EK_STRIDES];
    guint stride_count;
    EkLearning learning;
    double yield_good; /* what visits to gaps brought: sectors and seconds, fading */
    double yield_seconds;
};

EkRegionKind ek_region_kind(const EkStretch *stretch);
/* Good, or nothing known against it. */
gboolean ek_region_is_fine(EkRegionKind kind);
/* The next stretch in `state` from the cursor on, cut to the window; the cursor goes behind it. */
gboolean ek_scheduler_next_stretch(EkScheduler *self, EkSectorRange window, EkState state,
                                   EkStretch *stretch);
/* The kind of region right before `first` and at `end`; good beyond the ends of the drive. */
EkRegionKind ek_region_before(const EkScheduler *self, EkSector first);
EkRegionKind ek_region_from(const EkScheduler *self, EkSector end);
/* The first of the region before `first` that is not good. */
EkSector ek_region_begin(const EkScheduler *self, EkSector first);

void ek_scheduler_set(EkScheduler *self, EkSector first, EkSector end, EkState state,
                      EkReason reason, guint32 attempts);
/* What was left for later is untouched again. */
void ek_scheduler_reopen(EkScheduler *self, EkSector first, EkSector end);
/* Sectors in the next read of a good-looking region. */
guint32 ek_scheduler_block(EkScheduler *self);
/* Whether a failure in the skim is looked into at once. */
gboolean ek_scheduler_stays(EkScheduler *self);
/* The size of the next read of a good-looking region, after `well` sectors that read well: commands
 * as they are best, the more of them the longer it has gone well. */
void ek_scheduler_size(EkScheduler *self, EkRead *read, EkSector well);
/* Sectors of a probe that can tell a slow region from usual. */
guint32 ek_scheduler_slow_probe(const EkScheduler *self);
/* What any read may take longer, in seconds. */
#define SLOW_GRACE 0.02
EkSector ek_scheduler_align_down(const EkScheduler *self, EkSector sector);
EkSector ek_scheduler_align_up(const EkScheduler *self, EkSector sector);
/* Sectors that would be read in the time that a failure costs. */
double ek_scheduler_failure_sectors(const EkScheduler *self);
/* Whether a bad region that began at `bad` is likely to end with what failed up to `end`: where a
 * jump costs more than the next failure, reading just goes on. */
gboolean ek_scheduler_is_over(const EkScheduler *self, EkSector bad, EkSector end);
/* A failure in a region that was not known to be bad. */
void ek_scheduler_note_separate_failure(EkScheduler *self);

/* A read as its job sees it. */
typedef struct {
    EkSector first;
    EkSector end;
    EkSector good;       /* the first sector that did not come back; `end` when all did */
    EkSector failed_end; /* end of the command that failed; what follows was not tried */
    EkReason reason;
    gboolean slow;
    double seconds;
} EkResult;

/* One file a group of jobs. pick: looks for a job from the cursor on, FALSE when there is none up
 * to `end`. next: the job's next read, FALSE when it is through. observe: what came of it. */
gboolean ek_first_pick(EkScheduler *self, EkSectorRange window);
gboolean ek_first_next(EkScheduler *self, EkRead *read);
void ek_first_observe(EkScheduler *self, const EkResult *result);

/* The run of a pattern that holds a sector, or the next one. FALSE: there is none. */
gboolean ek_stride_run_at(const EkStride *stride, EkSector sector, EkRepeated *run);
/* Cuts [*first, end) to begin after, and end before, a region where a damaged head is expected. */
gboolean ek_stride_step_over(EkScheduler *self, EkSector *first, EkSector *end);
/* Sectors in a run of the pattern that was learned last; 0: there is none. */
EkSector ek_stride_width(const EkScheduler *self);
/* Whether a pattern asks for a look into the run that begins at or before `at`: the read. */
gboolean ek_stride_wants_probe(EkScheduler *self, EkSector at, EkRead *read);
void ek_stride_probed(EkScheduler *self, EkSector sector, gboolean failed);
/* The skim failed, after a good region or where a jump landed. TRUE when the search for a pattern
 * has a job now. */
gboolean ek_stride_note_failure(EkScheduler *self, EkSector first, EkSector end, gboolean landed);
/* Looks where patterns ended that were believed until the end of the region. */
gboolean ek_stride_check_pick(EkScheduler *self, EkSectorRange window);
/* Learns from a map on which region was stepped over what pattern it was stepped over for. */
void ek_stride_recall(EkScheduler *self);
/* Looks for a pattern in a region that was jumped over, where that costs next to nothing: a search
 * for a pattern is begun, and what was jumped over is untouched again. */
gboolean ek_stride_look_pick(EkScheduler *self, EkSectorRange window);
/* Since a pattern has proved itself, a region that was only jumped over for want of it is untouched
 * again. TRUE when there is some. */
gboolean ek_stride_reopen(EkScheduler *self, EkSectorRange window);
/* Whether the search for a pattern chooses the next job. */
gboolean ek_stride_is_busy(const EkScheduler *self);
/* The search for a pattern's job is through: begins the next. FALSE when the skim goes on. */
gboolean ek_stride_learn_on(EkScheduler *self);

/* Where failures are looked into at once, a region that was jumped over for an isolated one is
 * untouched again. TRUE when there is some. */
gboolean ek_fill_reopen(EkScheduler *self, EkSectorRange window);
gboolean ek_fill_pick(EkScheduler *self, EkSectorRange window);
gboolean ek_gap_pick(EkScheduler *self, EkSectorRange window);
gboolean ek_left_pick(EkScheduler *self, EkSectorRange window);
gboolean ek_right_pick(EkScheduler *self, EkSectorRange window);
void ek_left_begin(EkScheduler *self, EkSector first, EkSector end);
gboolean ek_left_next(EkScheduler *self, EkRead *read);
void ek_left_observe(EkScheduler *self, const EkResult *result);
void ek_boundary_begin(EkScheduler *self, EkSector bad, EkSector low, EkSector high, EkSector floor,
                       gboolean slow);
gboolean ek_boundary_next(EkScheduler *self, EkRead *read);
void ek_boundary_observe(EkScheduler *self, const EkResult *result);

gboolean ek_plain_pick(EkScheduler *self, EkSectorRange window, EkRegionKind kind);
gboolean ek_plain_next(EkScheduler *self, EkRead *read);
void ek_plain_observe(EkScheduler *self, const EkResult *result);
gboolean ek_inside_pick(EkScheduler *self, EkSectorRange window);
gboolean ek_probe_next(EkScheduler *self, EkRead *read);
void ek_probe_observe(EkScheduler *self, const EkResult *result);
gboolean ek_single_pick(EkScheduler *self, EkSectorRange window);
gboolean ek_single_next(EkScheduler *self, EkRead *read);
void ek_single_observe(EkScheduler *self, const EkResult *result);
gboolean ek_again_pick(EkScheduler *self, EkSectorRange window);
gboolean ek_again_next(EkScheduler *self, EkRead *read);
void ek_again_observe(EkScheduler *self, const EkResult *result);

#endif
