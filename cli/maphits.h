/* SPDX-License-Identifier: MIT */
/* Which files, folders and structures the sectors that were not read belong to. */
#ifndef EK_CLI_MAPHITS_H
#define EK_CLI_MAPHITS_H

#include "cli.h"

/* Lists what the sectors that were not read belong to; returns the exit status. */
int ek_map_show_hits(EkCli *cli, gboolean json);

#endif
