/* SPDX-License-Identifier: MIT */
/* What the commands that write to a target share. */
#ifndef EK_CLI_TARGET_H
#define EK_CLI_TARGET_H

#include "cli.h"

/* Parses `own` options (at most EK_TARGET_OPTIONS, NULL name at the end) and --confirm, then finds
 * out whether the second argument, a target, is meant: *confirmed is the word given or typed on a
 * terminal, NULL where there is none to ask or the target is a file. The caller frees it. */
#define EK_TARGET_OPTIONS 4
gboolean ek_target_parse(EkCli *cli, const GOptionEntry *own, char **confirmed, int *status);

/* The word that is typed on a terminal for a device; NULL for a file, or without a terminal. The
 * caller frees. */
char *ek_target_ask(EkCli *cli, const char *target);

#endif
