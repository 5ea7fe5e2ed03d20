/* SPDX-License-Identifier: MIT */
/* An NTFS volume without any boot sector: from its file records. Record 0 stands at the beginning
 * of the file table and of its mirror, and says in which clusters both lie; the other system files
 * say where they begin. The size of a cluster and the place of the volume are those for which most
 * of them stand where they should. */
#include "volume/formats.h"
#include "volume/headers.h"
#include "volume/ntfs/record.h"

#define CLUSTER_LEAST 512u
#define CLUSTER_MOST (2u << 20)
#define SYSTEM_RECORDS 11u
#define INDEX_HEADER 24u /* in a block */
#define INDEX_END 2u     /* flag of an entry: the last one, without a name */
#define LEAST_AGREEING 2u
#define STARTS_MOST 1024u
#define UNKNOWN_LENGTH_POINTS (-30)

enum { RECORD_MFT, RECORD_MIRROR, RECORD_LOG, RECORD_ROOT = 5, RECORD_BAD = 8, RECORD_UPCASE = 10 };

/* A block of a folder's index, by the folder that its first entry says it is in. */
static gboolean is_index(EkSpan span, EkRecord *record)
{
    gsize entry = INDEX_HEADER + (gsize)ek_span_le32(span, INDEX_HEADER);
    EkNtfsNamed named;
    if (!ek_span_equals(span, 0, "INDX", 4) || entry > EK_STEP / 2 ||
        (ek_span_le16(span, entry + 12) & INDEX_END) != 0 || ek_span_le64(span, 16) != 0 ||
        !ek_ntfs_name_read(ek_span_part(span, entry + 16, ek_span_le16(span, entry + 10)), &named))
        return FALSE;
    *record = (EkRecord){named.parent & EK_NTFS_NUMBER, EK_NTFS_SEEN_INDEX};
    return TRUE;
}

gboolean ek_ntfs_record_seen(EkSpan span, EkRecord *record)
{
    EkNtfsRecord header;
    if (is_index(span, record))
        return TRUE;
    /* Self-numbered ones only: the sequence stands behind the number. */
    if (!ek_ntfs_record_read(span, &header) || header.sequence < 0x30 || header.sequence > 0x100 ||
        !ek_is_power_of_two(header.bytes) || header.bytes < EK_NTFS_RECORD_LEAST ||
        header.bytes > EK_NTFS_RECORD_MOST || header.steps * EK_STEP != header.bytes ||
        header.used > header.bytes)
        return FALSE;
    *record = (EkRecord){header.number, (guint32)header.bytes};
    /* Reserved ones that were never used have no number yet; the first one is always in use. */
    return record->number != 0 || header.is_in_use;
}

/* The system files of one volume, as far as they were read from one copy of them. */
typedef struct {
    EkByte at; /* of record 0 */
    guint32 record_bytes;
    guint8 *records;
    gboolean valid[SYSTEM_RECORDS];
    guint64 table; /* clusters at which they begin; EK_NTFS_HOLE: not known */
    guint64 mirror;
    guint64 log;
    guint64 upcase;
    guint64 root;
    guint64 bytes;   /* of all clusters together; 0: not known */
    guint32 cluster; /* that the records themselves speak of; 0: not known */
    guint32 index_bytes;
} System;

static EkSpan record_of(const System *system, guint number)
{
    return system->valid[number] ? (EkSpan){system->records + number * (gsize)system->record_bytes,
                                            system->record_bytes}
                                 : (EkSpan){NULL, 0};
}

static guint64 begin_of(const System *system, guint number, EkNtfsType type, const char *name)
{
    EkNtfsRun run;
    EkNtfsAttribute attribute = ek_ntfs_attribute_named(record_of(system, number), type, name);
    return ek_ntfs_runs(&attribute, &run, 1) == 1 ? run.first : EK_NTFS_HOLE;
}

static void system_clear(System *system)
{
    g_clear_pointer(&system->records, g_free);
}

/* Reads what follows record 0; FALSE when that is none. */
static gboolean system_read(EkReader *reader, EkByte at, guint32 record_bytes, System *system)
{
    gsize length = (gsize)record_bytes * SYSTEM_RECORDS;
    *system = (System){.at = at, .record_bytes = record_bytes};
    EkByte limit = ek_reader_bytes(reader);
    if (at >= limit)
        return FALSE;
    system->records = g_malloc0(length);
    if (!ek_reader_read(reader, at, system->records, (gsize)MIN(length, limit - at), NULL, NULL))
        return FALSE;
    for (guint i = 0; i < SYSTEM_RECORDS; i++) {
        guint8 *record = system->records + i * (gsize)record_bytes;
        EkNtfsRecord header;
        system->valid[i] = ek_ntfs_record_fix_up(record, record_bytes, EK_STEP) &&
                           ek_ntfs_record_read((EkSpan){record, record_bytes}, &header) &&
                           header.number == i;
    }
    EkNtfsAttribute table =
        ek_ntfs_attribute_named(record_of(system, RECORD_MFT), EK_NTFS_DATA, "");
    EkNtfsAttribute bad =
        ek_ntfs_attribute_named(record_of(system, RECORD_BAD), EK_NTFS_DATA, "$Bad");
    EkNtfsAttribute root =
        ek_ntfs_attribute_named(record_of(system, RECORD_ROOT), EK_NTFS_INDEX_ROOT, "$I30");
    system->table = begin_of(system, RECORD_MFT, EK_NTFS_DATA, "");
    system->mirror = begin_of(system, RECORD_MIRROR, EK_NTFS_DATA, "");
    system->log = begin_of(system, RECORD_LOG, EK_NTFS_DATA, "");
    system->upcase = begin_of(system, RECORD_UPCASE, EK_NTFS_DATA, "");
    system->root = begin_of(system, RECORD_ROOT, EK_NTFS_INDEX, "$I30");
    system->index_bytes = ek_span_le32(root.content, 8);
    /* The file of bad clusters is as long as all clusters together. */
    system->bytes = bad.held;
    guint64 clusters = table.last_cluster + 1;
    guint64 held = table.held;
    if (clusters > 0 && clusters < G_MAXINT64 && held % clusters == 0 &&
        ek_is_power_of_two(held / clusters) && held / clusters >= CLUSTER_LEAST &&
        held / clusters <= CLUSTER_MOST)
        system->cluster = (guint32)(held / clusters);
    return system->valid[RECORD_MFT] && system->table != EK_NTFS_HOLE;
}

static gboolean stands_at(EkReader *reader, EkByte start, guint64 cluster, guint32 cluster_bytes,
                          const void *bytes, gsize length)
{
    guint8 there[16];
    EkByte at = 0;
    return cluster != EK_NTFS_HOLE && cluster < G_MAXINT64 / CLUSTER_MOST &&
           g_uint64_checked_add(&at, start, cluster * cluster_bytes) &&
           ek_presence_read(reader, at, there, length) == EK_PRESENT &&
           memcmp(there, bytes, length) == 0;
}

/* How many of the system files begin where they should. */
static guint count_agreeing(EkReader *reader, const System *system, EkByte start, guint32 cluster)
{
    static const guint8 upcase[] = {0, 0, 1, 0, 2, 0, 3, 0, 4, 0, 5, 0, 6, 0, 7, 0};
    guint count = 0;
    count += stands_at(reader, start, system->table, cluster, "FILE", 4) ? 1 : 0;
    count += stands_at(reader, start, system->mirror, cluster, "FILE", 4) ? 1 : 0;
    count += stands_at(reader, start, system->log, cluster, "RSTR", 4) ? 1 : 0;
    count += stands_at(reader, start, system->upcase, cluster, upcase, sizeof upcase) ? 1 : 0;
    count += stands_at(reader, start, system->root, cluster, "INDX", 4) ? 1 : 0;
    return count;
}

typedef struct {
    EkByte start;
    guint32 cluster;
    guint agreeing;
} Best;

/* This record 0 is that of the table, or of the mirror; a cluster has one of a few sizes. */
static Best find_start(EkReader *reader, const System *system)
{
    Best best = {0};
    guint64 places[] = {system->table, system->mirror};
    for (guint32 cluster = CLUSTER_LEAST; cluster <= CLUSTER_MOST; cluster *= 2) {
        if (system->cluster != 0 && cluster != system->cluster)
            continue;
        for (guint i = 0; i < G_N_ELEMENTS(places); i++) {
            if (places[i] == EK_NTFS_HOLE || places[i] > system->at / cluster)
                continue;
            EkByte start = system->at - places[i] * cluster;
            guint agreeing = count_agreeing(reader, system, start, cluster);
            if (agreeing > best.agreeing)
                best = (Best){start, cluster, agreeing};
        }
    }
    return best;
}

/* The length of the partition that a table names here, if the volume fits into it so that no
 * cluster is over; 0: none. */
static EkByte length_by_tables(const GArray *places, const Best *best, guint64 clusters)
{
    for (guint i = 0; i < places->len; i++) {
        EkRange place = g_array_index(places, EkRange, i);
        if (place.first == best->start && place.bytes > clusters * best->cluster &&
            (clusters == 0 || place.bytes - clusters * best->cluster <= best->cluster))
            return place.bytes;
    }
    return 0;
}

static EkVolume *compose(EkReader *reader, const GArray *places, const System *system,
                         const Best *best)
{
    EkVolume *volume = ek_volume_new(NULL, "ntfs");
    guint64 per_cluster = best->cluster / EK_STEP;
    guint64 clusters = system->bytes / best->cluster;
    EkByte told = length_by_tables(places, best, clusters);
    EkNtfsBoot boot = {
        .sector_size = EK_STEP,
        .cluster_bytes = best->cluster,
        /* A partition is mostly a whole number of clusters, and the last sector is the backup's. */
        .sectors = told != 0 ? told / EK_STEP - 1 : (clusters + 1) * per_cluster - 1,
        .mft_cluster = system->table,
        .mirror_cluster = system->mirror != EK_NTFS_HOLE ? system->mirror : system->table,
        .record_bytes = system->record_bytes,
        .index_bytes = system->index_bytes != 0 ? system->index_bytes : 4096,
        .hidden_sectors = (guint32)MIN(best->start / EK_STEP, G_MAXUINT32),
    };
    ek_ntfs_boot_compose(&boot, volume->header);
    volume->composed = volume->by_backup = TRUE;
    volume->first_byte = best->start;
    volume->header_byte = system->at;
    volume->own_sector_size = EK_STEP;
    volume->bytes = ek_ntfs_boot_bytes(&boot);
    volume->length_is_least = clusters == 0 && told == 0;
    volume->length_from_table = clusters == 0 && told != 0;
    ek_volume_property_number(volume, "bytes per cluster", boot.cluster_bytes);
    ek_volume_property_number(volume, "$MFT begins at cluster", boot.mft_cluster);
    ek_volume_property_number(volume, "$MFTMirr begins at cluster", boot.mirror_cluster);
    ek_volume_property_number(volume, "bytes per file record", boot.record_bytes);
    ek_volume_reason(volume, 0,
                     "no boot sector found; location and geometry derived from file records "
                     "starting at sector %" G_GUINT64_FORMAT,
                     system->at / EK_STEP);
    ek_volume_reason(volume, best->agreeing > 2 ? 20 : 10,
                     "%u system files start where their records state", best->agreeing);
    ek_ntfs_weigh(reader, volume, &boot);
    if (told != 0)
        ek_volume_reason(volume, 0, "its length is known from a partition table");
    else if (clusters > 0)
        ek_volume_reason(volume, 0,
                         "length known to within one cluster (%" G_GUINT64_FORMAT
                         " to %" G_GUINT64_FORMAT " sectors); rounded to whole clusters",
                         clusters * per_cluster + 1, (clusters + 1) * per_cluster);
    else
        ek_volume_reason(volume, UNKNOWN_LENGTH_POINTS, "its length is unknown");
    return volume;
}

gboolean ek_ntfs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                       void *data, GError **error)
{
    const GArray *runs = sightings->runs;
    guint starts = 0;
    (void)error;
    for (guint i = 0; i < runs->len && starts < STARTS_MOST; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        System system;
        if (run->first_record != 0 || run->stride < EK_NTFS_RECORD_LEAST)
            continue;
        starts++;
        if (system_read(reader, run->first_byte, (guint32)run->stride, &system)) {
            Best best = find_start(reader, &system);
            if (best.agreeing >= LEAST_AGREEING)
                sink(data, compose(reader, sightings->places, &system, &best));
        }
        system_clear(&system);
    }
    return TRUE;
}
