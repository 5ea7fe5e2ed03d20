/* SPDX-License-Identifier: MIT */
/* Ground that files hold which were found. */
#include "carve/carving.h"

/* How many of the ranges begin at or before a byte. */
static guint ranges_up_to(const EkCarve *carve, EkByte at)
{
    guint low = 0;
    guint high = carve->held->len;
    /* What is found is mostly behind all that was found before. */
    if (high > 0 && g_array_index(carve->held, EkRange, high - 1).first <= at)
        return high;
    while (low < high) {
        guint middle = low + (high - low) / 2;
        if (g_array_index(carve->held, EkRange, middle).first <= at)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

gboolean ek_carving_is_held(const EkCarve *carve, EkByte at)
{
    guint count = ranges_up_to(carve, at);
    return count > 0 && ek_range_holds(g_array_index(carve->held, EkRange, count - 1), at);
}

void ek_carve_hold(EkCarve *carve, EkRange range)
{
    if (range.bytes == 0)
        return;
    /* It becomes one with those that it touches. */
    guint first = ranges_up_to(carve, range.first);
    guint stop = ranges_up_to(carve, ek_range_end(range));
    if (first > 0 && ek_range_end(g_array_index(carve->held, EkRange, first - 1)) >= range.first)
        first--;
    if (first < stop) {
        EkByte begin = MIN(range.first, g_array_index(carve->held, EkRange, first).first);
        EkByte end =
            MAX(ek_range_end(range), ek_range_end(g_array_index(carve->held, EkRange, stop - 1)));
        range = (EkRange){begin, end - begin};
        g_array_remove_range(carve->held, first, stop - first);
    }
    g_array_insert_val(carve->held, first, range);
}

static void release(EkCarve *carve, EkRange range)
{
    guint first = ranges_up_to(carve, range.first);
    if (first > 0 && ek_range_end(g_array_index(carve->held, EkRange, first - 1)) > range.first)
        first--;
    guint stop = ranges_up_to(carve, ek_range_end(range) - 1);
    if (first >= stop)
        return;
    EkRange begin = g_array_index(carve->held, EkRange, first);
    EkRange last = g_array_index(carve->held, EkRange, stop - 1);
    EkRange rest[] = {
        {begin.first, range.first - MIN(range.first, begin.first)},
        {ek_range_end(range), ek_range_end(last) - MIN(ek_range_end(last), ek_range_end(range))}};
    g_array_remove_range(carve->held, first, stop - first);
    for (gsize i = G_N_ELEMENTS(rest); i > 0; i--)
        if (rest[i - 1].bytes > 0)
            g_array_insert_val(carve->held, first, rest[i - 1]);
}

void ek_carve_release_rests(EkCarve *carve)
{
    for (guint i = 0; i < carve->loose->len; i++) {
        const EkLoose *loose = &g_array_index(carve->loose, EkLoose, i);
        if (loose->hides == EK_HIDES_SAME && loose->type->is_rest != NULL)
            release(carve, loose->range);
    }
}

GArray *ek_carving_free_ground(const EkCarve *carve, EkByte first, guint most)
{
    GArray *free_ground = g_array_new(FALSE, FALSE, sizeof(EkRange));
    const GArray *ground = carve->order.ground;
    guint next = ranges_up_to(carve, first);
    next -= next > 0;
    for (guint i = 0; i < ground->len && free_ground->len < most; i++) {
        EkRange range = g_array_index(ground, EkRange, i);
        EkByte at = MAX(first, range.first);
        while (at < ek_range_end(range) && free_ground->len < most) {
            while (next < carve->held->len &&
                   ek_range_end(g_array_index(carve->held, EkRange, next)) <= at)
                next++;
            EkRange held = {G_MAXUINT64, 0};
            if (next < carve->held->len)
                held = g_array_index(carve->held, EkRange, next);
            if (held.first <= at) {
                at = ek_range_end(held);
                continue;
            }
            EkRange part = {at, MIN(held.first, ek_range_end(range)) - at};
            g_array_append_val(free_ground, part);
            at = ek_range_end(part);
        }
    }
    return free_ground;
}

GArray *ek_carving_free_ground_before(const EkCarve *carve, EkByte end, guint most)
{
    GArray *free_ground = g_array_new(FALSE, FALSE, sizeof(EkRange));
    const GArray *ground = carve->order.ground;
    guint before = ranges_up_to(carve, end);
    for (guint i = ground->len; i > 0 && free_ground->len < most; i--) {
        EkRange range = g_array_index(ground, EkRange, i - 1);
        EkByte at = MIN(end, ek_range_end(range));
        while (at > range.first && free_ground->len < most) {
            while (before > 0 && g_array_index(carve->held, EkRange, before - 1).first >= at)
                before--;
            EkRange held = {0, 0};
            if (before > 0)
                held = g_array_index(carve->held, EkRange, before - 1);
            if (ek_range_end(held) >= at) {
                at = held.first;
                continue;
            }
            EkByte first = MAX(range.first, ek_range_end(held));
            EkRange part = {first, at - first};
            g_array_append_val(free_ground, part);
            at = first;
        }
    }
    for (guint i = 0; i < free_ground->len / 2; i++) {
        EkRange *one = &g_array_index(free_ground, EkRange, i);
        EkRange *other = &g_array_index(free_ground, EkRange, free_ground->len - 1 - i);
        EkRange kept = *one;
        *one = *other;
        *other = kept;
    }
    return free_ground;
}
