/* SPDX-License-Identifier: MIT */
/* Breaking text into lines of a terminal's width, and writing it in ASCII. */
#ifndef EK_CLI_WRAP_H
#define EK_CLI_WRAP_H

#include <glib.h>

/* How many columns a terminal shows text in; our colour codes take none. */
guint ek_show_columns(const char *text);

/* `text` with line ends put in between words, so that no line takes more than `width` columns (our
 * colour codes take none). The first line begins in column `first`; further lines are indented by
 * `indent` columns. What belongs together is never broken: a word, path or option, a number and
 * its unit, an option and its value, a quoted text, a command. A word wider than a line has one of
 * its own. Line ends in `text` are kept. The caller frees. */
char *ek_wrap(const char *text, guint width, guint first, guint indent);

/* `text` in ASCII: our own glyphs become characters of the same width, all else \xNN for each byte.
 * The caller frees. */
char *ek_wrap_ascii(const char *text);

#endif
