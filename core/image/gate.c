/* SPDX-License-Identifier: MIT */
#include "image/gate.h"

#include <string.h>

struct EkGate {
    EkGateParts parts;
    EkFace face;
    GArray *missing;     /* EkRange: what readers miss; NULL: nobody asks */
    gboolean is_bounded; /* then so many reads are left */
    guint reads_left;
    gboolean is_spent;    /* one more was asked for */
    const EkMoves *moves; /* NULL: none */
};

EkGate *ek_gate_new(const EkGateParts *parts, EkFace face)
{
    EkGate *gate = g_new0(EkGate, 1);
    gate->parts = *parts;
    gate->face = face;
    return gate;
}

EkGate *ek_gate_bounded(const EkGate *gate, guint reads)
{
    EkGate *bounded = g_memdup2(gate, sizeof *gate);
    bounded->is_bounded = TRUE;
    bounded->reads_left = reads;
    return bounded;
}

EkGate *ek_gate_moved(const EkGate *gate, const EkMoves *moves)
{
    EkGate *moved = g_memdup2(gate, sizeof *gate);
    moved->moves = moves;
    return moved;
}

gboolean ek_gate_is_spent(const EkGate *gate)
{
    return gate->is_spent;
}

void ek_gate_free(EkGate *gate)
{
    g_free(gate);
}

EkByte ek_gate_bytes(const EkGate *gate)
{
    return ek_image_bytes(gate->parts.image);
}

static const EkOverlay *repairs_of(const EkGate *gate)
{
    return gate->face == EK_FACE_AS_REPAIRED ? gate->parts.repairs : NULL;
}

/* What the image file holds where the map does not vouch for it was on its way when something went
 * wrong: it is not the drive's. */
static void blank_unread(const EkGate *gate, EkByte first, guint8 *buffer, gsize length)
{
    guint32 size = gate->parts.sector_size;
    EkByte end = first + length;
    for (EkByte at = first; at < end;) {
        EkStretch stretch = ek_read_map_at(gate->parts.map, at / size);
        EkByte stop = MIN(end, (stretch.first + stretch.count) * size);
        if (stretch.mark.state != EK_STATE_GOOD)
            memset(buffer + (at - first), 0, stop - at);
        at = stop;
    }
}

void ek_gate_watch(EkGate *gate, GArray *missing)
{
    gate->missing = missing;
}

static void note_missing(EkGate *gate, EkRange range)
{
    GArray *missing = gate->missing;
    EkRange hole;
    gboolean bad = FALSE;
    for (EkByte at = range.first; ek_gate_next_hole(gate, at, ek_range_end(range), &hole, &bad);
         at = ek_range_end(hole)) {
        EkRange *last =
            missing->len > 0 ? &g_array_index(missing, EkRange, missing->len - 1) : NULL;
        if (bad)
            continue;
        if (last != NULL && hole.first >= last->first && hole.first <= ek_range_end(*last))
            last->bytes = MAX(last->bytes, ek_range_end(hole) - last->first);
        else
            g_array_append_val(missing, hole);
    }
}

static gboolean read_bytes(const EkGate *gate, EkByte first, guint8 *buffer, gsize length,
                           GError **error)
{
    if (!ek_image_read(gate->parts.image, first, buffer, length, error))
        return FALSE;
    blank_unread(gate, first, buffer, length);
    if (gate->parts.kept != NULL)
        ek_overlay_lay(gate->parts.kept, first, buffer, length);
    if (repairs_of(gate) != NULL)
        ek_overlay_lay(repairs_of(gate), first, buffer, length);
    return TRUE;
}

/* The part of a moved block that lies in [first, end). */
static EkRange part_of(const EkGate *gate, const EkMove *move, EkByte first, EkByte end)
{
    EkByte from = MAX(move->at, first);
    return (EkRange){from, MIN(move->at + gate->moves->block_bytes, end) - from};
}

static gboolean lay_moves(const EkGate *gate, EkByte first, guint8 *buffer, gsize length,
                          GError **error)
{
    EkByte end = first + length;
    const EkMove *move;
    for (EkByte at = first; (move = ek_moves_next(gate->moves, at, end)) != NULL;) {
        EkRange part = part_of(gate, move, first, end);
        EkByte inside = part.first - move->at;
        guint8 *into = buffer + (part.first - first);
        EkRange copy;
        if (!ek_range_checked(move->from + inside, part.bytes, ek_gate_bytes(gate), &copy))
            return ek_error_set(error, EK_ERROR_DAMAGED, "a copy lies past the end of the drive");
        if (!read_bytes(gate, copy.first, into, part.bytes, error))
            return FALSE;
        for (EkByte i = inside;
             move->patch && i < MIN(sizeof gate->moves->first, inside + part.bytes); i++)
            into[i - inside] = gate->moves->first[i];
        at = ek_range_end(part);
    }
    return TRUE;
}

gboolean ek_gate_read(EkGate *gate, EkByte first, guint8 *buffer, gsize length, EkKnown *known,
                      GError **error)
{
    EkRange range;
    if (!ek_range_checked(first, length, ek_gate_bytes(gate), &range))
        return ek_error_set(error, EK_ERROR_DAMAGED,
                            "bytes %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
                            " lie past the end of the drive",
                            first, first + length);
    gate->is_spent = gate->is_bounded && gate->reads_left == 0;
    if (gate->is_spent)
        return ek_error_set(error, EK_ERROR_DAMAGED, "it leads to more places than are looked at");
    if (gate->is_bounded)
        gate->reads_left--;
    if (!read_bytes(gate, first, buffer, length, error) ||
        (gate->moves != NULL && !lay_moves(gate, first, buffer, length, error)))
        return FALSE;
    if (known != NULL)
        *known = ek_gate_known(gate, first, length);
    if (gate->missing != NULL)
        note_missing(gate, range);
    return TRUE;
}

guint8 *ek_gate_read_new(EkGate *gate, EkByte first, gsize length, EkKnown *known, GError **error)
{
    if (length == 0 || length > EK_GATE_MOST) {
        ek_error_set(error, EK_ERROR_DAMAGED, "a structure of %" G_GSIZE_FORMAT " bytes", length);
        return NULL;
    }
    g_autofree guint8 *buffer = g_malloc(length);
    return ek_gate_read(gate, first, buffer, length, known, error) ? g_steal_pointer(&buffer)
                                                                   : NULL;
}

/* Counts a run of bytes of the map's face into `known`. */
static void count_known(const EkGate *gate, EkByte from, EkByte to, EkKnown *known)
{
    guint32 size = gate->parts.sector_size;
    while (from < to) {
        EkStretch stretch = ek_read_map_at(gate->parts.map, from / size);
        EkByte end = MIN(to, (stretch.first + stretch.count) * size);
        if (stretch.mark.state == EK_STATE_GOOD)
            known->good += end - from;
        else if (stretch.mark.state == EK_STATE_BAD)
            known->bad += end - from;
        else
            known->unread += end - from;
        from = end;
    }
}

static EkKnown known_in_place(const EkGate *gate, EkByte first, EkByte length)
{
    EkKnown known = {0};
    EkByte bytes = ek_gate_bytes(gate);
    first = MIN(first, bytes);
    EkByte end = first + MIN(length, bytes - first);
    const EkOverlay *repairs = repairs_of(gate);
    EkRange covered;
    while (repairs != NULL && first < end && ek_overlay_next(repairs, first, end, &covered)) {
        count_known(gate, first, covered.first, &known);
        known.good += covered.bytes;
        first = ek_range_end(covered);
    }
    count_known(gate, first, end, &known);
    return known;
}

EkKnown ek_gate_known(const EkGate *gate, EkByte first, EkByte length)
{
    EkByte bytes = ek_gate_bytes(gate);
    EkByte at = MIN(first, bytes);
    EkByte end = at + MIN(length, bytes - at);
    EkKnown known = {0};
    const EkMove *move;
    while (gate->moves != NULL && (move = ek_moves_next(gate->moves, at, end)) != NULL) {
        EkRange part = part_of(gate, move, at, end);
        EkKnown before = known_in_place(gate, at, part.first - at);
        EkKnown copy = known_in_place(gate, move->from + (part.first - move->at), part.bytes);
        known.good += before.good + copy.good;
        known.bad += before.bad + copy.bad;
        known.unread += before.unread + copy.unread;
        at = ek_range_end(part);
    }
    EkKnown rest = known_in_place(gate, at, end - at);
    return (EkKnown){known.good + rest.good, known.bad + rest.bad, known.unread + rest.unread};
}

gboolean ek_gate_next_hole(const EkGate *gate, EkByte from, EkByte limit, EkRange *hole,
                           gboolean *bad)
{
    guint32 size = gate->parts.sector_size;
    const EkOverlay *repairs = repairs_of(gate);
    limit = MIN(limit, ek_gate_bytes(gate));
    EkStretch stretch;
    while (from < limit &&
           ek_read_map_next(gate->parts.map, from / size, EK_STATES_UNREAD, &stretch)) {
        EkByte first = MAX(from, stretch.first * size);
        EkByte end = MIN(limit, (stretch.first + stretch.count) * size);
        EkRange covered;
        if (first >= end)
            return FALSE;
        if (repairs != NULL && ek_overlay_next(repairs, first, end, &covered)) {
            if (covered.first == first) {
                from = ek_range_end(covered);
                continue;
            }
            end = covered.first;
        }
        *hole = (EkRange){first, end - first};
        *bad = stretch.mark.state == EK_STATE_BAD;
        return TRUE;
    }
    return FALSE;
}

gboolean ek_gate_next_data(EkGate *gate, EkByte from, EkRange *data)
{
    return ek_image_next_data(gate->parts.image, from, data);
}
