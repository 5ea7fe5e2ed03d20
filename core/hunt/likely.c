/* SPDX-License-Identifier: MIT */
/* Likely places first: where tables stand, what they point to, where partitions usually begin, and
 * where what was found ends. A handful of reads that mostly tell the whole truth. */
#include "hunt/hunt.h"
#include "hunt/steps.h"

#define PLACES_MOST 4096u
#define MIB ((EkByte)1 << 20)
#define EVERY_MIB_UP_TO 256u

typedef struct {
    EkHuntSteps *steps;
    EkReader *reader;
    GArray *traces; /* EkTrace */
    GArray *places; /* EkByte, in order of being thought of */
    GHashTable *known;
} Likely;

static void add_place(Likely *likely, EkByte at)
{
    if (at >= ek_reader_bytes(likely->reader) || likely->places->len >= PLACES_MOST ||
        g_hash_table_contains(likely->known, &at))
        return;
    g_hash_table_add(likely->known, g_memdup2(&at, sizeof at));
    g_array_append_val(likely->places, at);
}

/* A volume may begin here: its first header is one of a few places away. */
static void add_start(Likely *likely, EkByte first)
{
    add_place(likely, first);
    for (gsize i = 0; ek_file_systems[i] != NULL; i++)
        if (ek_file_systems[i]->header_offset <= G_MAXINT64 - first)
            add_place(likely, first + ek_file_systems[i]->header_offset);
}

/* A volume may end here: where that is, others keep their second header, and the next one begins.
 */
static void add_end(Likely *likely, EkByte end)
{
    static const EkByte before[] = {512, 1024, 4096};
    for (gsize i = 0; i < G_N_ELEMENTS(before); i++)
        if (end >= before[i])
            add_place(likely, end - before[i]);
    add_start(likely, end);
    add_start(likely, ek_divide_up(end, MIB) * MIB);
}

static void add_table(Likely *likely, const EkTable *table)
{
    for (guint i = 0; i < table->count; i++) {
        EkRange range = table->entries[i].range;
        if (range.first > G_MAXINT64 / 2 || range.bytes > G_MAXINT64 / 2)
            continue;
        add_start(likely, range.first);
        add_end(likely, ek_range_end(range));
    }
}

static void add_volumes(Likely *likely, const EkTrace *trace)
{
    const EkFileSystem *format = ek_file_system_for(trace->format);
    guint8 start[EK_RECOGNISE_BYTES];
    EkCandidate candidates[EK_CANDIDATES_MOST];
    gsize length = (gsize)MIN(sizeof start, ek_reader_bytes(likely->reader) - trace->first_byte);
    if (format == NULL ||
        !ek_reader_read(likely->reader, trace->first_byte, start, length, NULL, NULL))
        return;
    guint count = format->recognise((EkSpan){start, length}, trace->first_byte, candidates);
    for (guint i = 0; i < count; i++) {
        g_autoptr(EkVolume) volume =
            ek_volume_measure(format, likely->reader, &candidates[i], NULL);
        if (volume == NULL || !volume->is_confirmed || volume->bytes > G_MAXINT64 / 2)
            continue;
        add_end(likely, volume->first_byte);
        add_end(likely, volume->first_byte + volume->bytes);
    }
}

static void follow(Likely *likely, const EkTrace *trace, guint32 sector_size)
{
    g_autofree EkTable *table = g_new0(EkTable, 1);
    if (!g_str_equal(trace->kind, "table"))
        add_volumes(likely, trace);
    else if (ek_hunt_load_table(likely->reader, trace, sector_size, table))
        add_table(likely, table);
}

static void add_usual(Likely *likely)
{
    static const EkByte usual[] = {0, 63 * 512, MIB, 512, 4096, 1024, 2048, 63 * 4096, 8 * MIB};
    /* In MiB: what comes behind the small partitions that systems put first. */
    static const guint behind[] = {301, 351, 451, 501, 513, 517, 551, 1001, 1025};
    EkByte bytes = ek_reader_bytes(likely->reader);
    for (gsize i = 0; i < G_N_ELEMENTS(usual); i++)
        add_start(likely, usual[i]);
    add_end(likely, bytes - bytes % EK_STEP);
    for (guint i = 2; i < EVERY_MIB_UP_TO; i++)
        add_start(likely, i * MIB);
    for (gsize i = 0; i < G_N_ELEMENTS(behind); i++)
        add_start(likely, behind[i] * MIB);
}

gboolean ek_hunt_likely(EkReader *reader, guint32 sector_size, const EkHuntSink *sink,
                        const gint *cancel, GError **error)
{
    g_autoptr(EkHuntSteps) steps = ek_hunt_steps_new();
    g_autoptr(GArray) traces = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkByte));
    g_autoptr(GHashTable) known = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    Likely likely = {steps, reader, traces, places, known};
    guint followed = 0;
    add_usual(&likely);
    for (guint i = 0; i < places->len; i++) {
        guint8 step[EK_RECOGNISE_BYTES];
        EkByte at = g_array_index(places, EkByte, i);
        gsize length = (gsize)MIN(sizeof step, ek_reader_bytes(reader) - at);
        if (g_atomic_int_get(cancel) != 0)
            return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
        if (length < EK_STEP)
            continue;
        if (!ek_reader_read(reader, at, step, length, NULL, error))
            return FALSE;
        ek_hunt_steps_look(steps, reader, (EkSpan){step, length}, at, traces, NULL);
        for (; followed < traces->len; followed++)
            follow(&likely, &g_array_index(traces, EkTrace, followed), sector_size);
    }
    for (guint i = 0; i < traces->len; i++)
        if (!sink->trace(sink->data, &g_array_index(traces, EkTrace, i), error))
            return FALSE;
    return TRUE;
}
