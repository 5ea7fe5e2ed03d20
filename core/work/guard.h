/* SPDX-License-Identifier: MIT */
/* What must not happen to a drive: the checks before anything is read from or written to one. */
#ifndef EK_WORK_GUARD_H
#define EK_WORK_GUARD_H

#include "case/case.h"
#include "device/system.h"
#include "rebuild/target.h"

/* EK_ERROR_REFUSED when the source is mounted or held. With `whole_only`, also when it is a
 * partition: the message names its drive. Sources that are no block devices pass. */
gboolean ek_guard_source(EkSystem *system, const char *source, gboolean whole_only, GError **error);

/* EK_ERROR_REFUSED when `path` is kept on the source, or is it. `what` names it in the message. */
gboolean ek_guard_apart(EkSystem *system, const char *path, const char *source, const char *what,
                        GError **error);

/* EK_ERROR_NO_SPACE when the file system of `path` has fewer than `bytes` bytes left. */
gboolean ek_guard_space(const char *path, EkByte bytes, const char *what, GError **error);

/* EK_ERROR_REFUSED when `target` is a block device that is mounted or held. */
gboolean ek_guard_free(EkSystem *system, const char *target, GError **error);

/* Is the target the source of the case? */
gboolean ek_guard_is_source(const EkCaseInfo *info, const char *target);

/* Before a block device is written to: EK_ERROR_REFUSED when it is mounted or held, and unless
 * `meant` equals the last four characters of its serial (of its name where it has none). A file
 * passes. */
gboolean ek_guard_target(EkSystem *system, const char *target, const char *meant, GError **error);

/* What `meant` has to be, and a line that says what the device is; NULL for a file. The caller
 * frees both. */
char *ek_guard_target_word(EkSystem *system, const char *target, char **description);

#endif
