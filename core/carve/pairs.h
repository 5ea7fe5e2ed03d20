/* SPDX-License-Identifier: MIT */
/* Which bytes follow which: in text that was unpacked few pairs are new after a while. What is
 * unpacked from foreign bytes is made of the same letters, but not in the same order. */
#ifndef EK_CARVE_PAIRS_H
#define EK_CARVE_PAIRS_H

#include "base/bytes.h"

typedef struct {
    guint8 seen[8192]; /* a bit a pair */
    guint64 bytes;     /* taken, of the stretches before this one, older ones less */
    guint64 news;      /* pairs among them that were new */
    guint64 bytes_now; /* of this one */
    guint64 news_now;
    guint8 last;
} EkPairs;

/* More bytes of a stretch. */
void ek_pairs_take(EkPairs *pairs, EkSpan span);

/* The stretch ends. Is it strange: were hardly any pairs new before, and many in it? */
gboolean ek_pairs_end(EkPairs *pairs);

#endif
