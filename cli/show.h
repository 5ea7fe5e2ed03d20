/* SPDX-License-Identifier: MIT */
/* Showing things in a terminal or a pipe. */
#ifndef EK_CLI_SHOW_H
#define EK_CLI_SHOW_H

#include "color.h"
#include "wrap.h"

#include <glib.h>
#include <stdio.h>

int ek_show_width(void);

/* Prints a text, and lets through only what a terminal may be given: our own colours and line ends,
 * nothing else that steers it. Whatever the program prints for people goes through here. */
void ek_show_put(FILE *stream, const char *text);

/* The same to stdout, and on a terminal lines wider than it are broken between words, unless they
 * have no line end yet. */
void ek_show_lines(const char *text);

typedef struct {
    const char *header;
    gboolean right; /* a number */
    gboolean cut;   /* may be cut short where the terminal is narrow */
    guint drop;     /* the order in which columns are left out before that; 0: never */
} EkColumn;

typedef struct EkShowTable EkShowTable;

/* A table of bounded size. */
EkShowTable *ek_show_table_new(const EkColumn *columns, guint count);

/* One row: as many strings as columns, NULL for nothing. */
void ek_show_table_row(EkShowTable *table, const char *const *cells);

/* Prints to stdout, and frees. */
void ek_show_table_print(EkShowTable *table, int width);

/* --- progress ------------------------------------------------------------------------------ */

/* Fills in up to EK_PROGRESS_LINES lines (without newline) for the terminal, the first of which is
 * also the line for a pipe. Called from another thread. */
#define EK_PROGRESS_LINES 5
typedef void (*EkProgressDraw)(void *data, GString *lines[EK_PROGRESS_LINES]);

typedef struct EkProgress EkProgress;

/* Shows progress on stderr until it is ended. */
EkProgress *ek_progress_begin(gboolean terminal, EkProgressDraw draw, void *data);

/* Says something while it is shown: a line of its own, above it. Any thread may. */
void ek_progress_note(EkProgress *progress, const char *text);

/* Ends. On a terminal the last frame is erased: the result takes its place. In a pipe it is printed
 * once more when it took long enough to have been shown. */
void ek_progress_end(EkProgress *progress);

/* The time that `left` bytes take at `rate` bytes a second, "unknown" where that is below one. The
 * caller frees. */
char *ek_show_time_left(guint64 left, double rate);

/* Text in at most so many columns, with a mark at its end where it was cut. The caller frees. */
char *ek_show_clipped(const char *text, guint most);

/* The same with the mark in its middle: of a path both ends matter. For text without colours. */
char *ek_show_clipped_middle(const char *text, guint most);

/* Prints a sentence and a newline. On a terminal it is broken between words to its width, further
 * lines indented by as many columns as `mark` (printed first, already coloured) takes. */
void ek_show_sentence(FILE *stream, const char *mark, guint indent, const char *text);

/* A bar of `width` cells, part of whole. The caller frees. */
char *ek_show_bar(guint64 part, guint64 whole, guint width);

/* A line that says what those words mean that occur; NULL needs no saying. "" where none does. The
 * caller frees. */
char *ek_show_legend(const char *const *meanings, const gboolean *occurs, guint count);

#endif
