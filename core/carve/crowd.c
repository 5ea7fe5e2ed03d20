/* SPDX-License-Identifier: MIT */
/* Beginnings that are too dense to be files. */
#include "carve/crowd.h"

#define CROWD 32u           /* places, within: */
#define WITHIN (256u << 10) /* bytes: every second block of 4 KiB */

static void add(GArray *crowds, EkByte first, EkByte last)
{
    EkRange *before = crowds->len > 0 ? &g_array_index(crowds, EkRange, crowds->len - 1) : NULL;
    if (before != NULL && ek_range_end(*before) >= first) {
        before->bytes = last + 1 - before->first;
        return;
    }
    EkRange crowd = {first, last + 1 - first};
    g_array_append_val(crowds, crowd);
}

GArray *ek_crowds_of(const GArray *places)
{
    GArray *crowds = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = CROWD - 1; i < places->len; i++) {
        EkByte first = g_array_index(places, EkByte, i - (CROWD - 1));
        EkByte last = g_array_index(places, EkByte, i);
        if (last - first < WITHIN)
            add(crowds, first, last);
    }
    return crowds;
}

gboolean ek_crowds_hold(const GArray *crowds, EkByte at)
{
    guint low = 0;
    guint high = crowds->len;
    while (low < high) {
        guint middle = low + (high - low) / 2;
        if (g_array_index(crowds, EkRange, middle).first <= at)
            low = middle + 1;
        else
            high = middle;
    }
    return low > 0 && ek_range_holds(g_array_index(crowds, EkRange, low - 1), at);
}
