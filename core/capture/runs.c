/* SPDX-License-Identifier: MIT */
/* How long bad runs are on this drive. */
#include "capture/runs.h"

#include <math.h>

#define SINGLE_AT_FIRST 1.0
#define LONGER_AT_FIRST 0.05
#define LONG_FROM 11 /* bins */
#define INDIRECT 0.5 /* what an observation counts that leaves the length open */

void ek_runs_init(EkRuns *runs)
{
    for (int i = 0; i < EK_RUN_BINS; i++)
        runs->weight[i] = i == 0 ? SINGLE_AT_FIRST : LONGER_AT_FIRST;
}

void ek_runs_init_long(EkRuns *runs)
{
    for (int i = 0; i < EK_RUN_BINS; i++)
        runs->weight[i] = i < LONG_FROM ? LONGER_AT_FIRST / LONG_FROM : LONGER_AT_FIRST;
}

static int bin_of(EkSector length)
{
    return MIN((int)log2((double)MAX(length, 1)), EK_RUN_BINS - 1);
}

void ek_runs_note(EkRuns *runs, EkSector length)
{
    runs->weight[bin_of(length)] += 1;
}

static void spread(EkRuns *runs, int from, int to)
{
    double sum = 0;
    for (int i = from; i < to; i++)
        sum += runs->weight[i];
    for (int i = from; i < to && sum > 0; i++)
        runs->weight[i] += INDIRECT * runs->weight[i] / sum;
}

void ek_runs_note_at_most(EkRuns *runs, EkSector length)
{
    spread(runs, 0, bin_of(length) + 1);
}

void ek_runs_note_more(EkRuns *runs, EkSector length)
{
    spread(runs, bin_of(length), EK_RUN_BINS);
}

/* Weight of all lengths up to `length`. */
static double up_to(const EkRuns *runs, EkSector length)
{
    double sum = 0;
    double place = log2((double)length + 1);
    int bin = MIN((int)place, EK_RUN_BINS);
    for (int i = 0; i < bin; i++)
        sum += runs->weight[i];
    return bin < EK_RUN_BINS ? sum + runs->weight[bin] * (place - bin) : sum;
}

double ek_runs_share(const EkRuns *runs, EkSector length, EkSector than, EkSector most)
{
    double below = up_to(runs, than);
    double all = up_to(runs, most) - below;
    return all > 0 ? (up_to(runs, length) - below) / all : 1;
}

EkSector ek_runs_quantile(const EkRuns *runs, double share, EkSector than, EkSector most)
{
    double wanted = up_to(runs, than) + share * (up_to(runs, most) - up_to(runs, than));
    double sum = 0;
    for (int i = 0; i < EK_RUN_BINS; i++) {
        if (sum + runs->weight[i] >= wanted) {
            double place = i + (wanted - sum) / runs->weight[i];
            double length = ceil(exp2(place) - 1 - 1e-6);
            EkSector found = length > 0 ? (EkSector)length : 0;
            return CLAMP(found, than + 1, most);
        }
        sum += runs->weight[i];
    }
    return most;
}
