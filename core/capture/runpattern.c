/* SPDX-License-Identifier: MIT */
/* Where bad runs begin and end when one is like the other, as where a scratch crosses track after
 * track. */
#include "capture/runpattern.h"

#define SURE 2u
#define SUREST 8u
#define LEAST_DISTANCE 128u /* what is closer fits by chance */

void ek_run_pattern_note_begin(EkRunPattern *edges, EkSector begin)
{
    EkSector apart = begin > edges->last ? begin - edges->last : edges->last - begin;
    edges->last = begin;
    if (apart < LEAST_DISTANCE)
        return;
    if (edges->distance > 0 && apart % edges->distance == 0)
        edges->fits = MIN(edges->fits + 1, SUREST);
    else if (edges->fits > 0)
        edges->fits--;
    else
        edges->distance = apart;
}

void ek_run_pattern_note_length(EkRunPattern *edges, EkSector length)
{
    if (length == edges->length)
        edges->same = MIN(edges->same + 1, SUREST);
    else if (edges->same > 0)
        edges->same--;
    else
        edges->length = length;
}

gboolean ek_run_pattern_begin(const EkRunPattern *edges, EkSector first, EkSector end,
                              EkSector *begin)
{
    if (edges->fits < SURE)
        return FALSE;
    EkSector rest = first > edges->last ? (first - edges->last) % edges->distance
                                        : (edges->last - first) % edges->distance;
    EkSector ahead = first > edges->last && rest > 0 ? edges->distance - rest : rest;
    if (ahead >= end - first)
        return FALSE;
    *begin = first + ahead;
    return TRUE;
}

gboolean ek_run_pattern_length(const EkRunPattern *edges, EkSector *length)
{
    *length = edges->length;
    return edges->same >= SURE;
}
