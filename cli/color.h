/* SPDX-License-Identifier: MIT */
/* The colours of the program. Each has one meaning, and is told apart by brightness too. */
#ifndef EK_CLI_COLOR_H
#define EK_CLI_COLOR_H

#include <glib.h>

typedef enum {
    EK_COLOR_PLAIN,
    EK_COLOR_GOOD,   /* blue: read, good */
    EK_COLOR_WARN,   /* amber: skipped, warnings */
    EK_COLOR_BAD,    /* red-orange: bad, refused */
    EK_COLOR_FAINT,  /* grey: unread, minor */
    EK_COLOR_STRONG, /* bold */
    EK_COLORS
} EkColor;

/* Is this a terminal that shows colours, and are they wanted (NO_COLOR)? */
gboolean ek_show_has_color(int fd);

/* The text between the colour's codes, or as it is. The caller frees. */
char *ek_show_in(gboolean color, EkColor which, const char *text);

/* The codes themselves: "" without colour. They are those of a terminal with 256 colours where TERM
 * says so, else of one with 16; darker where COLORFGBG says that the background is light. */
const char *ek_show_on(gboolean color, EkColor which);
const char *ek_show_off(gboolean color);

/* Bytes of one of our colour codes at `text`; 0: there is none. */
gsize ek_color_code_length(const char *text);

#endif
