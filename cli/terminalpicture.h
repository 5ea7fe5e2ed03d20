/* SPDX-License-Identifier: MIT */
/* Pictures in a terminal that can show more than characters: by sixels (DEC STD 070), or by the
 * graphics protocol that sends pixels as they are. What is sent is composed here, of numbers. */
#ifndef EK_CLI_TERMINALPICTURE_H
#define EK_CLI_TERMINALPICTURE_H

#include <glib.h>

typedef enum { EK_SHOWS_CHARACTERS, EK_SHOWS_SIXELS, EK_SHOWS_PIXELS } EkTerminalShows;

/* What the terminal on stdout can do: it is asked, and has half a second to answer. */
EkTerminalShows ek_terminal_shows(void);

/* How many pixels there are in so many columns and lines, 1000 at most each way. */
void ek_terminal_room(guint columns, guint lines, guint *wide, guint *high);

/* Draws red, green, blue, line by line, at the cursor, and goes to the next line. */
void ek_terminal_draw(EkTerminalShows shows, const guint8 *pixels, guint wide, guint high);

#endif
