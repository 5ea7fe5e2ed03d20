/* SPDX-License-Identifier: MIT */
#include "image/gate.h"

#include <string.h>

struct EkGate {
    EkGateParts parts;
    EkFace face;
    GArray *missing;     /* EkRange: what readers miss; NULL: nobody asks */
    gboolean is_bounded; /* then so many reads are left */
    guint reads_left;
    gboolean is_spent; /* one more was asked for */
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
    if (!ek_image_read(gate->parts.image, first, buffer, length, error))
        return FALSE;
    blank_unread(gate, first, buffer, length);
    if (gate->parts.kept != NULL)
        ek_overlay_lay(gate->parts.kept, first, buffer, length);
    if (repairs_of(gate) != NULL)
        ek_overlay_lay(repairs_of(gate), first, buffer, length);
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

EkKnown ek_gate_known(const EkGate *gate, EkByte first, EkByte length)
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
