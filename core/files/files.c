/* SPDX-License-Identifier: MIT */
/* Files of a volume. */
#include "files/files.h"

#include <string.h>

gboolean ek_files_open(EkFiles *files, EkReader *reader, const EkVolume *volume, GError **error)
{
    if (volume->format->open == NULL)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "the files of %s volumes are not listed by this version",
                            volume->filesystem);
    if (volume->as_of.kind != EK_AS_IT_IS && volume->format->moments == NULL)
        return ek_error_set(
            error, EK_ERROR_UNSUPPORTED,
            "%s volumes can be read only as they are: only ext3 and ext4 keep older "
            "copies in their journal",
            volume->filesystem);
    *files = (EkFiles){reader, volume->format, volume->format->open(reader, volume, error)};
    return files->opened != NULL;
}

void ek_files_close(EkFiles *files)
{
    if (files->opened != NULL)
        files->format->close(files->opened);
    files->opened = NULL;
}

const char *ek_condition_name(EkCondition condition)
{
    switch (condition) {
    case EK_CONDITION_HOLED: return "holed";
    case EK_CONDITION_OVERWRITTEN: return "overwritten";
    case EK_CONDITION_UNPLACED: return "unplaced";
    case EK_CONDITION_DOUBTFUL: return "doubtful";
    case EK_CONDITION_CUT: return "cut";
    case EK_CONDITION_WHOLE:
    case EK_CONDITIONS: break;
    }
    return "whole";
}

EkCondition ek_damage_condition(const EkDamage *damage)
{
    if (damage->unplaced_bytes > 0)
        return EK_CONDITION_UNPLACED;
    if (damage->overwritten_bytes > 0)
        return EK_CONDITION_OVERWRITTEN;
    return damage->bad_bytes + damage->unread_bytes > 0 ? EK_CONDITION_HOLED : EK_CONDITION_WHOLE;
}

gint64 ek_timestamp_to_unix(const EkTimestamp *timestamp)
{
    if (!timestamp->is_local)
        return timestamp->seconds;
    g_autoptr(GDateTime) at = g_date_time_new_from_unix_utc(timestamp->seconds);
    if (at == NULL)
        return timestamp->seconds;
    g_autoptr(GDateTime) local = g_date_time_new_local(
        g_date_time_get_year(at), g_date_time_get_month(at), g_date_time_get_day_of_month(at),
        g_date_time_get_hour(at), g_date_time_get_minute(at), g_date_time_get_seconds(at));
    return local != NULL ? g_date_time_to_unix(local) : timestamp->seconds;
}

char *ek_timestamp_text(const EkTimestamp *timestamp)
{
    if (!timestamp->is_set)
        return NULL;
    g_autoptr(GDateTime) at = g_date_time_new_from_unix_utc(timestamp->seconds);
    if (at == NULL)
        return NULL;
    return g_date_time_format(at, timestamp->is_local ? "%Y-%m-%dT%H:%M:%S" : "%Y-%m-%dT%H:%M:%SZ");
}

/* --- holes ---------------------------------------------------------------------------------- */

static void add_hole(void *data, EkByte offset, EkByte bytes, gboolean bad)
{
    GArray *holes = data;
    (void)bad;
    EkHole *last = holes->len > 0 ? &g_array_index(holes, EkHole, holes->len - 1) : NULL;
    EkHole hole = {offset, bytes};
    if (last != NULL && offset <= last->offset + last->bytes)
        last->bytes = MAX(last->bytes, offset + bytes - MIN(offset + bytes, last->offset));
    else
        g_array_append_val(holes, hole);
}

/* Receives part of a file that is not there. */
typedef void (*HoleSink)(void *data, EkByte offset, EkByte bytes, gboolean bad);

static void each_hole_of(EkReader *reader, const EkExtent *extent, HoleSink sink, void *data)
{
    EkRange inside;
    EkRange hole;
    gboolean bad = FALSE;
    if (ek_extent_place(extent) == EK_UNPLACED ||
        !ek_range_checked(extent->first_byte, extent->stored, ek_reader_bytes(reader), &inside)) {
        sink(data, extent->offset, extent->bytes, FALSE);
        return;
    }
    EkByte at = inside.first;
    while (ek_reader_next_hole(reader, at, ek_range_end(inside), &hole, &bad)) {
        /* What is encoded is lost as a whole. */
        if (extent->is_packed)
            sink(data, extent->offset, extent->bytes, bad);
        else
            sink(data, extent->offset + (hole.first - inside.first), hole.bytes, bad);
        at = ek_range_end(hole);
    }
}

static void each_hole(EkReader *reader, const GArray *extents, HoleSink sink, void *data)
{
    for (guint i = 0; i < extents->len; i++)
        each_hole_of(reader, &g_array_index(extents, EkExtent, i), sink, data);
}

typedef struct {
    guint64 size;
    EkKnown *parts;
    guint count;
} Measuring;

/* Adds a hole to the parts that it reaches into. */
static void measure_hole(void *data, EkByte offset, EkByte bytes, gboolean bad)
{
    Measuring *measuring = data;
    EkByte end = offset + MIN(bytes, G_MAXUINT64 - offset);
    for (guint i = 0; i < measuring->count; i++) {
        /* size / count, without a product that does not fit. */
        guint64 each = measuring->size / measuring->count;
        guint64 rest = measuring->size % measuring->count;
        EkByte first = each * i + rest * i / measuring->count;
        EkByte next = each * (i + 1) + rest * (i + 1) / measuring->count;
        EkByte from = MAX(first, offset);
        EkByte to = MIN(next, end);
        if (from < to)
            *(bad ? &measuring->parts[i].bad : &measuring->parts[i].unread) += to - from;
    }
}

void ek_files_measure(EkReader *reader, const GArray *extents, guint64 size, EkKnown *parts,
                      guint count)
{
    Measuring measuring = {size, parts, count};
    memset(parts, 0, count * sizeof *parts);
    each_hole(reader, extents, measure_hole, &measuring);
}

GArray *ek_files_holes(EkReader *reader, const GArray *extents)
{
    GArray *holes = g_array_new(FALSE, FALSE, sizeof(EkHole));
    each_hole(reader, extents, add_hole, holes);
    return holes;
}
