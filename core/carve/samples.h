/* SPDX-License-Identifier: MIT */
/* Sound or dots of a picture as plain samples: what follows one another in these differs little,
 * and in most other bytes that are taken for samples it differs much. */
#ifndef EK_CARVE_SAMPLES_H
#define EK_CARVE_SAMPLES_H

#include "base/bytes.h"
#include "base/units.h"

typedef struct {
    EkByte first;   /* byte of the file where the samples begin */
    EkByte bytes;   /* of the file, as it says */
    guint width;    /* bytes of a sample, 1 to 4 */
    guint channels; /* samples of one moment, 1 to 8 */
    gboolean is_big;
    gboolean is_unsigned; /* those of one byte */
    gboolean is_picture;  /* dots of colours side by side: they may all be light, or dark */
} EkSamples;

/* Can they be followed: of one to four bytes, in one to eight channels? */
static inline gboolean ek_samples_are_plain(const EkSamples *samples)
{
    return samples->width >= 1 && samples->width <= 4 && samples->channels >= 1 &&
           samples->channels <= 8;
}

/* Where the first chunk of this name begins in the first bytes of a file of chunks (RIFF, or,
 * big-endian, IFF); 0: it is not among those that begin there. Pure. */
gsize ek_samples_chunk(EkSpan head, const char *name, gboolean is_big);

typedef enum {
    EK_EVEN_UNKNOWN, /* silence, too little, or neither */
    EK_EVEN,
    EK_UNEVEN
} EkEvenness;

/* Are these bytes, taken from the byte `offset` of the file on, like samples of a recording? Pure.
 */
EkEvenness ek_samples_evenness(const EkSamples *samples, EkSpan block, EkByte offset);

/* Do the samples step over `seam`, a byte within these, no further than they do elsewhere in them?
 * `offset` is the byte of the file where they begin. Pure. */
gboolean ek_samples_go_on(const EkSamples *samples, EkSpan bytes, gsize seam, EkByte offset);

#endif
