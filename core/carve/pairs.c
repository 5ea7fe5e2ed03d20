/* SPDX-License-Identifier: MIT */
/* Which bytes follow which. */
#include "carve/pairs.h"

#define KNOWN_LEAST 4096u /* bytes before that say anything */
#define NOW_LEAST 256u    /* less goes on in the next stretch */
#define FADES 4u          /* what was before a stretch counts a quarter behind it */
#define FEW 200u          /* in 40 000 bytes: hardly any are new */
#define NEWS_LEAST 48u
#define TIMES 6u /* as many as before are strange */

void ek_pairs_take(EkPairs *pairs, EkSpan span)
{
    for (gsize i = 0; i < span.length; i++) {
        guint pair = (guint)pairs->last << 8 | span.data[i];
        guint8 bit = (guint8)(1u << (pair & 7));
        pairs->news_now += (pairs->seen[pair >> 3] & bit) == 0 ? 1 : 0;
        pairs->seen[pair >> 3] |= bit;
        pairs->last = span.data[i];
    }
    pairs->bytes_now += span.length;
}

gboolean ek_pairs_end(EkPairs *pairs)
{
    guint64 now = pairs->news_now;
    guint64 all = pairs->bytes_now;
    if (all < NOW_LEAST)
        return FALSE;
    gboolean is_strange = pairs->bytes >= KNOWN_LEAST &&
                          pairs->news * 40000 <= FEW * pairs->bytes && now >= NEWS_LEAST &&
                          now * pairs->bytes >= TIMES * pairs->news * all;
    pairs->bytes = pairs->bytes / FADES + all;
    pairs->news = pairs->news / FADES + now;
    pairs->bytes_now = pairs->news_now = 0;
    return is_strange;
}
