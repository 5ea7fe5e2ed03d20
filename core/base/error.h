/* SPDX-License-Identifier: MIT */
/* One error domain for the whole library. A message says what happened, to which object, at which
 * sector or path; what to do now is added by whoever knows the command that was given. */
#ifndef EK_BASE_ERROR_H
#define EK_BASE_ERROR_H

#include <glib.h>

#define EK_ERROR (ek_error_quark())

typedef enum {
    EK_ERROR_ABSENT,      /* what was named is not there */
    EK_ERROR_DAMAGED,     /* a structure contradicts itself or its format */
    EK_ERROR_UNREADABLE,  /* bytes that are needed were not read from the drive */
    EK_ERROR_UNSUPPORTED, /* understood, but not something this version does */
    EK_ERROR_REFUSED,     /* would be unsafe */
    EK_ERROR_CANCELLED,   /* the user interrupted */
    EK_ERROR_GONE,        /* the drive is gone, or reads nowhere */
    EK_ERROR_NO_SPACE,    /* no room left to write */
    EK_ERROR_FAILED       /* anything else, mostly what the system refused */
} EkErrorCode;

GQuark ek_error_quark(void);

/* Sets *error from an errno value: `format` says what was tried, the system's reason follows it.
 * ENOSPC and EDQUOT become EK_ERROR_NO_SPACE, ENOENT becomes EK_ERROR_ABSENT, the rest `code`.
 * Always returns FALSE, so that a caller can return it. */
gboolean ek_error_from_errno(GError **error, EkErrorCode code, int errnum, const char *format, ...)
    G_GNUC_PRINTF(4, 5);

/* Sets *error and returns FALSE. */
gboolean ek_error_set(GError **error, EkErrorCode code, const char *format, ...)
    G_GNUC_PRINTF(3, 4);

#endif
