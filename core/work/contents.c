/* SPDX-License-Identifier: MIT */
/* The search by content: which ground, and where its results go. */
#include "work/contents.h"

#include "base/digest.h"
#include "base/text.h"
#include "carve/types.h"
#include "volume/headers.h"
#include "work/copies.h"
#include "work/diskimages.h"
#include "work/indexing.h"

#define TYPES_MOST EK_MATCHES_MOST
#define CONFIDENCE 30  /* that a volume needs to hold ground by its files */
#define JOINS_MOST 32u /* files that are tried at once */
/* Places that are tried for all files that end early: each 4 KiB of the ground so many times, and
 * within these. */
#define TRIES_A_BLOCK 32u
#define TRIES_LEAST (1u << 20)
#define TRIES_MOST (16u << 20)
#define READERS "8" /* raised when the same bytes give other results */

struct EkSearch {
    EkView view;
    EkLock *lock;
    EkSearchOrder order;
    const gint *cancel;
    gint64 event;
    GPtrArray *volumes; /* EkCaseVolume */
    GArray *ground;     /* EkRange */
    char *types;
    EkContentStore *store;
    EkCarve *carve;
    EkSearchFound found;
    void *found_data;
    gint64 deadline;
    gboolean is_late;
    GMutex lock_counts; /* of what is below */
    EkSearchCount counts[TYPES_MOST];
    gboolean is_joining;
    guint joins;
};

/* --- ground ---------------------------------------------------------------------------------- */

static gboolean is_believed(const EkCaseVolume *entry)
{
    return entry->standing != EK_STANDING_REMAINS && entry->standing != EK_STANDING_NESTED &&
           !entry->volume->is_container && entry->volume->format->open != NULL &&
           entry->volume->confidence >= CONFIDENCE;
}

/* Where files of a volume lie that are there and whole. One whose files cannot be listed holds
 * nothing. */
static gboolean add_healthy(EkSearch *search, const EkCaseVolume *entry, GArray *claims,
                            GError **error)
{
    GError *failure = NULL;
    g_autoptr(EkIndexing) indexing = ek_indexing_new(&search->view, entry->number, &failure);
    if (indexing != NULL && ek_indexing_run(indexing, search->cancel, &failure))
        return ek_inventory_healthy(ek_indexing_inventory(indexing), claims, error);
    if (g_error_matches(failure, EK_ERROR, EK_ERROR_CANCELLED) ||
        g_error_matches(failure, EK_ERROR, EK_ERROR_NO_SPACE) ||
        g_error_matches(failure, EK_ERROR, EK_ERROR_REFUSED)) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    g_clear_error(&failure);
    return TRUE;
}

/* What of the whole these ranges, in order, leave. */
static GArray *without(EkRange whole, const GArray *taken)
{
    GArray *rest = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkByte at = whole.first;
    for (guint i = 0; i < taken->len; i++) {
        EkRange range = g_array_index(taken, EkRange, i);
        EkRange before = {at, range.first - MIN(at, range.first)};
        if (range.first > at && at < ek_range_end(whole)) {
            before.bytes = MIN(before.bytes, ek_range_end(whole) - at);
            g_array_append_val(rest, before);
        }
        at = MAX(at, ek_range_end(range));
    }
    EkRange last = {at, ek_range_end(whole) - MIN(at, ek_range_end(whole))};
    if (at < ek_range_end(whole))
        g_array_append_val(rest, last);
    return rest;
}

static GArray *unclaimed(EkSearch *search, EkRange whole, GError **error)
{
    g_autoptr(GArray) claims = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < search->volumes->len; i++) {
        const EkCaseVolume *entry = search->volumes->pdata[i];
        if (is_believed(entry) && !add_healthy(search, entry, claims, error))
            return NULL;
    }
    g_array_sort(claims, ek_range_by_first);
    return without(whole, claims);
}

/* What a volume calls free. */
static GArray *free_of(EkSearch *search, EkRange whole, GError **error)
{
    const EkCaseVolume *entry = ek_volumestore_find(search->volumes, search->order.volume, error);
    if (entry == NULL)
        return NULL;
    GArray *ground = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkRange range = ek_volume_range(entry->volume);
    EkByte end = MIN(ek_range_end(range), ek_range_end(whole));
    gboolean is_told = FALSE;
    for (EkByte at = range.first, same = 0; at < end; at += same) {
        EkUsage use =
            ek_volume_use(entry->volume, search->view.reader, (EkRange){at, end - at}, &same);
        same = MIN(MAX(same, 1), end - at);
        is_told = is_told || use != EK_USAGE_UNKNOWN;
        EkRange *last = ground->len > 0 ? &g_array_index(ground, EkRange, ground->len - 1) : NULL;
        EkRange part = {at, same};
        if (use == EK_USAGE_FREE && last != NULL && ek_range_end(*last) == at)
            last->bytes += same;
        else if (use == EK_USAGE_FREE)
            g_array_append_val(ground, part);
    }
    if (is_told)
        return ground;
    g_array_unref(ground);
    ek_error_set(error, EK_ERROR_UNSUPPORTED,
                 "what volume %u calls free cannot be told. Search everything instead: --in all",
                 entry->number);
    return NULL;
}

static GArray *find_ground(EkSearch *search, GError **error)
{
    EkRange whole = {0, ek_reader_bytes(search->view.reader)};
    GArray *ground = NULL;
    switch (search->order.ground) {
    case EK_SEARCH_UNCLAIMED: return unclaimed(search, whole, error);
    case EK_SEARCH_FREE: return free_of(search, whole, error);
    case EK_SEARCH_ALL: break;
    }
    ground = g_array_new(FALSE, FALSE, sizeof(EkRange));
    g_array_append_val(ground, whole);
    return ground;
}

/* What of one list of ranges another leaves; both in order. */
static void add_rest(GArray *ranges, EkRange range, const GArray *taken)
{
    g_autoptr(GArray) rest = without(range, taken);
    g_array_append_vals(ranges, rest->data, rest->len);
}

/* The ground that was read, within what was asked for, and not searched yet: whole steps. */
static GArray *to_search(EkSearch *search, const GArray *searched)
{
    GArray *ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkByte end = search->order.end != 0 ? search->order.end : G_MAXUINT64;
    for (guint i = 0; i < search->ground->len; i++) {
        EkRange part = g_array_index(search->ground, EkRange, i);
        EkByte at = MAX(part.first, search->order.first);
        EkByte stop = MIN(ek_range_end(part), end);
        at = ek_divide_up(at, EK_STEP) * EK_STEP;
        while (at < stop) {
            EkRange hole = {stop, 0};
            gboolean bad = FALSE;
            ek_reader_next_hole(search->view.reader, at, stop, &hole, &bad);
            if (hole.first > at)
                add_rest(ranges, (EkRange){at, hole.first - at}, searched);
            at = ek_divide_up(ek_range_end(hole), EK_STEP) * EK_STEP;
        }
    }
    return ranges;
}

/* Where it is, for people. */
static char *place_words(const EkSearch *search, EkByte first)
{
    for (guint i = 0; i < search->volumes->len; i++) {
        const EkCaseVolume *entry = search->volumes->pdata[i];
        if (is_believed(entry) && ek_range_holds(ek_volume_range(entry->volume), first))
            return g_strdup_printf("free space of %u", entry->number);
    }
    return g_strdup("outside volumes");
}

/* --- results --------------------------------------------------------------------------------- */

static guint index_of(const EkCarveType *type)
{
    guint index = 0;
    while (ek_carve_types[index] != NULL && ek_carve_types[index] != type)
        index++;
    return index;
}

static void count(EkSearch *search, const EkCarveType *type, EkContentState state, EkByte bytes)
{
    g_mutex_lock(&search->lock_counts);
    EkSearchCount *own = &search->counts[MIN(index_of(type), TYPES_MOST - 1)];
    own->count[state]++;
    own->bytes += bytes;
    g_mutex_unlock(&search->lock_counts);
}

static gboolean add_found(void *data, const EkFound *found, GError **error)
{
    EkSearch *search = data;
    g_autofree char *place = place_words(search, ek_found_first(found));
    if (!ek_contentstore_add(search->store, found, place, error))
        return FALSE;
    count(search, found->type, found->state, found->bytes);
    if (search->found != NULL)
        search->found(search->found_data, found);
    return TRUE;
}

static gboolean is_time_up(EkSearch *search)
{
    search->is_late =
        search->is_late || (search->deadline != 0 && g_get_monotonic_time() > search->deadline);
    return search->is_late;
}

static gboolean add_searched(void *data, EkRange range, guint64 crowded, GError **error)
{
    EkSearch *search = data;
    if (!ek_contentstore_put_searched(search->store, search->types, range, crowded, error))
        return FALSE;
    return !is_time_up(search) || ek_error_set(error, EK_ERROR_CANCELLED, "the time is up");
}

static gboolean add_listed(void *data, EkListed listed, GError **error)
{
    EkSearch *search = data;
    return ek_contentstore_add_list(search->store, listed, error);
}

static gboolean count_entry(void *data, const EkContentEntry *entry)
{
    EkSearch *search = data;
    const EkCarveType *type = ek_carve_type_named(entry->type);
    if (type != NULL)
        count(search, type, entry->state, entry->bytes);
    return TRUE;
}

static gboolean count_all(EkSearch *search, GError **error)
{
    g_mutex_lock(&search->lock_counts);
    memset(search->counts, 0, sizeof search->counts);
    g_mutex_unlock(&search->lock_counts);
    return ek_contentstore_each(search->store, count_entry, search, error);
}

/* --- the job --------------------------------------------------------------------------------- */

/* A word for the set of types that is looked for. */
static char *word_of_types(const EkSearchOrder *order)
{
    g_autoptr(GString) names = g_string_new(READERS);
    for (guint i = 0; ek_carve_types[i] != NULL; i++)
        if (order->wanted == NULL || order->wanted[i] != 0)
            g_string_append_printf(names, " %s", ek_carve_types[i]->name);
    if (order->nested)
        g_string_append(names, " nested");
    guint8 sum[EK_SHA256_BYTES];
    ek_sha256_of((const guint8 *)names->str, names->len, sum);
    return ek_text_hex(sum, 8, '\0');
}

EkSearch *ek_search_new(const char *folder, const char *options, const EkSearchOrder *order,
                        const gint *cancel, GError **error)
{
    g_autoptr(EkSearch) search = g_new0(EkSearch, 1);
    g_mutex_init(&search->lock_counts);
    search->order = *order;
    search->cancel = cancel;
    if (!ek_view_open_locked(&search->view, folder, EK_LOCK_CONTENTS, &search->lock, error))
        return NULL;
    search->volumes = ek_volumestore_list(search->view.opened, error);
    search->types = word_of_types(order);
    if (search->volumes == NULL)
        return NULL;
    search->store = ek_contentstore_open(search->view.opened, TRUE, error);
    if (search->store == NULL)
        return NULL;
    search->event = ek_event_begin(search->view.opened, "carve", options, error);
    return search->event != 0 ? g_steal_pointer(&search) : NULL;
}

void ek_search_free(EkSearch *search)
{
    g_clear_pointer(&search->carve, ek_carve_free);
    g_clear_pointer(&search->store, ek_contentstore_close);
    g_clear_pointer(&search->ground, g_array_unref);
    g_clear_pointer(&search->volumes, g_ptr_array_unref);
    g_clear_pointer(&search->lock, ek_lock_release);
    ek_view_close(&search->view);
    g_mutex_clear(&search->lock_counts);
    g_free(search->types);
    g_free(search);
}

static void hold(void *data, EkRange range)
{
    ek_carve_hold(data, range);
}

static void pass(void *data, EkRange range, const char *type, EkHides hides)
{
    ek_carve_pass(data, range, type, hides);
}

static void list(void *data, EkListed listed)
{
    ek_carve_list(data, listed);
}

/* What the pieces of a file are in step with: the clusters of the volumes, where all agree. */
static EkByte grid_of(const EkSearch *search)
{
    EkByte grid = 0;
    for (guint i = 0; i < search->volumes->len; i++) {
        const EkCaseVolume *entry = search->volumes->pdata[i];
        guint64 unit = 0;
        if (!ek_text_parse_u64(ek_volume_unit(entry->volume), &unit) || unit < EK_STEP)
            continue;
        grid = grid == 0 ? unit : MIN(grid, unit);
    }
    return MIN(grid, 65536);
}

static gboolean prepare(EkSearch *search, GError **error)
{
    search->ground = find_ground(search, error);
    if (search->ground == NULL)
        return FALSE;
    EkCarveOrder order = {search->view.reader,   search->ground,       search->order.wanted,
                          search->order.threads, search->order.nested, grid_of(search)};
    EkCarveSink sink = {search, add_found, add_searched, add_listed};
    EkCarve *carve = ek_carve_new(&order, &sink, search->cancel);
    g_mutex_lock(&search->lock_counts);
    search->carve = carve;
    g_mutex_unlock(&search->lock_counts);
    return ek_contentstore_each_held(search->store, hold, carve, error) &&
           ek_contentstore_each_loose(search->store, pass, carve, error) &&
           ek_contentstore_each_list(search->store, list, carve, error) && count_all(search, error);
}

static EkByte bytes_of_ground(const EkSearch *search)
{
    EkByte bytes = 0;
    for (guint i = 0; i < search->ground->len; i++)
        bytes += g_array_index(search->ground, EkRange, i).bytes;
    return bytes;
}

/* What a file is tried to be joined on. */
static char *basis_of(const EkSearch *search)
{
    return g_strdup_printf(READERS " %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT
                                   " %" G_GUINT64_FORMAT,
                           ek_read_map_total(search->view.map, EK_STATE_GOOD),
                           bytes_of_ground(search), grid_of(search));
}

/* How many places each of so many files that end early is tried at: of many most are no files. */
static guint tries_of(const EkSearch *search, guint64 files)
{
    guint64 all = bytes_of_ground(search) / 4096 * TRIES_A_BLOCK;
    return (guint)CLAMP(CLAMP(all, TRIES_LEAST, TRIES_MOST) / MAX(files, 1), 1, EK_CARVE_TRIES);
}

/* The next ones to try behind the number `last`; G_MAXUINT with *error. */
static guint next_cuts(EkSearch *search, const char *basis, gboolean only_listed, guint64 last,
                       guint most, EkContentCut *cuts, GError **error)
{
    GError *failure = NULL;
    EkContentCut cut = {.number = last};
    guint count = 0;
    while (count < most &&
           ek_contentstore_next_cut(search->store, basis, only_listed, &cut, &failure))
        cuts[count++] = cut;
    if (failure == NULL)
        return count;
    g_propagate_error(error, failure);
    return G_MAXUINT;
}

/* Tries them, and keeps what the first `done` of them came to. */
static gboolean join_some(EkSearch *search, const char *basis, const EkContentCut *cuts,
                          guint count, guint tries, guint *done, GError **error)
{
    EkJoinTask tasks[JOINS_MOST];
    for (guint i = 0; i < count; i++)
        tasks[i] = (EkJoinTask){cuts[i].type, cuts[i].first, cuts[i].only_listed, NULL};
    *done = ek_carve_join_many(search->carve, tasks, count, tries);
    gboolean fine = TRUE;
    for (guint i = 0; i < *done; i++) {
        fine = fine &&
               ek_contentstore_put_joined(search->store, &cuts[i], basis, tasks[i].joined, error);
        ek_found_free(tasks[i].joined);
    }
    g_mutex_lock(&search->lock_counts);
    search->joins += *done;
    g_mutex_unlock(&search->lock_counts);
    return fine;
}

/* Tries all of them, with so many places each. */
static gboolean join_all(EkSearch *search, const char *basis, gboolean only_listed, guint tries,
                         GError **error)
{
    EkContentCut cuts[JOINS_MOST];
    guint64 last = 0;
    /* More at a time as long as none comes to anything: all behind one that does are tried again.
     */
    guint most = 1;
    gboolean is_any = TRUE;
    while (is_any && !is_time_up(search)) {
        if (g_atomic_int_get(search->cancel) != 0)
            return ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
        guint count = next_cuts(search, basis, only_listed, last, most, cuts, error);
        guint done = 0;
        if (count == G_MAXUINT || !join_some(search, basis, cuts, count, tries, &done, error))
            return FALSE;
        is_any = count > 0;
        last = done > 0 ? cuts[done - 1].number : last;
        most = done == count ? MIN(most * 2, JOINS_MOST) : 2;
    }
    return TRUE;
}

/* What blocks of numbers tell comes first: it is read, the rest is guessed. */
static gboolean join(EkSearch *search, GError **error)
{
    g_autofree char *basis = basis_of(search);
    g_autoptr(GArray) firsts = ek_contentstore_firsts(search->store, error);
    if (firsts == NULL)
        return FALSE;
    g_mutex_lock(&search->lock_counts);
    search->is_joining = TRUE;
    g_mutex_unlock(&search->lock_counts);
    ek_carve_release_rests(search->carve);
    if (ek_carve_settle(search->carve, firsts) && !join_all(search, basis, TRUE, 1, error))
        return FALSE;
    guint tries = tries_of(search, ek_contentstore_count_cut(search->store, basis));
    return join_all(search, basis, FALSE, tries, error) && count_all(search, error);
}

/* What a volume has anyway is not listed again, but where all was asked for. */
static gboolean leave_out_copies(EkSearch *search, GError **error)
{
    g_autoptr(GPtrArray) believed = g_ptr_array_new();
    if (search->order.nested || search->order.ground == EK_SEARCH_ALL)
        return ek_contentstore_clear_copies(search->store, error);
    for (guint i = 0; i < search->volumes->len; i++)
        if (is_believed(search->volumes->pdata[i]))
            g_ptr_array_add(believed, search->volumes->pdata[i]);
    return ek_copies_mark(&search->view, believed, search->store, search->cancel, error);
}

static gboolean search_and_join(EkSearch *search, GError **error)
{
    if (!prepare(search, error))
        return FALSE;
    g_autoptr(GArray) searched = ek_contentstore_searched(search->store, search->types, error);
    if (searched == NULL)
        return FALSE;
    g_autoptr(GArray) ranges = to_search(search, searched);
    gboolean fine = ek_carve_scan(search->carve, ranges, error);
    if (!ek_contentstore_flush(search->store, fine ? error : NULL))
        return FALSE;
    return fine && join(search, error) && ek_contentstore_trim(search->store, error) &&
           ek_disk_images_name(search->store, search->volumes, error) &&
           leave_out_copies(search, error) && count_all(search, error);
}

gboolean ek_search_run(EkSearch *search, gboolean *is_over, GError **error)
{
    GError *failure = NULL;
    if (search->order.seconds != 0)
        search->deadline = g_get_monotonic_time() + (gint64)search->order.seconds * G_USEC_PER_SEC;
    gboolean fine = search_and_join(search, &failure);
    fine = ek_contentstore_flush(search->store, fine ? &failure : NULL) && fine;
    if (search->is_late && g_error_matches(failure, EK_ERROR, EK_ERROR_CANCELLED)) {
        g_clear_error(&failure);
        fine = TRUE;
    }
    *is_over = !search->is_late;
    guint64 found = 0;
    for (guint i = 0; i < TYPES_MOST; i++)
        for (guint k = 0; k < EK_CONTENT_STATES; k++)
            found += search->counts[i].count[k];
    g_autofree char *files = ek_text_count(found, "file", "files");
    g_autofree char *detail =
        failure != NULL ? g_strdup(failure->message) : g_strdup_printf("%s by content", files);
    gboolean cancelled = g_error_matches(failure, EK_ERROR, EK_ERROR_CANCELLED);
    ek_event_end(search->view.opened, search->event,
                 fine        ? "done"
                 : cancelled ? "interrupted"
                             : "failed",
                 detail, NULL);
    if (failure != NULL)
        g_propagate_error(error, failure);
    return fine;
}

guint64 ek_search_copies(EkSearch *search)
{
    return ek_contentstore_count_copies(search->store);
}

guint64 ek_search_crowded(EkSearch *search)
{
    return ek_contentstore_count_crowded(search->store, search->types);
}

void ek_search_watch(EkSearch *search, EkSearchFound tell, void *data)
{
    search->found = tell;
    search->found_data = data;
}

EkSearchProgress ek_search_progress(EkSearch *search)
{
    EkSearchProgress now = {0};
    g_mutex_lock(&search->lock_counts);
    if (search->carve != NULL) {
        EkScanProgress scan = ek_carve_progress(search->carve);
        now = (EkSearchProgress){scan.done, scan.total, scan.position, search->is_joining,
                                 search->joins};
    }
    g_mutex_unlock(&search->lock_counts);
    return now;
}

EkSearchCount ek_search_count(EkSearch *search, guint index)
{
    g_mutex_lock(&search->lock_counts);
    EkSearchCount own = search->counts[MIN(index, TYPES_MOST - 1)];
    g_mutex_unlock(&search->lock_counts);
    return own;
}

EkKnown ek_search_known(EkSearch *search)
{
    EkKnown known = {0};
    for (guint i = 0; search->ground != NULL && i < search->ground->len; i++) {
        EkRange range = g_array_index(search->ground, EkRange, i);
        EkKnown part = ek_reader_known(search->view.reader, range.first, range.bytes);
        known.good += part.good;
        known.bad += part.bad;
        known.unread += part.unread;
    }
    return known;
}
