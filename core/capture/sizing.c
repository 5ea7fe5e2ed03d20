/* SPDX-License-Identifier: MIT */
/* How large the next read is: by what failures have cost of late. */
#include "capture/scheduling.h"

#include <math.h>

#define ABOUT 0.05      /* a change that makes no difference */
#define SLOW_PROBE 64.0 /* sectors */

/* Separate failures a sector, of late: as few as any look back, near or far, allows. */
static double failures_per_sector(const EkScheduler *self)
{
    guint kept = MIN(self->failed_count, G_N_ELEMENTS(self->failed_at));
    double least = kept < 2 ? 0 : 1;
    for (guint i = 1; i <= kept && kept >= 2; i *= 2) {
        EkSector then = self->failed_at[(self->failed_count - i) % G_N_ELEMENTS(self->failed_at)];
        least = MIN(least, (i + 1) / (double)MAX(self->odometer - then, 1));
    }
    return least;
}

static gboolean is_about(double value, double other)
{
    return value > other * (1 - ABOUT) && value < other * (1 + ABOUT);
}

static EkBlockSize block_size(EkScheduler *self)
{
    double rate = failures_per_sector(self);
    EkBlockChoice *chosen = &self->chosen;
    if (self->parts.block > 0)
        return (EkBlockSize){self->parts.block, FALSE};
    if (rate <= 0)
        return (EkBlockSize){self->parts.command, FALSE};
    if (chosen->size.block == 0 || chosen->most != self->parts.command ||
        !is_about(chosen->rate, rate) || !is_about(chosen->failure, self->costs.failure) ||
        !is_about(chosen->command, self->costs.command))
        *chosen = (EkBlockChoice){
            rate, self->costs.failure, self->costs.command, self->parts.command,
            ek_block_size(&self->costs, rate, self->parts.unit, self->parts.command)};
    return chosen->size;
}

guint32 ek_scheduler_block(EkScheduler *self)
{
    return block_size(self).block;
}

gboolean ek_scheduler_stays(EkScheduler *self)
{
    return block_size(self).stay;
}

void ek_scheduler_size(EkScheduler *self, EkRead *read, EkSector well)
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
