/* SPDX-License-Identifier: MIT */
/* The file table without what it says of itself: records carry their numbers, so that each tells
 * where the table is. */
#include "volume/ntfs/table.h"

#define EXTEND_MOST                                                                                \
    65536u /* records that are looked at one by one behind the last that is known                  \
            */
#define PIECES_MOST 4096u

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
                   header.number == (guint32)number
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
    guint64 last = last_of_first_piece(table, room * size / bytes, record);
    table->is_guessed = TRUE;
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

void ek_ntfs_table_adopt(EkNtfsTable *table, const GArray *runs)
{
    g_autoptr(GPtrArray) sorted = g_ptr_array_new();
    guint64 told = table->is_guessed ? G_MAXUINT64 : table->records;
    for (guint i = 0; i < runs->len; i++)
        g_ptr_array_add(sorted, &g_array_index(runs, EkRecordRun, i));
    g_ptr_array_sort(sorted, longest_first);
    for (guint i = 0; i < sorted->len && table->fragments->len < PIECES_MOST; i++) {
        const EkRecordRun *run = sorted->pdata[i];
        EkNtfsFragment fragment;
        if (run->first_record >= told || !piece_of(table, run, &fragment))
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
