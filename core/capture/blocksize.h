/* SPDX-License-Identifier: MIT */
/* How large a read of a good-looking region should be where reads fail now and then, and whether a
 * failure is looked into at once or left for later. Small reads cost commands; large ones leave
 * more behind when they fail. Looking at once saves the way back; leaving it lets the easy region
 * come first. What is best follows from what commands, seeks and failures cost on this drive. */
#ifndef EK_CAPTURE_BLOCKSIZE_H
#define EK_CAPTURE_BLOCKSIZE_H

#include "capture/costs.h"

typedef struct {
    guint32 block; /* sectors */
    gboolean stay; /* finds the bad sector at once, and goes on right behind it */
} EkBlockSize;

/* `rate`: separate failures a sector, at least 0. The block is a whole number of units of `unit`
 * sectors, and at most `command` (at least one unit). */
EkBlockSize ek_block_size(const EkCosts *costs, double rate, guint32 unit, guint32 command);

/* What it costs, in seconds, to find the one bad unit among `units` of which one read has failed:
 * commands, failures and the seeks between them. */
double ek_block_search(const EkCosts *costs, double units);

/* How many of so many units the next read of that search should take from their beginning. */
EkSector ek_block_step(const EkCosts *costs, EkSector units);

/* What each sweep over failed blocks, walking into them from their beginning, leaves of them for
 * the next sweep; 0: each is looked into to the end at once, since the ways would cost too much. */
double ek_block_walk(const EkCosts *costs);

#endif
