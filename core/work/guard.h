/* SPDX-License-Identifier: MIT */
/* What must not happen to a drive: the checks before anything is read from or written to one.
 *
 * There is one guard. Before a command writes anywhere outside the case folder it asks what the
 * place is to the case (ek_guard_ask), in one of the ways below, and nothing else decides. */
#ifndef EK_WORK_GUARD_H
#define EK_WORK_GUARD_H

#include "case/case.h"
#include "device/system.h"
#include "work/view.h"

/* What a place is to a case. */
typedef enum {
    EK_RELATION_NONE,
    EK_RELATION_SOURCE,      /* the drive that is recovered: itself, a part of it, or a way to it */
    EK_RELATION_LIKE,        /* holds what the source holds: the source on another way, or a copy */
    EK_RELATION_ON_SOURCE,   /* is kept on the source */
    EK_RELATION_IMAGE,       /* the image itself */
    EK_RELATION_NEAR_IMAGE,  /* holds the image, or is a way to it */
    EK_RELATION_CASE,        /* the case folder is kept on it, or it is one of the case's files */
    EK_RELATION_TARGET,      /* this case wrote to it before */
    EK_RELATION_NEAR_TARGET, /* is another way to what this case wrote to */
    EK_RELATION_ON_TARGET,   /* is kept on what this case wrote to */
    EK_RELATION_IN_USE       /* mounted, or held by something else */
} EkRelation;

/* Who asks. */
typedef struct {
    EkSystem *system;
    const EkView *view;         /* the case with its image; NULL: there is none yet */
    const EkCaseSource *source; /* one that is not in the case, or not yet; NULL */
    const gint *cancel;         /* atomic; NULL */
} EkGuard;

/* What the place at `path` is to the case. *why is a sentence that says how that is known; the
 * caller frees it. */
EkRelation ek_guard_ask(const EkGuard *guard, const char *path, char **why);

/* A source as it is seen now, for the guard and for the case. The caller frees. */
EkCaseSource *ek_guard_describe_source(EkSystem *system, const char *source, const char *kind,
                                       EkByte bytes);

/* --- before reading ------------------------------------------------------------------------- */

/* EK_ERROR_REFUSED when the source is mounted or held. With `whole_only`, also when it is a
 * partition: the message names its drive. Sources that are no block devices pass. */
gboolean ek_guard_source(EkSystem *system, const char *source, gboolean whole_only, GError **error);

/* --- before writing: each fails with EK_ERROR_REFUSED ---------------------------------------- */

/* A new file, or a folder to write files below: anywhere but on the source, or over what belongs to
 * the case. `what` names it in the message ("the picture"). */
gboolean ek_guard_output(const EkGuard *guard, const char *path, const char *what, GError **error);

/* A file or device that is written over from end to end. `confirmed` is what the user typed or gave
 * with --confirm: see ek_guard_word. */
gboolean ek_guard_over(const EkGuard *guard, const char *path, const char *confirmed,
                       GError **error);

/* A file or device that edits are written to. It may be the image; the source, too, when nothing of
 * it is left to read and its word is given. */
gboolean ek_guard_edits(const EkGuard *guard, const char *path, const char *confirmed,
                        GError **error);

/* Where the image is, or is to be: not on any source, and no device that is in use. */
gboolean ek_guard_image(const EkGuard *guard, const char *path, GError **error);

/* The same of an image, with the option that goes on all the same. */
gboolean ek_guard_image_space(const char *path, EkByte bytes, GError **error);

/* EK_ERROR_NO_SPACE when the file system of `path` has fewer than `bytes` bytes left. */
gboolean ek_guard_space(const char *path, EkByte bytes, const char *what, GError **error);

/* The word that confirms a target: the last four characters of a device's serial (of its name where
 * it has none), the name of a file. *description is a line that says what the target is. NULL when
 * there is nothing at `target` yet. The caller frees both. */
char *ek_guard_word(EkSystem *system, const char *target, char **description);

#endif
