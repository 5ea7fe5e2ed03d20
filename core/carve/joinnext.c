/* SPDX-License-Identifier: MIT */
/* Where the next part begins, the rest of the broken one lies before it: what is left to try are
 * few cuts, and few blocks, each proved by the checksum of the broken part. */
#include "carve/joinnext.h"

#define WINDOW 65536u
#define PLACES_MOST 64u /* that look like the next part */

typedef struct {
    EkJoining *joining;
    const EkFollowed *broken;
    const GArray *before;
    GArray *stretches; /* EkRange */
    guint8 *window;
    EkByte lowest; /* cuts, in bytes of the file */
    EkByte highest;
    EkByte seen; /* bytes of ground */
    guint places;
} Search;

/* The next part begins at this byte of the drive, in a stretch. */
static gboolean try_place(Search *search, guint stretch, EkByte next)
{
    EkJoining *joining = search->joining;
    EkByte grid = joining->grid;
    EkRange *range = &g_array_index(search->stretches, EkRange, stretch);
    EkRange kept = *range;
    EkByte most = search->broken->broken.bytes;
    EkByte part = search->broken->broken.first;
    EkByte last = (next - kept.first) / grid;
    for (EkByte back = 0; back <= last && back * grid <= most; back++) {
        EkByte place = kept.first + (last - back) * grid;
        *range = (EkRange){place, ek_range_end(kept) - place};
        for (EkByte cut = search->lowest; cut <= search->highest; cut += grid) {
            /* Where the next part would begin in the file. */
            EkByte begins = cut + (next - place);
            if (begins <= part || begins - part > most)
                continue;
            if (ek_joining_goes_on(joining, cut, range, search->stretches->len - stretch,
                                   search->broken->length))
                return TRUE;
            ek_joining_lay_again(joining->content, search->before, search->lowest);
            if (ek_joining_is_spent(joining))
                break;
        }
    }
    *range = kept;
    return FALSE;
}

static gboolean try_stretch(Search *search, guint stretch, EkByte most)
{
    EkJoining *joining = search->joining;
    EkReader *reader = joining->carve->order.reader;
    EkRange range = g_array_index(search->stretches, EkRange, stretch);
    const EkLandmark *landmark = &search->broken->landmark;
    EkByte step = WINDOW - EK_LANDMARK_GLANCE;
    for (EkByte first = range.first; first < ek_range_end(range) && search->seen < most;
         first += step, search->seen += step) {
        gsize length = (gsize)MIN(WINDOW, ek_range_end(range) - first);
        if (g_atomic_int_get(joining->cancel) != 0)
            return FALSE;
        if (!ek_reader_read(reader, first, search->window, length, NULL, NULL))
            continue;
        for (gsize at = 0; landmark->finds(landmark, (EkSpan){search->window, length}, &at) &&
                           at < step && search->places < PLACES_MOST;
             at++) {
            search->places++;
            if (try_place(search, stretch, first + at))
                return TRUE;
        }
    }
    return FALSE;
}

gboolean ek_join_by_next(EkJoining *joining, const EkFollowed *broken, const GArray *before)
{
    EkByte grid = joining->grid;
    EkByte sure = MAX(broken->sure, 1);
    EkByte part_end = broken->broken.first + broken->broken.bytes;
    guint count = 0;
    if (broken->landmark.finds == NULL || broken->broken.bytes == 0 || sure > part_end)
        return FALSE;
    g_autofree guint8 *window = g_malloc(WINDOW);
    g_autoptr(GArray) stretches = ek_joining_stretches_before(joining, sure, &count);
    Search search = {.joining = joining,
                     .broken = broken,
                     .before = before,
                     .stretches = stretches,
                     .window = window,
                     .lowest = MAX(ek_divide_up(sure, grid) * grid, grid),
                     .highest = MIN(part_end / grid * grid, ek_content_bytes(joining->content))};
    EkByte far = (EkByte)joining->tries * 4 * grid;
    for (guint i = count; i < stretches->len && search.places < PLACES_MOST; i++)
        if (try_stretch(&search, i, far))
            return TRUE;
    for (guint i = count; i > 0 && search.places < PLACES_MOST; i--)
        if (try_stretch(&search, i - 1, 2 * far))
            return TRUE;
    return FALSE;
}
