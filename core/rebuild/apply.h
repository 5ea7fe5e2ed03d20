/* SPDX-License-Identifier: MIT */
/* Writing edits to a target: all of them or none, with a way back. */
#ifndef EK_REBUILD_APPLY_H
#define EK_REBUILD_APPLY_H

#include "rebuild/plan.h"
#include "rebuild/target.h"

/* The numbers of an application's life. An application that is `writing` or `undoing` was cut off
 * unless somebody is at it. */
typedef enum {
    EK_APPLICATION_WRITING,
    EK_APPLICATION_APPLIED,
    EK_APPLICATION_UNDOING,
    EK_APPLICATION_UNDONE,
    EK_APPLICATION_ROLLED_BACK
} EkApplicationState;

/* The write-ahead record. Each call returns only when what it says is on stable storage. */
typedef struct {
    void *data;
    /* Keeps the edits of a new application, in state `writing`; *id names it. */
    gboolean (*begin)(void *data, const GPtrArray *edits, gint64 *id, GError **error);
    gboolean (*set_state)(void *data, gint64 id, EkApplicationState state, GError **error);
} EkJournal;

/* Checks that the target holds every edit's `before` bytes: EK_ERROR_REFUSED with the first place
 * where it does not, nothing written. */
gboolean ek_apply_check(EkTarget *target, const GPtrArray *edits, GError **error);

/* Writes the edits' `after` bytes, flushed, read back and compared. What fails half way is rolled
 * back before it returns. */
gboolean ek_apply(EkTarget *target, const GPtrArray *edits, const EkJournal *journal,
                  GError **error);

/* Takes an application back: the target must hold its `after` bytes. */
gboolean ek_apply_undo(EkTarget *target, gint64 id, const GPtrArray *edits,
                       const EkJournal *journal, GError **error);

/* Brings an application that was cut off, while writing or while undoing, back to its `before`
 * bytes. Refuses when the target holds something that is neither. */
gboolean ek_apply_recover(EkTarget *target, gint64 id, const GPtrArray *edits,
                          EkApplicationState state, const EkJournal *journal, GError **error);

#endif
