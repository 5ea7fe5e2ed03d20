/* SPDX-License-Identifier: MIT */
/* All costs here are for the region between one failure and the next, 1/rate sectors of it. */
#include "capture/blocksize.h"

#include <math.h>

#define STEP 1.2       /* from one size that is tried to the next */
#define WALK_IN_TWO 12 /* seeks that a failure costs */
#define WALK_IN_MANY 60
#define STAY_FROM 0.015 /* of the region is left behind by failures */
#define SEVERITY 8.0    /* how much more the milestone counts that comes the latest */

/* The milestones: what may still be missing; what a reader that knew the lengths of all good
 * stretches, though not where they end, would have met of the failures by then (it leaves the
 * shortest out: the share of exponential gaps longer than those that hold so much); how many times
 * its time is acceptable. */
typedef struct {
    double missing;
    double met;
    double again; /* failures more, for each bad sector */
    double acceptable;
} Milestone;

static const Milestone milestones[] = {
    {0.01, 0.87, 0, 1.2}, {0.001, 0.956, 0, 1.25}, {0, 1, 0, 2.1}, {0, 1, 1, 1.15}};

/* The share of the region that a read of a search should leave, for the least cost. */
static double share_left(const EkCosts *costs)
{
    return ek_costs_probe(costs->command, costs->failure + costs->seek);
}

/* One by one or by splitting, whichever costs less. */
static double search_by(const EkCosts *costs, double share, double units)
{
    double failure = costs->failure + costs->seek;
    double one_by_one = failure + costs->command * (units - 1) / 2;
    double splitting = failure / 2 + costs->command * log(units) / -log(MIN(share, 1 - 1e-9));
    return MIN(one_by_one, MAX(failure, splitting));
}

double ek_block_search(const EkCosts *costs, double units)
{
    return search_by(costs, share_left(costs), units);
}

EkSector ek_block_step(const EkCosts *costs, EkSector units)
{
    if ((double)units * costs->command <= costs->failure + costs->seek)
        return 1;
    return MAX((EkSector)((double)units * (1 - share_left(costs))), 1);
}

double ek_block_walk(const EkCosts *costs)
{
    double seeks = costs->failure / (costs->seek + costs->command);
    if (seeks < WALK_IN_TWO)
        return 0;
    return seeks < WALK_IN_MANY ? 0.5 : 0.75;
}

/* Getting `gain` of what failed blocks hold in: by searching so many of them to the end, or by
 * walking some way into each, where a failure opens what lies behind it too. */
static double part_of_search(const EkCosts *costs, double gain, double search)
{
    double full = gain * (search + costs->seek);
    double left = ek_block_walk(costs);
    if (left <= 0)
        return full;
    double walk = 1 - sqrt(1 - gain);
    double visits = walk / (1 - left);
    double rough = walk * (costs->failure + costs->seek) + visits * costs->seek;
    return MIN(full, rough);
}

/* The less the better. `search`: what it costs to find one bad unit in such a block. */
static double score_of(const EkCosts *costs, double rate, double block, double search,
                       double command, gboolean stay)
{
    double gap = 1 / rate;
    double failure = costs->failure + costs->seek;
    double transfer = gap * costs->sector;
    double skim = transfer + gap * costs->command / block + failure;
    double out = MIN(rate * block, 1);
    /* Where there is likely to be another one in the block, that is looked for as well. */
    search *= 1 + out / 2;
    double score = 0;
    for (guint i = 0; i < G_N_ELEMENTS(milestones); i++) {
        const Milestone *stone = &milestones[i];
        double least = (1 - stone->missing) * (transfer + gap * costs->command / command) +
                       stone->met * (failure + costs->seek) + stone->again * failure;
        double gain = MAX(0, 1 - stone->missing / out);
        double time = stay ? (1 - stone->missing) * (skim + search)
                           : skim + part_of_search(costs, gain, search);
        score += pow(time / (least * stone->acceptable), SEVERITY);
    }
    return score;
}

EkBlockSize ek_block_size(const EkCosts *costs, double rate, guint32 unit, guint32 command)
{
    EkBlockSize best = {MAX(command - command % unit, unit), FALSE};
    if (rate <= 0)
        return best;
    double share = share_left(costs);
    double least = G_MAXDOUBLE;
    double last = best.block;
    for (double size = last; size >= unit; size /= STEP) {
        guint32 block = (guint32)size;
        block = MAX(block - block % unit, unit);
        if (block == last && size < last)
            continue;
        last = block;
        double search = search_by(costs, share, (double)block / unit);
        /* Where hardly anything is left behind, failures can wait. */
        int most = rate * block > STAY_FROM ? 2 : 1;
        for (int stay = 0; stay < most; stay++) {
            double score = score_of(costs, rate, block, search, command, stay == 1);
            if (score < least) {
                least = score;
                best = (EkBlockSize){block, stay == 1};
            }
        }
    }
    return best;
}
