/* SPDX-License-Identifier: MIT */
/* Hunting as a job on a case. */
#include "work/hunting.h"

#include "base/text.h"

struct EkHunting {
    EkView view;
    EkLock *lock;
    gint64 event;
    EkHuntStore *store;
    EkHunt *hunt;
    GArray *ranges; /* EkRange: good and not hunted yet */
    gboolean likely;
    const gint *cancel;
    gint count; /* of volumes so far; atomic */
    guint told; /* the highest number that was told of */
    EkHuntingNews news;
    void *news_data;
    EkHuntingStep step;
    void *step_data;
    EkHuntSink kept; /* where the scan's results go in the end */
    guint threads;
    guint fresh;      /* traces since findings were stored last */
    EkByte scanned;   /* bytes, by passes that are over */
    GMutex lock_hunt; /* of `hunt`, which is replaced between passes */
};

#define FOLLOW_EVERY (5 * G_USEC_PER_SEC)
#define FOLLOW_SHARE                                                                               \
    20 /* to look again is dear where the map is large: at most so much of the time */
#define POLL (G_USEC_PER_SEC / 10)

static void add_range(GArray *ranges, EkRange good, EkByte first, EkByte end)
{
    /* What begins before the end of what was hunted may lie across it: look again from there. */
    first -= MIN(first - good.first, EK_RECOGNISE_BYTES);
    EkRange rest = {first, end - first};
    g_array_append_val(ranges, rest);
}

/* Cuts what was hunted out of a good range, and adds the rest. */
static void add_rest(GArray *ranges, EkRange good, const GArray *hunted)
{
    EkByte at = good.first;
    for (guint i = 0; i < hunted->len && at < ek_range_end(good); i++) {
        EkRange done = g_array_index(hunted, EkRange, i);
        if (ek_range_end(done) <= at || done.first >= ek_range_end(good))
            continue;
        if (done.first > at)
            add_range(ranges, good, at, done.first);
        at = MAX(at, ek_range_end(done));
    }
    if (at < ek_range_end(good))
        add_range(ranges, good, at, ek_range_end(good));
}

static GArray *ranges_to_hunt(EkView *view, GError **error)
{
    const EkCaseInfo *info = ek_case_info(view->opened);
    g_autofree char *recognisers = ek_hunt_recognisers();
    g_autoptr(GArray) hunted = ek_volumestore_hunted(view->opened, recognisers, error);
    if (hunted == NULL)
        return NULL;
    GArray *ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkStretch stretch;
    EkRange good = {0, 0};
    for (EkSector at = 0; ek_read_map_next(view->map, at, EK_STATE_BIT(EK_STATE_GOOD), &stretch);) {
        EkByte first = stretch.first * info->sector_size;
        EkByte end = MIN((stretch.first + stretch.count) * info->sector_size, info->bytes);
        /* Stretches of several events are one good range. */
        if (good.bytes > 0 && ek_range_end(good) == first) {
            good.bytes = end - good.first;
        } else {
            add_rest(ranges, good, hunted);
            good = (EkRange){first, end - first};
        }
        at = stretch.first + stretch.count;
    }
    add_rest(ranges, good, hunted);
    return ranges;
}

static gboolean pass_trace(void *data, const EkTrace *trace, GError **error)
{
    EkHunting *hunting = data;
    hunting->fresh++;
    return hunting->kept.trace(hunting->kept.data, trace, error);
}

static GArray *pass_recall(void *data, const char *kind, const char *format, EkRange range)
{
    const EkHunting *hunting = data;
    return hunting->kept.recall(hunting->kept.data, kind, format, range);
}

static gboolean pass_hunted(void *data, EkRange range, GError **error)
{
    const EkHunting *hunting = data;
    if (!hunting->kept.hunted(hunting->kept.data, range, error))
        return FALSE;
    if (hunting->step != NULL) {
        EkHuntProgress now = ek_hunt_progress(hunting->hunt);
        hunting->step(hunting->step_data, &now);
    }
    return TRUE;
}

/* A scan of what the view's reader gives now. */
static void renew_hunt(EkHunting *hunting)
{
    EkHuntSink sink = {hunting, pass_trace, pass_hunted, pass_recall};
    EkHunt *hunt = hunting->view.reader != NULL
                       ? ek_hunt_new(hunting->view.reader, &sink, hunting->threads, hunting->cancel)
                       : NULL;
    g_mutex_lock(&hunting->lock_hunt);
    if (hunting->hunt != NULL) {
        hunting->scanned += ek_hunt_progress(hunting->hunt).done;
        ek_hunt_free(hunting->hunt);
    }
    hunting->hunt = hunt;
    g_mutex_unlock(&hunting->lock_hunt);
}

gboolean ek_hunting_expect(const char *folder, const EkExpected *expected, GError **error)
{
    EkView view;
    g_autoptr(EkLock) lock = NULL;
    if (!ek_view_open_locked(&view, folder, EK_LOCK_HUNTING, &lock, error))
        return FALSE;
    gboolean fine = ek_case_expect(view.opened, expected, error);
    ek_view_close(&view);
    return fine;
}

gboolean ek_hunting_make_deep(const char *folder, GError **error)
{
    EkView view;
    g_autoptr(EkLock) lock = NULL;
    if (!ek_view_open_locked(&view, folder, EK_LOCK_HUNTING, &lock, error))
        return FALSE;
    gboolean fine = ek_case_make_deep(view.opened, error);
    ek_view_close(&view);
    return fine;
}

guint32 ek_hunting_sector_size(const EkHunting *hunting)
{
    return ek_case_info(hunting->view.opened)->sector_size;
}

gboolean ek_hunting_expected(EkHunting *hunting, EkExpected *expected)
{
    return ek_case_expected(hunting->view.opened, expected);
}

EkHunting *ek_hunting_new(const char *folder, const char *options, guint threads, gboolean likely,
                          const gint *cancel, GError **error)
{
    g_autoptr(EkHunting) hunting = g_new0(EkHunting, 1);
    g_mutex_init(&hunting->lock_hunt);
    hunting->likely = likely;
    hunting->cancel = cancel;
    if (!ek_view_open_locked(&hunting->view, folder, EK_LOCK_HUNTING, &hunting->lock, error))
        return NULL;
    hunting->ranges = ranges_to_hunt(&hunting->view, error);
    if (hunting->ranges == NULL)
        return NULL;
    hunting->event = ek_event_begin(hunting->view.opened, "hunt", options, error);
    if (hunting->event == 0)
        return NULL;
    g_autofree char *recognisers = ek_hunt_recognisers();
    hunting->store = ek_huntstore_new(hunting->view.opened, hunting->event, recognisers);
    hunting->kept = ek_huntstore_sink(hunting->store);
    hunting->threads = threads;
    renew_hunt(hunting);
    return g_steal_pointer(&hunting);
}

void ek_hunting_free(EkHunting *hunting)
{
    g_clear_pointer(&hunting->hunt, ek_hunt_free);
    g_clear_pointer(&hunting->store, ek_huntstore_free);
    g_clear_pointer(&hunting->ranges, g_array_unref);
    g_clear_pointer(&hunting->lock, ek_lock_release);
    ek_view_close(&hunting->view);
    g_mutex_clear(&hunting->lock_hunt);
    g_free(hunting);
}

EkHuntProgress ek_hunting_progress(EkHunting *hunting)
{
    EkHuntProgress now = {0};
    g_mutex_lock(&hunting->lock_hunt);
    if (hunting->hunt != NULL)
        now = ek_hunt_progress(hunting->hunt);
    now.done += hunting->scanned;
    g_mutex_unlock(&hunting->lock_hunt);
    return now;
}

GPtrArray *ek_hunting_volumes(EkHunting *hunting, GError **error)
{
    return ek_volumestore_list(hunting->view.opened, error);
}

static gboolean is_link_of(const EkTable *table, const EkTable *link)
{
    for (guint i = 0; link->scheme == EK_SCHEME_EBR && i < table->count; i++) {
        const EkTableEntry *entry = &table->entries[i];
        if (entry->extended && link->first_byte >= entry->range.first &&
            link->first_byte - entry->range.first < entry->range.bytes)
            return TRUE;
    }
    return FALSE;
}

static const char *what_it_is(const EkTable *current, const EkTable *table, EkByte bytes)
{
    gboolean in_place =
        table->scheme == EK_SCHEME_GPT && table->place * table->sector_size == table->first_byte;
    if (table->scheme == EK_SCHEME_GPT_ENTRIES)
        return "GPT entries without a header";
    if (table->scheme == EK_SCHEME_EBR)
        return "orphaned EBR (no chain leads to it)";
    if (table->scheme == EK_SCHEME_MBR && table->first_byte == 0)
        return table->count > 1 ? "hybrid MBR (protective, with its own partitions)"
                                : "protective MBR";
    if (in_place && current == NULL && table->first_byte == table->sector_size)
        return "no protective MBR: systems ignore this GPT";
    if (in_place && current != NULL && current->scheme == EK_SCHEME_GPT &&
        memcmp(current->uuid, table->uuid, sizeof table->uuid) == 0)
        return "the other copy of the current GPT";
    if (in_place && table->other_place < table->place)
        return table->first_byte + table->sector_size < bytes
                   ? "old backup GPT (was at the end of a smaller drive)"
                   : "backup GPT; primary is missing";
    return in_place ? "not the current table"
                    : "not the current table (inside a file, or from an older layout)";
}

/* Entries whose header was found as well are part of that table. */
static void drop_held_entries(GPtrArray *tables)
{
    for (guint i = tables->len; i > 0; i--) {
        const EkHuntedTable *entries = tables->pdata[i - 1];
        gboolean held = FALSE;
        for (guint k = 0; k < tables->len && !held; k++)
            held = ek_gpt_holds(&((const EkHuntedTable *)tables->pdata[k])->table, &entries->table);
        if (held)
            g_ptr_array_remove_index(tables, i - 1);
    }
}

GPtrArray *ek_hunting_tables(EkHunting *hunting, GError **error)
{
    g_autoptr(GPtrArray) traces = ek_volumestore_traces(hunting->view.opened, error);
    if (traces == NULL)
        return NULL;
    guint32 sector_size = ek_case_info(hunting->view.opened)->sector_size;
    g_autofree EkTable *current = g_new0(EkTable, 1);
    gboolean unread = FALSE;
    gboolean has_current =
        ek_hunt_current_table(hunting->view.reader, sector_size, current, &unread);
    GPtrArray *tables = g_ptr_array_new_with_free_func(g_free);
    for (guint i = 0; i < traces->len; i++) {
        const EkTrace *trace = traces->pdata[i];
        g_autofree EkHuntedTable *found = g_new0(EkHuntedTable, 1);
        found->first_byte = trace->first_byte;
        if (!g_str_equal(trace->kind, "table") ||
            !ek_hunt_load_table(hunting->view.reader, trace, sector_size, &found->table))
            continue;
        found->is_current = has_current && found->table.scheme == current->scheme &&
                            trace->first_byte == current->first_byte;
        found->what = found->is_current ? ""
                                        : what_it_is(has_current ? current : NULL, &found->table,
                                                     ek_reader_bytes(hunting->view.reader));
        /* The links of the current chain are part of the current table. */
        if (!has_current || !is_link_of(current, &found->table))
            g_ptr_array_add(tables, g_steal_pointer(&found));
    }
    drop_held_entries(tables);
    return tables;
}

EkKnown ek_hunting_known(EkHunting *hunting)
{
    return ek_reader_known(hunting->view.reader, 0, ek_case_info(hunting->view.opened)->bytes);
}

guint ek_hunting_count(EkHunting *hunting)
{
    return (guint)g_atomic_int_get(&hunting->count);
}

void ek_hunting_tell(EkHunting *hunting, EkHuntingNews news, void *data)
{
    hunting->news = news;
    hunting->news_data = data;
}

void ek_hunting_watch(EkHunting *hunting, EkHuntingStep step, void *data)
{
    hunting->step = step;
    hunting->step_data = data;
}

static gboolean tell_news(EkHunting *hunting, GError **error)
{
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(hunting->view.opened, error);
    guint told = hunting->told;
    for (guint i = 0; volumes != NULL && i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        if (hunting->news != NULL && entry->number > told)
            hunting->news(hunting->news_data, entry);
        hunting->told = MAX(hunting->told, entry->number);
    }
    return volumes != NULL;
}

/* Measures what the traces so far claim, and stores it. */
static gboolean store_findings(EkHunting *hunting, GError **error)
{
    EkCase *opened = hunting->view.opened;
    if (!ek_huntstore_flush(hunting->store, error))
        return FALSE;
    g_autoptr(GPtrArray) traces = ek_volumestore_traces(opened, error);
    if (traces == NULL)
        return FALSE;
    EkExpected expected;
    EkHuntWishes wishes = {ek_case_expected(opened, &expected) ? &expected : NULL,
                           ek_case_is_deep(opened)};
    g_autoptr(GPtrArray) findings = ek_hunt_agree(
        hunting->view.reader, ek_case_info(opened)->sector_size, traces, &wishes, error);
    if (findings == NULL || !ek_volumestore_put(opened, hunting->event, findings, error) ||
        !ek_huntstore_measured(hunting->store, error))
        return FALSE;
    g_atomic_int_set(&hunting->count, (gint)findings->len);
    hunting->fresh = 0;
    return tell_news(hunting, error);
}

/* The likely places at first, so that there is something to look at soon; then every sector. */
static gboolean search(EkHunting *hunting, GError **error)
{
    guint32 sector_size = ek_case_info(hunting->view.opened)->sector_size;
    if (hunting->ranges->len > 0 || hunting->likely)
        if (!ek_hunt_likely(hunting->view.reader, sector_size, &hunting->kept, hunting->cancel,
                            error) ||
            !store_findings(hunting, error))
            return FALSE;
    return hunting->likely || ek_hunt_scan(hunting->hunt, hunting->ranges, error);
}

/* What is known already is no news. */
static void skip_known(EkHunting *hunting)
{
    g_autoptr(GPtrArray) before = ek_volumestore_list(hunting->view.opened, NULL);
    for (guint i = 0; before != NULL && i < before->len; i++)
        hunting->told = MAX(hunting->told, ((const EkCaseVolume *)before->pdata[i])->number);
    g_atomic_int_set(&hunting->count, before != NULL ? (gint)before->len : 0);
}

/* Stores what there is, and ends the event. Takes `failure`: how the search went. */
static gboolean finish(EkHunting *hunting, gboolean scanned, GError *failure, GError **error)
{
    gboolean cancelled = g_error_matches(failure, EK_ERROR, EK_ERROR_CANCELLED);
    /* What was seen so far counts, also when the rest was called off. Where nothing is new the
     * volumes are what they were. */
    gboolean stale = hunting->fresh > 0 || !ek_huntstore_is_measured(hunting->store);
    if ((scanned || cancelled) && hunting->view.reader != NULL && stale &&
        !store_findings(hunting, scanned ? &failure : NULL))
        scanned = FALSE;
    EkHuntProgress now = ek_hunting_progress(hunting);
    g_autofree char *size = ek_text_size(now.done);
    g_autofree char *detail =
        failure != NULL && !cancelled
            ? g_strdup(failure->message)
            : g_strdup_printf("%s searched, %u volumes known%s", size, ek_hunting_count(hunting),
                              hunting->likely ? " (likely places only)" : "");
    if (hunting->view.opened != NULL && !ek_event_end(hunting->view.opened, hunting->event,
                                                      scanned     ? "done"
                                                      : cancelled ? "interrupted"
                                                                  : "failed",
                                                      detail, failure == NULL ? &failure : NULL))
        scanned = FALSE;
    if (failure != NULL)
        g_propagate_error(error, failure);
    return scanned && failure == NULL;
}

gboolean ek_hunting_run(EkHunting *hunting, GError **error)
{
    GError *failure = NULL;
    skip_known(hunting);
    gboolean scanned = search(hunting, &failure);
    return finish(hunting, scanned, failure, error);
}

/* --- beside imaging ------------------------------------------------------------------------- */

/* One look at what is good by now and was not hunted. */
static gboolean follow_once(EkHunting *hunting, GError **error)
{
    g_clear_pointer(&hunting->ranges, g_array_unref);
    if (!ek_view_reload(&hunting->view, error)) {
        renew_hunt(hunting);
        return FALSE;
    }
    renew_hunt(hunting);
    hunting->ranges = ranges_to_hunt(&hunting->view, error);
    if (hunting->ranges == NULL || !ek_hunt_scan(hunting->hunt, hunting->ranges, error))
        return FALSE;
    return hunting->fresh == 0 ? ek_huntstore_flush(hunting->store, error)
                               : store_findings(hunting, error);
}

gboolean ek_hunting_follow(EkHunting *hunting, const gint *ended, GError **error)
{
    GError *failure = NULL;
    gboolean fine = TRUE;
    gboolean is_last = FALSE;
    skip_known(hunting);
    while (fine && !is_last) {
        gint64 began = g_get_monotonic_time();
        is_last = g_atomic_int_get(ended) != 0;
        fine = follow_once(hunting, &failure);
        gint64 took = g_get_monotonic_time() - began;
        gint64 until = began + MAX(FOLLOW_EVERY, took * FOLLOW_SHARE);
        while (fine && !is_last && g_atomic_int_get(ended) == 0 && g_get_monotonic_time() < until)
            g_usleep(POLL);
    }
    return finish(hunting, fine, failure, error);
}
