/* SPDX-License-Identifier: MIT */
/* The file table without what it says of itself: records carry their numbers, so that each tells
 * where the table is. */
#include "volume/ntfs/table.h"

#define EXTEND_MOST                                                                                \
    65536u /* records that are looked at one by one behind the last that is known                  \
            */
#define PIECES_MOST 4096u
#define INDEXES_MOST (1u << 16)
#define PROBES_MOST 32u /* records of a run that are asked whose they are */

#define FORMATTED_RECORDS 12u /* that are written when a volume is formatted */
#define MIRRORED 4u           /* of them */
#define CHANGED 16u           /* in the standard information */

/* --- which generation ------------------------------------------------------------------------- */

static gint order(EkTimestamp a, EkTimestamp b)
{
    if (a.seconds != b.seconds)
        return a.seconds < b.seconds ? -1 : 1;
    return a.nanoseconds < b.nanoseconds ? -1 : a.nanoseconds > b.nanoseconds;
}

/* Notes when a record was made that formatting writes, where it stands there. */
static void note_made(EkNtfsTable *table, EkByte place, guint32 number, guint8 *record)
{
    guint32 bytes = table->boot.record_bytes;
    EkNtfsRecord header;
    EkKnown known;
    if (place == EK_UNPLACED ||
        !ek_reader_read(table->reader, place, record, bytes, &known, NULL) || known.good < bytes ||
        !ek_ntfs_record_fix_up(record, bytes, table->boot.sector_size) ||
        !ek_ntfs_record_read((EkSpan){record, bytes}, &header) || header.number != number)
        return;
    EkNtfsAttribute standard = ek_ntfs_attribute_of((EkSpan){record, bytes}, EK_NTFS_STANDARD);
    EkTimestamp made = ek_timestamp_filetime(ek_span_le64(standard.content, 0));
    if (made.is_set && (!table->made.is_set || order(made, table->made) < 0))
        table->made = made;
}

static void find_made(EkNtfsTable *table, guint8 *record)
{
    EkByte bytes = table->boot.record_bytes;
    EkByte first = ek_ntfs_place(table, table->boot.mft_cluster);
    EkByte mirror = ek_ntfs_place(table, table->boot.mirror_cluster);
    for (guint32 number = 0; number < FORMATTED_RECORDS && first != EK_UNPLACED; number++)
        note_made(table, first + number * bytes, number, record);
    for (guint32 number = 0; number < MIRRORED && mirror != EK_UNPLACED; number++)
        note_made(table, mirror + number * bytes, number, record);
}

/* What size of clusters an attribute counts; 0: it does not tell. */
static guint64 clusters_of(const EkNtfsAttribute *attribute)
{
    guint64 clusters = attribute->last_cluster + 1;
    return !attribute->is_resident && !attribute->is_packed && attribute->first_cluster == 0 &&
                   clusters > 0 && attribute->held % clusters == 0
               ? attribute->held / clusters
               : 0;
}

guint32 ek_ntfs_clusters_of(EkSpan record)
{
    EkNtfsAttribute attribute;
    for (gsize at = 0; ek_ntfs_attribute_next(record, &at, &attribute);) {
        guint64 size = clusters_of(&attribute);
        if (size != 0)
            return ek_is_power_of_two(size) && size <= G_MAXUINT32 ? (guint32)size : 0;
    }
    return 0;
}

/* Does one of its attributes count clusters of another size? */
static gboolean has_other_clusters(const EkNtfsTable *table, EkSpan record)
{
    EkNtfsAttribute attribute;
    for (gsize at = 0; ek_ntfs_attribute_next(record, &at, &attribute);) {
        guint64 size = clusters_of(&attribute);
        if (size != 0 && size != table->boot.cluster_bytes)
            return TRUE;
    }
    return FALSE;
}

gboolean ek_ntfs_table_is_older(const EkNtfsTable *table, EkSpan record)
{
    if (!table->is_guessed || table->is_unproved)
        return FALSE;
    if (has_other_clusters(table, record))
        return TRUE;
    if (!table->made.is_set || table->is_earlier)
        return FALSE;
    EkNtfsAttribute standard = ek_ntfs_attribute_of(record, EK_NTFS_STANDARD);
    EkTimestamp changed = ek_timestamp_filetime(ek_span_le64(standard.content, CHANGED));
    return changed.is_set && order(changed, table->made) < 0;
}

/* --- from its beginning --------------------------------------------------------------------- */

typedef enum { PROBE_OURS, PROBE_UNREAD, PROBE_OTHER } Probe;

/* Does record `number` stand where it does when the table lies in one fragment from its beginning
 * on?
 */
static Probe probe(const EkNtfsTable *table, guint64 number, guint8 *record)
{
    guint32 bytes = table->boot.record_bytes;
    EkByte place = ek_ntfs_place(table, table->boot.mft_cluster);
    EkKnown known;
    if (place == EK_UNPLACED)
        return PROBE_OTHER;
    /* What was not read is not asked for: the table may well be elsewhere. */
    place += number * bytes;
    if (place + bytes <= ek_reader_bytes(table->reader) &&
        ek_reader_known(table->reader, place, bytes).good < bytes)
        return PROBE_UNREAD;
    if (!ek_reader_read(table->reader, place, record, bytes, &known, NULL))
        return PROBE_OTHER;
    EkNtfsRecord header;
    return ek_ntfs_record_fix_up(record, bytes, table->boot.sector_size) &&
                   ek_ntfs_record_read((EkSpan){record, bytes}, &header) &&
                   header.number == (guint32)number &&
                   !ek_ntfs_table_is_older(table, (EkSpan){record, bytes})
               ? PROBE_OURS
               : PROBE_OTHER;
}

/* The last record of that fragment that is known; 0: none is. */
static guint64 last_of_first_piece(const EkNtfsTable *table, guint64 most, guint8 *record)
{
    guint64 last = 0;
    guint64 beyond = most;
    for (guint64 at = 1; at < most; at *= 2) {
        Probe found = probe(table, at, record);
        if (found == PROBE_OURS)
            last = at;
        if (found == PROBE_OTHER) {
            beyond = at;
            break;
        }
    }
    while (beyond - last > 1) {
        guint64 middle = last + (beyond - last) / 2;
        if (probe(table, middle, record) == PROBE_OURS)
            last = middle;
        else
            beyond = middle;
    }
    /* What was not read in between hides what is behind it. */
    guint64 known = last;
    for (guint64 at = last + 1; at < most && at <= last + EXTEND_MOST; at++) {
        Probe found = probe(table, at, record);
        if (found == PROBE_OTHER)
            break;
        if (found == PROBE_OURS)
            known = at;
    }
    return known;
}

void ek_ntfs_table_guess(EkNtfsTable *table)
{
    guint32 bytes = table->boot.record_bytes;
    guint32 size = table->boot.cluster_bytes;
    guint64 clusters = ek_ntfs_boot_bytes(&table->boot) / size;
    guint64 room = table->boot.mft_cluster < clusters ? clusters - table->boot.mft_cluster : 0;
    g_autofree guint8 *record = g_malloc(bytes);
    table->is_guessed = TRUE;
    find_made(table, record);
    guint64 last = last_of_first_piece(table, room * size / bytes, record);
    if (last == 0)
        return;
    EkNtfsFragment fragment = {0, ek_divide_up((last + 1) * bytes, size), table->boot.mft_cluster};
    g_array_append_val(table->fragments, fragment);
    table->records = last + 1;
}

/* --- from traces ---------------------------------------------------------------------------- */

gboolean ek_ntfs_table_lacks(const EkNtfsTable *table)
{
    guint64 clusters = 0;
    for (guint i = 0; i < table->fragments->len; i++)
        clusters += g_array_index(table->fragments, EkNtfsFragment, i).clusters;
    return table->is_guessed ||
           clusters < table->records * table->boot.record_bytes / table->boot.cluster_bytes;
}

static gint longest_first(gconstpointer a, gconstpointer b)
{
    const EkRecordRun *left = *(const EkRecordRun *const *)a;
    const EkRecordRun *right = *(const EkRecordRun *const *)b;
    if (left->count != right->count)
        return left->count > right->count ? -1 : 1;
    return left->first_byte < right->first_byte ? -1 : left->first_byte > right->first_byte;
}

/* The fragment that a run makes. FALSE when the run is not of this table. */
static gboolean piece_of(const EkNtfsTable *table, const EkRecordRun *run, EkNtfsFragment *fragment)
{
    guint64 bytes = table->boot.record_bytes;
    guint64 size = table->boot.cluster_bytes;
    EkByte volume = ek_ntfs_boot_bytes(&table->boot);
    EkRange inside;
    if (run->stride != bytes || run->count == 0 || run->first_byte < table->first_byte ||
        run->count > volume / bytes || run->first_record > volume / bytes - run->count ||
        !ek_range_checked(run->first_byte - table->first_byte, run->count * bytes, volume, &inside))
        return FALSE;
    guint64 number_byte = run->first_record * bytes;
    guint64 into = inside.first % size;
    *fragment = (EkNtfsFragment){number_byte / size, ek_divide_up(into + inside.bytes, size),
                                 inside.first / size};
    return into == number_byte % size;
}

/* Adds what of it no other fragment holds. */
static void add_uncovered(EkNtfsTable *table, EkNtfsFragment fragment)
{
    for (guint i = 0; i < table->fragments->len && fragment.clusters > 0; i++) {
        const EkNtfsFragment *other = &g_array_index(table->fragments, EkNtfsFragment, i);
        guint64 other_end = other->at + other->clusters;
        guint64 end = fragment.at + fragment.clusters;
        if (other_end <= fragment.at || other->at >= end)
            continue;
        EkNtfsFragment before = {fragment.at, other->at - MIN(other->at, fragment.at),
                                 fragment.first};
        guint64 skipped = MIN(other_end, end) - fragment.at;
        fragment.at += skipped;
        fragment.first += skipped;
        fragment.clusters -= skipped;
        if (before.clusters > 0)
            add_uncovered(table, before);
    }
    if (fragment.clusters == 0)
        return;
    g_array_append_val(table->fragments, fragment);
    ek_ntfs_sort_fragments(table->fragments);
}

static void add_only(EkNtfsTable *table, const EkRecordRun *run)
{
    EkRange range = {run->first_byte, run->count * run->stride};
    if (table->only == NULL)
        table->only = g_array_new(FALSE, FALSE, sizeof(EkRange));
    g_array_append_val(table->only, range);
}

/* Blocks of indexes whose folders may be gone. */
static void adopt_indexes(EkNtfsTable *table, const GArray *runs)
{
    EkRange volume = {table->first_byte, ek_ntfs_boot_bytes(&table->boot)};
    g_clear_pointer(&table->indexes, g_array_unref);
    table->indexes = g_array_new(FALSE, FALSE, sizeof(EkByte));
    for (guint i = 0; i < runs->len && table->indexes->len < INDEXES_MOST; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        if (run->stride == EK_NTFS_SEEN_INDEX && ek_range_holds(volume, run->first_byte))
            g_array_append_val(table->indexes, run->first_byte);
    }
}

/* Of several that were made one after the other, and others after them: are these records another
 * one's, as some of them tell and none denies? */
static gboolean is_of_another(const EkNtfsTable *table, const EkRecordRun *run)
{
    guint32 bytes = table->boot.record_bytes;
    g_autofree guint8 *record = g_malloc(bytes);
    guint64 step = MAX(run->count / PROBES_MOST, 1);
    guint others = 0;
    for (guint64 i = 0; i < run->count; i += step) {
        EkKnown known;
        if (!ek_reader_read(table->reader, run->first_byte + i * run->stride, record, bytes, &known,
                            NULL) ||
            known.good < bytes || !ek_ntfs_record_fix_up(record, bytes, table->boot.sector_size))
            continue;
        guint32 size = ek_ntfs_clusters_of((EkSpan){record, bytes});
        if (size == table->boot.cluster_bytes)
            return FALSE;
        others += size != 0 ? 1 : 0;
    }
    return others > 0;
}

void ek_ntfs_table_adopt(EkNtfsTable *table, const GArray *runs)
{
    adopt_indexes(table, runs);
    g_autoptr(GPtrArray) sorted = g_ptr_array_new();
    guint64 told = table->is_guessed ? G_MAXUINT64 : table->records;
    for (guint i = 0; i < runs->len; i++)
        g_ptr_array_add(sorted, &g_array_index(runs, EkRecordRun, i));
    g_ptr_array_sort(sorted, longest_first);
    for (guint i = 0; i < sorted->len && table->fragments->len < PIECES_MOST; i++) {
        const EkRecordRun *run = sorted->pdata[i];
        EkNtfsFragment fragment;
        if (run->first_record >= told || !piece_of(table, run, &fragment) ||
            (table->is_earlier && !table->is_unproved && is_of_another(table, run)))
            continue;
        add_uncovered(table, fragment);
        if (table->is_earlier)
            add_only(table, run);
        if (table->is_guessed)
            table->records = MAX(table->records, run->first_record + run->count);
    }
    if (table->only != NULL)
        g_array_sort(table->only, ek_range_by_first);
}
