/* SPDX-License-Identifier: MIT */
/* Small pictures of what was found, for the report. */
#ifndef EK_CLI_CONTACTSHEET_H
#define EK_CLI_CONTACTSHEET_H

#include "canvas.h"

#include "work/showcase.h"

#define EK_SHEET_WIDE 200u /* pixels a picture may take */
#define EK_SHEET_HIGH 150u

typedef struct {
    char *path;     /* with the volume's number in front of it */
    char *note;     /* what is wrong with it; "" */
    guint8 *pixels; /* red, green, blue, line by line */
    guint wide;
    guint high;
} EkSheetPicture;

/* Opens a volume with its inventory taken, as for a report. */
typedef EkIndexing *(*EkSheetOpen)(void *data, guint64 number, GError **error);

/* Draws up to `most` of the showcase (EkSheetPicture*, the caller unrefs): what does not decode
 * makes room for the next. What cannot be opened is left out. Where content cannot be looked into
 * at all, the list is empty and *error says why. */
GPtrArray *ek_contact_sheet(const EkShowcase *showcase, guint most, EkSheetOpen open, void *data,
                            const gint *cancel, GError **error);

/* A PNG of it. The caller unrefs; NULL with *error. */
GByteArray *ek_sheet_png(const EkSheetPicture *picture, GError **error);

/* The same as cairo draws it; the caller destroys. */
cairo_surface_t *ek_sheet_surface(const EkSheetPicture *picture);

#endif
