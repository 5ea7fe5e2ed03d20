/* SPDX-License-Identifier: MIT */
/* What is wanted of a drive, as ranges to be read first: by what hunting has found so far. */
#ifndef EK_WORK_WANTING_H
#define EK_WORK_WANTING_H

#include "capture/scheduler.h"
#include "work/indexing.h"

/* Is this one of `structures`, `used:VOLUME`, `free:VOLUME`, `VOLUME:PATH`? Anything else names a
 * file of stretches. */
gboolean ek_wanting_is_word(const char *word);

/* Adds what was not read yet of it (EkSectorRange) in order of place. `structures`: what listing
 * the files of all volumes that were found would read, besides where tables and boot sectors stand.
 */
gboolean ek_wanting_add(const char *folder, const char *word, const gint *cancel, GArray *sectors,
                        GError **error);

#endif
