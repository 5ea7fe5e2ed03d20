/* SPDX-License-Identifier: MIT */
#include "capture/costs.h"

#include <math.h>

#define TYPICAL_COMMAND 0.0001
#define TYPICAL_RATE (150.0 * 1048576.0)
#define TYPICAL_SEEK 0.01
#define TYPICAL_FAILURE 1.0
#define SLOW_TIMES 64
#define MEMORY 64.0 /* commands */
#define FAILURES_REMEMBERED 16u
#define COMMANDS_TO_KNOW 8.0
#define SMALL_SHARE 2.0 /* commands below this part of the largest count as small */

void ek_costs_init(EkCosts *costs, guint32 sector_size)
{
    *costs = (EkCosts){
        .command = TYPICAL_COMMAND,
        .sector = sector_size / TYPICAL_RATE,
        .seek = TYPICAL_SEEK,
        .failure = TYPICAL_FAILURE,
        .slow_sector = sector_size / (TYPICAL_RATE / SLOW_TIMES),
    };
}

EkCostsKept ek_costs_keep(const EkCosts *costs)
{
    return (EkCostsKept){costs->command, costs->sector, costs->seek,
                         costs->failures > 0 ? costs->failure : 0};
}

void ek_costs_recall(EkCosts *costs, const EkCostsKept *kept)
{
    if (kept->sector > 0) {
        costs->sector = kept->sector;
        costs->command = kept->command;
        costs->seek = kept->seek;
        costs->slow_sector = kept->sector * SLOW_TIMES;
    }
    if (kept->failure > 0) {
        costs->failure = kept->failure;
        costs->failures = 1;
    }
}

static void add(EkCommandMean *mean, double sectors, double seconds)
{
    mean->weight = MIN(mean->weight + 1, MEMORY);
    mean->sectors += (sectors - mean->sectors) / mean->weight;
    mean->seconds += (seconds - mean->seconds) / mean->weight;
}

/* Splits the time of a command into what it costs at all and what each sector adds. */
static void fit(EkCosts *costs)
{
    const EkCommandMean *large = &costs->large;
    const EkCommandMean *small = &costs->small;
    if (large->weight > 0 && small->weight > 0) {
        double apart = MAX(large->sectors - small->sectors, 1);
        costs->sector = MAX((large->seconds - small->seconds) / apart, 1e-9);
        costs->command = MAX(small->seconds - small->sectors * costs->sector, 1e-6);
        return;
    }
    const EkCommandMean *one = large->weight > 0 ? large : small;
    costs->command = MIN(TYPICAL_COMMAND, one->seconds / 2);
    costs->sector = MAX((one->seconds - costs->command) / one->sectors, 1e-9);
}

void ek_costs_note_good(EkCosts *costs, double sectors, double commands, double largest,
                        gboolean continues, double seconds)
{
    if (!continues) {
        double more = seconds - sectors * costs->sector - commands * costs->command;
        costs->seeks = MIN(costs->seeks + 1, (guint)MEMORY);
        costs->seek += (MAX(more, 0) - costs->seek) / costs->seeks;
        return;
    }
    gboolean is_small = sectors / commands * SMALL_SHARE < largest;
    add(is_small ? &costs->small : &costs->large, sectors / commands, seconds / commands);
    fit(costs);
}

void ek_costs_note_failure(EkCosts *costs, double seconds)
{
    costs->failures = MIN(costs->failures + 1, FAILURES_REMEMBERED);
    costs->failure += (seconds - costs->failure) / costs->failures;
    costs->failure = MAX(costs->failure, 1e-6);
}

double ek_costs_expected(const EkCosts *costs, double sectors, double commands, gboolean continues)
{
    return sectors * costs->sector + commands * costs->command + (continues ? 0 : costs->seek);
}

gboolean ek_costs_know_normal(const EkCosts *costs)
{
    return costs->large.weight + costs->small.weight >= COMMANDS_TO_KNOW;
}

double ek_costs_probe(double success, double failure)
{
    double ratio = MAX(failure, 1e-9) / MAX(success, 1e-9);
    double low = 0;
    double high = 1;
    for (int i = 0; i < 40; i++) {
        double middle = (low + high) / 2;
        if (middle + pow(middle, ratio) < 1)
            low = middle;
        else
            high = middle;
    }
    return high;
}
