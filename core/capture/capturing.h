/* SPDX-License-Identifier: MIT */
/* The capture's inside, for its own files only. */
#ifndef EK_CAPTURE_CAPTURING_H
#define EK_CAPTURE_CAPTURING_H

#include "capture/capture.h"
#include "capture/repeats.h"

typedef struct {
    EkSector first;
    EkSector count;
    EkMark mark; /* that it gets once the drive has read well elsewhere */
} EkPending;

struct EkCapture {
    EkCaptureParts parts;
    const EkDeviceInfo *info;
    EkReadMap *map; /* ahead of the store by what is on its way to it */
    EkScheduler *scheduler;
    EkImageWriter *writer;
    EkRepeats *repeats;
    EkSector fill[EK_FILLS];
    EkRound round;
    guint failures_in_row;
    guint ask_at; /* failures in a row that make it ask whether the drive lives */
    guint64 failed_commands;
    guint64 failed_before; /* this run */
    EkSector position;
    EkByte read_bytes;
    gint64 began;     /* device time */
    EkSector gone_at; /* + 1; 0: never */
    GArray *pending;  /* EkPending */
    guint recheck;    /* the next one to ask */
    EkComparison comparison;
    gboolean decided;
    gboolean ended;
    EkCaptureEnd end;
    GError *error;
    EkCaptureProgress reported;
    GMutex lock; /* of `progress` and `map` */
    EkCaptureProgress progress;
};

void ek_capturing_end(EkCapture *capture, EkCaptureEnd end);
gboolean ek_capturing_shall_end(EkCapture *capture);
/* Sectors that one command reads or loses together. */
guint32 ek_capturing_unit(const EkCapture *capture);
/* A read whose result is not kept. The buffer is the caller's. */
EkReadOutcome ek_capturing_read(EkCapture *capture, EkSector first, guint32 count, guint32 block,
                                guint8 *buffer);

typedef enum {
    EK_RECHECK_AGREES,
    EK_RECHECK_DIFFERS,
    EK_RECHECK_SILENT,
    EK_RECHECK_NONE
} EkRecheck;

/* Reads one good sector again and compares. */
EkRecheck ek_recheck_ask(EkCapture *capture);
/* Before the first read of a case that holds something: is this the drive it came from? TRUE when
 * good sectors read as they did. */
gboolean ek_recheck_recognise(EkCapture *capture);
/* Reads `choices.compare` places a second time. */
void ek_recheck_compare(EkCapture *capture);

#endif
