/* SPDX-License-Identifier: MIT */
/* A volume with its inventory. */
#include "work/indexing.h"

#include "base/digest.h"
#include "base/text.h"
#include "hunt/records.h"
#include "volume/beneath.h"
#include "volume/headers.h"

#include <unistd.h>

#define CLAIM_CONFIDENCE 30 /* that a volume needs to speak against the files of an earlier one */
#define READERS "17"        /* changes when what a walk hands on does */

struct EkIndexing {
    EkView *view;
    GPtrArray *volumes;
    const EkCaseVolume *volume;
    EkFiles files;
    GPtrArray *newer;      /* EkVolume*: those that lie on it */
    GArray *claimants;     /* guint64: earlier volumes on it that may have come later than it */
    EkCaseVolume contents; /* what stands for a volume where it is the catalogue of contents */
    EkVolume *stand_in;
    EkContentStore *store; /* NULL: it is a volume */
    EkReader *beneath;     /* what these leave of it; NULL: all of it is its own */
    EkLock *lock;
    EkInventory *inventory;
    char *basis; /* what it stands on */
};

/* --- generations on one ground ---------------------------------------------------------------- */

/* Of several that others were made over, those that came after this one: their files lay on it.
 * Where nothing says which of two came first, each may have: where both say a file lies, none is
 * proved. */
static GArray *claimants_on(const GPtrArray *volumes, const EkCaseVolume *own)
{
    GArray *claimants = g_array_new(FALSE, FALSE, sizeof(guint64));
    for (guint i = 0; i < volumes->len; i++) {
        const EkCaseVolume *other = volumes->pdata[i];
        guint64 number = other->number;
        if (other != own && own->standing == EK_STANDING_REMAINS &&
            other->standing == EK_STANDING_REMAINS &&
            other->volume->confidence >= CLAIM_CONFIDENCE &&
            ek_ranges_overlap(ek_volume_range(own->volume), ek_volume_range(other->volume)) &&
            !ek_volume_is_later(own->volume, other->volume))
            g_array_append_val(claimants, number);
    }
    return claimants;
}

/* --- what it stands on ------------------------------------------------------------------------ */

/* What an inventory stands on: the volume as it is opened, and what the read map says. */
static char *basis_of(EkView *view, const EkCaseVolume *entry, const GArray *claimants)
{
    g_autoptr(GString) below = g_string_new(NULL);
    for (guint i = 0; i < claimants->len; i++)
        g_string_append_printf(below, " below %" G_GUINT64_FORMAT,
                               g_array_index(claimants, guint64, i));
    const EkVolume *volume = entry->volume;
    guint8 sum[EK_SHA256_BYTES];
    ek_sha256_of(volume->header, volume->header_bytes, sum);
    g_autofree char *header = ek_text_hex(sum, 8, '\0');
    g_autofree char *as_of =
        view->as_of.kind != EK_AS_IT_IS
            ? g_strdup_printf(" as of %d %" G_GINT64_FORMAT, view->as_of.kind, view->as_of.value)
            : g_strdup("");
    return g_strdup_printf(
        READERS "%s%s%s %s %s %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT " %s %" G_GUINT64_FORMAT
                " %" G_GUINT64_FORMAT " %" G_GUINT64_FORMAT "%s",
        view->without_journal ? " plain" : "", as_of, view->with_lost ? " lost" : "",
        ek_standing_name(entry->standing), volume->filesystem, volume->first_byte,
        volume->metadata_byte, header, ek_read_map_total(view->map, EK_STATE_GOOD),
        ek_read_map_total(view->map, EK_STATE_BAD),
        ek_read_map_total(view->map, EK_STATE_SET_ASIDE), below->str);
}

/* Does the volume itself not tell where all of its files are kept? */
static gboolean lacks_records(EkFiles *files)
{
    return files->format->lacks != NULL && files->format->lacks(files->opened);
}

/* What an earlier run found. */
static gboolean adopt_known(EkIndexing *indexing, GError **error)
{
    EkFiles *files = &indexing->files;
    if (!lacks_records(files))
        return TRUE;
    g_autoptr(GArray) runs = ek_inventory_runs(indexing->inventory, error);
    return runs != NULL && (runs->len == 0 || files->format->adopt(files->opened, runs, error));
}

/* Where records of newer volumes stand that lie over an earlier one: none of those are its own. */
static GArray *others_records(const EkIndexing *indexing)
{
    GArray *ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    const EkVolume *own = indexing->volume->volume;
    for (guint i = 0; i < indexing->volumes->len && own->is_earlier; i++) {
        const EkVolume *other = ((const EkCaseVolume *)indexing->volumes->pdata[i])->volume;
        if (other == own || other->is_earlier || other->format != own->format ||
            other->format->own_records == NULL ||
            !ek_ranges_overlap(ek_volume_range(own), ek_volume_range(other)))
            continue;
        EkOpened *opened = other->format->open(indexing->view->reader, other, NULL);
        if (opened == NULL)
            continue;
        other->format->own_records(opened, ranges);
        other->format->close(opened);
    }
    return ranges;
}

/* What was seen in what a newer volume uses is that one's. */
static void leave_to_newer(const EkIndexing *indexing, GArray *runs)
{
    for (guint i = runs->len; i > 0 && indexing->newer->len > 0; i--) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i - 1);
        if (run->stride < EK_STEP && ek_usage_by_any(indexing->view->reader, indexing->newer,
                                                     run->first_byte) == EK_USAGE_USED)
            g_array_remove_index(runs, i - 1);
    }
}

/* What hunting saw of its records; where it did not keep all of that, they are looked for. */
static gboolean find_records(EkIndexing *indexing, const gint *cancel, GError **error)
{
    EkFiles *files = &indexing->files;
    EkRange range = ek_volume_range(indexing->volume->volume);
    gboolean all = FALSE;
    if (!lacks_records(files) || ek_inventory_mark(indexing->inventory) != 0)
        return TRUE;
    g_autoptr(GArray) runs =
        ek_volumestore_runs(indexing->view->opened, files->format->name, range, &all, error);
    if (runs != NULL && !all) {
        g_array_unref(runs);
        runs = ek_hunt_records(files->reader, files->format, range, cancel, error);
    }
    if (runs == NULL)
        return FALSE;
    g_autoptr(GArray) others = others_records(indexing);
    g_autoptr(GArray) left = ek_runs_outside(runs, others);
    leave_to_newer(indexing, left);
    return files->format->adopt(files->opened, left, error) &&
           ek_inventory_put_runs(indexing->inventory, left, error);
}

/* Was one of its format there before it, that hunting told apart from it by its clusters? */
static gboolean has_earlier(const EkIndexing *indexing)
{
    const EkVolume *own = indexing->volume->volume;
    for (guint i = 0; i < indexing->volumes->len; i++) {
        const EkCaseVolume *entry = indexing->volumes->pdata[i];
        const EkVolume *other = entry->volume;
        gboolean is_other = other->is_earlier ? other->confidence >= EK_CONFIDENT
                                              : other->first_byte != own->first_byte &&
                                                    other->bytes >= own->bytes / 2;
        if (other != own && other->format == own->format && is_other &&
            entry->standing == EK_STANDING_REMAINS &&
            indexing->volume->standing != EK_STANDING_REMAINS &&
            ek_ranges_overlap(ek_volume_range(own), ek_volume_range(other)))
            return TRUE;
    }
    return FALSE;
}

/* Those that lie on the remains of an older volume. */
static GPtrArray *newer_ones(const EkIndexing *indexing)
{
    GPtrArray *newer = g_ptr_array_new();
    EkRange own = ek_volume_range(indexing->volume->volume);
    if (indexing->volume->standing != EK_STANDING_REMAINS)
        return newer;
    for (guint i = 0; i < indexing->volumes->len; i++) {
        const EkCaseVolume *other = indexing->volumes->pdata[i];
        if (other != indexing->volume && ek_standing_is_on_top(other->standing) &&
            ek_ranges_overlap(own, ek_volume_range(other->volume)))
            g_ptr_array_add(newer, other->volume);
    }
    return newer;
}

/* The structures of remains are read where no newer volume has written. */
static gboolean open_files(EkIndexing *indexing, GError **error)
{
    const EkVolume *volume = indexing->volume->volume;
    EkReader *reader = indexing->view->reader;
    indexing->volume->volume->has_earlier = has_earlier(indexing);
    indexing->newer = newer_ones(indexing);
    if (indexing->newer->len > 0)
        reader = indexing->beneath = ek_reader_beneath(reader, indexing->newer);
    if (!ek_files_open(&indexing->files, reader, volume, error))
        return FALSE;
    indexing->files.reader = indexing->view->reader;
    return TRUE;
}

/* --- the catalogue of contents ---------------------------------------------------------------- */

static gboolean open_inventory(EkIndexing *indexing, const char *basis, GError **error)
{
    EkView *view = indexing->view;
    guint number = indexing->volume->number;
    g_free(indexing->basis);
    indexing->basis = g_strdup(basis);
    indexing->inventory = ek_inventory_open(view->opened, number, basis, FALSE, error);
    if (indexing->inventory == NULL)
        return FALSE;
    if (ek_inventory_is_finished(indexing->inventory) ||
        access(ek_case_folder(view->opened), W_OK) != 0)
        return TRUE;
    g_clear_pointer(&indexing->inventory, ek_inventory_close);
    indexing->lock = ek_lock_take_inventory(view->opened, number, error);
    if (indexing->lock != NULL)
        indexing->inventory = ek_inventory_open(view->opened, number, basis, TRUE, error);
    return indexing->inventory != NULL;
}

static EkIndexing *open_contents(EkIndexing *indexing, GError **error)
{
    EkView *view = indexing->view;
    indexing->stand_in = g_new0(EkVolume, 1);
    indexing->stand_in->filesystem = "contents";
    indexing->stand_in->bytes = ek_reader_bytes(view->reader);
    indexing->contents.volume = indexing->stand_in;
    indexing->volume = &indexing->contents;
    indexing->files.reader = view->reader;
    indexing->store = ek_contentstore_open(view->opened, FALSE, error);
    g_autofree char *word =
        indexing->store != NULL ? ek_contentstore_basis(indexing->store, error) : NULL;
    g_autofree char *basis =
        g_strdup_printf(READERS " %s %" G_GUINT64_FORMAT, word != NULL ? word : "",
                        ek_read_map_total(view->map, EK_STATE_GOOD));
    return word != NULL && open_inventory(indexing, basis, error) ? indexing : NULL;
}

static gboolean run_contents(EkIndexing *indexing, const gint *cancel, GError **error)
{
    EkFileSink sink = ek_inventory_sink(indexing->inventory, cancel);
    guint32 sector_size = ek_case_info(indexing->view->opened)->sector_size;
    EkGround ground = {.reader = indexing->view->reader};
    gboolean fine = ek_contentstore_walk(indexing->store, sector_size, &sink, error) &&
                    ek_inventory_end(indexing->inventory, error) &&
                    ek_inventory_finish(indexing->inventory, EK_CONTENTS_ROOT, &ground, error);
    g_clear_pointer(&indexing->lock, ek_lock_release);
    return fine;
}

/* --- opening ---------------------------------------------------------------------------------- */

EkIndexing *ek_indexing_new(EkView *view, guint64 number, GError **error)
{
    g_autoptr(EkIndexing) indexing = g_new0(EkIndexing, 1);
    indexing->view = view;
    if (number == EK_CONTENTS)
        return open_contents(indexing, error) != NULL ? g_steal_pointer(&indexing) : NULL;
    indexing->volumes = ek_volumestore_list(view->opened, error);
    if (indexing->volumes == NULL)
        return NULL;
    indexing->volume = ek_volumestore_find(indexing->volumes, number, error);
    if (indexing->volume != NULL) {
        indexing->volume->volume->without_journal = view->without_journal;
        indexing->volume->volume->as_of = view->as_of;
        indexing->volume->volume->with_lost = view->with_lost;
    }
    if (indexing->volume == NULL || !open_files(indexing, error))
        return NULL;
    indexing->claimants = claimants_on(indexing->volumes, indexing->volume);
    g_autofree char *basis = basis_of(view, indexing->volume, indexing->claimants);
    return open_inventory(indexing, basis, error) && adopt_known(indexing, error)
               ? g_steal_pointer(&indexing)
               : NULL;
}

void ek_indexing_free(EkIndexing *indexing)
{
    g_clear_pointer(&indexing->inventory, ek_inventory_close);
    g_clear_pointer(&indexing->lock, ek_lock_release);
    ek_files_close(&indexing->files);
    g_clear_pointer(&indexing->store, ek_contentstore_close);
    g_free(indexing->stand_in);
    g_clear_pointer(&indexing->beneath, ek_reader_free);
    g_clear_pointer(&indexing->newer, g_ptr_array_unref);
    g_clear_pointer(&indexing->claimants, g_array_unref);
    g_clear_pointer(&indexing->volumes, g_ptr_array_unref);
    g_free(indexing->basis);
    g_free(indexing);
}

/* Its files are listed, and not judged yet. FALSE on failure, and when it was cancelled. */
static gboolean list_files(EkIndexing *indexing, const gint *cancel, GError **error)
{
    EkInventory *inventory = indexing->inventory;
    EkFiles *files = &indexing->files;
    ek_inventory_watch(inventory, cancel);
    if (ek_inventory_is_listed(inventory))
        return TRUE;
    if (!find_records(indexing, cancel, error))
        return FALSE;
    EkFileSink sink = ek_inventory_sink(inventory, cancel);
    gboolean complete = files->format->walk(files->opened, ek_inventory_mark(inventory), &sink);
    if (complete)
        return ek_inventory_end(inventory, error);
    if (ek_inventory_commit(inventory, error))
        ek_error_set(error, EK_ERROR_DAMAGED, "volume %u: the list of its files ended early",
                     indexing->volume->number);
    return FALSE;
}

/* Where files of these lie: EkRange, in order. For that they are listed, but not judged: of two
 * that may each have come first, each would wait for the other. NULL on failure; the caller unrefs.
 */
static GArray *gather_claims(EkIndexing *indexing, const gint *cancel, GError **error)
{
    g_autoptr(GArray) claims = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < indexing->claimants->len; i++) {
        guint64 number = g_array_index(indexing->claimants, guint64, i);
        g_autoptr(EkIndexing) other = ek_indexing_new(indexing->view, number, error);
        g_autoptr(GArray) own = g_array_new(FALSE, FALSE, sizeof(EkRange));
        if (other == NULL || !list_files(other, cancel, error) ||
            !ek_inventory_claims(other->inventory, own, error))
            return NULL;
        g_array_append_vals(claims, own->data, own->len);
    }
    g_array_sort(claims, ek_range_by_first);
    return g_steal_pointer(&claims);
}

gboolean ek_indexing_run(EkIndexing *indexing, const gint *cancel, GError **error)
{
    EkInventory *inventory = indexing->inventory;
    EkFiles *files = &indexing->files;
    ek_inventory_watch(inventory, cancel);
    if (ek_inventory_is_finished(inventory))
        return TRUE;
    if (indexing->store != NULL)
        return run_contents(indexing, cancel, error);
    g_autoptr(GArray) claims =
        list_files(indexing, cancel, error) ? gather_claims(indexing, cancel, error) : NULL;
    if (claims == NULL)
        return FALSE;
    EkGround ground = {indexing->view->reader, indexing->volume->volume, indexing->newer, claims};
    gboolean fine =
        ek_inventory_finish(inventory, files->format->root(files->opened), &ground, error);
    g_clear_pointer(&indexing->lock, ek_lock_release);
    return fine;
}

const char *ek_indexing_basis(const EkIndexing *indexing)
{
    return indexing->basis;
}

EkView *ek_indexing_view(const EkIndexing *indexing)
{
    return indexing->view;
}

gboolean ek_indexing_known(EkView *view, const EkCaseVolume *volume, EkInventoryTotals *totals)
{
    if (!ek_inventory_exists(view->opened, volume->number))
        return FALSE;
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(view->opened, NULL);
    const EkCaseVolume *own =
        volumes != NULL ? ek_volumestore_find(volumes, volume->number, NULL) : NULL;
    if (own == NULL)
        return FALSE;
    g_autoptr(GArray) claimants = claimants_on(volumes, own);
    g_autofree char *basis = basis_of(view, volume, claimants);
    g_autoptr(EkInventory) inventory =
        ek_inventory_open(view->opened, volume->number, basis, FALSE, NULL);
    if (inventory == NULL || !ek_inventory_is_finished(inventory))
        return FALSE;
    *totals = ek_inventory_totals(inventory);
    return TRUE;
}

gboolean ek_indexing_is_needed(EkIndexing *indexing)
{
    return !ek_inventory_is_finished(indexing->inventory);
}

EkInventoryTotals ek_indexing_progress(EkIndexing *indexing)
{
    return ek_inventory_progress(indexing->inventory);
}

EkInventory *ek_indexing_inventory(EkIndexing *indexing)
{
    return indexing->inventory;
}

EkFiles *ek_indexing_files(EkIndexing *indexing)
{
    return &indexing->files;
}

const EkCaseVolume *ek_indexing_volume(EkIndexing *indexing)
{
    return indexing->volume;
}

EkContentStore *ek_indexing_contents(EkIndexing *indexing)
{
    return indexing->store;
}
