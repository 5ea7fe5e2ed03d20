/* SPDX-License-Identifier: MIT */
/* A case with its image, read map and reader: what most commands look through. */
#ifndef EK_WORK_VIEW_H
#define EK_WORK_VIEW_H

#include "case/case.h"
#include "case/volumestore.h"
#include "files/files.h"
#include "image/imagereader.h"

typedef struct {
    EkCase *opened;
    EkReadMap *map;
    EkImage *image;
    EkOverlay *kept;          /* the bytes as read where the image file holds applied edits */
    EkReader *reader;         /* as read */
    gboolean without_journal; /* volumes are opened as they lie */
    EkAsOf as_of;             /* they are opened as they were */
    gboolean with_lost;       /* they tell of files that are known by name only */
} EkView;

/* Opens the case at `folder` and all that belongs to it, the image for reading only: who writes to
 * it opens it for that. On failure there is nothing to close. */
gboolean ek_view_open(EkView *view, const char *folder, gboolean writable, GError **error);

/* For writers: takes the lock of a subject first, so that nothing in the view is older than it.
 * *lock is for the caller to release, after closing the view. */
gboolean ek_view_open_locked(EkView *view, const char *folder, EkLockSubject subject, EkLock **lock,
                             GError **error);
void ek_view_close(EkView *view);

/* Loads all but the case anew: what another thread or process has read since is seen then. On
 * failure the view is closed. */
gboolean ek_view_reload(EkView *view, GError **error);

EkImageReaderParts ek_view_parts(const EkView *view);

#endif
