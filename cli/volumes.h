/* SPDX-License-Identifier: MIT */
/* Volumes as several commands show them. */
#ifndef EK_CLI_VOLUMES_H
#define EK_CLI_VOLUMES_H

#include "cli.h"

#include "case/volumestore.h"
#include "show.h"
#include "work/summary.h"

/* A line on stderr for a volume that was just found, above the progress where there is one. */
void ek_volumes_note(EkProgress *progress, const EkCaseVolume *entry);

/* What belongs to no volume, and, where there is none, what was seen and what may still help.
 * `reader` may be NULL. */
void ek_volumes_print_seen(EkCli *cli, EkCase *opened, EkReader *reader, const GPtrArray *volumes);

/* All volumes (EkCaseVolume*), with what is known of their files. The caller unrefs. */
GPtrArray *ek_volumes_summaries(EkCli *cli, const GPtrArray *volumes);

/* What lies over what, on stdout, each line behind `prefix`: an earlier volume is where the files
 * may be that somebody misses. */
void ek_volumes_print_earlier(EkCli *cli, const char *prefix, const GPtrArray *summaries);

#endif
