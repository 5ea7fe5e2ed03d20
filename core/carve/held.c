/* SPDX-License-Identifier: MIT */
/* Ground that files hold which were found. */
#include "carve/carving.h"

gint ek_carving_compare(gconstpointer a, gconstpointer b, gpointer data)
{
    EkByte one = *(const EkByte *)a;
    EkByte other = *(const EkByte *)b;
    (void)data;
    return one < other ? -1 : one > other;
}

/* The range that begins at or before a byte, the last such one. */
static gboolean range_before(const EkCarve *carve, EkByte at, EkRange *range)
{
    GTreeNode *node = g_tree_upper_bound(carve->held, &at);
    node = node != NULL ? g_tree_node_previous(node) : g_tree_node_last(carve->held);
    if (node == NULL)
        return FALSE;
    EkByte first = *(const EkByte *)g_tree_node_key(node);
    *range = (EkRange){first, *(const EkByte *)g_tree_node_value(node) - first};
    return TRUE;
}

gboolean ek_carving_is_held(const EkCarve *carve, EkByte at)
{
    EkRange range;
    return range_before(carve, at, &range) && ek_range_holds(range, at);
}

void ek_carve_hold(EkCarve *carve, EkRange range)
{
    EkRange before;
    EkByte first = range.first;
    EkByte end = ek_range_end(range);
    if (range.bytes == 0)
        return;
    if (range_before(carve, first, &before) && ek_range_end(before) >= first) {
        first = before.first;
        end = MAX(end, ek_range_end(before));
    }
    GTreeNode *node;
    while ((node = g_tree_lower_bound(carve->held, &first)) != NULL &&
           *(const EkByte *)g_tree_node_key(node) <= end) {
        EkByte key = *(const EkByte *)g_tree_node_key(node);
        end = MAX(end, *(const EkByte *)g_tree_node_value(node));
        g_tree_remove(carve->held, &key);
    }
    g_tree_insert(carve->held, g_memdup2(&first, sizeof first), g_memdup2(&end, sizeof end));
}

GArray *ek_carving_free_ground(const EkCarve *carve, EkByte first, guint most)
{
    GArray *free_ground = g_array_new(FALSE, FALSE, sizeof(EkRange));
    const GArray *ground = carve->order.ground;
    for (guint i = 0; i < ground->len && free_ground->len < most; i++) {
        EkRange range = g_array_index(ground, EkRange, i);
        EkByte at = MAX(first, range.first);
        while (at < ek_range_end(range) && free_ground->len < most) {
            EkRange held;
            if (range_before(carve, at, &held) && ek_range_holds(held, at)) {
                at = ek_range_end(held);
                continue;
            }
            GTreeNode *node = g_tree_upper_bound(carve->held, &at);
            EkByte end = ek_range_end(range);
            if (node != NULL)
                end = MIN(end, *(const EkByte *)g_tree_node_key(node));
            EkRange part = {at, end - at};
            g_array_append_val(free_ground, part);
            at = end;
        }
    }
    return free_ground;
}

GArray *ek_carving_free_ground_before(const EkCarve *carve, EkByte end, guint most)
{
    GArray *free_ground = g_array_new(FALSE, FALSE, sizeof(EkRange));
    const GArray *ground = carve->order.ground;
    for (guint i = ground->len; i > 0 && free_ground->len < most; i--) {
        EkRange range = g_array_index(ground, EkRange, i - 1);
        EkByte at = MIN(end, ek_range_end(range));
        while (at > range.first && free_ground->len < most) {
            EkRange held = {range.first, 0};
            gboolean is_any = range_before(carve, at - 1, &held);
            if (is_any && ek_range_end(held) >= at) {
                at = held.first;
                continue;
            }
            EkByte first = is_any ? MAX(range.first, ek_range_end(held)) : range.first;
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
