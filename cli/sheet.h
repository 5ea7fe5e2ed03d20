/* SPDX-License-Identifier: MIT */
/* A contact sheet in the terminal. */
#ifndef EK_CLI_SHEET_H
#define EK_CLI_SHEET_H

#include "cli.h"
#include "work/indexing.h"

/* Draws the pictures and films of a folder, and of those below it, side by side with their names.
 * `plain`: with plain characters, wherever the output goes. Returns the command's status. */
int ek_sheet_print(EkCli *cli, EkIndexing *indexing, guint64 folder, gboolean plain);

#endif
