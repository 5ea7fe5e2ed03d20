/* SPDX-License-Identifier: MIT */
/* The help of a command, for people (text) and as a man page, from one table. */
#ifndef EK_CLI_HELPPAGE_H
#define EK_CLI_HELPPAGE_H

#include "cli.h"

/* Each prints to stdout and returns EK_EXIT_DONE: what cli.describe may be. `entries` may be NULL.
 */
int ek_help_page(EkCli *cli, const GOptionEntry *entries);
int ek_help_man(EkCli *cli, const GOptionEntry *entries);

/* Prints the commands with their summaries, for the section COMMANDS of ektypon(1). */
void ek_help_man_commands(const EkCli *cli);

#endif
