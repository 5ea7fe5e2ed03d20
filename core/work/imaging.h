/* SPDX-License-Identifier: MIT */
/* Imaging as a job on a case: lock, recognise the drive, run, keep, wait for it, log. */
#ifndef EK_WORK_IMAGING_H
#define EK_WORK_IMAGING_H

#include "capture/capture.h"
#include "device/system.h"
#include "work/view.h"

typedef struct EkImaging EkImaging;

/* Which a bad region is given another chance; all 0: none. */
typedef struct {
    gboolean wanted;
    EkReason reason; /* only what failed for this reason; EK_REASON_NONE: for any */
    guint32 event;   /* only what this event called bad; 0: any */
} EkReopening;

typedef struct {
    EkCaptureChoices capture;
    const char *source; /* go on reading from here; NULL: where the case was opened */
    EkReopening reopening;
    const char *confirmed; /* the name of an image outside the case, see ek_ownimage_open; NULL */
    gboolean allow_short_space;
    gboolean wait;       /* for the drive to come back, and for room to be made */
    EkPrefix *prefix;    /* the digest of what is read in order; NULL: nobody asks */
    const char *on_gone; /* a command for the shell, run when the drive is gone; NULL: none */
    void (*report)(void *data, const EkCaptureProgress *progress); /* see EkCaptureParts */
    void *data;
    gint64 max_temperature; /* degrees Celsius above which the drive rests; 0: no limit */
    void (*told)(void *told_data, const char *text); /* of the drive's health; NULL: nobody asks */
    void *told_data;
} EkImagingChoices;

/* TRUE when every sector of the case at `folder` is good or bad: then there is nothing to image,
 * and the drive need not be there. *state is filled in. */
gboolean ek_imaging_is_complete(const char *folder, EkKeptState *state, EkByte *bytes,
                                guint32 *sector_size, GError **error);

/* Prepares imaging of the case at `folder`. `options` is what the log says of how it was asked
 * for. `cancel` is atomic: not 0 when the work shall end. `choices` is copied, what it points to
 * must outlive the imaging. */
EkImaging *ek_imaging_new(EkSystem *system, const char *folder, const char *options,
                          const EkImagingChoices *choices, const gint *cancel, GError **error);
void ek_imaging_free(EkImaging *imaging);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkImaging, ek_imaging_free)

const EkCaseInfo *ek_imaging_info(EkImaging *imaging);

typedef enum {
    EK_WAITING_NOT,
    EK_WAITING_FOR_DRIVE,
    EK_WAITING_FOR_SPACE,
    EK_WAITING_TO_COOL
} EkWaiting;

/* May be called from any thread while it runs. */
EkCaptureProgress ek_imaging_progress(EkImaging *imaging);
void ek_imaging_look(EkImaging *imaging, EkCaptureView *view);
EkWaiting ek_imaging_waits(EkImaging *imaging);

/* Runs to its end, or to what stops it. The event log knows how it ended. */
EkCaptureEnd ek_imaging_run(EkImaging *imaging, GError **error);

/* The sector that was read last. */
EkSector ek_imaging_last_position(EkImaging *imaging);

/* After it has run: see the capture's functions of these names. */
double ek_imaging_estimate(EkImaging *imaging);
EkComparison ek_imaging_comparison(EkImaging *imaging);

#endif
