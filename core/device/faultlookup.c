/* SPDX-License-Identifier: MIT */
/* Faults that do not repeat are laid out once as a sorted array of pieces that do not overlap; the
 * few that repeat are computed each time. */
#include "device/faultlookup.h"

#define NOBODY G_MAXUINT

typedef struct {
    EkSector first; /* up to the next piece */
    guint fault;    /* NOBODY: healthy */
} Piece;

struct EkFaultLookup {
    const EkModel *model;
    GArray *pieces;    /* Piece; the first at sector 0 */
    GArray *repeating; /* guint, numbers of faults */
};

static const EkFault *fault_of(const EkModel *model, guint number)
{
    return model->faults->pdata[number];
}

static gint by_first(gconstpointer a, gconstpointer b, gpointer data)
{
    EkSector first = fault_of(data, *(const guint *)a)->first;
    EkSector second = fault_of(data, *(const guint *)b)->first;
    return (first > second) - (first < second);
}

static EkSector end_of_fault(const EkFault *fault)
{
    EkSector end = fault->first + MIN(fault->count, (EkSector)G_MAXINT64 - fault->first);
    return fault->until != 0 ? MIN(end, fault->until + 1) : end;
}

/* A heap of fault numbers, the highest on top. */
static void heap_push(GArray *heap, guint number)
{
    g_array_append_val(heap, number);
    guint *at = (guint *)(gpointer)heap->data;
    for (guint i = heap->len - 1; i > 0 && at[(i - 1) / 2] < at[i]; i = (i - 1) / 2) {
        guint parent = at[(i - 1) / 2];
        at[(i - 1) / 2] = at[i];
        at[i] = parent;
    }
}

static void heap_pop(GArray *heap)
{
    guint *at = (guint *)(gpointer)heap->data;
    at[0] = at[heap->len - 1];
    g_array_set_size(heap, heap->len - 1);
    for (guint i = 0; 2 * i + 1 < heap->len;) {
        guint child = 2 * i + 1;
        if (child + 1 < heap->len && at[child + 1] > at[child])
            child++;
        if (at[i] >= at[child])
            break;
        guint above = at[i];
        at[i] = at[child];
        at[child] = above;
        i = child;
    }
}

static void add_piece(GArray *pieces, EkSector first, guint fault)
{
    Piece *last = pieces->len > 0 ? &g_array_index(pieces, Piece, pieces->len - 1) : NULL;
    if (last != NULL && last->fault == fault)
        return;
    if (last != NULL && last->first == first) {
        last->fault = fault;
        return;
    }
    Piece piece = {first, fault};
    g_array_append_val(pieces, piece);
}

/* Drops what has ended by `at` and tells who is on top. */
static guint governor(const EkModel *model, GArray *heap, EkSector at)
{
    while (heap->len > 0 && end_of_fault(fault_of(model, g_array_index(heap, guint, 0))) <= at)
        heap_pop(heap);
    return heap->len > 0 ? g_array_index(heap, guint, 0) : NOBODY;
}

static void lay_out(EkFaultLookup *index, GArray *single)
{
    const EkModel *model = index->model;
    g_autoptr(GArray) heap = g_array_new(FALSE, FALSE, sizeof(guint));
    g_array_sort_with_data(single, by_first, (gpointer)model);
    add_piece(index->pieces, 0, NOBODY);
    EkSector at = 0;
    for (guint next = 0; next < single->len || heap->len > 0;) {
        /* On to whatever comes first: a fault that begins, or the one on top that ends. */
        guint top = governor(model, heap, at);
        EkSector begins = next < single->len
                              ? fault_of(model, g_array_index(single, guint, next))->first
                              : G_MAXUINT64;
        EkSector ends = top != NOBODY ? end_of_fault(fault_of(model, top)) : G_MAXUINT64;
        at = MIN(begins, ends);
        if (at == G_MAXUINT64)
            break;
        for (;
             next < single->len && fault_of(model, g_array_index(single, guint, next))->first == at;
             next++)
            heap_push(heap, g_array_index(single, guint, next));
        add_piece(index->pieces, at, governor(model, heap, at));
    }
}

EkFaultLookup *ek_fault_lookup_new(const EkModel *model)
{
    EkFaultLookup *index = g_new0(EkFaultLookup, 1);
    g_autoptr(GArray) single = g_array_new(FALSE, FALSE, sizeof(guint));
    index->model = model;
    index->pieces = g_array_new(FALSE, FALSE, sizeof(Piece));
    index->repeating = g_array_new(FALSE, FALSE, sizeof(guint));
    for (guint i = 0; i < model->faults->len; i++)
        g_array_append_val(fault_of(model, i)->repeat_every != 0 ? index->repeating : single, i);
    lay_out(index, single);
    return index;
}

void ek_fault_lookup_free(EkFaultLookup *index)
{
    g_array_unref(index->pieces);
    g_array_unref(index->repeating);
    g_free(index);
}

EkFaultAt ek_fault_lookup_at(const EkFaultLookup *index, EkSector sector, EkSector limit)
{
    const Piece *pieces = (const Piece *)(gconstpointer)index->pieces->data;
    guint low = 0;
    guint high = index->pieces->len;
    while (high - low > 1) {
        guint middle = low + (high - low) / 2;
        if (pieces[middle].first <= sector)
            low = middle;
        else
            high = middle;
    }
    guint winner = pieces[low].fault;
    EkSector end = low + 1 < index->pieces->len ? MIN(limit, pieces[low + 1].first) : limit;
    for (guint i = 0; i < index->repeating->len; i++) {
        guint number = g_array_index(index->repeating, guint, i);
        EkSector first = 0;
        EkSector count = 0;
        if (!ek_fault_run(fault_of(index->model, number), sector, &first, &count))
            continue;
        end = MIN(end, first > sector ? first : first + count);
        if (first <= sector && (winner == NOBODY || number > winner))
            winner = number;
    }
    return (EkFaultAt){winner != NOBODY ? fault_of(index->model, winner) : NULL, winner,
                       end - sector};
}
