/* SPDX-License-Identifier: MIT */
/* What hunting found, in the case. */
#include "case/volumestore.h"

#include <string.h>

#define COMMIT_EVERY (2 * G_USEC_PER_SEC)

struct EkHuntStore {
    EkCase *self;
    gint64 event;
    char *recognisers;
    GPtrArray *traces; /* EkTrace*, not committed yet */
    GArray *hunted;    /* EkRange, likewise */
    gint64 committed_at;
};

static void append_range(GArray *ranges, EkRange range)
{
    EkRange *last = ranges->len > 0 ? &g_array_index(ranges, EkRange, ranges->len - 1) : NULL;
    if (last != NULL && ek_range_end(*last) >= range.first)
        last->bytes = MAX(ek_range_end(*last), ek_range_end(range)) - last->first;
    else
        g_array_append_val(ranges, range);
}

GArray *ek_volumestore_hunted(EkCase *self, const char *recognisers, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GArray) ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error, "SELECT first_byte,bytes FROM hunted WHERE recognisers=? ORDER BY first_byte",
        "s", recognisers);
    if (rows == NULL)
        return NULL;
    int got;
    while ((got = ek_sql_step(store, rows, error)) == 1) {
        EkRange range;
        if (ek_range_checked((EkByte)sqlite3_column_int64(rows, 0),
                             (EkByte)sqlite3_column_int64(rows, 1), ek_case_info(self)->bytes,
                             &range))
            append_range(ranges, range);
    }
    return got == 0 ? g_steal_pointer(&ranges) : NULL;
}

EkHuntStore *ek_huntstore_new(EkCase *self, gint64 event, const char *recognisers)
{
    EkHuntStore *store = g_new0(EkHuntStore, 1);
    store->self = self;
    store->event = event;
    store->recognisers = g_strdup(recognisers);
    store->traces = g_ptr_array_new_with_free_func(g_free);
    store->hunted = g_array_new(FALSE, FALSE, sizeof(EkRange));
    store->committed_at = g_get_monotonic_time();
    return store;
}

void ek_huntstore_free(EkHuntStore *store)
{
    g_free(store->recognisers);
    g_ptr_array_unref(store->traces);
    g_array_unref(store->hunted);
    g_free(store);
}

static gboolean sink_trace(void *data, const EkTrace *trace, GError **error)
{
    EkHuntStore *store = data;
    (void)error;
    g_ptr_array_add(store->traces, g_memdup2(trace, sizeof *trace));
    return TRUE;
}

static gboolean sink_hunted(void *data, EkRange range, GError **error)
{
    EkHuntStore *store = data;
    append_range(store->hunted, range);
    if (g_get_monotonic_time() - store->committed_at < COMMIT_EVERY)
        return TRUE;
    return ek_huntstore_flush(store, error);
}

static void read_trace(sqlite3_stmt *rows, EkTrace *trace)
{
    *trace = (EkTrace){
        .kind = g_intern_string((const char *)sqlite3_column_text(rows, 0)),
        .format = g_intern_string((const char *)sqlite3_column_text(rows, 1)),
        .first_byte = (EkByte)sqlite3_column_int64(rows, 2),
        .count = (guint64)sqlite3_column_int64(rows, 4),
        .stride = (guint64)sqlite3_column_int64(rows, 5),
        .first_record = (guint64)sqlite3_column_int64(rows, 6),
        .sum = (guint64)sqlite3_column_int64(rows, 3),
    };
}

/* The traces (EkTrace) of a kind and format in a range, in order; NULL on failure. */
static GArray *traces_in(EkCase *self, const char *kind, const char *format, EkRange range,
                         GError **error)
{
    sqlite3 *db = ek_case_store(self);
    g_autoptr(GArray) traces = g_array_new(FALSE, FALSE, sizeof(EkTrace));
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        db, error,
        "SELECT kind,format,first_byte,sum,count,stride,first_record FROM trace"
        " WHERE kind=? AND format=? AND first_byte>=? AND first_byte<? ORDER BY first_byte",
        "ssuu", kind, format, range.first, ek_range_end(range));
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(db, rows, error)) == 1) {
        EkTrace trace;
        read_trace(rows, &trace);
        g_array_append_val(traces, trace);
    }
    return got == 0 ? g_steal_pointer(&traces) : NULL;
}

static GArray *sink_recall(void *data, const char *kind, const char *format, EkRange range)
{
    return traces_in(((EkHuntStore *)data)->self, kind, format, range, NULL);
}

GArray *ek_volumestore_runs(EkCase *self, const char *format, EkRange range, gboolean *all,
                            GError **error)
{
    g_autoptr(GArray) traces = traces_in(self, EK_TRACE_RECORDS, format, range, error);
    /* What sums up a window stands at its first trace that was left out. */
    EkRange from_start = {0, ek_range_end(range)};
    g_autoptr(GArray) rests =
        traces != NULL ? traces_in(self, EK_TRACE_REST EK_TRACE_RECORDS, format, from_start, error)
                       : NULL;
    if (rests == NULL)
        return NULL;
    *all = rests->len == 0;
    GArray *runs = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
    for (guint i = 0; i < traces->len; i++) {
        const EkTrace *trace = &g_array_index(traces, EkTrace, i);
        EkRecordRun run = {trace->first_byte, trace->first_record, trace->count, trace->stride};
        g_array_append_val(runs, run);
    }
    return runs;
}

EkHuntSink ek_huntstore_sink(EkHuntStore *store)
{
    return (EkHuntSink){store, sink_trace, sink_hunted, sink_recall};
}

/* Adds a range to those hunted, joined with the one before it that reaches it. */
static gboolean put_hunted(EkHuntStore *store, sqlite3 *db, EkRange range, GError **error)
{
    if (!ek_sql_do(db, error,
                   "UPDATE hunted SET bytes=max(bytes,?3+?1-first_byte) WHERE recognisers=?2 AND "
                   "first_byte+bytes>=?3 "
                   "AND first_byte=(SELECT max(first_byte) FROM hunted WHERE recognisers=?2 AND "
                   "first_byte<=?3)",
                   "usu", range.bytes, store->recognisers, range.first))
        return FALSE;
    if (sqlite3_changes(db) > 0)
        return TRUE;
    return ek_sql_do(db, error, "INSERT OR REPLACE INTO hunted VALUES (?,?,?)", "uus", range.first,
                     range.bytes, store->recognisers);
}

static gboolean put_gathered(sqlite3 *db, void *data, GError **error)
{
    EkHuntStore *store = data;
    for (guint i = 0; i < store->traces->len; i++) {
        const EkTrace *trace = store->traces->pdata[i];
        if (!ek_sql_do(db, error, "INSERT OR REPLACE INTO trace VALUES (?,?,?,?,?,?,?,?)",
                       "ssuuuuiu", trace->kind, trace->format, trace->first_byte, trace->count,
                       trace->stride, trace->first_record, store->event, trace->sum))
            return FALSE;
    }
    for (guint i = 0; i < store->hunted->len; i++)
        if (!put_hunted(store, db, g_array_index(store->hunted, EkRange, i), error))
            return FALSE;
    return TRUE;
}

gboolean ek_huntstore_flush(EkHuntStore *store, GError **error)
{
    if (!ek_sql_transaction(ek_case_store(store->self), put_gathered, store, error))
        return FALSE;
    g_ptr_array_set_size(store->traces, 0);
    g_array_set_size(store->hunted, 0);
    store->committed_at = g_get_monotonic_time();
    return TRUE;
}

/* How much was hunted, and what it gave: NULL when that cannot be told. */
static char *state_of(EkHuntStore *store)
{
    sqlite3 *db = ek_case_store(store->self);
    g_autoptr(EkStatement) row =
        ek_sql_prepare(db, NULL,
                       "SELECT count(*), coalesce(sum(bytes),0), (SELECT count(*) FROM trace)"
                       " FROM hunted WHERE recognisers=?",
                       "s", store->recognisers);
    if (row == NULL || ek_sql_step(db, row, NULL) != 1)
        return NULL;
    return g_strdup_printf("%s %" G_GINT64_FORMAT " %" G_GINT64_FORMAT " %" G_GINT64_FORMAT,
                           store->recognisers, (gint64)sqlite3_column_int64(row, 0),
                           (gint64)sqlite3_column_int64(row, 1),
                           (gint64)sqlite3_column_int64(row, 2));
}

gboolean ek_huntstore_is_measured(EkHuntStore *store)
{
    sqlite3 *db = ek_case_store(store->self);
    g_autofree char *state = state_of(store);
    g_autoptr(EkStatement) row =
        ek_sql_prepare(db, NULL, "SELECT 1 FROM meta WHERE key='measured' AND value=?", "s", state);
    return state != NULL && row != NULL && ek_sql_step(db, row, NULL) == 1;
}

gboolean ek_huntstore_measured(EkHuntStore *store, GError **error)
{
    g_autofree char *state = state_of(store);
    return ek_sql_do(ek_case_store(store->self), error,
                     "INSERT OR REPLACE INTO meta VALUES ('measured',?)", "s", state);
}

GPtrArray *ek_volumestore_traces(EkCase *self, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GPtrArray) traces = g_ptr_array_new_with_free_func(g_free);
    g_autoptr(EkStatement) rows =
        ek_sql_prepare(store, error,
                       "SELECT kind,format,first_byte,sum,count,stride,first_record FROM trace"
                       " ORDER BY first_byte",
                       "");
    if (rows == NULL)
        return NULL;
    int got;
    while ((got = ek_sql_step(store, rows, error)) == 1) {
        EkTrace *trace = g_new0(EkTrace, 1);
        read_trace(rows, trace);
        g_ptr_array_add(traces, trace);
    }
    return got == 0 ? g_steal_pointer(&traces) : NULL;
}

/* --- volumes -------------------------------------------------------------------------------- */

typedef struct {
    gint64 event;
    const GPtrArray *findings;
} Put;

/* The number of a volume that is known; 0 for a new one, -1 on failure. Several that others were
 * made over, in the same place one after the other, differ in their clusters. */
static gint64 known_number(sqlite3 *db, const EkVolume *volume, GError **error)
{
    g_autoptr(EkStatement) row = ek_sql_prepare(
        db, error,
        "SELECT number FROM volume WHERE substr(filesystem,1,length(?1))=?1 AND first_byte=?2"
        " AND uuid IS ?3 AND earlier=?4 AND (earlier=0 OR ?5=coalesce((SELECT value FROM"
        " volume_term t WHERE t.volume=volume.number AND name IN"
        " ('" EK_PROPERTY_CLUSTER "','" EK_PROPERTY_BLOCK "')),''))",
        "susis", volume->format->name, volume->first_byte, volume->uuid, (gint64)volume->is_earlier,
        ek_volume_unit(volume));
    int got = row != NULL ? ek_sql_step(db, row, error) : -1;
    return got == 1 ? sqlite3_column_int64(row, 0) : got;
}

/* A new volume gets the next number. */
static gboolean give_number(sqlite3 *db, gint64 event, EkFinding *finding, GError **error)
{
    const EkVolume *volume = finding->volume;
    gint64 number = known_number(db, volume, error);
    if (number == 0) {
        if (!ek_sql_do(db, error,
                       "INSERT INTO volume (number,filesystem,first_byte,bytes,own_sector_size,"
                       "standing,confidence,header_byte,header,event,earlier) VALUES"
                       " ((SELECT COALESCE(MAX(number),0)+1 FROM volume),?,?,0,0,'',0,0,x'',?,?)",
                       "suii", volume->filesystem, volume->first_byte, event,
                       (gint64)volume->is_earlier))
            return FALSE;
        number = sqlite3_last_insert_rowid(db);
        /* The others are told from it. */
        if (*ek_volume_unit(volume) != '\0' &&
            !ek_sql_do(db, error, "INSERT INTO volume_term VALUES (?,0,?,?)", "iss", number,
                       EK_PROPERTY_CLUSTER, ek_volume_unit(volume)))
            return FALSE;
    }
    finding->number = (guint)MAX(number, 0);
    return number > 0;
}

static gboolean put_timestamp(sqlite3 *db, gint64 number, EkTimestamp timestamp, const char *sql,
                              GError **error)
{
    return !timestamp.is_set ||
           ek_sql_do(db, error, sql, "iiii", timestamp.seconds,
                     (gint64)(timestamp.is_local ? 1 : 0), (gint64)timestamp.nanoseconds, number);
}

static gboolean put_lists(sqlite3 *db, gint64 number, const EkVolume *volume, GError **error)
{
    if (!ek_sql_do(db, error, "DELETE FROM volume_reason WHERE volume=?", "i", number) ||
        !ek_sql_do(db, error, "DELETE FROM volume_term WHERE volume=?", "i", number))
        return FALSE;
    for (guint i = 0; i < volume->reasons->len; i++) {
        const EkEvidence *reason = volume->reasons->pdata[i];
        if (!ek_sql_do(db, error, "INSERT INTO volume_reason VALUES (?,?,?,?)", "iiis", number,
                       (gint64)i, (gint64)reason->points, reason->text))
            return FALSE;
    }
    for (guint i = 0; i < volume->properties->len; i++) {
        const EkProperty *property = volume->properties->pdata[i];
        if (!ek_sql_do(db, error, "INSERT INTO volume_term VALUES (?,?,?,?)", "iiss", number,
                       (gint64)i, property->name, property->value))
            return FALSE;
    }
    return TRUE;
}

static gboolean put_volume(sqlite3 *db, gint64 event, const EkFinding *finding, GError **error)
{
    const EkVolume *volume = finding->volume;
    gint64 number = finding->number;
    return ek_sql_do(db, error,
                     "UPDATE volume SET filesystem=?,bytes=?,own_sector_size=?,label=?,uuid=?,"
                     "standing=?,confidence=?,header_byte=?,header=?,event=?,length_is_least=?,"
                     "is_container=?,by_backup=?,composed=?,overwritten=?,created=NULL,used=NULL,"
                     "host=NULL"
                     " WHERE number=?",
                     "suisssiubiiiiiui", volume->filesystem, volume->bytes,
                     (gint64)volume->own_sector_size, volume->label, volume->uuid,
                     ek_standing_name(finding->standing), (gint64)volume->confidence,
                     volume->header_byte, volume->header, volume->header_bytes, event,
                     (gint64)volume->length_is_least, (gint64)volume->is_container,
                     (gint64)volume->by_backup, (gint64)volume->composed, finding->overwritten,
                     number) &&
           (finding->host == NULL || ek_sql_do(db, error, "UPDATE volume SET host=? WHERE number=?",
                                               "ii", (gint64)finding->host->number, number)) &&
           put_timestamp(
               db, number, volume->created,
               "UPDATE volume SET created=?, created_local=?, created_ns=? WHERE number=?",
               error) &&
           put_timestamp(db, number, volume->used,
                         "UPDATE volume SET used=?, used_local=?, used_ns=? WHERE number=?",
                         error) &&
           put_lists(db, number, volume, error);
}

static gboolean put_findings(sqlite3 *db, void *data, GError **error)
{
    const Put *put = data;
    /* What no longer stands keeps its number, so that none is used twice, and is not shown. */
    if (!ek_sql_run(db, "UPDATE volume SET standing='withdrawn', confidence=0", error))
        return FALSE;
    for (guint i = 0; i < put->findings->len; i++)
        if (!give_number(db, put->event, put->findings->pdata[i], error))
            return FALSE;
    for (guint i = 0; i < put->findings->len; i++)
        if (!put_volume(db, put->event, put->findings->pdata[i], error))
            return FALSE;
    return TRUE;
}

gboolean ek_volumestore_put(EkCase *self, gint64 event, const GPtrArray *findings, GError **error)
{
    Put put = {event, findings};
    return ek_sql_transaction(ek_case_store(self), put_findings, &put, error);
}

static void case_volume_free(gpointer data)
{
    EkCaseVolume *entry = data;
    ek_volume_free(entry->volume);
    g_free(entry);
}

static gboolean load_reasons(sqlite3 *store, EkCaseVolume *entry, GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error, "SELECT points,text FROM volume_reason WHERE volume=? ORDER BY position", "i",
        (gint64)entry->number);
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(store, rows, error)) == 1)
        ek_volume_reason(entry->volume, sqlite3_column_int(rows, 0), "%s",
                         (const char *)sqlite3_column_text(rows, 1));
    return got == 0;
}

static gboolean load_properties(sqlite3 *store, EkCaseVolume *entry, GError **error)
{
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error, "SELECT name,value FROM volume_term WHERE volume=? ORDER BY position", "i",
        (gint64)entry->number);
    int got = rows != NULL ? 1 : -1;
    while (got == 1 && (got = ek_sql_step(store, rows, error)) == 1)
        ek_volume_property(entry->volume, (const char *)sqlite3_column_text(rows, 0), "%s",
                           (const char *)sqlite3_column_text(rows, 1));
    return got == 0;
}

static EkTimestamp timestamp_in(sqlite3_stmt *rows, int column)
{
    return (EkTimestamp){.seconds = sqlite3_column_int64(rows, column),
                         .is_local = sqlite3_column_int(rows, column + 1) != 0,
                         .nanoseconds = (guint32)sqlite3_column_int64(rows, column + 2),
                         .is_set = sqlite3_column_type(rows, column) != SQLITE_NULL};
}

GPtrArray *ek_volumestore_list(EkCase *self, GError **error)
{
    sqlite3 *store = ek_case_store(self);
    g_autoptr(GPtrArray) volumes = g_ptr_array_new_with_free_func(case_volume_free);
    g_autoptr(EkStatement) rows = ek_sql_prepare(
        store, error,
        "SELECT number,filesystem,first_byte,bytes,own_sector_size,label,uuid,standing,confidence,"
        "header_byte,header,length_is_least,is_container,by_backup,created,created_local,"
        "created_ns,used,used_local,used_ns,overwritten,host,composed,earlier FROM volume"
        " WHERE same_as IS NULL AND standing<>'withdrawn' ORDER BY first_byte,number",
        "");
    if (rows == NULL)
        return NULL;
    int got;
    while ((got = ek_sql_step(store, rows, error)) == 1) {
        const char *filesystem = (const char *)sqlite3_column_text(rows, 1);
        const EkFileSystem *format = ek_file_system_for(filesystem);
        EkStanding standing;
        if (format == NULL ||
            !ek_standing_from_name((const char *)sqlite3_column_text(rows, 7), &standing))
            continue; /* found by a later version */
        EkCaseVolume *entry = g_new0(EkCaseVolume, 1);
        EkVolume *volume = ek_volume_new(format, g_intern_string(filesystem));
        g_ptr_array_add(volumes, entry);
        entry->volume = volume;
        entry->number = (guint)sqlite3_column_int64(rows, 0);
        entry->standing = standing;
        volume->first_byte = (EkByte)sqlite3_column_int64(rows, 2);
        volume->bytes = (EkByte)sqlite3_column_int64(rows, 3);
        volume->own_sector_size = (guint32)sqlite3_column_int64(rows, 4);
        volume->label = ek_sql_text(rows, 5);
        volume->uuid = ek_sql_text(rows, 6);
        volume->header_byte = (EkByte)sqlite3_column_int64(rows, 9);
        if (sqlite3_column_blob(rows, 10) != NULL)
            ek_volume_set_header(volume, (EkSpan){sqlite3_column_blob(rows, 10),
                                                  (gsize)sqlite3_column_bytes(rows, 10)});
        volume->length_is_least = sqlite3_column_int(rows, 11) != 0;
        volume->is_container = sqlite3_column_int(rows, 12) != 0;
        volume->by_backup = sqlite3_column_int(rows, 13) != 0;
        volume->created = timestamp_in(rows, 14);
        volume->used = timestamp_in(rows, 17);
        entry->overwritten = (EkByte)sqlite3_column_int64(rows, 20);
        entry->host = (guint)sqlite3_column_int64(rows, 21);
        volume->composed = sqlite3_column_int(rows, 22) != 0;
        volume->is_earlier = sqlite3_column_int(rows, 23) != 0;
        volume->is_confirmed = TRUE;
        if (!load_reasons(store, entry, error) || !load_properties(store, entry, error))
            return NULL;
        volume->confidence = sqlite3_column_int(rows, 8);
    }
    return got == 0 ? g_steal_pointer(&volumes) : NULL;
}

const EkCaseVolume *ek_volumestore_find(const GPtrArray *volumes, guint64 number, GError **error)
{
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        if (entry->number == number)
            return entry;
    }
    if (volumes->len == 0)
        ek_error_set(error, EK_ERROR_ABSENT,
                     "volume %" G_GUINT64_FORMAT " does not exist: no volumes have been found yet",
                     number);
    else
        ek_error_set(error, EK_ERROR_ABSENT,
                     "no such volume: %" G_GUINT64_FORMAT "; the numbers are those in the first "
                     "column of: ektypon volumes",
                     number);
    return NULL;
}
