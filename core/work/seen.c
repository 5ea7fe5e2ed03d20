/* SPDX-License-Identifier: MIT */
/* What a hunt saw, and what of that belongs to no volume. */
#include "work/seen.h"

/* It is a volume's of its format that does not call the place free, or lies in a file of any other.
 */
static gboolean belongs(const GPtrArray *volumes, EkReader *reader, const EkTrace *trace)
{
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        const EkVolume *volume = entry->volume;
        EkRange range = ek_volume_range(volume);
        gboolean is_own = g_str_equal(volume->format->name, trace->format);
        if (!ek_range_holds(range, trace->first_byte) ||
            (!is_own && (reader == NULL || !ek_standing_is_on_top(entry->standing))))
            continue;
        EkUsage usage =
            reader != NULL ? ek_volume_use_at(volume, reader, trace->first_byte) : EK_USAGE_UNKNOWN;
        if (is_own ? usage != EK_USAGE_FREE : usage == EK_USAGE_USED)
            return TRUE;
    }
    return FALSE;
}

/* The volume whose deleted files they are listed among; 0: none. */
static guint lister_of(const GPtrArray *volumes, const EkTrace *trace)
{
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        if (entry->volume->format->lists_free_folders &&
            g_str_equal(entry->volume->format->name, trace->format) &&
            ek_range_holds(ek_volume_range(entry->volume), trace->first_byte))
            return entry->number;
    }
    return 0;
}

static void add_stray(GArray *strays, const EkTrace *trace, guint volume)
{
    EkByte end = trace->first_byte + MAX(trace->count, 1) * MAX(trace->stride, EK_STEP);
    for (guint i = 0; i < strays->len; i++) {
        EkStray *stray = &g_array_index(strays, EkStray, i);
        if (!g_str_equal(stray->format, trace->format))
            continue;
        stray->count += MAX(trace->count, 1);
        stray->where.bytes = MAX(ek_range_end(stray->where), end) - stray->where.first;
        return;
    }
    EkStray stray = {
        trace->format, MAX(trace->count, 1), {trace->first_byte, end - trace->first_byte}, volume};
    g_array_append_val(strays, stray);
}

gboolean ek_seen_gather(EkSeen *seen, EkCase *opened, EkReader *reader, const GPtrArray *volumes,
                        GError **error)
{
    *seen = (EkSeen){.strays = g_array_new(FALSE, FALSE, sizeof(EkStray))};
    g_autoptr(GPtrArray) traces = ek_volumestore_traces(opened, error);
    if (traces == NULL)
        return FALSE;
    for (guint i = 0; i < traces->len; i++) {
        const EkTrace *trace = traces->pdata[i];
        guint64 count = MAX(trace->count, 1);
        const char *kind = trace->kind;
        if (g_str_has_prefix(kind, EK_TRACE_REST))
            kind += strlen(EK_TRACE_REST);
        if (g_str_equal(kind, "boot-sector"))
            seen->headers += count;
        else if (g_str_equal(kind, "table"))
            seen->tables += count;
        else if (g_str_equal(kind, EK_TRACE_RECORDS))
            seen->records += count;
        /* Where a run was cut the rest belongs where the run does. */
        if (g_str_equal(trace->kind, EK_TRACE_RECORDS) && !belongs(volumes, reader, trace))
            add_stray(seen->strays, trace, lister_of(volumes, trace));
    }
    return TRUE;
}

void ek_seen_clear(EkSeen *seen)
{
    g_clear_pointer(&seen->strays, g_array_unref);
}
