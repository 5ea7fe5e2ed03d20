/* SPDX-License-Identifier: MIT */
/* An exFAT volume that another one was made over, with clusters of another size or in other places.
 * A folder says nothing of itself, but names the clusters in which others begin: where several of
 * these hold folders, or files end as they must, the size of a cluster and the place of the first
 * one are known. */
#include "volume/exfat/set.h"

#define FOLDERS_MOST 256u /* that were seen, and are compared */
#define NAMES_MOST 192u   /* folders that are named in them */
#define FILES_MOST 96u    /* whose ends are looked at */
#define LOOK_BYTES 4096u  /* of each folder */
#define CLUSTER_MOST (32u << 20)
#define VOLUMES_MOST 8u
#define ROOTS_MOST 8u /* each is tried with so many tables */
#define TABLES_MOST 16u
#define FOLDERS_LEAST 2u
#define ENDS_LEAST 4u
#define EXPECTED_LEAST 2u                 /* ends of files, or one folder */
#define BEFORE_HEAP_LEAST (24u * EK_STEP) /* two boot regions */

/* A folder, as it was seen. */
typedef struct {
    EkByte place;
    gboolean is_explained;
} Seen;

/* A folder that is named in one that was seen. */
typedef struct {
    guint seen; /* the one that names it */
    guint32 cluster;
} Name;

typedef struct {
    EkReader *reader;
    const EkSightings *sightings;
    GArray *seen;  /* Seen, by place */
    GArray *names; /* Name */
    GArray *files; /* EkExfatSet */
    EkTimestamp used;
} Search;

/* Where clusters lie, and what agrees with it. */
typedef struct {
    EkByte heap; /* where cluster 2 begins */
    guint32 bytes;
    guint folders; /* that begin where they are named */
    guint ends;    /* of files */
    guint other_ends;
    guint64 last; /* the last cluster that is spoken of */
} Grid;

/* --- what was seen ---------------------------------------------------------------------------- */

static void take_sets(Search *search, guint seen, EkSpan span)
{
    for (gsize at = 0; at < span.length; at += EK_EXFAT_ENTRY_BYTES) {
        EkExfatSet set;
        EkSpan here = ek_span_part(span, at, span.length - at);
        if (!ek_exfat_set_read(here, &set) || !set.is_sound || set.cluster < 2)
            continue;
        if (!set.is_deleted)
            ek_timestamp_advance(&search->used,
                                 ek_timestamp_dos(ek_span_le16(here, 14), ek_span_le16(here, 12)));
        if (set.is_folder && search->names->len < NAMES_MOST) {
            Name name = {seen, set.cluster};
            g_array_append_val(search->names, name);
        } else if (!set.is_folder && set.bytes > 0 && search->files->len < FILES_MOST) {
            g_array_append_val(search->files, set);
        }
    }
}

/* May a volume that is there now have it, as far as that one can be read? What an exFAT does not
 * say of itself may be its own folder. */
static gboolean may_be_newer(const Search *search, EkByte place)
{
    const GPtrArray *volumes = search->sightings->volumes;
    EkUsage usage = ek_usage_by_any(search->reader, volumes, place);
    for (guint i = 0; i < volumes->len && usage == EK_USAGE_UNKNOWN; i++) {
        const EkVolume *volume = volumes->pdata[i];
        if (g_str_equal(volume->filesystem, "exfat") &&
            ek_range_holds(ek_volume_range(volume), place))
            return TRUE;
    }
    return usage == EK_USAGE_USED;
}

/* Folders that no volume holds in a file or for itself, by place. */
static void gather(Search *search)
{
    const EkSightings *sightings = search->sightings;
    for (guint i = 0; i < sightings->runs->len && search->seen->len < FOLDERS_MOST; i++) {
        const EkRecordRun *run = &g_array_index(sightings->runs, EkRecordRun, i);
        Seen seen = {run->first_byte, FALSE};
        if (run->stride == EK_EXFAT_SEEN_FOLDER && !may_be_newer(search, seen.place))
            g_array_append_val(search->seen, seen);
    }
}

/* What is in those that nothing explains yet. */
static void read_folders(Search *search)
{
    g_array_set_size(search->names, 0);
    g_array_set_size(search->files, 0);
    search->used = (EkTimestamp){0};
    for (guint i = 0; i < search->seen->len; i++) {
        const Seen *seen = &g_array_index(search->seen, Seen, i);
        guint8 data[LOOK_BYTES];
        EkByte bytes = ek_reader_bytes(search->reader);
        gsize length = (gsize)MIN(sizeof data, bytes - MIN(seen->place, bytes));
        if (!seen->is_explained &&
            ek_presence_read(search->reader, seen->place, data, length) == EK_PRESENT)
            take_sets(search, i, (EkSpan){data, length});
    }
}

/* --- the grid --------------------------------------------------------------------------------- */

static EkByte place_on(const Grid *grid, guint32 cluster)
{
    return grid->heap + (EkByte)(cluster - 2) * grid->bytes;
}

/* The one that was seen there; its length when none was. */
static guint seen_at(const Search *search, EkByte place)
{
    guint low = 0;
    guint high = search->seen->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        if (g_array_index(search->seen, Seen, middle).place < place)
            low = middle + 1;
        else
            high = middle;
    }
    return low < search->seen->len && g_array_index(search->seen, Seen, low).place == place
               ? low
               : search->seen->len;
}

static void weigh(const Search *search, Grid *grid)
{
    g_autoptr(GHashTable) named = g_hash_table_new(NULL, NULL);
    for (guint i = 0; i < search->names->len; i++) {
        const Name *name = &g_array_index(search->names, Name, i);
        guint at = seen_at(search, place_on(grid, name->cluster));
        if (at < search->seen->len && at != name->seen) {
            g_hash_table_add(named, GUINT_TO_POINTER(name->cluster));
            grid->last = MAX(grid->last, name->cluster);
        }
    }
    grid->folders = g_hash_table_size(named);
    for (guint i = 0; i < search->files->len; i++) {
        const EkExfatSet *set = &g_array_index(search->files, EkExfatSet, i);
        EkByte end = place_on(grid, set->cluster) + set->bytes - 1;
        if (set->bytes > ek_reader_bytes(search->reader) ||
            ek_usage_by_any(search->reader, search->sightings->volumes, end) == EK_USAGE_USED)
            continue;
        EkPresence part = ek_exfat_look_at_end(search->reader, set, grid->heap, grid->bytes);
        grid->ends += part == EK_PRESENT;
        grid->other_ends += part == EK_ABSENT;
        if (part == EK_PRESENT)
            grid->last = MAX(grid->last, set->cluster + (set->bytes - 1) / grid->bytes);
    }
}

static gint by_value(gconstpointer a, gconstpointer b)
{
    const EkByte *left = a;
    const EkByte *right = b;
    return *left < *right ? -1 : *left > *right;
}

static gboolean is_better(const Grid *grid, const Grid *than)
{
    gint64 here = 4 * (gint64)grid->folders + grid->ends - (gint64)grid->other_ends;
    gint64 there = 4 * (gint64)than->folders + than->ends - (gint64)than->other_ends;
    return here > there;
}

static void try_grid(const Search *search, EkByte heap, guint32 bytes, Grid *best)
{
    Grid grid = {.heap = heap, .bytes = bytes};
    weigh(search, &grid);
    if (is_better(&grid, best))
        *best = grid;
}

/* Clusters of that size: where most of the folders that are named would be ones that were seen. */
static void try_size(const Search *search, guint32 bytes, GArray *heaps, Grid *best)
{
    EkByte most = 0;
    guint most_votes = 0;
    guint votes = 0;
    g_array_set_size(heaps, 0);
    for (guint i = 0; i < search->names->len; i++)
        for (guint k = 0; k < search->seen->len; k++) {
            const Name *name = &g_array_index(search->names, Name, i);
            EkByte before = (EkByte)(name->cluster - 2) * bytes;
            EkByte place = g_array_index(search->seen, Seen, k).place;
            EkByte heap = place - before;
            if (k != name->seen && place >= before + BEFORE_HEAP_LEAST)
                g_array_append_val(heaps, heap);
        }
    g_array_sort(heaps, by_value);
    for (guint i = 0; i < heaps->len; i++) {
        EkByte heap = g_array_index(heaps, EkByte, i);
        votes = i > 0 && g_array_index(heaps, EkByte, i - 1) == heap ? votes + 1 : 1;
        if (votes > most_votes) {
            most_votes = votes;
            most = heap;
        }
    }
    if (most_votes > 0)
        try_grid(search, most, bytes, best);
}

/* A root folder names the cluster of an up-case table. */
static void try_roots(const Search *search, guint32 bytes, Grid *best)
{
    const GArray *runs = search->sightings->runs;
    guint roots = 0;
    for (guint i = 0; i < runs->len && roots < ROOTS_MOST; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        guint8 start[EK_STEP];
        EkExfatRoot root;
        guint tables = 0;
        if (run->stride != EK_EXFAT_SEEN_ROOT ||
            ek_presence_read(search->reader, run->first_byte, start, sizeof start) != EK_PRESENT ||
            !ek_exfat_root_read((EkSpan){start, sizeof start}, run->first_byte, &root))
            continue;
        EkByte before = (EkByte)(root.upcase_cluster - 2) * bytes;
        roots++;
        for (guint k = 0; k < runs->len && tables < TABLES_MOST; k++) {
            const EkRecordRun *table = &g_array_index(runs, EkRecordRun, k);
            if (table->stride != EK_EXFAT_SEEN_UPCASE ||
                table->first_byte < before + BEFORE_HEAP_LEAST)
                continue;
            tables++;
            try_grid(search, table->first_byte - before, bytes, best);
        }
    }
}

static Grid best_grid(const Search *search)
{
    g_autoptr(GArray) heaps = g_array_new(FALSE, FALSE, sizeof(EkByte));
    Grid best = {0};
    for (guint32 bytes = EK_STEP; bytes <= CLUSTER_MOST; bytes *= 2) {
        if (!ek_is_expected_unit(search->sightings, bytes))
            continue;
        try_size(search, bytes, heaps, &best);
        try_roots(search, bytes, &best);
    }
    return best;
}

/* Where the volume began: where another begins that covers its clusters, or a partition, and then
 * it is told; or else where it usually would have. */
static gboolean find_place(const Search *search, const Grid *grid, EkRange *place)
{
    const EkSightings *sightings = search->sightings;
    EkByte all = ek_reader_bytes(search->reader);
    EkByte usual = grid->heap > ((EkByte)2 << 20) ? grid->heap - ((EkByte)2 << 20) : 0;
    EkByte end = place_on(grid, (guint32)MIN(grid->last, G_MAXUINT32)) + grid->bytes;
    gboolean is_told = FALSE;
    *place = (EkRange){usual, all - usual};
    for (guint i = 0; i < ek_sightings_ranges(sightings); i++) {
        EkRange range = ek_sightings_range(sightings, i);
        if (range.first + BEFORE_HEAP_LEAST + EK_STEP <= grid->heap && ek_range_end(range) >= end &&
            ek_range_end(range) <= all && (!is_told || range.first > place->first)) {
            *place = range;
            is_told = TRUE;
        }
    }
    return is_told;
}

/* Two folders prove it, or one, or none, with files that end where they must. Folders that were
 * made one after another stand in rows, and agree with themselves some clusters on: where no place
 * is told, only files prove it. */
static gboolean is_proved(const Search *search, const Grid *grid)
{
    if (search->sightings->expected != NULL && 2 * grid->folders + grid->ends >= EXPECTED_LEAST &&
        grid->ends >= grid->other_ends)
        return TRUE;
    EkRange place;
    return (grid->folders >= FOLDERS_LEAST && grid->ends >= grid->other_ends &&
            find_place(search, grid, &place)) ||
           (grid->ends + 2 * grid->folders >= ENDS_LEAST && grid->ends > 2 * grid->other_ends);
}

/* Those are explained that it leads to, or that name one that it leads to. */
static void explain(Search *search, const Grid *grid)
{
    for (guint i = 0; i < search->names->len; i++) {
        const Name *name = &g_array_index(search->names, Name, i);
        guint at = seen_at(search, place_on(grid, name->cluster));
        if (at < search->seen->len && at != name->seen) {
            g_array_index(search->seen, Seen, at).is_explained = TRUE;
            g_array_index(search->seen, Seen, name->seen).is_explained = TRUE;
        }
    }
    for (guint i = search->seen->len; i > 0; i--)
        if (g_array_index(search->seen, Seen, i - 1).is_explained)
            g_array_remove_index(search->seen, i - 1);
}

/* Is it that of one of these volumes, which finds these by itself? */
static gboolean is_of_any(const GPtrArray *volumes, const Grid *grid)
{
    for (guint i = 0; volumes != NULL && i < volumes->len; i++) {
        const EkVolume *volume = volumes->pdata[i];
        EkExfatBoot boot;
        if (g_str_equal(volume->filesystem, "exfat") &&
            ek_exfat_boot_read(ek_volume_header(volume), &boot) &&
            boot.cluster_bytes == grid->bytes &&
            volume->first_byte + (EkByte)boot.heap_sector * boot.sector_size == grid->heap)
            return TRUE;
    }
    return FALSE;
}

static gboolean is_known(const Search *search, const Grid *grid)
{
    return is_of_any(search->sightings->volumes, grid) ||
           is_of_any(search->sightings->unsure, grid);
}

/* --- the volume ------------------------------------------------------------------------------- */

/* Its FAT, where no newer volume has written: 0 when there is none. */
static EkByte find_fat(const Search *search, const Grid *grid, EkRange place, EkByte bytes)
{
    const GArray *runs = search->sightings->runs;
    for (guint i = runs->len; i > 0; i--) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i - 1);
        if (run->stride == EK_EXFAT_SEEN_FAT &&
            run->first_byte >= place.first + BEFORE_HEAP_LEAST &&
            run->first_byte + bytes <= grid->heap &&
            ek_usage_by_any(search->reader, search->sightings->volumes, run->first_byte) !=
                EK_USAGE_USED)
            return run->first_byte;
    }
    return 0;
}

/* The root folder, when it stands on the grid; cluster 2, where none ever is, when not. */
static guint32 find_root(const Search *search, const Grid *grid)
{
    const GArray *runs = search->sightings->runs;
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        guint8 start[EK_STEP];
        EkExfatRoot root;
        if (run->stride == EK_EXFAT_SEEN_ROOT && run->first_byte >= grid->heap &&
            (run->first_byte - grid->heap) % grid->bytes == 0 &&
            ek_usage_by_any(search->reader, search->sightings->volumes, run->first_byte) !=
                EK_USAGE_USED &&
            ek_presence_read(search->reader, run->first_byte, start, sizeof start) == EK_PRESENT &&
            ek_exfat_root_read((EkSpan){start, sizeof start}, run->first_byte, &root))
            return (guint32)((run->first_byte - grid->heap) / grid->bytes + 2);
    }
    return 2;
}

static EkVolume *compose(const Search *search, const Grid *grid)
{
    EkVolume *volume = ek_volume_new(NULL, "exfat");
    EkRange place;
    (void)find_place(search, grid, &place);
    guint64 clusters = (ek_range_end(place) - grid->heap) / grid->bytes;
    EkByte fat_bytes = (MIN(clusters, G_MAXUINT32 - 16) + 2) * 4;
    EkByte fat = find_fat(search, grid, place, fat_bytes);
    EkExfatBoot boot = {
        .sector_size = EK_STEP,
        .cluster_bytes = grid->bytes,
        .sectors = place.bytes / EK_STEP,
        .fat_sector = fat != 0 ? (guint32)((fat - place.first) / EK_STEP) : 24,
        .fat_sectors = fat != 0 ? (guint32)ek_divide_up(fat_bytes, EK_STEP) : 1,
        .heap_sector = (guint32)MIN((grid->heap - place.first) / EK_STEP, G_MAXUINT32),
        .clusters = (guint32)MIN(clusters, 0xfffffff5),
        .root_cluster = find_root(search, grid),
        .partition_sector = place.first / EK_STEP,
        .fats = fat != 0 ? 1 : 0,
    };
    ek_exfat_boot_compose(&boot, volume->header);
    if (!ek_exfat_boot_read(ek_volume_header(volume), &boot))
        return volume;
    volume->composed = volume->by_backup = volume->is_earlier = volume->is_confirmed = TRUE;
    volume->first_byte = place.first;
    volume->header_byte = volume->metadata_byte = grid->heap;
    volume->own_sector_size = EK_STEP;
    volume->bytes = boot.sectors * EK_STEP;
    volume->length_is_least = TRUE;
    volume->used = search->used;
    ek_volume_property_number(volume, "bytes per cluster", grid->bytes);
    if (grid->folders > 0)
        ek_volume_reason(
            volume, (int)MIN(20 + 5 * grid->folders, 60u),
            "%u folders that no volume there now holds begin where others of them name "
            "them, under one cluster layout",
            grid->folders);
    if (grid->ends > 0)
        ek_volume_reason(volume, (int)MIN(5 * grid->ends, 30u),
                         "%u files end where their entries state, with zeros behind them",
                         grid->ends);
    ek_volume_reason(volume, 0, "its boot sectors are overwritten; its FAT is %s",
                     fat != 0 ? "still there" : "overwritten as well");
    ek_volume_expected(volume, search->sightings);
    return volume;
}

gboolean ek_exfat_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                                void *data, GError **error)
{
    g_autoptr(GArray) seen = g_array_new(FALSE, FALSE, sizeof(Seen));
    g_autoptr(GArray) names = g_array_new(FALSE, FALSE, sizeof(Name));
    g_autoptr(GArray) files = g_array_new(FALSE, FALSE, sizeof(EkExfatSet));
    Search search = {reader, sightings, seen, names, files, {0}};
    (void)error;
    gather(&search);
    for (guint i = 0; i < VOLUMES_MOST && seen->len > 0; i++) {
        read_folders(&search);
        Grid grid = best_grid(&search);
        if (!is_proved(&search, &grid))
            break;
        guint before = seen->len;
        explain(&search, &grid);
        if (!is_known(&search, &grid))
            sink(data, compose(&search, &grid));
        if (seen->len == before)
            break; /* only files prove it: nothing is left to be told apart */
    }
    return TRUE;
}
