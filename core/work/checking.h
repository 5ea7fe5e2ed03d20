/* SPDX-License-Identifier: MIT */
/* Reading a case's image back: is it still what the drive gave, and what is its digest? */
#ifndef EK_WORK_CHECKING_H
#define EK_WORK_CHECKING_H

#include "capture/prefix.h"
#include "work/view.h"

typedef struct {
    guint64 blocks;  /* of the image, holes included */
    guint64 changed; /* that differ from what was read */
    EkByte done;     /* bytes looked at; a snapshot for progress: atomic enough to be shown */
    EkByte bytes;
} EkCheck;

typedef struct {
    const gint *cancel; /* atomic: not 0 when the work shall end */
    void *data;
    void (*progress)(void *data, const EkCheck *check);      /* NULL: nobody asks */
    void (*changed)(void *data, EkByte first, EkByte bytes); /* a block that differs */
} EkCheckParts;

/* Compares every block of the image with the sum that was kept when it was read. Errors:
 * EK_ERROR_UNSUPPORTED for a case without sums, EK_ERROR_CANCELLED. */
gboolean ek_checking_run(const char *folder, const EkCheckParts *parts, EkCheck *check,
                         GError **error);

/* The SHA-256 of the image as read (unread sectors as zeros), as hex for the caller to free; NULL
 * with *error. Goes on where `prefix` ends, which is used up: only what it lacks is read. */
char *ek_checking_digest(const char *folder, const EkCheckParts *parts, EkPrefix *prefix,
                         GError **error);

#endif
