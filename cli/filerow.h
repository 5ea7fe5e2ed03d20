/* SPDX-License-Identifier: MIT */
/* A file as the commands show it. */
#ifndef EK_CLI_FILEROW_H
#define EK_CLI_FILEROW_H

#include "cli.h"
#include "work/indexing.h"

/* The object that `files` in JSON has for a file; holes come from the inventory. */
/* What stands for its volume: a number, or "carved". */
json_t *ek_filerow_volume_json(EkIndexing *indexing);
json_t *ek_filerow_json(EkIndexing *indexing, const char *path, const EkItem *item);
json_t *ek_filerow_holes_json(EkIndexing *indexing, const EkItem *item);

/* Rows for people, under a header that is printed with the first of them. On a terminal each takes
 * one line: columns are left out where it is narrow, and a name too long is cut in its middle. */
typedef struct {
    gboolean has_time; /* beside the date */
    gboolean has_number;
    gboolean has_date;
    guint name; /* columns of the name, 0: as many as it takes */
} EkFileRowShape;

typedef struct {
    EkCli *cli;
    gboolean is_begun;
    EkFileRowShape shape; /* once it is begun */
    const char *remark;   /* on the next row, as hostile as content; NULL: none */
} EkFileRows;

/* One row; called by `name`. */
void ek_filerow_print(EkFileRows *rows, EkIndexing *indexing, const char *name, const EkItem *item);

/* The file in eight parts, in the glyphs of the map: good unless something of a part is missing.
 * Spaces for what has no content. The caller frees. */
char *ek_filerow_strip(EkIndexing *indexing, const EkItem *item, gboolean color);

/* "holed: 3.0 KiB bad, 512 B unread", "whole" … The caller frees. */
char *ek_filerow_condition(const EkItem *item);

/* Counts for the line at the end, and for `totals` in JSON. */
typedef struct {
    guint64 files;
    guint64 folders;
    guint64 bytes;
    guint64 deleted;
    guint64 by_condition[EK_CONDITIONS];
    guint64 hurt_folders; /* names may be missing from them */
    guint64 unread_bytes; /* worth another try */
    gboolean local_times;
    gboolean utc_times;
} EkFileTotals;

void ek_filerow_count(EkFileTotals *totals, const EkItem *item);
/* The folder that a walk begins with is none of its entries, but may have holes. */
void ek_filerow_count_start(EkFileTotals *totals, EkInventory *inventory, guint64 number);
json_t *ek_filerow_totals_json(const EkFileTotals *totals);

/* "3 folders, 12 files, 1.2 MiB; 2 holed", and what to mind about them; `with_legend`: also what
 * the conditions that occur mean. */
void ek_filerow_print_totals(EkCli *cli, const EkFileTotals *totals, gboolean with_legend);

/* "Volume 1: 40 folders, 76 files, 314.3 KiB: 75 whole, 1 holed". */
void ek_filerow_print_inventory(guint volume, const EkInventoryTotals *totals);

/* Opens a volume of a case and takes its inventory where that is needed, with progress. NULL with
 * *error. The view must live as long. */
/* Options of every command that reads files. */
#define EK_OPTIONS_OF_JOURNAL(cli)                                                                 \
    {"without-journal",                                                                            \
     0,                                                                                            \
     0,                                                                                            \
     G_OPTION_ARG_NONE,                                                                            \
     &(cli)->without_journal,                                                                      \
     "read ext3 and ext4 without the transactions in their journal",                               \
     NULL},                                                                                        \
    {                                                                                              \
        "as-of", 0, 0, G_OPTION_ARG_STRING, &(cli)->as_of_text,                                    \
            "read ext3 and ext4 as they were: a date and time, or a transaction of their journal " \
            "(see volumes CASE NUMBER)",                                                           \
            "TIME|TRANSACTION"                                                                     \
    }

/* Of those that list them. */
#define EK_OPTION_LOST_CONTENT(cli)                                                                \
    {                                                                                              \
        "lost-content", 0, 0, G_OPTION_ARG_NONE, &(cli)->lost_content,                             \
            "include files that are known by name only", NULL                                      \
    }

EkIndexing *ek_filerow_open(EkCli *cli, EkView *view, guint64 volume, GError **error);

/* What the operand of a command names: a file or folder of a volume, with its inventory. */
typedef struct {
    EkView view;
    EkIndexing *indexing;
    guint64 number;
    const char *path; /* as it was named; points into the operand */
} EkPlace;

/* Opens the place that the second operand names in the case that the first one does. Returns
 * EK_EXIT_DONE, or the status with which the command is over: then there is nothing to close. */
int ek_filerow_open_place(EkCli *cli, EkPlace *place);
void ek_filerow_close_place(EkPlace *place);

/* Writes the rows of a list in JSON: {"files": [ … ], "totals": … }. */
typedef struct {
    gboolean first;
} EkFileList;

void ek_filerow_begin_list(EkFileList *list);
void ek_filerow_add_to_list(EkFileList *list, json_t *row); /* takes the row */
void ek_filerow_end_list(json_t *totals);                   /* takes the totals */

#endif
