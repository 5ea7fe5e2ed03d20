/* SPDX-License-Identifier: MIT */
/* Taking files out of volumes: what extract does once it knows what is wanted. */
#ifndef EK_CLI_TAKING_H
#define EK_CLI_TAKING_H

#include "extract.h"

#include "files/files.h"
#include "files/filter.h"

/* What to do with a file of which something is missing. */
typedef enum { EK_HOLES_ZEROS, EK_HOLES_SKIP, EK_HOLES_STOP } EkHoles;

/* What the user asked for. */
typedef struct {
    char *to;
    char *incomplete_to;
    char *sums;
    char *list;
    char *holes_word;
    char *exists_word;
    EkHoles holes;
    EkIfExists if_exists;
    EkFilter filter;
    char *names_word;
    gboolean portable; /* for every target */
    gboolean flat;
    gboolean streams;
    gboolean json;
    gboolean dry_run;
    EkTelling telling;
    EkExtractSum *sum; /* NULL: not wanted */
} EkTakeOrder;

/* Picks what the operands and the filter name, and writes it, or tells what there would be. The
 * status of the command. */
int ek_taking_run(EkCli *cli, const EkTakeOrder *order);

#endif
