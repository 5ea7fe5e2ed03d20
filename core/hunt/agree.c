/* SPDX-License-Identifier: MIT */
/* From traces to volumes: what each boot sector claims is measured, as the primary and as the
 * backup of its volume; claims that speak of one place and one serial number are one volume. */
#include "hunt/hunt.h"

#include <string.h>

#define TABLES_MOST 64u
#define CONTRADICTED_POINTS 15
#define LENGTH_SLACK ((EkByte)2 << 20)
#define FINDINGS_MOST 20000u /* each is compared with all others */

gboolean ek_hunt_current_table(EkReader *reader, guint32 sector_size, EkTable *table,
                               gboolean *unread)
{
    guint8 start[EK_RECOGNISE_BYTES];
    gsize length = (gsize)MIN(sizeof start, ek_reader_bytes(reader));
    EkCandidate candidates[EK_CANDIDATES_MOST];
    *unread = FALSE;
    if (!ek_reader_read(reader, 0, start, length, NULL, NULL))
        return FALSE;
    for (gsize i = 0; ek_file_systems[i] != NULL; i++) {
        const EkFileSystem *format = ek_file_systems[i];
        guint count = format->recognise((EkSpan){start, length}, 0, candidates);
        if (count > 0 && candidates[0].first_byte == 0)
            return FALSE; /* a volume without a table begins here */
    }
    return ek_table_current(reader, sector_size, table, unread);
}

/* May both be of one length? A composed one knows its own to a cluster, if at all. */
static gboolean may_be_as_long(const EkVolume *a, const EkVolume *b)
{
    return a->length_is_least || b->length_is_least || a->length_from_table ||
           b->length_from_table ||
           (a->bytes <= b->bytes + LENGTH_SLACK && b->bytes <= a->bytes + LENGTH_SLACK);
}

/* What was composed from other traces knows no serial number: it is that of the one that does,
 * unless that was of another length: then it is an older one's header that is left. */
static gboolean is_same(const EkVolume *a, const EkVolume *b)
{
    if (a->format != b->format || a->first_byte != b->first_byte || a->is_earlier != b->is_earlier)
        return FALSE;
    /* Several that others were made over, one after the other. */
    if (a->is_earlier && !g_str_equal(ek_volume_unit(a), ek_volume_unit(b)))
        return FALSE;
    return a->composed || b->composed ? may_be_as_long(a, b) : g_strcmp0(a->uuid, b->uuid) == 0;
}

static gboolean is_better(const EkVolume *a, const EkVolume *b)
{
    if (a->composed != b->composed)
        return b->composed;
    if (a->confidence != b->confidence)
        return a->confidence > b->confidence;
    return a->header_byte < b->header_byte;
}

static void finding_free(gpointer data)
{
    EkFinding *finding = data;
    ek_volume_free(finding->volume);
    g_free(finding);
}

/* What other traces tell of the same volume speaks for it: to be without a header must not make one
 * more credible. */
static void add_evidence(EkVolume *volume, const EkVolume *composed)
{
    if (composed->composed && !volume->composed && composed->confidence > volume->confidence)
        ek_volume_reason(volume, composed->confidence - volume->confidence,
                         "it would be found without a header as well, by what else is left of it");
}

static void take_one(GPtrArray *findings, EkVolume *volume)
{
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        if (!is_same(finding->volume, volume))
            continue;
        if (is_better(volume, finding->volume)) {
            add_evidence(volume, finding->volume);
            ek_volume_free(finding->volume);
            finding->volume = volume;
        } else {
            add_evidence(finding->volume, volume);
            ek_volume_free(volume);
        }
        return;
    }
    if (findings->len == FINDINGS_MOST) {
        ek_volume_free(volume);
        return;
    }
    EkFinding *finding = g_new0(EkFinding, 1);
    finding->volume = volume;
    g_ptr_array_add(findings, finding);
}

/* What a container holds are volumes like others. */
static void take_volume(GPtrArray *findings, EkVolume *volume)
{
    g_autoptr(GPtrArray) parts = g_steal_pointer(&volume->parts);
    take_one(findings, volume);
    while (parts != NULL && parts->len > 0) {
        EkVolume *part = g_ptr_array_steal_index(parts, 0);
        if (part->is_confirmed)
            take_volume(findings, part);
        else
            ek_volume_free(part);
    }
}

static gint by_place(gconstpointer a, gconstpointer b)
{
    const EkVolume *left = (*(const EkFinding *const *)a)->volume;
    const EkVolume *right = (*(const EkFinding *const *)b)->volume;
    if (left->first_byte != right->first_byte)
        return left->first_byte < right->first_byte ? -1 : 1;
    if (left->confidence != right->confidence)
        return left->confidence > right->confidence ? -1 : 1;
    if (left->format != right->format)
        return strcmp(left->format->name, right->format->name);
    return g_strcmp0(left->uuid, right->uuid);
}

static gboolean measure_trace(EkReader *reader, const EkTrace *trace, GPtrArray *findings,
                              GError **error)
{
    const EkFileSystem *format = ek_file_system_for(trace->format);
    EkByte limit = ek_reader_bytes(reader);
    guint8 start[EK_RECOGNISE_BYTES];
    EkCandidate candidates[EK_CANDIDATES_MOST];
    if (format == NULL || trace->first_byte >= limit)
        return TRUE;
    gsize length = (gsize)MIN(sizeof start, limit - trace->first_byte);
    if (!ek_reader_read(reader, trace->first_byte, start, length, NULL, error))
        return FALSE;
    guint count = format->recognise((EkSpan){start, length}, trace->first_byte, candidates);
    /* A header is the first one or the backup of its volume, never both. */
    g_autoptr(EkVolume) best = NULL;
    for (guint i = 0; i < count; i++) {
        g_autoptr(EkVolume) volume = ek_volume_measure(format, reader, &candidates[i], error);
        if (volume == NULL)
            return FALSE;
        if (volume->is_confirmed && (best == NULL || volume->confidence > best->confidence ||
                                     (volume->confidence == best->confidence &&
                                      volume->contradicted < best->contradicted))) {
            g_clear_pointer(&best, ek_volume_free);
            best = g_steal_pointer(&volume);
        }
    }
    if (best != NULL)
        take_volume(findings, g_steal_pointer(&best));
    return TRUE;
}

gboolean ek_hunt_load_table(EkReader *reader, const EkTrace *trace, guint32 sector_size,
                            EkTable *table)
{
    for (gsize i = 0; ek_table_formats[i] != NULL; i++)
        if (g_str_equal(ek_scheme_name(ek_table_formats[i]->scheme), trace->format))
            return ek_table_load(ek_table_formats[i], reader, trace->first_byte, sector_size,
                                 table);
    return FALSE;
}

static void take_inferred(void *data, EkVolume *volume)
{
    if (volume->is_confirmed)
        take_volume(data, volume);
    else
        ek_volume_free(volume);
}

/* Of one of this format that is hardly told itself, what is left of it is not told from what was
 * there before, but by clusters of another size. */
static void take_earlier(void *data, EkVolume *volume)
{
    const GPtrArray *findings = data;
    for (guint i = 0; i < findings->len; i++) {
        const EkVolume *other = ((const EkFinding *)findings->pdata[i])->volume;
        if (!other->is_earlier && other->confidence < EK_CONFIDENT &&
            other->first_byte == volume->first_byte &&
            ek_file_system_for(other->filesystem) == ek_file_system_for(volume->filesystem) &&
            g_str_equal(ek_volume_unit(other), ek_volume_unit(volume)))
            volume->is_confirmed = FALSE;
    }
    take_inferred(data, volume);
}

/* The runs of one format's records; pieces of one run are joined. */
static GArray *gather_runs(const GPtrArray *traces, const char *format)
{
    GArray *runs = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
    for (guint i = 0; i < traces->len; i++) {
        const EkTrace *trace = traces->pdata[i];
        if (!g_str_equal(trace->kind, EK_TRACE_RECORDS) || !g_str_equal(trace->format, format))
            continue;
        EkRecordRun *last = runs->len > 0 ? &g_array_index(runs, EkRecordRun, runs->len - 1) : NULL;
        if (last != NULL && last->stride == trace->stride &&
            trace->first_record > last->first_record &&
            trace->first_byte - last->first_byte ==
                (trace->first_record - last->first_record) * trace->stride) {
            last->count = trace->first_record + trace->count - last->first_record;
            continue;
        }
        EkRecordRun run = {trace->first_byte, trace->first_record, trace->count, trace->stride};
        g_array_append_val(runs, run);
    }
    return runs;
}

/* A journal keeps copies of a header, which speak of the same volume at another place; and what was
 * composed is none of its own when a header speaks of the same file table. */
static gboolean is_shadow(const EkVolume *volume, const EkVolume *of)
{
    if (volume->is_earlier || of->is_earlier)
        return FALSE;
    /* The same, once with the wrapper around it. */
    if (volume->format == of->format && of->metadata_byte == volume->first_byte &&
        volume->metadata_byte == volume->first_byte && of->first_byte < volume->first_byte)
        return TRUE;
    if (volume->composed && !of->composed)
        return volume->format == of->format && volume->metadata_byte == of->metadata_byte &&
               may_be_as_long(volume, of);
    return volume->format == of->format && volume->bytes == of->bytes && volume->uuid != NULL &&
           g_strcmp0(volume->uuid, of->uuid) == 0 && volume->first_byte != of->first_byte &&
           volume->confidence < EK_CONFIDENT && of->confidence > volume->confidence &&
           ek_ranges_overlap(ek_volume_range(volume), ek_volume_range(of));
}

static void drop_shadows(GPtrArray *findings)
{
    for (guint i = findings->len; i > 0; i--) {
        const EkFinding *finding = findings->pdata[i - 1];
        gboolean shadow = FALSE;
        for (guint k = 0; k < findings->len && !shadow; k++) {
            EkFinding *of = findings->pdata[k];
            shadow = is_shadow(finding->volume, of->volume);
            if (shadow)
                add_evidence(of->volume, finding->volume);
        }
        if (shadow)
            g_ptr_array_remove_index(findings, i - 1);
    }
}

/* Every partition that a table names, in place or in any other copy. */
static GArray *gather_places(const EkTable *current, const GPtrArray *tables)
{
    GArray *places = g_array_new(FALSE, FALSE, sizeof(EkRange));
    /* The current one's come first. */
    for (guint i = 0; i <= tables->len; i++) {
        const EkTable *table = i > 0 ? tables->pdata[i - 1] : current;
        for (guint k = 0; table != NULL && k < table->count; k++)
            if (!table->entries[k].extended && ek_mbr_other_ruler(table->entries[k].type) == NULL)
                g_array_append_val(places, table->entries[k].range);
    }
    return places;
}

/* Does one that was composed lie in another that has its header? It may be made of that one's own
 * structures, and nothing is built on it. */
static gboolean is_within_headed(const EkVolume *volume, const GPtrArray *findings)
{
    for (guint i = 0; i < findings->len && volume->composed; i++) {
        const EkVolume *other = ((const EkFinding *)findings->pdata[i])->volume;
        EkRange range = ek_volume_range(other);
        if (other != volume && !other->composed && volume->first_byte > range.first &&
            volume->bytes <= range.bytes && ek_range_holds(range, volume->first_byte))
            return TRUE;
    }
    return FALSE;
}

/* With `earlier` those that others were made over. */
static gboolean infer_all(EkReader *reader, guint32 sector_size, const GArray *places,
                          const GPtrArray *traces, const EkHuntWishes *wishes, gboolean earlier,
                          GPtrArray *findings, GError **error)
{
    g_autoptr(GPtrArray) volumes = g_ptr_array_new();
    g_autoptr(GPtrArray) unsure = g_ptr_array_new();
    for (guint i = 0; i < findings->len; i++) {
        EkVolume *volume = ((EkFinding *)findings->pdata[i])->volume;
        /* What is hardly one itself takes nothing from those that were there before. */
        gboolean counts = !earlier || volume->confidence >= EK_CONFIDENT;
        if (!is_within_headed(volume, findings))
            g_ptr_array_add(counts ? volumes : unsure, volume);
    }
    for (gsize i = 0; ek_file_systems[i] != NULL; i++) {
        const EkFileSystem *format = ek_file_systems[i];
        if ((earlier ? format->infer_earlier : format->infer) == NULL)
            continue;
        g_autoptr(GArray) runs = gather_runs(traces, format->name);
        EkSightings sightings = {
            runs, places, sector_size, volumes, NULL, wishes != NULL && wishes->is_deep, unsure};
        const EkExpected *expected = wishes != NULL ? wishes->expected : NULL;
        if (expected != NULL && ek_file_system_for(expected->filesystem) == format)
            sightings.expected = expected;
        if (!ek_volume_infer(format, reader, &sightings, earlier,
                             earlier ? take_earlier : take_inferred, findings, error))
            return FALSE;
    }
    return TRUE;
}

/* Entries whose header was found as well say nothing of their own. */
static void drop_held_entries(GPtrArray *tables)
{
    for (guint i = tables->len; i > 0; i--)
        for (guint k = 0; k < tables->len; k++)
            if (ek_gpt_holds(tables->pdata[k], tables->pdata[i - 1])) {
                g_ptr_array_remove_index(tables, i - 1);
                break;
            }
}

/* What the tables that were found say, wherever they stand. */
GPtrArray *ek_hunt_tables(EkReader *reader, guint32 sector_size, const GPtrArray *traces)
{
    GPtrArray *tables = g_ptr_array_new_with_free_func(g_free);
    for (guint i = 0; i < traces->len && tables->len < TABLES_MOST; i++) {
        const EkTrace *trace = traces->pdata[i];
        EkTable table;
        if (!g_str_equal(trace->kind, "table"))
            continue;
        if (ek_hunt_load_table(reader, trace, sector_size, &table))
            g_ptr_array_add(tables, g_memdup2(&table, sizeof table));
    }
    drop_held_entries(tables);
    return tables;
}

static gboolean is_found_at(const GPtrArray *findings, EkByte first_byte)
{
    for (guint i = 0; i < findings->len; i++)
        if (((const EkFinding *)findings->pdata[i])->volume->first_byte == first_byte)
            return TRUE;
    return FALSE;
}

/* A header that is valid in itself, where the current table has a partition begin, is shown even
 * where nothing else of its volume is left: with what speaks against it, and little confidence. */
static gboolean keep_contradicted(EkReader *reader, const GPtrArray *traces, const EkTable *table,
                                  GPtrArray *findings, GError **error)
{
    for (guint i = 0; i < traces->len && table != NULL; i++) {
        const EkTrace *trace = traces->pdata[i];
        const EkFileSystem *format = ek_file_system_for(trace->format);
        gboolean is_named = FALSE;
        if (format == NULL || !g_str_equal(trace->kind, "boot-sector") ||
            trace->first_byte < format->header_offset)
            continue;
        EkByte first = trace->first_byte - format->header_offset;
        for (guint k = 0; k < table->count; k++)
            is_named |= !table->entries[k].extended && table->entries[k].range.first == first;
        if (!is_named || is_found_at(findings, first))
            continue;
        EkCandidate candidate = {first, trace->first_byte, EK_ROLE_PRIMARY};
        EkVolume *volume = ek_volume_measure(format, reader, &candidate, error);
        if (volume == NULL)
            return FALSE;
        if (volume->bytes == 0) {
            ek_volume_free(volume);
            continue;
        }
        ek_volume_reason(volume, CONTRADICTED_POINTS,
                         "its header is valid, and the partition table has a partition here");
        take_volume(findings, volume);
    }
    return TRUE;
}

/* What was composed as an earlier volume, and lies in a file of another, is none of the drive's. */
static void drop_nested_earlier(GPtrArray *findings)
{
    for (guint i = findings->len; i > 0; i--) {
        const EkFinding *finding = findings->pdata[i - 1];
        if (!finding->volume->is_earlier || finding->standing != EK_STANDING_NESTED)
            continue;
        for (guint k = 0; k < findings->len; k++) {
            EkFinding *other = findings->pdata[k];
            if (other->host == finding)
                other->host = NULL;
        }
        g_ptr_array_remove_index(findings, i - 1);
    }
}

GPtrArray *ek_hunt_agree(EkReader *reader, guint32 sector_size, const GPtrArray *traces,
                         const EkHuntWishes *wishes, GError **error)
{
    g_autoptr(GPtrArray) findings = g_ptr_array_new_with_free_func(finding_free);
    g_autofree EkTable *table = g_new0(EkTable, 1);
    gboolean unread = FALSE;
    gboolean has_table = ek_hunt_current_table(reader, sector_size, table, &unread);
    for (guint i = 0; i < traces->len; i++) {
        const EkTrace *trace = traces->pdata[i];
        if (g_str_equal(trace->kind, "boot-sector") &&
            !measure_trace(reader, trace, findings, error))
            return NULL;
    }
    g_autoptr(GPtrArray) tables = ek_hunt_tables(reader, sector_size, traces);
    g_autoptr(GArray) places = gather_places(has_table ? table : NULL, tables);
    if (!infer_all(reader, sector_size, places, traces, wishes, FALSE, findings, error))
        return NULL;
    drop_shadows(findings);
    if (!infer_all(reader, sector_size, places, traces, wishes, TRUE, findings, error))
        return NULL;
    if (!keep_contradicted(reader, traces, has_table ? table : NULL, findings, error))
        return NULL;
    g_ptr_array_sort(findings, by_place);
    ek_hunt_stand(reader, sector_size, has_table ? table : NULL, tables, findings);
    drop_nested_earlier(findings);
    return g_steal_pointer(&findings);
}
