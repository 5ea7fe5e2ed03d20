/* SPDX-License-Identifier: MIT */
/* What an imaging can be held against, computed from a drive model's faults:
 *   ideal      knows all faults: readable stretches in order, bad ones skipped, a slow region last;
 *   reference  must find out: the longest good stretches until so much is in, read in order, and a
 *              failure for each that ends at a bad run; for all of it one failure for each bad run
 *              of one unit and four for each longer one;
 *   plain      64 KiB reads in order, sector by sector through a failing one.
 * Times are seconds of device time. Flaky sectors count neither as readable nor as bad. */
#ifndef EK_BENCH_YARDSTICK_H
#define EK_BENCH_YARDSTICK_H

#include "device/model.h"

#define MARKS 6 /* 50, 90, 99, 99.9, 100 % of the readable sectors, and the end */

extern const double mark_shares[MARKS - 1];

typedef struct {
    EkSector first;
    EkSector count;
    const EkFault *fault; /* NULL: healthy */
} Piece;

typedef struct {
    const EkModel *model;
    EkSector sectors;
    GArray *pieces; /* Piece, in order, the whole drive, neighbours different */
    EkSector readable;
    EkSector bad;    /* sectors */
    EkSector runs;   /* of a bad region */
    EkSector inside; /* bad sectors in runs of at least 64 MiB */
    double ideal[MARKS];
    double reference[MARKS];
    double plain[MARKS];
    double failure; /* s, of one command, mean over the bad sectors */
} Yardstick;

void yardstick_measure(Yardstick *yardstick, const EkModel *model, EkSector sectors);
void yardstick_clear(Yardstick *yardstick);

/* Sectors that ideal has read after this many seconds. */
EkSector yardstick_ideal_by(const Yardstick *yardstick, double seconds);

gboolean piece_is_readable(const Piece *piece);
gboolean piece_is_bad(const Piece *piece);

#endif
