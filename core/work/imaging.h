/* SPDX-License-Identifier: MIT */
/* Imaging as a job on a case: lock, recognise the drive, run, keep, log. */
#ifndef EK_WORK_IMAGING_H
#define EK_WORK_IMAGING_H

#include "capture/capture.h"
#include "device/system.h"
#include "work/view.h"

typedef struct EkImaging EkImaging;

/* TRUE when every sector of the case at `folder` is good or bad: then there is nothing to image,
 * and the drive need not be there. *state is filled in. */
gboolean ek_imaging_is_complete(const char *folder, EkKeptState *state, EkByte *bytes,
                                guint32 *sector_size, GError **error);

/* Prepares imaging of the case at `folder`. `options` is what the log says of how it was asked
 * for. `cancel` is atomic: not 0 when the work shall end. */
EkImaging *ek_imaging_new(EkSystem *system, const char *folder, const char *options,
                          gboolean allow_short_space, const gint *cancel, GError **error);
void ek_imaging_free(EkImaging *imaging);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkImaging, ek_imaging_free)

const EkCaseInfo *ek_imaging_info(EkImaging *imaging);

/* May be called from any thread while it runs. */
EkCaptureProgress ek_imaging_progress(EkImaging *imaging);

/* Runs to its end, or to what stops it. The event log knows how it ended. */
EkCaptureEnd ek_imaging_run(EkImaging *imaging, GError **error);

/* The sector that was read last. */
EkSector ek_imaging_last_position(EkImaging *imaging);

#endif
