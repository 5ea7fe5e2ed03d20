/* SPDX-License-Identifier: MIT */
/* The write-ahead record of edits: what was applied to which target, and the bytes before. */
#ifndef EK_CASE_APPLICATIONS_H
#define EK_CASE_APPLICATIONS_H

#include "case/case.h"
#include "image/overlay.h"
#include "rebuild/apply.h"

typedef struct {
    gint64 id;
    gint64 event;
    char *target;
    char *identity;
    gboolean is_image;
    EkApplicationState state;
} EkApplication;

/* All applications in the order they were made: EkApplication*, the caller unrefs. */
GPtrArray *ek_applications_list(EkCase *self, GError **error);

/* The edits of one: EkEdit*, in order of position; the caller unrefs. */
GPtrArray *ek_applications_edits(EkCase *self, gint64 id, GError **error);

/* A journal for applications to one target. */
typedef struct {
    EkCase *self;
    gint64 event;
    const char *target;
    const char *identity;
    gboolean is_image;
} EkJournalTarget;

EkJournal ek_applications_journal(EkJournalTarget *target);

/* What the image file held before edits were applied to it, the oldest on top: laid over the file
 * it gives the image as read. NULL on failure; the caller frees. */
EkOverlay *ek_applications_kept(EkCase *self, GError **error);

/* Bytes that were read from the drive where the image file holds applied edits: they become the
 * `before` of the oldest of these in the bytes they cover. Durable on return. */
gboolean ek_applications_correct(EkCase *self, EkByte first, const guint8 *bytes, gsize length,
                                 GError **error);

#endif
