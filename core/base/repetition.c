/* SPDX-License-Identifier: MIT */
/* Runs of sectors that come again at a distance which itself changes by a constant. */
#include "base/repetition.h"

/* Where run k begins: first + k * every + drift * k(k-1)/2. FALSE when it does not exist. */
static gboolean begins(const EkRepetition *repetition, guint64 k, EkSector *first)
{
    if (k > 0 && (repetition->every == 0 || k > G_MAXUINT32))
        return FALSE;
    __extension__ typedef __int128 wide;
    wide step = (wide)repetition->every + (wide)repetition->drift * (wide)(k > 0 ? k - 1 : 0);
    if (k > 0 && step < (wide)repetition->count)
        return FALSE; /* a negative drift has used up the distance */
    wide at = (wide)repetition->first + (wide)k * repetition->every +
              (wide)repetition->drift * (wide)k * (wide)(k > 0 ? k - 1 : 0) / 2;
    wide limit = repetition->until != 0 ? (wide)repetition->until : (wide)G_MAXINT64;
    if (at < 0 || at > limit)
        return FALSE;
    *first = (EkSector)at;
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
