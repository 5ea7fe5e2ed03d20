/* SPDX-License-Identifier: MIT */
#ifndef EK_CLI_VOLUMES_H
#define EK_CLI_VOLUMES_H

#include "cli.h"

#include "case/volumestore.h"
#include "show.h"

/* Of volumes (EkCaseVolume*, in order of place) those that stand, and the largest of what is
 * remains or nested: there can be hundreds of those. *left_out counts the others. The caller
 * unrefs. */
GPtrArray *ek_volumes_worth_showing(const GPtrArray *volumes, guint *left_out);

/* A line on stderr for a volume that was just found, above the progress where there is one. */
void ek_volumes_note(EkProgress *progress, const EkCaseVolume *entry);

/* Prints a table of volumes (EkCaseVolume*), and says how many are not in it. */
/* What belongs to no volume, and, where there is none, what was seen and what may still help.
 * `gate` may be NULL. */
void ek_volumes_print_seen(EkCli *cli, EkCase *opened, EkGate *gate, const GPtrArray *volumes);

void ek_volumes_print_table(EkCli *cli, const GPtrArray *volumes, guint left_out);

#endif
