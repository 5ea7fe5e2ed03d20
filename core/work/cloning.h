/* SPDX-License-Identifier: MIT */
/* Writing the image, with the plan applied or without it, to files or devices, and verifying each.
 * The image is read once for all of them. */
#ifndef EK_WORK_CLONING_H
#define EK_WORK_CLONING_H

#include "device/system.h"
#include "rebuild/target.h"
#include "work/view.h"

typedef struct EkCloning EkCloning;

typedef struct {
    const char *folder;
    char **targets;   /* NULL last; at least one */
    char **confirmed; /* one a target: what the user typed or gave for it, see ek_guard_word; NULL
                         in it, or instead of it: nothing */
    const char *options; /* for the log */
    gboolean as_imaged;  /* without the plan */
    gboolean skip_tail;  /* of the image, which a smaller device has no room for */
} EkCloneOrder;

typedef struct {
    EkByte done;
    EkByte total; /* writing and reading back */
    gboolean verifying;
} EkCloneProgress;

/* Asks about all targets and opens them: one that is refused is an error, and nothing is written.
 */
EkCloning *ek_cloning_new(EkSystem *system, const EkCloneOrder *order, const gint *cancel,
                          GError **error);
void ek_cloning_free(EkCloning *cloning);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkCloning, ek_cloning_free)

EkCloneProgress ek_cloning_progress(EkCloning *cloning);

/* A target that fails does not stop the others. TRUE when all are written and verified; FALSE
 * without *error where some are. */
gboolean ek_cloning_run(EkCloning *cloning, GError **error);

/* --- of one target, by its place in the order ------------------------------------------------- */

/* What went wrong with it; NULL: nothing. */
const GError *ek_cloning_failure(const EkCloning *cloning, guint index);

/* Edits that were laid over it. */
guint ek_cloning_edits(const EkCloning *cloning, guint index);

/* Bytes of the image behind the end of a smaller device, which were left out. */
EkByte ek_cloning_left_out(const EkCloning *cloning, guint index);

/* Was a GPT's backup moved to the end of a larger target, or of a smaller one? */
gboolean ek_cloning_is_extended(const EkCloning *cloning, guint index);

/* Bytes that an earlier attempt wrote: it goes on behind them. */
EkByte ek_cloning_begun(const EkCloning *cloning, guint index);

/* Bytes of the clone that were not read from the drive, and hold zeros. */
EkByte ek_cloning_unread(const EkCloning *cloning, guint index);

#endif
