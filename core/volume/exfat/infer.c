/* SPDX-License-Identifier: MIT */
/* An exFAT volume without any boot sector. Its root folder begins with entries that say in which
 * clusters the allocation bitmap and the up-case table are, how long they are, and the table's sum.
 * Where such a table stands the size of a cluster follows, and with it where all clusters are. The
 * bitmap and the chains of the FAT must agree. Where the volume begins stands in what is left of
 * its boot regions, in a partition table, or nowhere; then the usual place is taken, and said. */
#include "volume/exfat/set.h"
#include "volume/formats.h"

#include "base/text.h"

#include <string.h>

#define VOLUMES_MOST 16u
#define CLUSTER_MOST (32u << 20)
#define LETTERS 128u     /* of an up-case table: those that are known */
#define TABLES_MOST 64u  /* of those that are tried */
#define CHAIN_MOST 4096u /* links of a chain that are followed */
#define END_OF_CHAIN 0xfffffff8u
#define MIB ((EkByte)1 << 20)
#define END_SLACK MIB /* a partition may be so much longer than its clusters, and a cluster */
#define BEFORE_FAT_MOST (16 * MIB) /* a volume begins so far before its FAT, at most */

/* Points of what agrees with a size of clusters. */
#define UPCASE_POINTS 3u
#define BITMAP_POINTS 2u
#define FAT_POINTS 3u
#define POINTS_LEAST 5u

typedef EkExfatRoot Root;

/* A size of clusters and the place of cluster 2, and what agrees with them. */
typedef struct {
    EkByte heap;
    guint32 cluster_bytes;
    guint32 root_cluster;
    EkByte fat; /* EK_UNPLACED: none that fits */
    guint points;
} Fit;

/* Up to a letter that has a capital a table maps each character to itself. */
static gboolean is_upcase_table(EkSpan span)
{
    for (guint i = 0; i < LETTERS; i++) {
        guint upper = i >= 'a' && i <= 'z' ? i - 'a' + 'A' : i;
        if (ek_span_le16(span, (gsize)i * 2) != upper)
            return FALSE;
    }
    return TRUE;
}

gboolean ek_exfat_record_seen(EkSpan span, EkRecord *record)
{
    Root root;
    EkExfatSet set;
    *record = (EkRecord){0, 0};
    if (ek_span_le64(span, 0) == 0xfffffffffffffff8)
        record->bytes = EK_EXFAT_SEEN_FAT;
    else if (ek_span_le64(span, 0) == 0x0003000200010000 && is_upcase_table(span))
        record->bytes = EK_EXFAT_SEEN_UPCASE;
    else if (ek_exfat_root_read(span, 0, &root))
        record->bytes = EK_EXFAT_SEEN_ROOT;
    else if (ek_exfat_set_read(span, &set) && set.is_sound)
        *record = (EkRecord){1, EK_EXFAT_SEEN_FOLDER};
    return record->bytes != 0;
}

/* --- which size of clusters fits ------------------------------------------------------------ */

static guint64 clusters_for(EkByte bytes, const Fit *fit)
{
    return ek_divide_up(bytes, fit->cluster_bytes);
}

static EkByte place_of(const Fit *fit, guint32 cluster)
{
    return fit->heap + (EkByte)(cluster - 2) * fit->cluster_bytes;
}

static EkPresence look_at_upcase(EkReader *reader, const Root *root, EkByte at)
{
    g_autofree guint8 *table = g_malloc(root->upcase_bytes);
    EkPresence part = ek_presence_read(reader, at, table, root->upcase_bytes);
    gboolean is_it = part == EK_PRESENT &&
                     ek_exfat_sum((EkSpan){table, root->upcase_bytes}, FALSE) == root->upcase_sum;
    return part == EK_PRESENT && !is_it ? EK_ABSENT : part;
}

/* Are so many clusters from here on in use? */
static EkPresence look_at_bits(EkReader *reader, EkByte bitmap, guint32 cluster, guint64 count)
{
    for (guint64 i = 0; i < MIN(count, CHAIN_MOST); i++) {
        EkUsage use = ek_usage_bit(reader, bitmap, cluster - 2 + i);
        if (use != EK_USAGE_USED)
            return use == EK_USAGE_FREE ? EK_ABSENT : EK_UNREAD;
    }
    return EK_PRESENT;
}

/* Does the chain that begins with a cluster have just so many links? `count` 0: any number. */
static EkPresence look_at_chain(EkReader *reader, EkByte fat, guint64 clusters, guint32 cluster,
                                guint64 count)
{
    for (guint64 i = 1; i <= CHAIN_MOST; i++) {
        guint8 link[4];
        EkPresence part = ek_presence_read(reader, fat + (EkByte)cluster * 4, link, sizeof link);
        if (part != EK_PRESENT)
            return part;
        cluster = ek_span_le32((EkSpan){link, sizeof link}, 0);
        if (cluster >= END_OF_CHAIN)
            return count == 0 || i == count ? EK_PRESENT : EK_ABSENT;
        if (cluster < 2 || cluster - 2 >= clusters || (count != 0 && i >= count))
            return EK_ABSENT;
    }
    return count > CHAIN_MOST ? EK_PRESENT : EK_ABSENT;
}

/* The nearest FAT before the clusters whose chains are as the root folder says. */
static void find_fat(EkReader *reader, const GArray *runs, const Root *root, Fit *fit)
{
    guint64 clusters = root->bitmap_bytes * 8;
    fit->fat = EK_UNPLACED;
    for (guint i = runs->len; i > 0; i--) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i - 1);
        EkByte least = (clusters > 8 ? clusters - 8 : 0) * 4;
        if (run->stride != EK_EXFAT_SEEN_FAT || run->first_byte >= fit->heap ||
            fit->heap - run->first_byte < least || run->first_byte % EK_STEP != 0)
            continue;
        EkPresence bitmap = look_at_chain(reader, run->first_byte, clusters, root->bitmap_cluster,
                                          clusters_for(root->bitmap_bytes, fit));
        EkPresence upcase = look_at_chain(reader, run->first_byte, clusters, root->upcase_cluster,
                                          clusters_for(root->upcase_bytes, fit));
        EkPresence folder = look_at_chain(reader, run->first_byte, clusters, fit->root_cluster, 0);
        if (bitmap == EK_ABSENT || upcase == EK_ABSENT || folder == EK_ABSENT)
            continue;
        fit->fat = run->first_byte;
        fit->points += bitmap == EK_PRESENT && folder == EK_PRESENT ? FAT_POINTS : 0;
        return;
    }
}

static gboolean are_apart(guint32 a, guint64 a_count, guint32 b, guint64 b_count)
{
    return a + a_count <= b || b + b_count <= a;
}

/* FALSE when something that was read contradicts. */
static gboolean weigh_fit(EkReader *reader, const GArray *runs, const Root *root, Fit *fit)
{
    guint64 bitmap = clusters_for(root->bitmap_bytes, fit);
    guint64 upcase = clusters_for(root->upcase_bytes, fit);
    guint64 at = (root->at - fit->heap) / fit->cluster_bytes;
    if (at >= root->bitmap_bytes * 8 || root->upcase_cluster - 2 >= root->bitmap_bytes * 8)
        return FALSE;
    fit->root_cluster = (guint32)at + 2;
    if (!are_apart(fit->root_cluster, 1, root->bitmap_cluster, bitmap) ||
        !are_apart(fit->root_cluster, 1, root->upcase_cluster, upcase) ||
        !are_apart(root->bitmap_cluster, bitmap, root->upcase_cluster, upcase))
        return FALSE;
    EkByte bits = place_of(fit, root->bitmap_cluster);
    EkPresence table = look_at_upcase(reader, root, place_of(fit, root->upcase_cluster));
    EkPresence parts[] = {
        look_at_bits(reader, bits, root->bitmap_cluster, bitmap),
        look_at_bits(reader, bits, root->upcase_cluster, upcase),
        look_at_bits(reader, bits, fit->root_cluster, 1),
    };
    if (table == EK_ABSENT)
        return FALSE;
    fit->points = table == EK_PRESENT ? UPCASE_POINTS : 0;
    for (gsize i = 0; i < G_N_ELEMENTS(parts); i++)
        if (parts[i] == EK_ABSENT)
            return FALSE;
    if (parts[0] == EK_PRESENT && parts[2] == EK_PRESENT)
        fit->points += BITMAP_POINTS;
    find_fat(reader, runs, root, fit);
    return TRUE;
}

/* Weighs clusters of that size with cluster 2 at `heap`, and keeps what fits best. */
static void try_fit(EkReader *reader, const GArray *runs, const Root *root, EkByte heap,
                    guint32 size, Fit *best)
{
    Fit fit = {.heap = heap, .cluster_bytes = size};
    if (root->at >= heap && (root->at - heap) % size == 0 && heap % EK_STEP == 0 &&
        weigh_fit(reader, runs, root, &fit) && fit.points > best->points)
        *best = fit;
}

static Fit find_fit(EkReader *reader, const GArray *runs, const Root *root)
{
    Fit best = {.fat = EK_UNPLACED};
    for (guint32 size = EK_STEP; size <= CLUSTER_MOST; size *= 2) {
        EkByte before = (EkByte)(root->upcase_cluster - 2) * size;
        guint tried = 0;
        for (guint i = 0; i < runs->len && tried < TABLES_MOST; i++) {
            const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
            if (run->stride != EK_EXFAT_SEEN_UPCASE || run->first_byte < before)
                continue;
            try_fit(reader, runs, root, run->first_byte - before, size, &best);
            tried++;
        }
        /* Where that table was not read: formatting puts the root folder right behind it. */
        EkByte behind = before + ek_divide_up(root->upcase_bytes, size) * size;
        if (root->at >= behind)
            try_fit(reader, runs, root, root->at - behind, size, &best);
    }
    return best;
}

/* --- where it begins, and ends -------------------------------------------------------------- */

typedef struct {
    EkByte first;
    EkByte end; /* 0: not told */
    guint32 sector_size;
    const char *why;
} Place;

/* The last sector of a boot region holds one sum over and over. */
static gboolean is_sum_sector(EkSpan span)
{
    guint32 sum = ek_span_le32(span, 0);
    return span.length == EK_STEP && sum != 0 && sum != G_MAXUINT32 &&
           memcmp(span.data, span.data + 4, span.length - 4) == 0;
}

/* By the sectors of sums of both boot regions, or of one of them. */
static gboolean place_by_regions(EkReader *reader, EkByte fat, Place *place)
{
    EkByte from = fat - MIN(fat, BEFORE_FAT_MOST);
    gsize length = (gsize)(fat - from);
    g_autofree guint8 *before = g_malloc0(length);
    EkSpan span = {before, length};
    if (span.length == 0 || !ek_reader_read(reader, from, before, span.length, NULL, NULL))
        return FALSE;
    /* From the last one on: what is farther away is less likely its own. */
    for (gsize at = span.length / EK_STEP * EK_STEP; at >= EK_STEP; at -= EK_STEP) {
        gsize here = at - EK_STEP;
        if (!is_sum_sector(ek_span_part(span, here, EK_STEP)))
            continue;
        guint32 size =
            here >= EK_STEP * 7 && memcmp(before + here - EK_STEP * 7, before + here, EK_STEP) == 0
                ? EK_STEP * 8
                : EK_STEP;
        gsize last = here / size * size;
        gsize region = (gsize)EK_EXFAT_REGION_SECTORS * size;
        gboolean both =
            last >= region && memcmp(before + last - region, before + last, EK_STEP) == 0;
        EkByte first = from + last + size - MIN(from + last + size, region);
        EkByte earlier = first - MIN(first, region);
        place->sector_size = size;
        place->first = both || !ek_is_usual_start(first) ? earlier : first;
        place->why = both ? "known from the checksums of both boot regions"
                          : "known from the checksum of one boot region";
        return place->first < fat && fat - place->first >= 2 * region;
    }
    return FALSE;
}

/* Its bitmap tells to eight clusters where it ends: a partition that ends elsewhere is another's.
 */
static gboolean place_by_tables(const GArray *places, const Root *root, const Fit *fit,
                                Place *place)
{
    EkByte least = fit->heap + ((root->bitmap_bytes - 1) * 8 + 1) * fit->cluster_bytes;
    EkByte most = fit->heap + root->bitmap_bytes * 8 * fit->cluster_bytes;
    most += fit->cluster_bytes + END_SLACK;
    for (guint i = 0; i < places->len; i++) {
        EkRange range = g_array_index(places, EkRange, i);
        if (range.first >= fit->fat || fit->fat - range.first > BEFORE_FAT_MOST ||
            ek_range_end(range) < least || ek_range_end(range) > most)
            continue;
        place->first = range.first;
        place->end = ek_range_end(range);
        place->why = "known from a partition table";
        return TRUE;
    }
    return FALSE;
}

static Place find_place(EkReader *reader, const EkSightings *sightings, const Root *root,
                        const Fit *fit)
{
    static const EkByte usual[] = {MIB, 64u << 10, 32u << 10, 4 * MIB};
    Place place = {.sector_size = EK_STEP};
    gboolean by_regions = place_by_regions(reader, fit->fat, &place);
    if (place_by_tables(sightings->places, root, fit, &place) || by_regions)
        return place;
    place = (Place){.sector_size = sightings->sector_size,
                    .first = fit->fat - MIN(fit->fat, MIB),
                    .why = "assumed to be the usual distance before its FAT"};
    for (gsize i = 0; i < G_N_ELEMENTS(usual); i++)
        if (usual[i] <= fit->fat && ek_is_usual_start(fit->fat - usual[i])) {
            place.first = fit->fat - usual[i];
            place.why = "assumed: partitions usually start there";
            break;
        }
    return place;
}

/* The bitmap has a bit a cluster and up to seven too many. */
static guint32 count_clusters(EkReader *reader, const Root *root, const Fit *fit,
                              const Place *place, gboolean *is_least)
{
    guint64 most = MIN(root->bitmap_bytes * 8, 0xfffffff5);
    guint64 least = (root->bitmap_bytes - 1) * 8 + 1;
    EkByte limit = MAX(place->end != 0 ? place->end : ek_reader_bytes(reader), fit->heap);
    guint64 room = (limit - fit->heap) / fit->cluster_bytes;
    *is_least = place->end == 0;
    if (place->end != 0 && room >= least && room <= most)
        return (guint32)room;
    guint64 count = most;
    EkByte bits = place_of(fit, root->bitmap_cluster);
    while (count > least &&
           (count > room || ek_usage_bit(reader, bits, count - 1) != EK_USAGE_USED))
        count--;
    *is_least = TRUE;
    return (guint32)count;
}

void ek_exfat_boot_compose(const EkExfatBoot *boot, guint8 *sector)
{
    memset(sector, 0, EK_HEADER_BYTES);
    memcpy(sector,
           "\xeb\x76\x90"
           "EXFAT   ",
           11);
    ek_put_le64(sector + 64, boot->partition_sector);
    ek_put_le64(sector + 72, boot->sectors);
    ek_put_le32(sector + 80, boot->fat_sector);
    ek_put_le32(sector + 84, boot->fat_sectors);
    ek_put_le32(sector + 88, boot->heap_sector);
    ek_put_le32(sector + 92, boot->clusters);
    ek_put_le32(sector + 96, boot->root_cluster);
    ek_put_le16(sector + 104, 0x0100);
    sector[108] = (guint8)(g_bit_storage(boot->sector_size) - 1);
    sector[109] = (guint8)(g_bit_storage(boot->cluster_bytes / boot->sector_size) - 1);
    sector[110] = boot->fats;
    sector[111] = 0x80;
    sector[112] = 0xff;
    memset(sector + 120, 0xf4, 390);
    ek_put_le16(sector + 510, 0xaa55);
}

static EkVolume *compose(EkReader *reader, const EkSightings *sightings, const Root *root,
                         const Fit *fit)
{
    EkVolume *volume = ek_volume_new(NULL, "exfat");
    Place place = find_place(reader, sightings, root, fit);
    guint32 size = fit->cluster_bytes >= place.sector_size ? place.sector_size : EK_STEP;
    guint32 clusters = count_clusters(reader, root, fit, &place, &volume->length_is_least);
    EkByte heap = fit->heap - place.first;
    EkByte end = place.end != 0 && !volume->length_is_least
                     ? place.end
                     : fit->heap + (EkByte)clusters * fit->cluster_bytes;
    EkExfatBoot boot = {
        .sector_size = size,
        .cluster_bytes = fit->cluster_bytes,
        .sectors = (end - place.first) / size,
        .fat_sector = (guint32)((fit->fat - place.first) / size),
        .fat_sectors = (guint32)ek_divide_up(((EkByte)clusters + 2) * 4, size),
        .heap_sector = (guint32)MIN(heap / size, G_MAXUINT32),
        .clusters = clusters,
        .root_cluster = fit->root_cluster,
        .partition_sector = place.first / size,
        .fats = 1,
    };
    ek_exfat_boot_compose(&boot, volume->header);
    if (heap % size != 0 || !ek_exfat_boot_read(ek_volume_header(volume), &boot))
        return volume;
    volume->composed = volume->by_backup = TRUE;
    volume->first_byte = place.first;
    volume->header_byte = root->at;
    volume->own_sector_size = size;
    volume->bytes = boot.sectors * size;
    ek_volume_reason(volume, fit->points > POINTS_LEAST ? 20 : 10,
                     "no boot sector found; root folder (sector %" G_GUINT64_FORMAT
                     "), allocation bitmap, up-case table and FAT agree on the cluster layout",
                     root->at / EK_STEP);
    ek_volume_reason(volume, 0, "its first sector is %s", place.why);
    ek_exfat_weigh(reader, volume, &boot);
    if (volume->length_is_least)
        ek_volume_reason(volume, 0,
                         "its length is known to within eight clusters: %" G_GUINT64_FORMAT
                         " to %" G_GUINT64_FORMAT " of them",
                         (root->bitmap_bytes - 1) * 8 + 1, root->bitmap_bytes * 8);
    ek_volume_reason(volume, 0, "serial number lost (stored only in the boot sector)");
    return volume;
}

gboolean ek_exfat_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                        void *data, GError **error)
{
    guint roots = 0;
    (void)error;
    for (guint i = 0; i < sightings->runs->len && roots < VOLUMES_MOST; i++) {
        const EkRecordRun *run = &g_array_index(sightings->runs, EkRecordRun, i);
        guint8 start[EK_STEP];
        Root root;
        if (run->stride != EK_EXFAT_SEEN_ROOT ||
            ek_presence_read(reader, run->first_byte, start, sizeof start) != EK_PRESENT ||
            !ek_exfat_root_read((EkSpan){start, sizeof start}, run->first_byte, &root))
            continue;
        roots++;
        Fit fit = find_fit(reader, sightings->runs, &root);
        if (fit.points >= POINTS_LEAST && fit.fat != EK_UNPLACED)
            sink(data, compose(reader, sightings, &root, &fit));
    }
    return TRUE;
}
