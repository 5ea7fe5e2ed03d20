/* SPDX-License-Identifier: MIT */
/* What things cost on this drive, as measured so far. */
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

/* Splits the time of a command into what it costs at all and what each sector adds: the straight
 * line through the means of all sizes with the least relative error. */
static void fit(EkCosts *costs)
{
    double w = 0;
    double wx = 0;
    double wy = 0;
    double wxx = 0;
    double wxy = 0;
    const EkCommandMean *one = NULL;
    guint sizes = 0;
    for (guint i = 0; i < EK_COMMAND_SIZES; i++) {
        const EkCommandMean *mean = &costs->means[i];
        if (mean->weight == 0)
            continue;
        double weight = mean->weight / (mean->seconds * mean->seconds + 1e-18);
        w += weight;
        wx += weight * mean->sectors;
        wy += weight * mean->seconds;
        wxx += weight * mean->sectors * mean->sectors;
        wxy += weight * mean->sectors * mean->seconds;
        one = mean;
        sizes++;
    }
    double spread = w * wxx - wx * wx;
    if (sizes > 1 && spread > 0) {
        costs->sector = MAX((w * wxy - wx * wy) / spread, 1e-9);
        costs->command = MAX((wy - costs->sector * wx) / w, 1e-6);
    } else if (one != NULL) {
        costs->command = MIN(TYPICAL_COMMAND, one->seconds / 2);
        costs->sector = MAX((one->seconds - costs->command) / one->sectors, 1e-9);
    }
}

void ek_costs_note_good(EkCosts *costs, double sectors, double commands, gboolean continues,
                        double seconds)
{
    if (!continues) {
        double more = seconds - sectors * costs->sector - commands * costs->command;
        costs->seeks = MIN(costs->seeks + 1, (guint)MEMORY);
        costs->seek += (MAX(more, 0) - costs->seek) / costs->seeks;
        return;
    }
    guint size = (guint)log2(MAX(sectors / commands, 1));
    add(&costs->means[MIN(size, EK_COMMAND_SIZES - 1)], sectors / commands, seconds / commands);
    costs->known++;
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

double ek_costs_most(const EkCosts *costs, double sectors, double commands, gboolean continues)
{
    double expected = ek_costs_expected(costs, sectors, commands, continues);
    const EkCommandMean *one = NULL;
    for (guint i = 0; i < EK_COMMAND_SIZES; i++) {
        const EkCommandMean *mean = &costs->means[i];
        if (mean->weight > 0 && one != NULL)
            return expected;
        if (mean->weight > 0)
            one = mean;
    }
    return one != NULL ? MAX(expected, commands * one->seconds) : expected;
}

gboolean ek_costs_know_normal(const EkCosts *costs)
{
    return costs->known >= COMMANDS_TO_KNOW;
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
