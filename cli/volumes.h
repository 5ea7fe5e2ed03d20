/* SPDX-License-Identifier: MIT */
#ifndef EK_CLI_VOLUMES_H
#define EK_CLI_VOLUMES_H

#include "cli.h"

/* Prints a table of volumes (EkCaseVolume*). */
void ek_volumes_print_table(EkCli *cli, const GPtrArray *volumes);

#endif
