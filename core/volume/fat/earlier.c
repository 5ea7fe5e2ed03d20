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
#define LEAST_EXPECTED 2u
#define VOLUMES_MOST 8u
#define CLUSTER_MOST 131072u
#define RESERVED_MOST 65535u
#define LINK_BITS 0x0fffffffu
#define LINK_END 0x0ffffff8u
#define FAT_MORE 64u    /* sectors that makers add to a FAT, at most */
#define CHAINS_MOST 64u /* folders that are looked up in it */

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
    EkByte last;    /* place of the last of those */
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
    *grid = (Grid){one->place - before, (guint32)bytes, 0, 0};
    return TRUE;
}

/* The grid that most folders stand on. */
static Grid best_grid(const EkSightings *sightings, const GArray *seen)
{
    g_autoptr(GArray) grids = g_array_new(FALSE, FALSE, sizeof(Grid));
    Grid best = {0};
    for (guint i = 0; i < seen->len; i++)
        for (guint k = i + 1; k < MIN(seen->len, i + NEIGHBOURS); k++) {
            Grid grid;
            guint at = 0;
            if (!grid_of(&g_array_index(seen, Seen, i), &g_array_index(seen, Seen, k), &grid) ||
                !ek_is_expected_unit(sightings, grid.bytes))
                continue;
            while (at < grids->len && (g_array_index(grids, Grid, at).zero != grid.zero ||
                                       g_array_index(grids, Grid, at).bytes != grid.bytes))
                at++;
            if (at == grids->len && grids->len < GRIDS_MOST)
                g_array_append_val(grids, grid);
        }
    for (guint i = 0; i < grids->len; i++) {
        Grid *grid = &g_array_index(grids, Grid, i);
        for (guint k = 0; k < seen->len; k++) {
            const Seen *folder = &g_array_index(seen, Seen, k);
            if (!is_on(folder, grid))
                continue;
            grid->agreeing++;
            grid->last = MAX(grid->last, folder->place);
        }
        if (grid->agreeing > best.agreeing)
            best = *grid;
    }
    return best;
}

/* Where it ends at the latest: another begins behind all that was seen of it. */
static EkByte limit_of(EkReader *reader, const EkSightings *sightings, const Grid *grid)
{
    EkByte limit = ek_reader_bytes(reader);
    for (guint i = 0; i < sightings->volumes->len; i++) {
        const EkVolume *volume = sightings->volumes->pdata[i];
        if (volume->first_byte > grid->last)
            limit = MIN(limit, volume->first_byte);
    }
    return limit;
}

/* Where the volume began: where another begins that covers its clusters, or a partition; else so
 * far before them as two FATs need. */
static EkRange place_of(EkReader *reader, const EkSightings *sightings, const Grid *grid)
{
    EkByte data = grid->zero + 2 * (EkByte)grid->bytes;
    EkByte limit = limit_of(reader, sightings, grid);
    guint64 clusters = (limit - MIN(data, limit)) / grid->bytes;
    EkByte before = (32 + 2 * ek_divide_up((clusters + 2) * 4, EK_STEP)) * EK_STEP;
    EkRange best = {data - MIN(data, before), 0};
    const EkExpected *expected = sightings->expected;
    if (expected != NULL && expected->has_first && expected->first_byte + 2 * EK_STEP < data)
        return (EkRange){expected->first_byte, ek_reader_bytes(reader) - expected->first_byte};
    best.bytes = limit - best.first;
    gboolean is_known = FALSE;
    for (guint i = 0; i < ek_sightings_ranges(sightings); i++) {
        EkRange range = ek_sightings_range(sightings, i);
        if (range.first + 2 * EK_STEP < data && ek_range_end(range) > data &&
            (!is_known || range.first > best.first)) {
            best = range;
            is_known = TRUE;
        }
    }
    return best;
}

/* Does a folder end in this cluster, or go on in another one with entries? */
static gboolean is_link_of_folder(EkReader *reader, const Grid *grid, guint32 link)
{
    guint8 entry[EK_FAT_ENTRY_BYTES];
    EkByte next = grid->zero + (EkByte)(link & LINK_BITS) * grid->bytes;
    if ((link & LINK_END) == LINK_END)
        return TRUE;
    return (link & LINK_BITS) >= 2 && next + sizeof entry <= ek_reader_bytes(reader) &&
           ek_presence_read(reader, next, entry, sizeof entry) == EK_PRESENT &&
           ek_fat_is_plausible((EkSpan){entry, sizeof entry});
}

/* Of how many of its folders a FAT that begins so many sectors before its clusters has the chain,
 * where no newer volume uses that; less those of which it has none. */
static gint count_chains(EkReader *reader, const EkSightings *sightings, const GArray *seen,
                         const Grid *grid, guint64 fat)
{
    EkByte data = grid->zero + 2 * (EkByte)grid->bytes;
    gint chains = 0;
    for (guint i = 0; i < MIN(seen->len, CHAINS_MOST); i++) {
        const Seen *folder = &g_array_index(seen, Seen, i);
        guint8 entry[4];
        EkByte at = data - fat * EK_STEP + 4 * (EkByte)folder->cluster;
        if (!is_on(folder, grid) || at + sizeof entry > data ||
            ek_usage_by_any(reader, sightings->volumes, at) == EK_USAGE_USED ||
            ek_presence_read(reader, at, entry, sizeof entry) != EK_PRESENT)
            continue;
        guint32 link = ek_span_le32((EkSpan){entry, sizeof entry}, 0);
        chains += is_link_of_folder(reader, grid, link) ? 1 : -1;
    }
    return chains;
}

/* How long a FAT was, in sectors, as what is left of the second one tells; `least`, which it has
 * room for all clusters with, where nothing does. */
static guint64 find_fat(EkReader *reader, const EkSightings *sightings, const GArray *seen,
                        const Grid *grid, guint64 least, gint *chains)
{
    guint64 best = least;
    *chains = 0;
    for (guint64 fat = least; fat <= least + FAT_MORE; fat++) {
        gint own = fat * EK_STEP < grid->zero + 2 * (EkByte)grid->bytes
                       ? count_chains(reader, sightings, seen, grid, fat)
                       : 0;
        if (own > *chains) {
            *chains = own;
            best = fat;
        }
    }
    return best;
}

static guint64 least_fat(const Grid *grid, EkRange place)
{
    EkByte data = grid->zero + 2 * (EkByte)grid->bytes;
    guint64 clusters = (ek_range_end(place) - data) / grid->bytes;
    return ek_divide_up((clusters + 2) * 4, EK_STEP);
}

/* A boot sector whose clusters begin where they must. FALSE: none fits. */
static gboolean compose_header(EkVolume *volume, const Grid *grid, EkRange place, guint64 fat,
                               EkFatBoot *boot)
{
    EkByte data = grid->zero + 2 * (EkByte)grid->bytes;
    guint64 before = (data - place.first) / EK_STEP;
    guint64 clusters = (ek_range_end(place) - data) / grid->bytes;
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

static EkVolume *compose(EkReader *reader, const EkSightings *sightings, const GArray *seen,
                         const Grid *grid)
{
    EkByte data = grid->zero + 2 * (EkByte)grid->bytes;
    EkRange place = place_of(reader, sightings, grid);
    EkVolume *volume = ek_volume_new(NULL, "fat32");
    EkFatBoot boot;
    gint chains = 0;
    guint64 fat = find_fat(reader, sightings, seen, grid, least_fat(grid, place), &chains);
    if (!compose_header(volume, grid, place, fat, &boot))
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
    if (chains > 0)
        ek_volume_reason(volume, (int)MIN(chains, 10),
                         "its second FAT survives in part at sector %" G_GUINT64_FORMAT
                         ", with the chains of %d of these folders",
                         data / EK_STEP - fat, chains);
    ek_volume_reason(volume, 0,
                     chains > 0
                         ? "its first FAT and its root folder are overwritten: files of which "
                           "the chain is gone are taken to lie in one piece"
                         : "its FATs and its root folder are overwritten: each of its files is "
                           "taken to lie in one piece");
    ek_volume_expected(volume, sightings);
    return volume;
}

gboolean ek_fat_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                              void *data, GError **error)
{
    g_autoptr(GArray) seen = gather(reader, sightings);
    (void)error;
    for (guint i = 0; i < VOLUMES_MOST; i++) {
        Grid grid = best_grid(sightings, seen);
        if (grid.agreeing <
            (sightings->expected != NULL || sightings->is_deep ? LEAST_EXPECTED : LEAST_AGREEING))
            break;
        sink(data, compose(reader, sightings, seen, &grid));
        for (guint k = seen->len; k > 0; k--)
            if (is_on(&g_array_index(seen, Seen, k - 1), &grid))
                g_array_remove_index(seen, k - 1);
    }
    return TRUE;
}
