/* SPDX-License-Identifier: MIT */
/* Volumes: measuring and inferring them, and the reasons to believe in them. */
#include "volume/volume.h"

#include "base/text.h"

#include <string.h>

#define SECOND ((gint64)1000000000)
#define DAY (24 * 3600 * SECOND)

static void region_free(gpointer data)
{
    EkEvidence *region = data;
    g_free(region->text);
    g_free(region);
}

static void property_free(gpointer data)
{
    EkProperty *property = data;
    g_free(property->name);
    g_free(property->value);
    g_free(property);
}

EkVolume *ek_volume_new(const EkFileSystem *format, const char *filesystem)
{
    EkVolume *volume = g_new0(EkVolume, 1);
    volume->format = format;
    volume->filesystem = filesystem;
    volume->header = g_malloc0(EK_HEADER_BYTES);
    volume->header_bytes = EK_HEADER_BYTES;
    volume->reasons = g_ptr_array_new_with_free_func(region_free);
    volume->properties = g_ptr_array_new_with_free_func(property_free);
    return volume;
}

void ek_volume_free(EkVolume *volume)
{
    g_free(volume->header);
    g_free(volume->label);
    g_free(volume->uuid);
    g_ptr_array_unref(volume->reasons);
    g_ptr_array_unref(volume->properties);
    g_clear_pointer(&volume->parts, g_ptr_array_unref);
    g_free(volume);
}

void ek_volume_add_part(EkVolume *volume, EkVolume *part)
{
    if (volume->parts == NULL)
        volume->parts = g_ptr_array_new_with_free_func((GDestroyNotify)ek_volume_free);
    g_ptr_array_add(volume->parts, part);
    volume->is_container = TRUE;
}

void ek_volume_set_header(EkVolume *volume, EkSpan header)
{
    gsize length = MIN(header.length, EK_HEADER_MOST);
    guint8 *kept = g_malloc0(MAX(length, EK_HEADER_BYTES));
    memcpy(kept, header.data, length);
    g_free(volume->header);
    volume->header = kept;
    volume->header_bytes = MAX(length, EK_HEADER_BYTES);
}

void ek_volume_reason(EkVolume *volume, int points, const char *format, ...)
{
    EkEvidence *region = g_new0(EkEvidence, 1);
    va_list arguments;
    va_start(arguments, format);
    region->text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    region->points = points;
    g_ptr_array_add(volume->reasons, region);
    volume->confidence = CLAMP(volume->confidence + points, 0, 100);
}

EkVolume *ek_volume_measure(const EkFileSystem *format, EkReader *reader,
                            const EkCandidate *candidate, GError **error)
{
    GError *failure = NULL;
    g_autoptr(EkReader) bounded = ek_reader_bounded(reader, EK_MEASURE_READS);
    EkVolume *volume = format->measure(bounded, candidate, &failure);
    /* A claim that leads through the whole image is damage, and costs itself only. */
    if (volume == NULL && ek_reader_is_spent(bounded)) {
        g_clear_error(&failure);
        return ek_volume_new(format, format->name);
    }
    if (failure != NULL)
        g_propagate_error(error, failure);
    if (volume != NULL)
        volume->format = format;
    for (guint i = 0; volume != NULL && volume->parts != NULL && i < volume->parts->len; i++) {
        EkVolume *part = volume->parts->pdata[i];
        part->format = part->format != NULL ? part->format : format;
    }
    return volume;
}

EkUsage ek_volume_use(const EkVolume *volume, EkReader *reader, EkRange range, EkByte *same)
{
    *same = range.bytes;
    /* What would tell of an earlier one belongs to the newer one now. */
    if (volume->format->use == NULL || volume->is_earlier || range.first < volume->first_byte ||
        range.first - volume->first_byte > volume->bytes ||
        range.bytes > volume->bytes - (range.first - volume->first_byte))
        return EK_USAGE_UNKNOWN;
    EkUsage usage = volume->format->use(reader, volume, range, same);
    *same = CLAMP(*same, 1, range.bytes);
    return usage;
}

EkUsage ek_volume_use_at(const EkVolume *volume, EkReader *reader, EkByte at)
{
    EkByte same = 0;
    return ek_volume_use(volume, reader, (EkRange){at, 1}, &same);
}

void ek_volume_expected(EkVolume *volume, const EkSightings *sightings)
{
    if (ek_is_expected_at(sightings, volume->first_byte))
        ek_volume_reason(volume, 10, "it was said that such a volume had been there");
}

typedef struct {
    const EkFileSystem *format;
    EkVolumeSink sink;
    void *data;
} Inferring;

static void take_inferred(void *data, EkVolume *volume)
{
    const Inferring *inferring = data;
    volume->format = inferring->format;
    inferring->sink(inferring->data, volume);
}

gboolean ek_volume_infer(const EkFileSystem *format, EkReader *reader, const EkSightings *sightings,
                         gboolean earlier, EkVolumeSink sink, void *data, GError **error)
{
    Inferring inferring = {format, sink, data};
    gboolean (*infer)(EkReader *, const EkSightings *, EkVolumeSink, void *, GError **) =
        earlier ? format->infer_earlier : format->infer;
    return infer == NULL || infer(reader, sightings, take_inferred, &inferring, error);
}

/* What of a run is left behind and before a range. */
static void cut_run(GArray *out, EkRecordRun run, EkRange range)
{
    EkByte bytes = MAX(run.stride, 1);
    EkByte end = run.first_byte + (run.count - 1) * bytes + MAX(run.stride, EK_STEP);
    if (end <= range.first || run.first_byte >= ek_range_end(range)) {
        g_array_append_val(out, run);
        return;
    }
    guint64 before = run.first_byte < range.first ? (range.first - run.first_byte) / bytes : 0;
    guint64 skipped = ek_divide_up(ek_range_end(range) - run.first_byte, bytes);
    EkRecordRun head = run;
    head.count = MIN(before, run.count);
    if (head.count > 0)
        g_array_append_val(out, head);
    if (skipped >= run.count)
        return;
    run.first_byte += skipped * bytes;
    run.first_record += skipped;
    run.count -= skipped;
    g_array_append_val(out, run);
}

GArray *ek_runs_outside(const GArray *runs, const GArray *ranges)
{
    GArray *left = g_array_sized_new(FALSE, FALSE, sizeof(EkRecordRun), runs->len);
    g_array_append_vals(left, runs->data, runs->len);
    for (guint i = 0; i < ranges->len; i++) {
        GArray *fewer = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
        for (guint k = 0; k < left->len; k++)
            cut_run(fewer, g_array_index(left, EkRecordRun, k), g_array_index(ranges, EkRange, i));
        g_array_unref(left);
        left = fewer;
    }
    return left;
}

void ek_volume_property(EkVolume *volume, const char *name, const char *format, ...)
{
    EkProperty *property = g_new0(EkProperty, 1);
    va_list arguments;
    va_start(arguments, format);
    property->name = g_strdup(name);
    property->value = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    g_ptr_array_add(volume->properties, property);
}

void ek_volume_property_number(EkVolume *volume, const char *name, guint64 number)
{
    ek_volume_property(volume, name, "%" G_GUINT64_FORMAT, number);
}

EkVolume *ek_volume_new_under(const EkVolume *newer)
{
    EkVolume *volume = ek_volume_new(NULL, newer->filesystem);
    ek_volume_set_header(volume, ek_volume_header(newer));
    volume->composed = volume->is_earlier = volume->is_confirmed = TRUE;
    volume->by_backup = newer->by_backup;
    volume->first_byte = newer->first_byte;
    volume->bytes = newer->bytes;
    volume->header_byte = newer->header_byte;
    volume->own_sector_size = newer->own_sector_size;
    volume->length_is_least = TRUE;
    return volume;
}

gint64 ek_volume_last_use(const EkVolume *volume)
{
    gint64 created = ek_timestamp_nanoseconds(volume->created);
    gint64 used = ek_timestamp_nanoseconds(volume->used);
    return MAX(created, used);
}

gboolean ek_volume_is_later(const EkVolume *a, const EkVolume *b)
{
    gboolean local = a->used.is_set ? a->used.is_local : a->created.is_local;
    gboolean other = b->used.is_set ? b->used.is_local : b->created.is_local;
    gint64 before = ek_volume_last_use(b);
    gint64 after = ek_volume_last_use(a);
    /* One that keeps whole seconds does not tell what came first within one. */
    if (before % SECOND == 0 || after % SECOND == 0) {
        before -= before % SECOND;
        after -= after % SECOND;
    }
    return before > 0 && after > before + (local != other ? DAY : 0);
}

const char *ek_volume_unit(const EkVolume *volume)
{
    for (guint i = 0; i < volume->properties->len; i++) {
        const EkProperty *property = volume->properties->pdata[i];
        if (g_str_equal(property->name, EK_PROPERTY_CLUSTER) ||
            g_str_equal(property->name, EK_PROPERTY_BLOCK))
            return property->value;
    }
    return "";
}

char *ek_volume_label(EkSpan span)
{
    gsize length = 0;
    while (length < span.length && span.data[length] != 0)
        length++;
    return length > 0 ? ek_text_utf8(span.data, length) : NULL;
}

char *ek_volume_uuid(EkSpan span)
{
    if (span.length < 16 || ek_bytes_are_zero(span.data, 16))
        return NULL;
    GString *text = g_string_new(NULL);
    for (gsize i = 0; i < 16; i++)
        g_string_append_printf(text, i == 4 || i == 6 || i == 8 || i == 10 ? "-%02x" : "%02x",
                               span.data[i]);
    return g_string_free(text, FALSE);
}

void ek_repair_free(EkRepair *repair)
{
    g_free(repair->after);
    g_free(repair->what);
    g_free(repair->from);
    g_free(repair);
}

EkRange ek_sightings_range(const EkSightings *sightings, guint index)
{
    guint volumes = sightings->volumes->len;
    return index < volumes ? ek_volume_range(sightings->volumes->pdata[index])
                           : g_array_index(sightings->places, EkRange, index - volumes);
}

const EkMoment *ek_moment_of(const GArray *moments, const EkAsOf *as_of)
{
    const EkMoment *chosen = NULL;
    for (guint i = 0; i < moments->len; i++) {
        const EkMoment *moment = &g_array_index(moments, EkMoment, i);
        if (as_of->kind == EK_AS_OF_TIME ? moment->time.seconds <= as_of->value
                                         : (gint64)moment->transaction == as_of->value)
            chosen = moment;
    }
    return chosen;
}
