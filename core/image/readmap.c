/* SPDX-License-Identifier: MIT */
/* A sorted array of boundaries: each says what holds from its sector up to the next one. The store
 * keeps the same boundaries, so a change is told as the boundaries of a range. */
#include "image/readmap.h"

#include <string.h>

typedef struct {
    EkSector first;
    EkMark mark;
} Boundary;

typedef struct {
    EkSector from;
    EkSector to; /* included */
} Dirty;

struct EkReadMap {
    EkSector sectors;
    GArray *boundaries; /* Boundary; the first at sector 0 */
    GArray *dirty;      /* Dirty, sorted, apart from one another */
    EkSector totals[EK_STATES];
    EkSector stretches[EK_STATES];
};

const char *ek_state_name(EkState state)
{
    switch (state) {
    case EK_STATE_GOOD: return "good";
    case EK_STATE_SET_ASIDE: return "set_aside";
    case EK_STATE_BAD: return "bad";
    case EK_STATE_UNTOUCHED: break;
    }
    return "untouched";
}

static Boundary *boundary(const EkReadMap *map, gsize index)
{
    return &g_array_index(map->boundaries, Boundary, index);
}

static gboolean same_mark(EkMark a, EkMark b)
{
    return a.state == b.state && a.reason == b.reason && a.attempts == b.attempts &&
           a.event == b.event;
}

EkReadMap *ek_read_map_new(EkSector sectors)
{
    g_assert(sectors > 0);
    EkReadMap *map = g_new0(EkReadMap, 1);
    map->sectors = sectors;
    map->boundaries = g_array_new(FALSE, FALSE, sizeof(Boundary));
    map->dirty = g_array_new(FALSE, FALSE, sizeof(Dirty));
    Boundary start = {0};
    g_array_append_val(map->boundaries, start);
    map->totals[EK_STATE_UNTOUCHED] = sectors;
    map->stretches[EK_STATE_UNTOUCHED] = 1;
    return map;
}

EkReadMap *ek_read_map_copy(const EkReadMap *map)
{
    EkReadMap *copy = g_new0(EkReadMap, 1);
    *copy = *map;
    copy->boundaries = g_array_copy(map->boundaries);
    copy->dirty = g_array_copy(map->dirty);
    return copy;
}

void ek_read_map_free(EkReadMap *map)
{
    g_array_unref(map->boundaries);
    g_array_unref(map->dirty);
    g_free(map);
}

EkSector ek_read_map_sectors(const EkReadMap *map)
{
    return map->sectors;
}

/* The boundary that governs `sector`: the last one at or before it. */
static gsize governing(const EkReadMap *map, EkSector sector)
{
    gsize low = 0;
    gsize high = map->boundaries->len;
    while (high - low > 1) {
        gsize middle = low + (high - low) / 2;
        if (boundary(map, middle)->first <= sector)
            low = middle;
        else
            high = middle;
    }
    return low;
}

static EkSector end_of(const EkReadMap *map, gsize index)
{
    return index + 1 < map->boundaries->len ? boundary(map, index + 1)->first : map->sectors;
}

static void note_dirty(EkReadMap *map, EkSector from, EkSector to)
{
    GArray *dirty = map->dirty;
    guint at = dirty->len;
    while (at > 0 && g_array_index(dirty, Dirty, at - 1).to + 1 >= from)
        at--;
    guint past = at;
    while (past < dirty->len && g_array_index(dirty, Dirty, past).from <= to + 1) {
        from = MIN(from, g_array_index(dirty, Dirty, past).from);
        to = MAX(to, g_array_index(dirty, Dirty, past).to);
        past++;
    }
    if (past > at)
        g_array_remove_range(dirty, at, past - at);
    Dirty range = {from, to};
    g_array_insert_val(dirty, at, range);
}

void ek_read_map_set(EkReadMap *map, EkSector first, EkSector count, EkMark mark)
{
    if (first >= map->sectors || count == 0)
        return;
    EkSector end = first + MIN(count, map->sectors - first);
    gsize left = governing(map, first);
    gsize last = governing(map, end - 1);
    EkMark after = boundary(map, last)->mark; /* holds on past the end */

    /* Take out what the touched boundaries stood for … */
    for (gsize i = left; i <= last; i++) {
        EkMark old = boundary(map, i)->mark;
        map->totals[old.state] -= MIN(end_of(map, i), end) - MAX(boundary(map, i)->first, first);
        map->stretches[old.state]--;
    }
    gboolean right_exists = last + 1 < map->boundaries->len;
    gboolean ends_inside = end < end_of(map, last);

    /* … and put in what stands there now: the left part of the first, the new run, and the right
     * part of the last, each only where it differs from what comes before it. */
    Boundary fresh[3];
    guint fresh_count = 0;
    EkMark before = mark;
    gboolean has_before = FALSE;
    if (boundary(map, left)->first < first) {
        before = boundary(map, left)->mark;
        has_before = TRUE;
        fresh[fresh_count++] = *boundary(map, left);
        map->stretches[before.state]++;
    } else if (left > 0) {
        before = boundary(map, left - 1)->mark;
        has_before = TRUE;
    }
    if (!has_before || !same_mark(before, mark)) {
        fresh[fresh_count++] = (Boundary){first, mark};
        map->stretches[mark.state]++;
    }
    map->totals[mark.state] += end - first;
    gsize take_out = last - left + 1;
    if (ends_inside) {
        if (!same_mark(mark, after)) {
            fresh[fresh_count++] = (Boundary){end, after};
            map->stretches[after.state]++;
        }
    } else if (right_exists && same_mark(mark, boundary(map, last + 1)->mark)) {
        take_out++;
        map->stretches[mark.state]--;
    }

    gsize common = MIN(take_out, fresh_count);
    memcpy(boundary(map, left), fresh, common * sizeof(Boundary));
    if (fresh_count > take_out)
        g_array_insert_vals(map->boundaries, (guint)(left + common), fresh + common,
                            (guint)(fresh_count - common));
    else if (take_out > fresh_count)
        g_array_remove_range(map->boundaries, (guint)(left + common),
                             (guint)(take_out - fresh_count));
    note_dirty(map, first, end);
}

EkStretch ek_read_map_at(const EkReadMap *map, EkSector sector)
{
    g_assert(sector < map->sectors);
    gsize index = governing(map, sector);
    const Boundary *at = boundary(map, index);
    return (EkStretch){at->first, end_of(map, index) - at->first, at->mark};
}

gboolean ek_read_map_next(const EkReadMap *map, EkSector from, guint states, EkStretch *stretch)
{
    if (from >= map->sectors)
        return FALSE;
    for (gsize i = governing(map, from); i < map->boundaries->len; i++) {
        const Boundary *at = boundary(map, i);
        if ((EK_STATE_BIT(at->mark.state) & states) == 0)
            continue;
        EkSector first = MAX(from, at->first);
        *stretch = (EkStretch){first, end_of(map, i) - first, at->mark};
        return TRUE;
    }
    return FALSE;
}

EkSector ek_read_map_total(const EkReadMap *map, EkState state)
{
    return map->totals[state];
}

EkSector ek_read_map_stretches(const EkReadMap *map, EkState state)
{
    return map->stretches[state];
}

void ek_read_map_tally(const EkReadMap *map, EkSector first, EkSector count,
                       EkSector tally[EK_STATES])
{
    memset(tally, 0, EK_STATES * sizeof *tally);
    if (first >= map->sectors || count == 0)
        return;
    EkSector end = first + MIN(count, map->sectors - first);
    for (gsize i = governing(map, first); i < map->boundaries->len; i++) {
        const Boundary *at = boundary(map, i);
        if (at->first >= end)
            break;
        tally[at->mark.state] += MIN(end_of(map, i), end) - MAX(at->first, first);
    }
}

static void change_free(gpointer data)
{
    EkMapChange *change = data;
    g_free(change->stretches);
    g_free(change);
}

GPtrArray *ek_read_map_take_changes(EkReadMap *map)
{
    GPtrArray *changes = g_ptr_array_new_with_free_func(change_free);
    for (guint d = 0; d < map->dirty->len; d++) {
        Dirty dirty = g_array_index(map->dirty, Dirty, d);
        gsize index = governing(map, dirty.from);
        if (boundary(map, index)->first < dirty.from)
            index++;
        EkMapChange *change = g_new0(EkMapChange, 1);
        change->from = dirty.from;
        change->to = dirty.to;
        gsize stop = index;
        while (stop < map->boundaries->len && boundary(map, stop)->first <= dirty.to)
            stop++;
        change->stretches = g_new0(EkStretch, stop - index + 1);
        for (; index < stop; index++) {
            const Boundary *at = boundary(map, index);
            change->stretches[change->count++] =
                (EkStretch){at->first, end_of(map, index) - at->first, at->mark};
        }
        g_ptr_array_add(changes, change);
    }
    g_array_set_size(map->dirty, 0);
    return changes;
}
