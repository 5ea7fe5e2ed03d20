/* SPDX-License-Identifier: MIT */
/* The scheduler: decides which sectors are read next. It looks at the read map, at what is wanted
 * and at what things have cost on this drive so far, and remembers between reads only what it can
 * learn anew: a scheduler made over the same map goes on sensibly. It reads and writes nothing.
 *
 * Three things it does everywhere. A search for the place where a good region ends weighs what a
 * success costs against what a failure costs, and asks where the chances stand accordingly. Where
 * a bad region ends is looked for from its far side, by what was learned of the length of bad runs.
 * And the size of a read follows how often reads fail. */
#ifndef EK_CAPTURE_SCHEDULER_H
#define EK_CAPTURE_SCHEDULER_H

#include "capture/costs.h"
#include "device/device.h"
#include "image/readmap.h"

/* What imaging is doing. The numbers are stored: never renumber. */
typedef enum {
    EK_ROUND_NONE = 0,
    EK_ROUND_SKIM = 1,
    EK_ROUND_NARROW = 2,
    EK_ROUND_SINGLE = 3,
    EK_ROUND_AGAIN = 4
} EkRound;

/* "skim", "narrow", "single", "again"; "" for EK_ROUND_NONE. */
const char *ek_round_name(EkRound round);

typedef struct {
    EkSector first;
    EkSector count;
} EkSectorRange;

typedef struct {
    EkSector first;
    guint32 count;
    guint32 block; /* sectors in each command of it; 0: the drive's largest */
    EkRound round;
} EkRead;

typedef struct {
    const EkReadMap *map; /* kept up to date by whoever reads; must outlive the scheduler */
    EkSector sectors;
    guint32 sector_size;
    guint32 unit;    /* sectors that are read or lost together */
    guint32 command; /* sectors in the drive's largest command */
    guint32 most;    /* sectors in the largest read; what comes before the command that fails is
                        kept */
    const EkSectorRange *wanted; /* these first in every round, in this order; may overlap */
    gsize wanted_count;
    gboolean only_wanted; /* and nothing else */
    EkSectorRange limits; /* nothing outside is read; count 0: no limits */
    gboolean backwards;   /* the skim goes from the end to the beginning */
    guint32 block;        /* sectors in a read of the skim; 0: as it turns out best */
    double patience;      /* a read that takes this many times as long as usual is trouble */
    guint again;          /* how many times bad sectors are tried once more at the end */
    EkCostsKept costs;    /* what was measured another time */
    void *data;
    /* Gives sectors a mark, in `map` too. Called within ek_scheduler_observe and _next. */
    void (*set)(void *data, EkSector first, EkSector count, EkState state, EkReason reason,
                guint32 attempts);
} EkSchedulerParts;

typedef struct EkScheduler EkScheduler;

EkScheduler *ek_scheduler_new(const EkSchedulerParts *parts);
void ek_scheduler_free(EkScheduler *scheduler);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkScheduler, ek_scheduler_free)

/* Chooses the next read. FALSE when nothing is left. */
gboolean ek_scheduler_next(EkScheduler *scheduler, EkRead *read);

/* Tells what came of it, and how long it took in seconds of device time. A read that found the
 * device gone is told too: its place and a margin around it are left for the end. */
void ek_scheduler_observe(EkScheduler *scheduler, const EkRead *read, const EkReadOutcome *outcome,
                          double seconds);

/* The round that the last read belonged to. When it changes to a later one, the earlier ones have
 * nothing left (in the wanted stretches or altogether). */
EkRound ek_scheduler_round(const EkScheduler *scheduler);

/* Seconds of device time that what is left will take, at worst, by what was measured so far. */
double ek_scheduler_estimate(const EkScheduler *scheduler);

/* What things cost on this drive, as measured. */
EkCostsKept ek_scheduler_costs(const EkScheduler *scheduler);

/* The largest read is of so many sectors now, the largest command of so many: the drive is reached
 * another way. */
void ek_scheduler_resize(EkScheduler *scheduler, guint32 unit, guint32 command, guint32 most);

#endif
