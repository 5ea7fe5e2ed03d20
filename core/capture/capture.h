/* SPDX-License-Identifier: MIT */
/* Taking the image. Which sector is read next is decided in one place, from what the map says. */
#ifndef EK_CAPTURE_CAPTURE_H
#define EK_CAPTURE_CAPTURE_H

#include "capture/keeper.h"
#include "capture/scheduler.h"
#include "device/device.h"
#include "image/gate.h"

typedef enum {
    EK_CAPTURE_COMPLETE,  /* every sector is good or bad */
    EK_CAPTURE_CANCELLED, /* stopped in order, on request */
    EK_CAPTURE_STOPPED,   /* the drive stopped reading everywhere; nothing was marked for it */
    EK_CAPTURE_GONE,      /* the device vanished */
    EK_CAPTURE_STRANGER,  /* what reads here is not the drive of this case */
    EK_CAPTURE_FAILED     /* what was read could not be kept: see the error */
} EkCaptureEnd;

/* A moment of a running capture. */
typedef struct {
    EkSector sectors;
    guint32 sector_size;
    EkSector totals[EK_STATES];
    EkSector stretches_left; /* untouched or set aside */
    EkSector position;
    EkRound round;
    gint64 device_clock; /* ns */
    guint64 failed_commands;
    EkByte read_bytes; /* read well since this capture began */
} EkCaptureProgress;

typedef struct {
    EkDevice *device;
    EkImage *image;
    const EkOverlay *kept; /* where the image file holds applied edits; NULL: nowhere */
    const EkReadMap *map;  /* as the store has it; copied */
    guint32 event;         /* that this imaging is, in the case's log */
    guint64 failed_commands;
    EkKeeperSink sink;
    const gint *cancel; /* atomic: not 0 when the work shall end */
} EkCaptureParts;

typedef struct EkCapture EkCapture;

EkCapture *ek_capture_new(const EkCaptureParts *parts);
void ek_capture_free(EkCapture *capture);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkCapture, ek_capture_free)

/* Reads what the map calls neither good nor bad, until nothing is left or something stops it. What
 * was read is durable when it returns, also when it was stopped. With EK_CAPTURE_FAILED and
 * EK_CAPTURE_STRANGER *error says why. */
EkCaptureEnd ek_capture_run(EkCapture *capture, GError **error);

/* Where it stands now. May be called from any thread while it runs, and after. */
EkCaptureProgress ek_capture_progress(EkCapture *capture);

/* The sector at which the drive stopped or vanished. */
EkSector ek_capture_last_position(const EkCapture *capture);

#endif
