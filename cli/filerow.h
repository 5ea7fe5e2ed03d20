/* SPDX-License-Identifier: MIT */
/* A file as the commands show it. */
#ifndef EK_CLI_FILEROW_H
#define EK_CLI_FILEROW_H

#include "cli.h"
#include "files/files.h"

/* The object that `files` in JSON has for a file. */
json_t *ek_filerow_json(guint64 volume, const char *path, const EkEntry *entry,
                        const EkDamage *damage);

json_t *ek_filerow_holes_json(const EkDamage *damage);

/* "holed: 3.0 KiB bad, 512 B unread", "whole" … The caller frees. */
char *ek_filerow_condition(const EkDamage *damage);

/* Counts for the line at the end, and for `totals` in JSON. */
typedef struct {
    guint64 files;
    guint64 folders;
    guint64 bytes;
    guint64 by_condition[3];
} EkFileTotals;

void ek_filerow_count(EkFileTotals *totals, const EkEntry *entry, const EkDamage *damage);
json_t *ek_filerow_totals_json(const EkFileTotals *totals);

/* Says what a folder's own damage may hide. */
void ek_filerow_warn(EkCli *cli, const EkFolderDamage *damage, guint cut);

#endif
