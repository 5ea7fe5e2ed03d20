/* SPDX-License-Identifier: MIT */
/* Files that a command writes: whole or not at all. */
#ifndef EK_CLI_OUTPUT_H
#define EK_CLI_OUTPUT_H

#include "cli.h"

#include <stdio.h>

/* One that takes the name of another when it is complete; what is no file (a pipe, /dev/stdout) is
 * written to as it is. */
typedef struct {
    const char *path;
    const char *what; /* in words: "the picture" */
    char *draft;      /* NULL: it is no file */
    FILE *file;       /* to write to; NULL: not begun */
    int errnum;       /* of a write that failed; 0: none is known to have */
} EkOutput;

/* `path` and `what` must live as long. */
gboolean ek_output_begin(EkOutput *output, const char *path, const char *what, GError **error);

/* Gives it its name, or, without `keep`, leaves nothing of it. Returns whether it has its name now;
 * *error is set only with `keep`. Does nothing to one that was not begun. */
gboolean ek_output_end(EkOutput *output, gboolean keep, GError **error);

/* Writes all of one. */
gboolean ek_output_write(const char *path, const char *what, const GByteArray *bytes,
                         GError **error);

#endif
