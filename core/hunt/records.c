/* SPDX-License-Identifier: MIT */
/* All numbered records of one format in a part of the image. */
#include "hunt/records.h"

#define PIECE (1u << 20)

static gboolean may_be_record(const EkFileSystem *format, const guint8 *step)
{
    for (gsize i = 0; i < format->record_signature_count; i++)
        if (ek_signature_stands(&format->record_signatures[i], step))
            return TRUE;
    return FALSE;
}

/* Continues the last run, or begins one. */
static void add(GArray *runs, EkByte at, EkRecord record)
{
    EkRecordRun *last = runs->len > 0 ? &g_array_index(runs, EkRecordRun, runs->len - 1) : NULL;
    if (last != NULL && last->stride == record.bytes && record.number > last->first_record &&
        at - last->first_byte == (record.number - last->first_record) * record.bytes) {
        last->count = record.number - last->first_record + 1;
        return;
    }
    EkRecordRun run = {at, record.number, 1, record.bytes};
    g_array_append_val(runs, run);
}

GArray *ek_hunt_records(EkReader *reader, const EkFileSystem *format, EkRange range,
                        const gint *cancel, GError **error)
{
    g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
    g_autofree guint8 *buffer = g_malloc(PIECE + EK_RECOGNISE_BYTES);
    EkByte end = MIN(ek_range_end(range), ek_reader_bytes(reader));
    EkRange data = {range.first, 0};
    for (EkByte at = range.first; at < end; at += PIECE) {
        gsize length = (gsize)MIN(PIECE + EK_RECOGNISE_BYTES, end - at);
        if (g_atomic_int_get(cancel) != 0) {
            ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
            return NULL;
        }
        /* Holes of the image are skipped. */
        if (at >= ek_range_end(data) && !ek_reader_next_data(reader, at, &data))
            break;
        if (at + PIECE <= data.first)
            continue;
        if (!ek_reader_read(reader, at, buffer, length, NULL, error))
            return NULL;
        for (gsize into = 0; into < MIN(length, PIECE) && into + EK_STEP <= length;
             into += EK_STEP) {
            EkSpan span = {buffer + into, length - into};
            EkRecord record;
            if (may_be_record(format, buffer + into) && format->record(span, &record))
                add(runs, at + into, record);
        }
    }
    return g_steal_pointer(&runs);
}
