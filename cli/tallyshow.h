/* SPDX-License-Identifier: MIT */
/* Files by kind and by folder, as the commands show them. */
#ifndef EK_CLI_TALLYSHOW_H
#define EK_CLI_TALLYSHOW_H

#include "cli.h"
#include "work/indexing.h"
#include "work/tally.h"

#define EK_TALLYSHOW_FOLDERS 200u /* that are told apart */

/* Counts a file of a volume: its folder is called as a place ("3:Accessions"). */
void ek_tallyshow_add(EkTally *tally, EkIndexing *indexing, const char *path, const EkItem *item);

/* Two tables and a line of totals. */
void ek_tallyshow_print(const EkTally *tally, const EkCli *cli);

/* {files, bytes, whole}. */
json_t *ek_tallyshow_count_json(const EkCount *count);

/* By the names of the kinds that there are. */
json_t *ek_tallyshow_kinds_json(const EkTally *tally);

/* A count each, with its name under `key`. */
json_t *ek_tallyshow_folders_json(const EkTally *tally, const char *key);

/* {kinds, folders: [{folder, …count}], totals: count}. */
json_t *ek_tallyshow_json(const EkTally *tally);

#endif
