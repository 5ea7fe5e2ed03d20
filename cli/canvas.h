/* SPDX-License-Identifier: MIT */
/* What the pictures share: text, heading, scale, and the way into a file. */
#ifndef EK_CLI_CANVAS_H
#define EK_CLI_CANVAS_H

#include "cli.h"

#include "case/case.h"

#include <cairo.h>

#define EK_CANVAS_LEFT 84.0
#define EK_CANVAS_COLUMNS 1140u /* one point wide each */

/* A shade of grey, 0 black. */
void ek_canvas_ink(cairo_t *cr, double shade);
void ek_canvas_write(cairo_t *cr, double x, double y, double size, gboolean bold, const char *text);

/* Writes text left of where the picture begins, its end there. */
void ek_canvas_write_left(cairo_t *cr, double y, double size, const char *text);
/* How wide a text would be, in the face that was written with last. */
double ek_canvas_width(cairo_t *cr, double size, const char *text);

/* Title, the drive, the date. `part` is the third line. */
void ek_canvas_heading(cairo_t *cr, const EkCaseInfo *info, const char *title, const char *part);

/* Marks below `y`, from a byte of the drive to the end of a part of it. */
void ek_canvas_scale(cairo_t *cr, double y, EkRange part, guint32 sector_size);

typedef void (*EkCanvasDraw)(cairo_t *cr, const void *data);

/* Where cairo writes a file to memory: `data` is the GByteArray. */
cairo_status_t ek_canvas_put_bytes(void *data, const unsigned char *bytes, unsigned length);

/* Draws on white: the bytes of an SVG, or of a PNG. The caller unrefs. NULL with *error. */
GByteArray *ek_canvas_bytes(gboolean is_svg, int height, EkCanvasDraw draw, const void *data,
                            GError **error);

/* Draws on white and writes it to `png`, and to `svg`, where these are not NULL; a file that is
 * there is replaced, when all of the new one is written. Says on stdout what it wrote. Writes only
 * where the guard of the case at `folder` lets it. */
gboolean ek_canvas_draw(const EkCli *cli, const char *png, const char *svg, const char *folder,
                        int height, EkCanvasDraw draw, const void *data, GError **error);

#endif
