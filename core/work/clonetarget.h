/* SPDX-License-Identifier: MIT */
/* One of the targets that a clone is written to. */
#ifndef EK_WORK_CLONETARGET_H
#define EK_WORK_CLONETARGET_H

#include "case/case.h"
#include "image/reader.h"
#include "rebuild/plan.h"
#include "rebuild/target.h"

/* What all targets of a cloning share. */
typedef struct {
    EkCase *opened;
    gint64 event;
    const EkPlan *plan; /* NULL: as imaged */
    EkReader *reader;   /* the image as it is written */
    gboolean as_imaged;
    gboolean skip_tail; /* of the image, which a smaller device has no room for */
} EkCloneSource;

typedef struct {
    const EkCloneSource *source;
    EkTarget *target;
    GPtrArray *edits; /* EkEdit*, of the plan's those that have their place here */
    EkByte bytes;     /* that are written */
    EkByte begun;     /* bytes that an earlier attempt wrote, and that stay */
    gint64 id;        /* in the case */
    gboolean is_new;  /* the file was made by this attempt */
    gboolean is_extended;
    guint8 *back;    /* what is read back; NULL until it is */
    GError *failure; /* nothing more is done with it; NULL: none */
} EkCloneTarget;

/* Opens a target: a new file, one that an earlier clone of this case left unfinished, or a device.
 * NULL with *error. */
EkCloneTarget *ek_clone_target_open(const EkCloneSource *source, const char *path, GError **error);
void ek_clone_target_free(EkCloneTarget *self);

/* Removes the file that was made, when nothing is to come of it. */
void ek_clone_target_drop(EkCloneTarget *self);

/* Notes in the case that it is begun. */
gboolean ek_clone_target_begin(EkCloneTarget *self, GError **error);

/* Writes a piece of the image, or reads it back and compares; what the target has no room for, or
 * holds already, is left out. From the thread of one target; sets `failure`. */
void ek_clone_target_take(EkCloneTarget *self, EkByte first, const guint8 *data, gsize length,
                          gboolean verifying);

/* What is written so far is on stable storage, and can stay if this is cut off. */
void ek_clone_target_save(EkCloneTarget *self, EkByte done);

/* All of it is written, or read back: TRUE unless it failed. */
gboolean ek_clone_target_sync(EkCloneTarget *self);
gboolean ek_clone_target_finish(EkCloneTarget *self);

#endif
