/* SPDX-License-Identifier: MIT */
/* The profile of a drive: its read map as a strip of columns, each a slice of the drive. */
#ifndef EK_CLI_PROFILE_H
#define EK_CLI_PROFILE_H

#include "image/readmap.h"
#include "show.h"

/* The four states as they are shown, everywhere: a glyph, a colour and a word each. */
typedef struct {
    EkState state;
    const char *glyph;
    EkColor color;
    const char *word;
    double rgb[3]; /* in pictures */
} EkLayer;

#define EK_LAYERS 4
extern const EkLayer ek_layers[EK_LAYERS]; /* from the bottom of a column to its top */

/* The layer of a state. */
const EkLayer *ek_layer_of(EkState state);

/* How many of a column's `height` cells each layer gets: in proportion, but at least one for what
 * is there at all and is not good, so that a single bad sector shows. */
void ek_profile_share(const EkSector tally[EK_STATES], guint height, guint cells[EK_LAYERS]);

/* Prints `height` rows of `columns` columns to a string, with a scale at the left when `scale`. */
void ek_profile_draw(GString *out, EkSector (*tally)[EK_STATES], guint columns, guint height,
                     gboolean color, gboolean scale);

/* Counts the sectors of [first, first + count) in `columns` equal slices. */
void ek_profile_measure(const EkReadMap *map, EkSector first, EkSector count, guint columns,
                        EkSector (*tally)[EK_STATES]);

#endif
