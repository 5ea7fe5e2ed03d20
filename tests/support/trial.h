/* SPDX-License-Identifier: MIT */
/* A scheduler over a simulated drive, with nothing but a map and a clock. */
#ifndef TESTS_TRIAL_H
#define TESTS_TRIAL_H

#include "capture/scheduler.h"
#include "device/model.h"

#define MS 1000000
#define GIB_SECTORS 2097152u

typedef struct {
    EkModel *model; /* the device's */
    EkDevice *device;
    EkReadMap *map;
    EkSchedulerParts parts;
    EkSector twice; /* sectors read again after they were good */
    guint64 reads;
    guint64 failed;
    guint64 vanished;    /* reads that found the drive gone */
    EkSector first_read; /* of the very first read */
    EkSector lowest;
    EkSector highest;
    double clock_at_share; /* when `share` of the drive was good */
    guint64 failed_at_share;
    double share;
} Trial;

/* A healthy drive of 160 MiB/s: commands of 1 MiB, 0.1 ms each, seeks of 9 ms, failures of 1.5 s.
 */
EkModel *trial_model(void);
EkFault *trial_add(EkModel *model, EkFaultKind kind, EkSector first, EkSector count);

/* Takes the model. */
void trial_open(Trial *trial, EkModel *model, EkSector sectors);

/* Seconds of device time. */
double trial_clock(const Trial *trial);

/* Reads until nothing is left, or until `until` (may be NULL) says so. */
void trial_run(Trial *trial, gboolean (*until)(const Trial *, const EkRead *));
void trial_close(Trial *trial);

/* Every sector is what the faults make of it, flaky ones are either, and none was read twice. */
void trial_check_end(const Trial *trial);

#endif
