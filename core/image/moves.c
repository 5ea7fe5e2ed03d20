/* SPDX-License-Identifier: MIT */
/* Blocks of an image of which a newer copy is elsewhere in it, as in a journal. */
#include "image/moves.h"

EkMoves *ek_moves_new(guint32 block_bytes)
{
    EkMoves *moves = g_new0(EkMoves, 1);
    moves->block_bytes = block_bytes;
    moves->moves = g_array_new(FALSE, FALSE, sizeof(EkMove));
    return moves;
}

void ek_moves_free(EkMoves *moves)
{
    g_array_unref(moves->moves);
    g_free(moves);
}

static gint newest_first(gconstpointer a, gconstpointer b)
{
    const EkMove *left = a;
    const EkMove *right = b;
    if (left->at != right->at)
        return left->at < right->at ? -1 : 1;
    return left->order > right->order ? -1 : left->order < right->order;
}

void ek_moves_settle(EkMoves *moves)
{
    GArray *all = moves->moves;
    guint kept = 0;
    g_array_sort(all, newest_first);
    for (guint i = 0; i < all->len; i++) {
        const EkMove *move = &g_array_index(all, EkMove, i);
        if (kept == 0 || g_array_index(all, EkMove, kept - 1).at != move->at)
            g_array_index(all, EkMove, kept++) = *move;
    }
    g_array_set_size(all, kept);
}

const EkMove *ek_moves_next(const EkMoves *moves, EkByte from, EkByte limit)
{
    guint low = 0;
    guint high = moves->moves->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        if (g_array_index(moves->moves, EkMove, middle).at + moves->block_bytes <= from)
            low = middle + 1;
        else
            high = middle;
    }
    if (low == moves->moves->len || from >= limit)
        return NULL;
    const EkMove *move = &g_array_index(moves->moves, EkMove, low);
    return move->at < limit ? move : NULL;
}
