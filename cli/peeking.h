/* SPDX-License-Identifier: MIT */
/* The helper program that looks into files, as the commands use it. */
#ifndef EK_CLI_PEEKING_H
#define EK_CLI_PEEKING_H

#include "cli.h"
#include "files/filter.h"
#include "files/peeker.h"
#include "work/indexing.h"

/* How pictures can be drawn here: by what the terminal says of itself. `plain`: with nothing but
 * ASCII. No columns: not at all. */
EkPeekCanvas ek_peeking_canvas(const EkCli *cli, gboolean plain);

/* canvas NULL: only what a file is will be asked. */
EkPeeker *ek_peeking_new(const EkPeekCanvas *canvas);

/* Judges a file that a filter let through so far (*verdict) by what is in it; peeker NULL: that is
 * not asked. FALSE with *error when content cannot be looked into at all. */
gboolean ek_peeking_judge(EkPeeker *peeker, EkIndexing *indexing, const EkItem *item, guint kinds,
                          const gint *cancel, EkVerdict *verdict, GError **error);

/* Prints what the helper drew: of what could move a terminal, the codes for colours alone. */
void ek_peeking_print_picture(const char *drawn);

#endif
