/* SPDX-License-Identifier: MIT */
/* A FAT volume that another one was made over, with clusters of another size or in other places:
 * its FATs and its root folder are gone. Each of its folders says in its first entry which cluster
 * it stands in: two of them give the size of a cluster and the place of the first one. */
#include "volume/fat/entry.h"
#include "volume/headers.h"

#include <string.h>

#define FOLDERS_MOST 4096u /* that are compared */
#define NEIGHBOURS 32u     /* with so many others each */
#define GRIDS_MOST 512u
#define LEAST_AGREEING 3u
#define VOLUMES_MOST 8u
#define CLUSTER_MOST 131072u
#define RESERVED_MOST 65535u

/* A folder, as it was seen. */
typedef struct {
    EkByte place;
    guint32 cluster;
} Seen;

/* Where clusters lie, as two folders tell: cluster n begins at zero + n * bytes. */
typedef struct {
    EkByte zero;
    guint32 bytes;
    guint agreeing; /* folders */
} Grid;

static gboolean is_on(const Seen *seen, const Grid *grid)
{
    return seen->place == grid->zero + (EkByte)seen->cluster * grid->bytes;
}

/* Does a known volume hold a folder in this cluster at this place? */
static gboolean is_explained(const Seen *seen, const GPtrArray *volumes)
{
    for (guint i = 0; i < volumes->len; i++) {
        const EkVolume *volume = volumes->pdata[i];
        EkFatBoot boot;
        if (g_str_has_prefix(volume->filesystem, "fat") &&
            ek_fat_boot_read(ek_volume_header(volume), &boot) &&
            ek_fat_cluster_exists(&boot, seen->cluster) &&
            ek_fat_cluster_byte(&boot, volume->first_byte, seen->cluster) == seen->place)
            return TRUE;
    }
    return FALSE;
}

/* Folders that no known volume explains, or holds in a file, by place. */
static GArray *gather(EkReader *reader, const EkSightings *sightings)
{
    GArray *all = g_array_new(FALSE, FALSE, sizeof(Seen));
    for (guint i = 0; i < sightings->runs->len && all->len < FOLDERS_MOST; i++) {
        const EkRecordRun *run = &g_array_index(sightings->runs, EkRecordRun, i);
        Seen seen = {run->first_byte, (guint32)run->first_record};
        if (run->stride == EK_FAT_SEEN_FOLDER && !is_explained(&seen, sightings->volumes) &&
            ek_usage_by_any(reader, sightings->volumes, seen.place) != EK_USAGE_USED)
            g_array_append_val(all, seen);
    }
    return all;
}

/* The grid on which two folders stand. FALSE: none. */
static gboolean grid_of(const Seen *one, const Seen *other, Grid *grid)
{
    guint64 clusters = (guint64)other->cluster - one->cluster;
    EkByte apart = other->place - one->place;
    if (other->cluster <= one->cluster || other->place <= one->place || apart % clusters != 0)
        return FALSE;
    EkByte bytes = apart / clusters;
    EkByte before = (EkByte)one->cluster * bytes;
    if (!ek_is_power_of_two(bytes) || bytes < EK_STEP || bytes > CLUSTER_MOST ||
        before > one->place + 2 * bytes)
        return FALSE;
    *grid = (Grid){one->place - before, (guint32)bytes, 0};
    return TRUE;
}

/* The grid that most folders stand on. */
static Grid best_grid(const GArray *seen)
{
    g_autoptr(GArray) grids = g_array_new(FALSE, FALSE, sizeof(Grid));
    Grid best = {0};
    for (guint i = 0; i < seen->len; i++)
        for (guint k = i + 1; k < MIN(seen->len, i + NEIGHBOURS); k++) {
            Grid grid;
            guint at = 0;
            if (!grid_of(&g_array_index(seen, Seen, i), &g_array_index(seen, Seen, k), &grid))
                continue;
            while (at < grids->len && (g_array_index(grids, Grid, at).zero != grid.zero ||
                                       g_array_index(grids, Grid, at).bytes != grid.bytes))
                at++;
            if (at == grids->len && grids->len < GRIDS_MOST)
                g_array_append_val(grids, grid);
        }
    for (guint i = 0; i < grids->len; i++) {
        Grid *grid = &g_array_index(grids, Grid, i);
        for (guint k = 0; k < seen->len; k++)
            grid->agreeing += is_on(&g_array_index(seen, Seen, k), grid) ? 1 : 0;
        if (grid->agreeing > best.agreeing)
            best = *grid;
    }
    return best;
}

/* Where the volume began: where another begins that covers its clusters, or a partition; else right
 * before them. */
static EkRange place_of(EkReader *reader, const EkSightings *sightings, EkByte data)
{
    EkRange best = {data - MIN(data, 32 * EK_STEP), 0};
    best.bytes = ek_reader_bytes(reader) - best.first;
    gboolean is_known = FALSE;
    for (guint i = 0; i < sightings->volumes->len + sightings->places->len; i++) {
        EkRange range = i < sightings->volumes->len ? ek_volume_range(sightings->volumes->pdata[i])
                                                    : g_array_index(sightings->places, EkRange,
                                                                    i - sightings->volumes->len);
        if (range.first + 2 * EK_STEP < data && ek_range_end(range) > data &&
            (!is_known || range.first > best.first)) {
            best = range;
            is_known = TRUE;
        }
    }
    return best;
}

/* A boot sector whose clusters begin where they must. FALSE: none fits. */
static gboolean compose_header(EkVolume *volume, const Grid *grid, EkRange place, EkFatBoot *boot)
{
    EkByte data = grid->zero + 2 * (EkByte)grid->bytes;
    guint64 before = (data - place.first) / EK_STEP;
    guint64 clusters = (ek_range_end(place) - data) / grid->bytes;
    guint64 fat = ek_divide_up((clusters + 2) * 4, EK_STEP);
    guint64 fats = before > 2 * fat + RESERVED_MOST ? 0 : before > 2 * fat ? 2 : 1;
    /* Where there was no room for a FAT of this layout, it was of another: fewer bits an entry. */
    if (before <= fat || fats == 0 || before - fats * fat > RESERVED_MOST) {
        fats = 1;
        fat = before - MIN(before, 32);
        clusters = MIN(clusters, fat * EK_STEP / 4 - 2);
    }
    guint64 reserved = before - fats * fat;
    guint64 sectors = before + clusters * (grid->bytes / EK_STEP);
    *boot = (EkFatBoot){.bits = EK_FAT32,
                        .cluster_bytes = grid->bytes,
                        .reserved_sectors = (guint32)reserved,
                        .fats = (guint32)fats,
                        .fat_bytes = fat * EK_STEP};
    if (fat == 0 || reserved == 0 || reserved > RESERVED_MOST || sectors > G_MAXUINT32 ||
        grid->bytes / EK_STEP > 128)
        return FALSE;
    ek_fat_boot_compose(boot, sectors, place.first, volume->header);
    return ek_fat_boot_read(ek_volume_header(volume), boot) && boot->bits == EK_FAT32 &&
           place.first + boot->data_start == data && boot->cluster_bytes == grid->bytes;
}

static EkVolume *compose(EkReader *reader, const EkSightings *sightings, const Grid *grid)
{
    EkByte data = grid->zero + 2 * (EkByte)grid->bytes;
    EkRange place = place_of(reader, sightings, data);
    EkVolume *volume = ek_volume_new(NULL, "fat32");
    EkFatBoot boot;
    if (!compose_header(volume, grid, place, &boot))
        return volume;
    volume->composed = volume->by_backup = volume->is_earlier = volume->is_confirmed = TRUE;
    volume->first_byte = place.first;
    volume->header_byte = volume->metadata_byte = data;
    volume->own_sector_size = EK_STEP;
    volume->bytes = boot.bytes;
    volume->length_is_least = TRUE;
    ek_volume_property_number(volume, "bytes per cluster", boot.cluster_bytes);
    ek_volume_reason(volume, (int)MIN(20 + 5 * grid->agreeing, 80u),
                     "%u folders that no volume there now knows of agree on the cluster layout",
                     grid->agreeing);
    ek_volume_reason(volume, 0,
                     "its FATs and its root folder are overwritten: each of its files is "
                     "taken to lie in one piece");
    return volume;
}

gboolean ek_fat_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                              void *data, GError **error)
{
    g_autoptr(GArray) seen = gather(reader, sightings);
    (void)error;
    for (guint i = 0; i < VOLUMES_MOST; i++) {
        Grid grid = best_grid(seen);
        if (grid.agreeing < LEAST_AGREEING)
            break;
        for (guint k = seen->len; k > 0; k--)
            if (is_on(&g_array_index(seen, Seen, k - 1), &grid))
                g_array_remove_index(seen, k - 1);
        sink(data, compose(reader, sightings, &grid));
    }
    return TRUE;
}
