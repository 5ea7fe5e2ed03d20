/* SPDX-License-Identifier: MIT */
/* NTFS volumes: found by their boot sector or its backup, believed when their first file record
 * stands where the boot sector says. */
#include "volume/ntfs/ntfs.h"
#include "volume/headers.h"
#include "volume/ntfs/record.h"

#define STATE_FLAGS 10u
#define STATE_DIRTY 1u
#define RECORD_VOLUME 3u
#define RECORD_ROOT 5u
#define RUNS_MOST 64u
#define RECORD_BITMAP 6u
#define RECORD_BAD 8u
#define FURTHER_LEAST 2u
#define OTHER_LENGTH_POINTS (-40)
#define BITMAP_RUNS 64u
#define BITMAP_MOST (1u << 20) /* bytes: for eight million records */
#define SYSTEM_RECORDS 16u
#define MAX_CLUSTER_BYTES (2u << 20)

guint ek_ntfs_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    EkNtfsBoot boot;
    if (!ek_ntfs_boot_read(span, &boot))
        return 0;
    guint count = 0;
    candidates[count++] = (EkCandidate){at, at, EK_ROLE_PRIMARY};
    EkByte before = boot.sectors * boot.sector_size;
    if (before <= at)
        candidates[count++] = (EkCandidate){at - before, at, EK_ROLE_BACKUP};
    return count;
}

/* Reads file record `number` of the run of records at `at` into `record`. */
static EkPresence look_at_record(EkReader *reader, const EkNtfsBoot *boot, EkByte at,
                                 guint32 number, guint8 *record)
{
    EkByte place = 0;
    if (!g_uint64_checked_add(&place, at, (guint64)number * boot->record_bytes))
        return EK_ABSENT;
    EkPresence part = ek_presence_read(reader, place, record, boot->record_bytes);
    if (part != EK_PRESENT)
        return part;
    if (!ek_ntfs_record_fix_up(record, boot->record_bytes, boot->sector_size))
        return EK_ABSENT;
    EkNtfsRecord header;
    ek_ntfs_record_read((EkSpan){record, boot->record_bytes}, &header);
    return header.number == number || header.number == G_MAXUINT32 ? EK_PRESENT : EK_ABSENT;
}

static void take_label(EkVolume *volume, EkSpan record)
{
    EkSpan name = ek_ntfs_attribute_of(record, EK_NTFS_LABEL).content;
    if (name.length < 2 || name.length > 256)
        return;
    gunichar2 units[128];
    gsize count = name.length / 2;
    for (gsize i = 0; i < count; i++)
        units[i] = ek_span_le16(name, i * 2);
    g_free(volume->label);
    volume->label = g_utf16_to_utf8(units, (glong)count, NULL, NULL, NULL);
}

static EkTimestamp timestamp_in(EkSpan record, guint index)
{
    EkSpan standard = ek_ntfs_attribute_of(record, EK_NTFS_STANDARD).content;
    return ek_timestamp_filetime(ek_span_le64(standard, index * 8ul));
}

/* What is done in the root folder dates the volume's use: its content, then its record. */
static void take_use(EkReader *reader, EkVolume *volume, const EkNtfsBoot *boot)
{
    g_autofree guint8 *record = g_malloc(boot->record_bytes);
    EkSpan span = {record, boot->record_bytes};
    if (look_at_record(reader, boot, volume->metadata_byte, RECORD_ROOT, record) == EK_PRESENT)
        for (guint i = 1; i <= 2; i++)
            ek_timestamp_advance(&volume->used, timestamp_in(span, i));
}

/* The label, and when $Volume was made, which is when the volume was. */
static void take_identity(EkVolume *volume, EkSpan record)
{
    take_label(volume, record);
    if (!volume->created.is_set)
        volume->created = timestamp_in(record, 0);
}

static EkPresence weigh_records(EkReader *reader, EkVolume *volume, const EkNtfsBoot *boot,
                                EkByte cluster, const char *what, int points)
{
    g_autofree guint8 *record = g_malloc(boot->record_bytes);
    EkByte at = volume->first_byte + cluster * boot->cluster_bytes;
    EkPresence state = look_at_record(reader, boot, at, 0, record);
    EkSector sector = at / EK_STEP;
    if (state == EK_PRESENT)
        ek_volume_reason(volume, points,
                         "%s is at sector %" G_GUINT64_FORMAT ", as the header states", what,
                         sector);
    else if (state == EK_UNREAD)
        ek_volume_reason(volume, 0,
                         "%s at sector %" G_GUINT64_FORMAT " could not be checked (unread)", what,
                         sector);
    else
        ek_volume_reason(volume, 0, "%s is not at sector %" G_GUINT64_FORMAT, what, sector);
    if ((volume->label == NULL || !volume->created.is_set) &&
        look_at_record(reader, boot, at, RECORD_VOLUME, record) == EK_PRESENT)
        take_identity(volume, (EkSpan){record, boot->record_bytes});
    return state;
}

/* Where a byte of what an attribute holds lies in the volume; EK_UNPLACED when that is not told. */
static EkByte place_in(const EkNtfsAttribute *attribute, const EkNtfsBoot *boot, guint64 byte)
{
    EkNtfsRun runs[BITMAP_RUNS];
    guint count = ek_ntfs_runs(attribute, runs, BITMAP_RUNS);
    for (guint i = 0; i < count; i++) {
        guint64 bytes = MIN(runs[i].clusters, G_MAXINT64 / MAX_CLUSTER_BYTES) * boot->cluster_bytes;
        if (byte < bytes)
            return runs[i].first <= G_MAXINT64 / MAX_CLUSTER_BYTES
                       ? runs[i].first * boot->cluster_bytes + byte
                       : EK_UNPLACED;
        byte -= bytes;
    }
    return EK_UNPLACED;
}

/* A bit a file record tells which are in use. Read only where it is small enough to be cheap. */
static void count_files(EkReader *reader, EkVolume *volume, const EkNtfsBoot *boot)
{
    g_autofree guint8 *record = g_malloc(boot->record_bytes);
    EkSpan span = {record, boot->record_bytes};
    if (look_at_record(reader, boot, volume->metadata_byte, 0, record) != EK_PRESENT)
        return;
    EkNtfsAttribute bitmap = ek_ntfs_attribute_named(span, EK_NTFS_BITMAP, "");
    EkSpan resident = bitmap.content;
    guint64 bytes = resident.length > 0 ? resident.length : bitmap.size;
    guint64 count = 0;
    if (bytes == 0 || bytes > BITMAP_MOST)
        return;
    for (guint64 at = 0; at < bytes; at += EK_STEP) {
        guint8 bits[EK_STEP] = {0};
        gsize length = (gsize)MIN(bytes - at, EK_STEP);
        EkByte place = resident.length > 0 ? 0 : place_in(&bitmap, boot, at);
        if (resident.length > 0)
            memcpy(bits, resident.data + at, length);
        else if (place == EK_UNPLACED ||
                 ek_presence_read(reader, volume->first_byte + place, bits, length) != EK_PRESENT)
            return;
        for (gsize i = 0; i < length; i++)
            for (guint rest = bits[i]; rest != 0; rest &= rest - 1)
                count++;
    }
    if (count > SYSTEM_RECORDS)
        ek_volume_property_number(volume, EK_PROPERTY_FILES, count - SYSTEM_RECORDS);
}

/* The file of bad clusters is as long as all clusters together. Where it is not, the file table is
 * that of another generation, and this header what is left of an older one. */
static void weigh_length(EkReader *reader, EkVolume *volume, const EkNtfsBoot *boot)
{
    g_autofree guint8 *record = g_malloc(boot->record_bytes);
    EkSpan span = {record, boot->record_bytes};
    if (look_at_record(reader, boot, volume->metadata_byte, RECORD_BAD, record) != EK_PRESENT)
        return;
    EkByte told = ek_ntfs_attribute_named(span, EK_NTFS_DATA, "$Bad").held;
    EkByte bytes = boot->sectors * boot->sector_size;
    if (told == 0 || (told <= bytes + boot->cluster_bytes && bytes <= told + boot->cluster_bytes))
        return;
    volume->contradicted++;
    ek_volume_reason(volume, OTHER_LENGTH_POINTS,
                     "the file table there belongs to a volume of %" G_GUINT64_FORMAT
                     " sectors: this volume was reformatted",
                     told / EK_STEP);
}

/* How many records behind the first one are where the boot sector puts them. */
static guint count_further(EkReader *reader, const EkVolume *volume, const EkNtfsBoot *boot)
{
    static const guint32 numbers[] = {1, 2, RECORD_VOLUME, RECORD_ROOT, RECORD_BITMAP, RECORD_BAD};
    g_autofree guint8 *record = g_malloc(boot->record_bytes);
    guint there = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(numbers); i++)
        there +=
            look_at_record(reader, boot, volume->metadata_byte, numbers[i], record) == EK_PRESENT;
    return there;
}

void ek_ntfs_weigh(EkReader *reader, EkVolume *volume, const EkNtfsBoot *boot)
{
    volume->metadata_byte = volume->first_byte + boot->mft_cluster * boot->cluster_bytes;
    EkPresence table = weigh_records(reader, volume, boot, boot->mft_cluster, "$MFT", 35);
    take_use(reader, volume, boot);
    count_files(reader, volume, boot);
    if (!volume->composed)
        weigh_length(reader, volume, boot);
    EkPresence mirror = weigh_records(reader, volume, boot, boot->mirror_cluster, "$MFTMirr", 20);
    if (!volume->composed && boot->hidden_sectors != 0 &&
        (EkByte)boot->hidden_sectors * boot->sector_size == volume->first_byte)
        ek_volume_reason(volume, 5, "its own header gives this start sector");

    /* The mirror holds a copy of the first file record: either proves the other's place, and so do
     * further records. */
    gboolean has_further = table != EK_PRESENT && mirror != EK_PRESENT &&
                           count_further(reader, volume, boot) >= FURTHER_LEAST;
    if (has_further)
        ek_volume_reason(volume, 25, "further records of $MFT are where recorded");
    volume->is_confirmed = table == EK_PRESENT || mirror == EK_PRESENT || table == EK_UNREAD ||
                           has_further || volume->headers > 1;
    if (!volume->is_confirmed)
        ek_volume_reason(volume, -100, "no file record where the header points: not a volume");
    else if (table != EK_PRESENT && mirror != EK_PRESENT && !has_further)
        ek_volume_reason(volume, 0,
                         table == EK_UNREAD
                             ? "its first file record was not read: image more, then hunt again"
                             : "both boot sectors agree, but its first file records are missing");
}

EkVolume *ek_ntfs_measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 other[EK_HEADER_BYTES];
    EkNtfsBoot boot;
    g_autoptr(EkVolume) volume =
        ek_header_begin("ntfs", reader, candidate, other, sizeof other, error);
    if (volume == NULL || !ek_ntfs_boot_read(ek_volume_header(volume), &boot))
        return g_steal_pointer(&volume);

    volume->bytes = ek_ntfs_boot_bytes(&boot);
    volume->own_sector_size = boot.sector_size;
    volume->uuid = g_strdup_printf("%016" G_GINT64_MODIFIER "X", boot.serial);
    ek_volume_property_number(volume, "bytes per sector", boot.sector_size);
    ek_volume_property_number(volume, "bytes per cluster", boot.cluster_bytes);
    ek_volume_property_number(volume, "sectors", boot.sectors);
    ek_volume_property_number(volume, "$MFT begins at cluster", boot.mft_cluster);
    ek_volume_property_number(volume, "$MFTMirr begins at cluster", boot.mirror_cluster);
    ek_volume_property_number(volume, "bytes per file record", boot.record_bytes);

    EkByte backup = candidate->first_byte + boot.sectors * boot.sector_size;
    ek_header_reason(
        volume,
        ek_header_look(reader, candidate->first_byte, volume->header, EK_HEADER_BYTES, other),
        "boot sector", candidate->first_byte, 20);
    ek_header_reason(volume, ek_header_look(reader, backup, volume->header, EK_HEADER_BYTES, other),
                     "backup boot sector", backup, 15);
    ek_ntfs_weigh(reader, volume, &boot);
    return g_steal_pointer(&volume);
}

/* The file table is given more clusters than it has records: where none was ever written what was
 * there before still is. *same: for how many bytes from `inside` on (of the volume) the answer
 * holds; may become less. */
static gboolean is_unwritten(const EkNtfsAttribute *table, const EkNtfsBoot *boot, EkByte inside,
                             EkByte *same)
{
    EkNtfsRun runs[RUNS_MOST];
    guint count = table->is_resident ? 0 : ek_ntfs_runs(table, runs, G_N_ELEMENTS(runs));
    EkByte at = table->first_cluster * boot->cluster_bytes;
    for (guint i = 0; i < count; i++) {
        EkByte bytes = MIN(runs[i].clusters, G_MAXUINT32) * boot->cluster_bytes;
        EkByte first =
            runs[i].first == EK_NTFS_HOLE ? EK_UNPLACED : runs[i].first * boot->cluster_bytes;
        if (first != EK_UNPLACED && inside >= first && inside - first < bytes) {
            EkByte offset = at + (inside - first);
            *same = MIN(*same, first + bytes - inside);
            if (offset >= table->valid)
                return TRUE;
            *same = MIN(*same, table->valid - offset);
            return FALSE;
        }
        if (first != EK_UNPLACED && first > inside)
            *same = MIN(*same, first - inside);
        at += bytes;
    }
    return FALSE;
}

/* $Bitmap has a bit a cluster. Its record need not be in the first fragment of the file table. */
EkUsage ek_ntfs_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same)
{
    EkNtfsBoot boot;
    if (!ek_ntfs_boot_read(ek_volume_header(volume), &boot))
        return EK_USAGE_UNKNOWN;
    g_autofree guint8 *record = g_malloc(boot.record_bytes);
    EkSpan span = {record, boot.record_bytes};
    guint64 bit = (range.first - volume->first_byte) / boot.cluster_bytes;
    EkByte of_cluster =
        boot.cluster_bytes - (range.first - volume->first_byte) % boot.cluster_bytes;
    guint64 bits = 0;
    EkByte table = volume->first_byte + boot.mft_cluster * boot.cluster_bytes;
    EkByte place = (EkByte)RECORD_BITMAP * boot.record_bytes;
    EkNtfsAttribute data;
    EkByte alike = range.bytes;
    if (look_at_record(reader, &boot, table, 0, record) == EK_PRESENT) {
        data = ek_ntfs_attribute_named(span, EK_NTFS_DATA, "");
        if (data.valid > 0 &&
            is_unwritten(&data, &boot, range.first - volume->first_byte, &alike)) {
            *same = alike;
            return EK_USAGE_FREE;
        }
        place = place_in(&data, &boot, place);
    } else
        place += boot.mft_cluster * boot.cluster_bytes;
    EkByte first = volume->first_byte + place - (EkByte)RECORD_BITMAP * boot.record_bytes;
    if (place == EK_UNPLACED ||
        look_at_record(reader, &boot, first, RECORD_BITMAP, record) != EK_PRESENT)
        return EK_USAGE_UNKNOWN;
    *same = of_cluster;
    data = ek_ntfs_attribute_named(span, EK_NTFS_DATA, "");
    place = place_in(&data, &boot, bit / 8);
    if (place == EK_UNPLACED)
        return EK_USAGE_UNKNOWN;
    /* Behind this cluster the bitmap may go on elsewhere. */
    guint64 most = (boot.cluster_bytes - bit / 8 % boot.cluster_bytes) * 8 - bit % 8;
    EkUsage usage = ek_usage_bits(reader, volume->first_byte + place, bit % 8, most, &bits);
    *same = MIN(*same + (bits - 1) * boot.cluster_bytes, alike);
    return usage;
}

gboolean ek_ntfs_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                        GError **error)
{
    EkNtfsBoot boot;
    guint8 copy[EK_HEADER_BYTES];
    if (!ek_ntfs_boot_read(ek_volume_header(volume), &boot))
        return ek_error_set(error, EK_ERROR_DAMAGED, "the saved boot sector is invalid");
    EkByte backup = volume->first_byte + boot.sectors * boot.sector_size;
    if (ek_header_look(reader, volume->first_byte, volume->header, EK_HEADER_BYTES, copy) !=
        EK_HEADER_AGREES)
        ek_header_repair(volume, volume->first_byte, "boot sector", sink, data);
    EkHeaderState state = ek_header_look(reader, backup, volume->header, EK_HEADER_BYTES, copy);
    if (state == EK_HEADER_UNREAD || state == EK_HEADER_DIFFERS)
        ek_header_repair(volume, backup, "backup boot sector", sink, data);
    return TRUE;
}

EkByte ek_ntfs_backup(const EkVolume *volume)
{
    EkNtfsBoot boot;
    if (!ek_ntfs_boot_read(ek_volume_header(volume), &boot))
        return EK_UNPLACED;
    return volume->first_byte + boot.sectors * boot.sector_size;
}

/* The record $Volume has a flag that is set while the volume is in use. */
char *ek_ntfs_unclean(EkReader *reader, const EkVolume *volume)
{
    EkNtfsBoot boot;
    if (!ek_ntfs_boot_read(ek_volume_header(volume), &boot))
        return NULL;
    g_autofree guint8 *record = g_malloc(boot.record_bytes);
    EkSpan span = {record, boot.record_bytes};
    if (look_at_record(reader, &boot, volume->metadata_byte, RECORD_VOLUME, record) != EK_PRESENT)
        return NULL;
    EkSpan state = ek_ntfs_attribute_of(span, EK_NTFS_STATE).content;
    return (ek_span_le16(state, STATE_FLAGS) & STATE_DIRTY) != 0
               ? g_strdup("The log ($LogFile) is not applied. " EK_UNCLEAN_TEXT)
               : NULL;
}
