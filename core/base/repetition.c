/* SPDX-License-Identifier: MIT */
/* Runs of sectors that come again at a distance which itself changes by a constant. */
#include "base/repetition.h"

/* Where run k begins: first + k * every + drift * k(k-1)/2. FALSE when it does not exist, or not
 * within 64 bits: while the distance is positive, the drift takes less than half of k * every. */
static gboolean begins(const EkRepetition *repetition, guint64 k, EkSector *first)
{
    guint64 every = repetition->every;
    guint64 slope = repetition->drift < 0 ? (guint64) - (repetition->drift + 1) + 1
                                          : (guint64)repetition->drift;
    guint64 before = k > 0 ? k - 1 : 0;
    guint64 change = 0;
    guint64 along = 0;
    guint64 bend = 0;
    guint64 at = 0;
    if (k > 0 && (every == 0 || k > G_MAXUINT32))
        return FALSE;
    if (!g_uint64_checked_mul(&change, slope, before))
        return FALSE;
    if (k > 0 && repetition->drift < 0 && (change > every || every - change < repetition->count))
        return FALSE; /* a negative drift has used up the distance */
    if (k > 0 && repetition->drift >= 0 && every < repetition->count &&
        repetition->count - every > change)
        return FALSE;
    if (!g_uint64_checked_mul(&along, k, every) ||
        !g_uint64_checked_mul(&bend, k * before / 2, slope) ||
        !g_uint64_checked_add(&at, repetition->first, along))
        return FALSE;
    if (repetition->drift < 0 ? bend > at : !g_uint64_checked_add(&at, at, bend))
        return FALSE;
    at -= repetition->drift < 0 ? bend : 0;
    if (at > (repetition->until != 0 ? repetition->until : (guint64)G_MAXINT64))
        return FALSE;
    *first = at;
    return TRUE;
}

/* The last run that begins at or before `sector`, or the first one. */
static guint64 last_before(const EkRepetition *repetition, EkSector sector)
{
    if (repetition->drift == 0 && repetition->every != 0)
        return sector > repetition->first ? (sector - repetition->first) / repetition->every : 0;
    guint64 low = 0;
    guint64 high = 1;
    EkSector at = 0;
    while (begins(repetition, high, &at) && at <= sector) {
        low = high;
        high *= 2;
    }
    while (high - low > 1) {
        guint64 middle = low + (high - low) / 2;
        if (begins(repetition, middle, &at) && at <= sector)
            low = middle;
        else
            high = middle;
    }
    return low;
}

gboolean ek_repetition_run(const EkRepetition *repetition, guint64 number, EkRepeated *run)
{
    EkSector at = 0;
    if (!begins(repetition, number, &at))
        return FALSE;
    EkSector length = repetition->count;
    if (repetition->until != 0)
        length = MIN(length, repetition->until - at + 1);
    *run = (EkRepeated){number, at, length};
    return TRUE;
}

gboolean ek_repetition_find(const EkRepetition *repetition, EkSector sector, EkRepeated *run)
{
    guint64 low = last_before(repetition, sector);
    for (guint64 k = low; k <= low + 1; k++) {
        if (!ek_repetition_run(repetition, k, run))
            return FALSE;
        if (sector < run->first || sector - run->first < run->count)
            return TRUE;
    }
    return FALSE;
}
