/* SPDX-License-Identifier: MIT */
#ifndef EK_CLI_MAPHITS_H
#define EK_CLI_MAPHITS_H

#include "cli.h"

/* Lists what the region that was not read hits; returns the exit status. */
int ek_map_show_hits(EkCli *cli, gboolean json);

#endif
