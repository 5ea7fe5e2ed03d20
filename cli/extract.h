/* SPDX-License-Identifier: MIT */
/* Writing what a search by content found, from within that search. */
#ifndef EK_CLI_EXTRACT_H
#define EK_CLI_EXTRACT_H

#include "cli.h"

typedef struct {
    guint64 files;
    guint64 bytes;
    guint64 same; /* of the files: those that were there already */
} EkExtractSum;

typedef enum { EK_TELL_ALL, EK_TELL_ERRORS, EK_TELL_NOTHING } EkTelling;

/* Writes the whole files that the case's catalogue of contents holds by now below `to`; what is
 * there already stays. Returns a status of the program. `sum` may be NULL. */
int ek_extract_contents(EkCli *cli, const char *to, EkTelling telling, EkExtractSum *sum);

#endif
