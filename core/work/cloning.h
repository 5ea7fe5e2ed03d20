/* SPDX-License-Identifier: MIT */
/* Writing the image, with the plan applied or without it, to a file or device, and verifying it. */
#ifndef EK_WORK_CLONING_H
#define EK_WORK_CLONING_H

#include "device/system.h"
#include "rebuild/target.h"
#include "work/view.h"

typedef struct EkCloning EkCloning;

typedef struct {
    const char *folder;
    const char *target;
    const char *options;   /* for the log */
    const char *confirmed; /* what the user typed or gave for the target: ek_guard_word; NULL */
    gboolean as_imaged;    /* without the plan */
    gboolean skip_tail;    /* of the image, which a smaller device has no room for */
} EkCloneOrder;

typedef struct {
    EkByte done;
    EkByte total; /* writing and reading back */
    gboolean verifying;
} EkCloneProgress;

EkCloning *ek_cloning_new(EkSystem *system, const EkCloneOrder *order, const gint *cancel,
                          GError **error);
void ek_cloning_free(EkCloning *cloning);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkCloning, ek_cloning_free)

EkCloneProgress ek_cloning_progress(EkCloning *cloning);
gboolean ek_cloning_run(EkCloning *cloning, GError **error);

/* Edits that were laid over it. */
guint ek_cloning_edits(const EkCloning *cloning);

/* Bytes of the image behind the end of a smaller device, which were left out. */
EkByte ek_cloning_left_out(const EkCloning *cloning);

/* Was a GPT's backup moved to the end of a larger target, or of a smaller one? */
gboolean ek_cloning_is_extended(const EkCloning *cloning);

/* Bytes that an earlier attempt wrote: it goes on behind them. */
EkByte ek_cloning_begun(const EkCloning *cloning);

/* Bytes of the clone that were not read from the drive, and hold zeros. */
EkByte ek_cloning_unread(const EkCloning *cloning);

#endif
