/* SPDX-License-Identifier: MIT */
/* Completion of a command line: the candidates that the scripts of the shells ask for. */
#ifndef EK_CLI_COMPLETE_H
#define EK_CLI_COMPLETE_H

#include "cli.h"

/* Prints the candidates for the last of `words` (behind "ektypon"; NULL at the end), one a line.
 * The line ":files" or ":folders" asks the shell to add names of its own. Nothing in a case is
 * changed, and no file index is built. */
void ek_complete_words(EkCli *cli, char **words);

#endif
