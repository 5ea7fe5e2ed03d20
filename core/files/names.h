/* SPDX-License-Identifier: MIT */
/* Names for what is written: ones that a target can hold, and that lead nowhere. */
#ifndef EK_FILES_NAMES_H
#define EK_FILES_NAMES_H

#include <glib.h>

/* Extraction's own files while they are written. */
#define EK_PART_PREFIX ".ektypon-part-"

/* `name` as a component of a path on any system of the Unix kind: never empty, ".", "..", longer
 * than 255 bytes, nor one of extraction's own. With `portable` one that every common file system
 * takes: no control characters, none of < > : " / \ | ? *, no space or dot at the end, no name of a
 * device (CON, PRN, AUX, NUL, COM1 …, LPT1 …), at most 255 UTF-16 units. *renamed is set when it is
 * another than `name`; it is never cleared. The caller frees. */
char *ek_name_for_target(const char *name, gboolean portable, gboolean *renamed);

/* "name.txt" as "name (2).txt"; number 1: as it is. The caller frees. */
char *ek_name_numbered(const char *name, guint number);

/* Does this file system (as the mount table calls it) take portable names only, or change others?
 */
gboolean ek_name_needs_portable(const char *filesystem);

#endif
