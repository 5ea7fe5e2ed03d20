/* SPDX-License-Identifier: MIT */
/* What the sectors that were not read belong to. */
#include "work/hits.h"

#define REST_MOST 20000u /* stretches without a file that are asked about */

static void hit_clear(gpointer data)
{
    EkHit *hit = data;
    g_free(hit->path);
}

void ek_hits_clear(EkHits *hits)
{
    g_clear_pointer(&hits->hits, g_array_unref);
}

/* The last hit, when `region` goes on where it ends and is as bad: stretches that differ in nothing
 * else are one. */
static EkHit *last_before(EkHits *hits, EkRange region, gboolean bad)
{
    EkHit *last =
        hits->hits->len > 0 ? &g_array_index(hits->hits, EkHit, hits->hits->len - 1) : NULL;
    return last != NULL && ek_range_end(last->region) == region.first && last->is_bad == bad ? last
                                                                                             : NULL;
}

/* --- files ---------------------------------------------------------------------------------- */

typedef struct {
    EkReader *reader;
    EkIndexing *indexing;
    EkHits *hits;
    GError *error;
} Gathering;

static void add_hit(Gathering *gathering, EkRange region, gboolean bad, const char *path,
                    const EkItem *item)
{
    EkHit hit = {
        .region = region,
        .is_bad = bad,
        .volume = ek_indexing_volume(gathering->indexing)->number,
        .path = g_strdup(path),
        .number = item->file.number,
        .is_own = (item->file.flags & EK_FILE_OWN) != 0,
    };
    EkHit *last = last_before(gathering->hits, region, bad);
    if (last == NULL || last->volume != hit.volume || last->number != hit.number) {
        g_array_append_val(gathering->hits->hits, hit);
        return;
    }
    last->region.bytes += region.bytes;
    g_free(hit.path);
}

static gboolean take_file(void *data, const char *path, const EkItem *item)
{
    Gathering *gathering = data;
    g_autoptr(GArray) extents = ek_inventory_extents(ek_indexing_inventory(gathering->indexing),
                                                     item->file.number, &gathering->error);
    for (guint i = 0; extents != NULL && i < extents->len; i++) {
        const EkExtent *extent = &g_array_index(extents, EkExtent, i);
        EkRange inside;
        EkRange hole;
        gboolean bad = FALSE;
        if (ek_extent_place(extent) == EK_UNPLACED ||
            !ek_range_checked(extent->first_byte, extent->stored,
                              ek_reader_bytes(gathering->reader), &inside))
            continue;
        for (EkByte at = inside.first;
             ek_reader_next_hole(gathering->reader, at, ek_range_end(inside), &hole, &bad);
             at = ek_range_end(hole))
            add_hit(gathering, hole, bad, path, item);
    }
    return extents != NULL;
}

static gint by_place(gconstpointer a, gconstpointer b)
{
    const EkHit *left = a;
    const EkHit *right = b;
    if (left->region.first != right->region.first)
        return left->region.first < right->region.first ? -1 : 1;
    return left->volume < right->volume ? -1 : left->volume > right->volume;
}

/* --- the rest ------------------------------------------------------------------------------- */

static const EkCaseVolume *volume_at(const GPtrArray *volumes, EkByte at)
{
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        EkRange range = ek_volume_range(entry->volume);
        if (ek_standing_is_on_top(entry->standing) && ek_range_holds(range, at))
            return entry;
    }
    return NULL;
}

static void add_rest(EkHits *hits, EkReader *reader, const GPtrArray *volumes, EkRange region,
                     gboolean bad, guint *count)
{
    if (region.bytes == 0)
        return;
    if (++*count > REST_MOST) {
        hits->not_looked += region.bytes;
        return;
    }
    const EkCaseVolume *entry = volume_at(volumes, region.first);
    EkHit hit = {.region = region, .is_bad = bad, .usage = EK_USAGE_UNKNOWN};
    if (entry != NULL) {
        hit.volume = entry->number;
        hit.usage = ek_volume_use_at(entry->volume, reader, region.first);
    }
    EkHit *last = last_before(hits, region, bad);
    if (last != NULL && last->path == NULL && last->volume == hit.volume &&
        last->usage == hit.usage)
        last->region.bytes += region.bytes;
    else
        g_array_append_val(hits->hits, hit);
}

/* What of all that was not read no file lies in. */
static void find_rest(EkHits *hits, EkReader *reader, const GPtrArray *volumes)
{
    guint files = hits->hits->len;
    guint count = 0;
    guint next = 0;
    EkByte at = 0;
    EkRange hole;
    gboolean bad = FALSE;
    while (ek_reader_next_hole(reader, at, ek_reader_bytes(reader), &hole, &bad)) {
        EkByte from = hole.first;
        EkByte end = ek_range_end(hole);
        for (; next < files; next++) {
            EkRange region = g_array_index(hits->hits, EkHit, next).region;
            if (region.first >= end)
                break;
            if (region.first > from)
                add_rest(hits, reader, volumes, (EkRange){from, region.first - from}, bad, &count);
            from = MAX(from, MIN(ek_range_end(region), end));
            /* It may go on in the next stretch. */
            if (ek_range_end(region) > end)
                break;
        }
        add_rest(hits, reader, volumes, (EkRange){from, end - from}, bad, &count);
        at = end;
    }
}

gboolean ek_hits_find(EkView *view, const GPtrArray *indexings, EkHits *hits, GError **error)
{
    *hits = (EkHits){.hits = g_array_new(FALSE, FALSE, sizeof(EkHit))};
    g_array_set_clear_func(hits->hits, hit_clear);
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(view->opened, error);
    Gathering gathering = {.reader = view->reader, .hits = hits};
    for (guint i = 0; volumes != NULL && i < indexings->len; i++) {
        gathering.indexing = indexings->pdata[i];
        if (!ek_inventory_each_damaged(ek_indexing_inventory(gathering.indexing), take_file,
                                       &gathering, error))
            return FALSE;
        if (gathering.error != NULL) {
            g_propagate_error(error, gathering.error);
            return FALSE;
        }
    }
    if (volumes == NULL)
        return FALSE;
    g_array_sort(hits->hits, by_place);
    find_rest(hits, view->reader, volumes);
    g_array_sort(hits->hits, by_place);
    return TRUE;
}
