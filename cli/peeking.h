/* SPDX-License-Identifier: MIT */
/* The helper program that looks into files, as the commands use it. */
#ifndef EK_CLI_PEEKING_H
#define EK_CLI_PEEKING_H

#include "cli.h"
#include "files/filter.h"
#include "files/peeker.h"
#include "work/judging.h"

/* How pictures can be drawn here: by what the terminal says of itself. `plain`: with nothing but
 * ASCII. No columns: not at all. */
EkPeekCanvas ek_peeking_canvas(const EkCli *cli, gboolean plain);

/* canvas NULL: only what a file is will be asked. */
EkPeeker *ek_peeking_new(const EkPeekCanvas *canvas);

/* Asks the content of files, as far as a filter wants that. */
typedef struct EkPeeking EkPeeking;

/* NULL: the filter does not ask for it. It must live as long. */
EkPeeking *ek_peeking_for(const EkFilter *filter);
void ek_peeking_free(EkPeeking *peeking);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkPeeking, ek_peeking_free)

/* Judges a file that the filter let through so far (*verdict) by what is in it; peeking NULL: that
 * is not asked. FALSE with *error when content cannot be looked into at all. The volume must live
 * until another one comes, or the peeking goes. */
gboolean ek_peeking_judge(EkPeeking *peeking, EkIndexing *indexing, const EkItem *item,
                          const gint *cancel, EkVerdict *verdict, GError **error);

/* What was found out of a file that was judged, or is now; FALSE: the filter does not ask whether
 * files open. The caller clears. */
gboolean ek_peeking_tell(EkPeeking *peeking, EkIndexing *indexing, const EkItem *item,
                         const gint *cancel, EkJudgement *judgement);

/* The volume goes. */
void ek_peeking_leave(EkPeeking *peeking);

/* Prints what the helper drew: of what could move a terminal, the codes for colours alone. */
void ek_peeking_print_picture(const char *drawn);

/* The same with one line of it, without a line end; and how many columns it takes. */
void ek_peeking_print_line(const char *line);
guint ek_peeking_line_columns(const char *line);

#endif
