/* SPDX-License-Identifier: MIT */
/* An NTFS volume that another one was made over: from file records that stand in no table that is
 * known. They say how large a cluster is; where the volume began is proved by what they point to:
 * blocks of folder indexes that name the folder as their own, and files that end, with zeros behind
 * them, where their records say. */
#include "volume/headers.h"
#include "volume/ntfs/table.h"

#include <string.h>

#define SAMPLE_MOST 512u     /* records that are read */
#define FOLDERS_MOST 64u     /* of them, whose indexes are looked at */
#define ENDS_MOST 64u        /* files whose ends are */
#define STARTS_MOST 64u      /* places where the volume may begin */
#define VOLUMES_MOST 8u      /* that are told apart */
#define OTHERS_MOST 64u      /* records of a run that are asked for another one */
#define RECORDS_LEAST 3u     /* fewer may be a file's content */
#define UNPROVED_LEAST 1000u /* fewer are a disk image's that was deleted */
#define UNPROVED_LEAST_DEEP 16u
#define DEEPER 8u /* times as much is looked at */
#define CLUSTER_LEAST 512u
#define CLUSTER_MOST (2u << 20)
#define ENDS_LEAST 4u
#define OWN_RECORDS 24u

/* A folder whose entries lie in blocks of their own. */
typedef struct {
    guint32 number;
    guint64 cluster;
} Folder;

/* A file, and where it ends. */
typedef struct {
    guint64 cluster; /* the last one */
    guint32 used;    /* bytes of it */
} End;

/* A volume that was found, and how large its clusters are. */
typedef struct {
    EkRange range;
    guint32 cluster;
} Found;

typedef struct {
    EkReader *reader;
    const EkSightings *sightings;
    GArray *runs;    /* EkRecordRun: those of no table, by place */
    GArray *found;   /* Found: before this one */
    GArray *folders; /* Folder */
    GArray *ends;    /* End */
    GArray *starts;  /* EkByte */
    guint votes[32]; /* for each size of a cluster, by its logarithm */
    guint32 cluster;
    guint32 record_bytes;
    EkByte reach; /* bytes from the start to the last one that a record speaks of */
    guint records;
    guint others; /* of a run: those that no volume has that was found */
    EkTimestamp used;
} Search;

/* How well a start explains what was sampled. */
typedef struct {
    EkByte start;
    guint indexes;
    guint ends;
    guint other_ends;
} Fit;

/* --- what belongs to no table ----------------------------------------------------------------- */

/* Where the first `bytes` of a table stand. */
static void add_fragments(const EkNtfsTable *table, EkByte bytes, GArray *ranges)
{
    guint32 size = table->boot.cluster_bytes;
    for (guint i = 0; i < table->fragments->len; i++) {
        const EkNtfsFragment *fragment = &g_array_index(table->fragments, EkNtfsFragment, i);
        EkRange range = {ek_ntfs_place(table, fragment->first), fragment->clusters * size};
        range.bytes = MIN(range.bytes, bytes - MIN(bytes, fragment->at * size));
        if (range.first != EK_UNPLACED && range.bytes > 0)
            g_array_append_val(ranges, range);
    }
}

/* Behind the last record that was written older ones may stand. */
void ek_ntfs_table_ranges(const EkNtfsTable *table, GArray *ranges)
{
    guint64 count = table->written > 0 ? table->written : table->records;
    EkRange mirror = {ek_ntfs_place(table, table->boot.mirror_cluster),
                      4 * (EkByte)table->boot.record_bytes};
    add_fragments(table, count * table->boot.record_bytes, ranges);
    if (mirror.first != EK_UNPLACED)
        g_array_append_val(ranges, mirror);
}

static gint by_place(gconstpointer a, gconstpointer b)
{
    const EkRecordRun *left = a;
    const EkRecordRun *right = b;
    return left->first_byte < right->first_byte ? -1 : left->first_byte > right->first_byte;
}

static gboolean is_in_any(const GArray *ranges, EkByte at)
{
    for (guint i = 0; i < ranges->len; i++)
        if (ek_range_holds(g_array_index(ranges, EkRange, i), at))
            return TRUE;
    return FALSE;
}

/* Runs that stand in no table of a known volume, and in no file: behind the records that a table
 * has written, or where all volumes call the place free. */
static GArray *unclaimed(EkReader *reader, const EkSightings *sightings)
{
    g_autoptr(GArray) runs = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
    g_autoptr(GArray) tables = g_array_new(FALSE, FALSE, sizeof(EkRange));
    g_autoptr(GArray) ranges = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < sightings->volumes->len; i++) {
        const EkVolume *volume = sightings->volumes->pdata[i];
        EkNtfsTable table;
        if (!g_str_equal(volume->filesystem, "ntfs") || !ek_ntfs_table_open(&table, reader, volume))
            continue;
        ek_ntfs_table_ranges(&table, ranges);
        add_fragments(&table, G_MAXUINT64, tables);
        ek_ntfs_table_close(&table);
    }
    for (guint i = 0; i < sightings->runs->len; i++) {
        EkRecordRun run = g_array_index(sightings->runs, EkRecordRun, i);
        if (run.stride >= EK_NTFS_RECORD_LEAST)
            g_array_append_val(runs, run);
    }
    GArray *left = ek_runs_outside(runs, ranges);
    for (guint i = left->len; i > 0; i--) {
        EkByte at = g_array_index(left, EkRecordRun, i - 1).first_byte;
        if (!is_in_any(tables, at) &&
            ek_usage_by_any(reader, sightings->volumes, at) == EK_USAGE_USED)
            g_array_remove_index(left, i - 1);
    }
    g_array_sort(left, by_place);
    return left;
}

/* --- what the records say --------------------------------------------------------------------- */

static guint deeper(const Search *search, guint most)
{
    return search->sightings->is_deep ? DEEPER * most : most;
}

static void sample_attribute(Search *search, const EkNtfsRecord *header,
                             const EkNtfsAttribute *attribute)
{
    EkNtfsRun runs[64];
    guint count = ek_ntfs_runs(attribute, runs, G_N_ELEMENTS(runs));
    guint64 clusters = attribute->last_cluster + 1;
    if (attribute->is_resident || attribute->first_cluster != 0 || count == 0)
        return;
    for (guint i = 0; i < count; i++)
        if (runs[i].first != EK_NTFS_HOLE && runs[i].first < G_MAXINT64 / CLUSTER_MOST)
            search->reach = MAX(search->reach, runs[i].first + runs[i].clusters);
    if (attribute->type == EK_NTFS_INDEX && search->folders->len < deeper(search, FOLDERS_MOST) &&
        runs[0].first != EK_NTFS_HOLE) {
        Folder folder = {header->number, runs[0].first};
        g_array_append_val(search->folders, folder);
    }
    /* All of it in one run, whose end is therefore known. */
    if (attribute->type == EK_NTFS_DATA && count == 1 && !attribute->is_packed &&
        !attribute->is_encrypted && attribute->valid == attribute->size && attribute->size > 0 &&
        runs[0].first != EK_NTFS_HOLE && runs[0].clusters == clusters && attribute->held > 0 &&
        search->ends->len < deeper(search, ENDS_MOST)) {
        guint64 size = attribute->held / clusters;
        End end = {runs[0].first + (attribute->size - 1) / MAX(size, 1),
                   (guint32)((attribute->size - 1) % MAX(size, 1) + 1)};
        if (end.used < size)
            g_array_append_val(search->ends, end);
    }
}

static void sample_record(Search *search, EkSpan record)
{
    EkNtfsRecord header;
    EkNtfsAttribute attribute;
    /* Each volume has the format's own files: they tell nothing of this one. */
    if (!ek_ntfs_record_read(record, &header) || header.number < OWN_RECORDS)
        return;
    guint32 size = ek_ntfs_clusters_of(record);
    if (size != 0 && search->cluster != 0 && size != search->cluster)
        return;
    search->records++;
    for (gsize at = 0; ek_ntfs_attribute_next(record, &at, &attribute);) {
        if (attribute.type == EK_NTFS_STANDARD)
            ek_timestamp_advance(&search->used,
                                 ek_timestamp_filetime(ek_span_le64(attribute.content, 16)));
        sample_attribute(search, &header, &attribute);
    }
}

/* Is it, as its clusters say, one of a volume that was found here before? */
static gboolean is_told(const Search *search, EkByte at, guint32 size)
{
    for (guint i = 0; i < search->found->len; i++) {
        const Found *found = &g_array_index(search->found, Found, i);
        if (found->cluster == size && ek_range_holds(found->range, at))
            return TRUE;
    }
    return FALSE;
}

/* What is done with a record that was read. */
typedef void (*Taking)(Search *search, EkByte at, EkSpan record);

static void take_vote(Search *search, EkByte at, EkSpan record)
{
    guint32 size = ek_ntfs_clusters_of(record);
    if (size >= CLUSTER_LEAST && size <= CLUSTER_MOST && !is_told(search, at, size))
        search->votes[g_bit_nth_msf(size, -1)]++;
}

static void take_sample(Search *search, EkByte at, EkSpan record)
{
    if (!is_told(search, at, ek_ntfs_clusters_of(record)))
        sample_record(search, record);
}

/* Reads some of the records, spread over all of them. */
static void sample(Search *search, const GArray *runs, guint most, Taking take)
{
    guint64 all = 0;
    for (guint i = 0; i < runs->len; i++)
        all += g_array_index(runs, EkRecordRun, i).count;
    guint64 step = MAX(all / deeper(search, most), 1);
    guint64 next = 0;
    guint64 seen = 0;
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        guint8 record[EK_NTFS_RECORD_MOST];
        for (; next < seen + run->count; next += step) {
            EkByte at = run->first_byte + (next - seen) * run->stride;
            if (run->stride <= sizeof record &&
                ek_presence_read(search->reader, at, record, (gsize)run->stride) == EK_PRESENT &&
                ek_ntfs_record_fix_up(record, (gsize)run->stride, EK_STEP))
                take(search, at, (EkSpan){record, (gsize)run->stride});
        }
        seen += run->count;
    }
}

/* How large a cluster is most of them tell, of those that no volume has that was found before. Then
 * what else they say is of one volume. */
static void sample_all(Search *search)
{
    guint best = 0;
    sample(search, search->runs, SAMPLE_MOST, take_vote);
    for (guint i = 1; i < G_N_ELEMENTS(search->votes); i++)
        if (search->votes[i] > search->votes[best])
            best = i;
    search->cluster = search->votes[best] > 0 ? 1u << best : 0;
    sample(search, search->runs, SAMPLE_MOST, take_sample);
    /* No further than there is anything, whatever the records say. */
    if (search->cluster != 0)
        search->reach =
            MIN(search->reach, ek_reader_bytes(search->reader) / search->cluster) * search->cluster;
}

/* --- where it began --------------------------------------------------------------------------- */

static void add_start(Search *search, EkByte start)
{
    for (guint i = 0; i < search->starts->len; i++)
        if (g_array_index(search->starts, EkByte, i) == start)
            return;
    if (search->starts->len < deeper(search, STARTS_MOST) &&
        start < ek_reader_bytes(search->reader))
        g_array_append_val(search->starts, start);
}

/* Where other volumes and partitions begin; and where it must, for a block of an index to stand
 * where its folder says. */
static void gather_starts(Search *search)
{
    const GArray *places = search->sightings->places;
    for (guint i = 0; i < search->sightings->volumes->len; i++)
        add_start(search, ((const EkVolume *)search->sightings->volumes->pdata[i])->first_byte);
    for (guint i = 0; i < places->len; i++)
        add_start(search, g_array_index(places, EkRange, i).first);
    for (guint i = 0; i < search->sightings->runs->len; i++) {
        const EkRecordRun *run = &g_array_index(search->sightings->runs, EkRecordRun, i);
        for (guint k = 0; run->stride == EK_NTFS_SEEN_INDEX && k < search->folders->len; k++) {
            const Folder *folder = &g_array_index(search->folders, Folder, k);
            EkByte inside = folder->cluster * search->cluster;
            if (folder->number == run->first_record && inside <= run->first_byte &&
                (run->first_byte - inside) % EK_STEP == 0)
                add_start(search, run->first_byte - inside);
        }
    }
}

/* What the volumes that are there now say of a place. */
static EkUsage usage_of(const Search *search, EkByte at)
{
    return ek_usage_by_any(search->reader, search->sightings->volumes, at);
}

static gboolean is_begun_at(const Search *search, EkByte start)
{
    for (guint i = 0; i < search->sightings->volumes->len; i++) {
        const EkVolume *volume = search->sightings->volumes->pdata[i];
        if (volume->first_byte == start && g_str_equal(volume->filesystem, "ntfs"))
            return TRUE;
    }
    return FALSE;
}

static gboolean has_index(const Search *search, EkByte start, const Folder *folder)
{
    guint8 block[EK_STEP];
    EkRecord seen;
    EkByte at = start + folder->cluster * search->cluster;
    EkUsage usage = usage_of(search, at);
    /* What is made the same way is alike: an index that may be that of a newer one proves nothing.
     */
    return usage != EK_USAGE_USED && (usage == EK_USAGE_FREE || !is_begun_at(search, start)) &&
           ek_presence_read(search->reader, at, block, sizeof block) == EK_PRESENT &&
           ek_ntfs_record_seen((EkSpan){block, sizeof block}, &seen) &&
           seen.bytes == EK_NTFS_SEEN_INDEX && seen.number == folder->number;
}

/* Does a file end here: something before, and zeros from its end to that of the sector? Ends on a
 * boundary of sectors tell nothing, nor does what a newer volume may use. */
static EkPresence look_at_end(const Search *search, EkByte start, const End *end)
{
    guint8 sector[EK_STEP];
    guint used = end->used % EK_STEP;
    EkByte at = start + end->cluster * search->cluster + end->used / EK_STEP * EK_STEP;
    if (used == 0 || used > EK_STEP - 16 || usage_of(search, at) != EK_USAGE_FREE ||
        ek_presence_read(search->reader, at, sector, sizeof sector) != EK_PRESENT)
        return EK_UNREAD;
    if (ek_bytes_are_zero(sector, sizeof sector))
        return EK_UNREAD;
    return sector[used - 1] != 0 && ek_bytes_are_zero(sector + used, sizeof sector - used)
               ? EK_PRESENT
               : EK_ABSENT;
}

static Fit fit_at(const Search *search, EkByte start)
{
    Fit fit = {.start = start};
    for (guint i = 0; i < search->folders->len; i++)
        fit.indexes += has_index(search, start, &g_array_index(search->folders, Folder, i)) ? 1 : 0;
    for (guint i = 0; i < search->ends->len; i++) {
        EkPresence end = look_at_end(search, start, &g_array_index(search->ends, End, i));
        fit.ends += end == EK_PRESENT;
        fit.other_ends += end == EK_ABSENT;
    }
    return fit;
}

/* Where it is expected anything that agrees is enough. */
static gboolean is_expected(const Search *search, const Fit *fit)
{
    return ek_is_expected_at(search->sightings, fit->start) && fit->indexes + fit->ends > 0 &&
           fit->ends >= fit->other_ends;
}

/* Is it proved? Two folders say so, or one, or else many files, that most files agree with. */
static gboolean is_proved(const Fit *fit)
{
    gboolean files_agree = fit->ends >= 4 * fit->other_ends;
    return (fit->indexes >= 2 && fit->ends >= fit->other_ends) ||
           (files_agree && fit->ends + 4 * fit->indexes >= ENDS_LEAST);
}

/* --- the volume ------------------------------------------------------------------------------- */

/* How long it is: what else begins there tells, where all that its records speak of is inside. */
static EkByte length_of(const Search *search, EkByte start, gboolean *is_least)
{
    const GArray *places = search->sightings->places;
    EkByte end = ek_reader_bytes(search->reader);
    *is_least = FALSE;
    for (guint i = 0; i < search->sightings->volumes->len; i++) {
        const EkVolume *volume = search->sightings->volumes->pdata[i];
        if (volume->first_byte == start && volume->bytes >= search->reach)
            return volume->bytes;
        if (volume->first_byte > start && volume->first_byte >= start + search->reach)
            end = MIN(end, volume->first_byte);
    }
    for (guint i = 0; i < places->len; i++) {
        EkRange place = g_array_index(places, EkRange, i);
        if (place.first == start && place.bytes >= search->reach)
            return place.bytes;
    }
    *is_least = TRUE;
    return end - start;
}

/* Where record 0 was, as the first run tells. */
static guint64 table_cluster(const Search *search, EkByte start)
{
    for (guint i = 0; i < search->runs->len; i++) {
        const EkRecordRun *run = &g_array_index(search->runs, EkRecordRun, i);
        EkByte before = run->first_record * run->stride;
        if (run->first_byte >= start + before &&
            (run->first_byte - before - start) % search->cluster == 0)
            return (run->first_byte - before - start) / search->cluster;
    }
    return 0;
}

static EkVolume *compose(const Search *search, const Fit *fit)
{
    const EkRecordRun *first = &g_array_index(search->runs, EkRecordRun, 0);
    EkVolume *volume = ek_volume_new(NULL, "ntfs");
    gboolean is_least = FALSE;
    EkByte bytes = length_of(search, fit->start, &is_least);
    guint64 cluster = table_cluster(search, fit->start);
    EkNtfsBoot boot = {
        .sector_size = EK_STEP,
        .cluster_bytes = search->cluster,
        .sectors = bytes / EK_STEP - 1,
        .mft_cluster = cluster,
        .mirror_cluster = cluster,
        .record_bytes = search->record_bytes,
        .index_bytes = 4096,
        .hidden_sectors = (guint32)MIN(fit->start / EK_STEP, G_MAXUINT32),
    };
    ek_ntfs_boot_compose(&boot, volume->header);
    volume->composed = volume->by_backup = volume->is_earlier = volume->is_confirmed = TRUE;
    volume->first_byte = fit->start;
    volume->header_byte = first->first_byte;
    volume->metadata_byte = first->first_byte;
    volume->own_sector_size = EK_STEP;
    volume->bytes = ek_ntfs_boot_bytes(&boot);
    volume->length_is_least = is_least;
    volume->used = search->used;
    ek_volume_property_number(volume, "bytes per cluster", boot.cluster_bytes);
    ek_volume_property_number(volume, "bytes per file record", boot.record_bytes);
    ek_volume_reason(volume, 10,
                     "file records starting at sector %" G_GUINT64_FORMAT
                     " belong to no volume that is there now",
                     first->first_byte / EK_STEP);
    if (fit->indexes > 0)
        ek_volume_reason(volume, (int)MIN(fit->indexes * 10, 40u),
                         "the entries of %u folders are where their records state", fit->indexes);
    if (fit->ends > 0)
        ek_volume_reason(volume, (int)MIN(fit->ends, 30u),
                         "%u of %u files end where their records state", fit->ends,
                         fit->ends + fit->other_ends);
    return volume;
}

/* Records that nothing else agrees with: what stands in them is certain, where the clusters were is
 * not. It is taken to begin where the volume or the partition does that holds them. */
static EkVolume *compose_unproved(const Search *search, guint64 records)
{
    const EkRecordRun *first = &g_array_index(search->runs, EkRecordRun, 0);
    const EkSightings *sightings = search->sightings;
    EkRange best = {0, ek_reader_bytes(search->reader)};
    for (guint i = 0; i < ek_sightings_ranges(sightings); i++) {
        EkRange range = ek_sightings_range(sightings, i);
        if (ek_range_holds(range, first->first_byte) && range.bytes < best.bytes &&
            range.bytes >= records * first->stride)
            best = range;
    }
    guint64 cluster = (first->first_byte - best.first) / EK_STEP;
    EkVolume *volume = ek_volume_new(NULL, "ntfs");
    EkNtfsBoot boot = {
        .sector_size = EK_STEP,
        .cluster_bytes = EK_STEP,
        .sectors = best.bytes / EK_STEP - 1,
        .mft_cluster = MAX(cluster, 1),
        .mirror_cluster = MAX(cluster, 1) + EK_NTFS_UNPROVED_MIRROR,
        .record_bytes = search->record_bytes,
        .index_bytes = 4096,
        .hidden_sectors = (guint32)MIN(best.first / EK_STEP, G_MAXUINT32),
    };
    ek_ntfs_boot_compose(&boot, volume->header);
    volume->composed = volume->by_backup = volume->is_earlier = volume->is_confirmed = TRUE;
    volume->first_byte = best.first;
    volume->header_byte = volume->metadata_byte = first->first_byte;
    volume->own_sector_size = EK_STEP;
    volume->bytes = best.bytes;
    volume->length_is_least = TRUE;
    volume->used = search->used;
    ek_volume_property_number(volume, "bytes per file record", boot.record_bytes);
    ek_volume_reason(volume, 20,
                     "%" G_GUINT64_FORMAT " file records from sector %" G_GUINT64_FORMAT
                     " on belong to no volume that is there now",
                     records, first->first_byte / EK_STEP);
    ek_volume_reason(volume, 0,
                     "nothing else agrees on where its clusters were: only files that are small "
                     "enough to stand in their records have content");
    return volume;
}

static void count_other(Search *search, EkByte at, EkSpan record)
{
    guint32 size = ek_ntfs_clusters_of(record);
    search->others += size != 0 && !is_told(search, at, size) ? 1 : 0;
}

/* What this volume explains is taken from the runs; what counts other clusters is another one's. */
static void take_away(Search *search, const EkVolume *volume)
{
    Found found = {ek_volume_range(volume), search->cluster};
    g_array_append_val(search->found, found);
    for (guint i = search->runs->len; i > 0; i--) {
        const EkRecordRun *run = &g_array_index(search->runs, EkRecordRun, i - 1);
        g_autoptr(GArray) one = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
        if (!ek_range_holds(found.range, run->first_byte))
            continue;
        search->others = 0;
        g_array_append_val(one, *run);
        sample(search, one, OTHERS_MOST, count_other);
        if (search->others == 0)
            g_array_remove_index(search->runs, i - 1);
    }
}

static void take_unproved(Search *search, EkVolumeSink sink, void *data)
{
    guint64 records = 0;
    for (guint i = 0; i < search->runs->len; i++) {
        const EkRecordRun *run = &g_array_index(search->runs, EkRecordRun, i);
        records += run->stride == search->record_bytes ? run->count : 0;
    }
    if (records >= (search->sightings->is_deep ? UNPROVED_LEAST_DEEP : UNPROVED_LEAST))
        sink(data, compose_unproved(search, records));
}

/* What is proved of those records that count clusters of one size. FALSE: there are none such. */
static gboolean find_one(Search *search, EkVolumeSink sink, void *data)
{
    Fit best = {0};
    sample_all(search);
    const EkExpected *expected = search->sightings->expected;
    if (expected != NULL && expected->unit != 0 && search->found->len == 0)
        search->cluster = expected->unit;
    if (search->cluster == 0)
        return FALSE;
    if (expected != NULL && expected->has_first)
        add_start(search, expected->first_byte);
    gather_starts(search);
    for (guint i = 0; i < search->starts->len; i++) {
        Fit fit = fit_at(search, g_array_index(search->starts, EkByte, i));
        if (fit.indexes * 4 + fit.ends > best.indexes * 4 + best.ends)
            best = fit;
    }
    gboolean are_enough = search->records >= (expected != NULL ? 1 : RECORDS_LEAST);
    if (!are_enough || (!is_proved(&best) && !is_expected(search, &best))) {
        Found none = {{0, ek_reader_bytes(search->reader)}, search->cluster};
        g_array_append_val(search->found, none);
        return TRUE;
    }
    EkVolume *volume = compose(search, &best);
    ek_volume_expected(volume, search->sightings);
    take_away(search, volume);
    sink(data, volume);
    return TRUE;
}

gboolean ek_ntfs_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                               void *data, GError **error)
{
    g_autoptr(GArray) runs = unclaimed(reader, sightings);
    g_autoptr(GArray) known = g_array_new(FALSE, FALSE, sizeof(Found));
    gboolean found = TRUE;
    (void)error;
    for (guint i = 0; i < VOLUMES_MOST && found && runs->len > 0; i++) {
        g_autoptr(GArray) folders = g_array_new(FALSE, FALSE, sizeof(Folder));
        g_autoptr(GArray) ends = g_array_new(FALSE, FALSE, sizeof(End));
        g_autoptr(GArray) starts = g_array_new(FALSE, FALSE, sizeof(EkByte));
        Search search = {.reader = reader,
                         .sightings = sightings,
                         .runs = runs,
                         .found = known,
                         .folders = folders,
                         .ends = ends,
                         .starts = starts,
                         .record_bytes = (guint32)g_array_index(runs, EkRecordRun, 0).stride};
        found = find_one(&search, sink, data);
        if (!found)
            take_unproved(&search, sink, data);
    }
    return TRUE;
}
