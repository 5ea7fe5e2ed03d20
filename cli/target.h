/* SPDX-License-Identifier: MIT */
#ifndef EK_CLI_TARGET_H
#define EK_CLI_TARGET_H

#include "cli.h"

/* The word that says a target device is meant: `meant` where it was given, else asked for on a
 * terminal; NULL where there is none to ask, or the target is a file. The caller frees. */
char *ek_target_ask(EkCli *cli, const char *target, const char *meant);

#endif
