/* SPDX-License-Identifier: MIT */
/* The file table ($MFT): where its records lie, and reading them. Its first record says so itself;
 * the mirror has a copy of the first four. */
#include "volume/ntfs/table.h"

#include <string.h>

#define MIRRORED 4u

EkByte ek_ntfs_record_place(const EkNtfsTable *table, guint64 number)
{
    guint64 at = number * table->boot.record_bytes;
    const EkNtfsFragment *fragment =
        ek_ntfs_fragment_at(table->fragments, at / table->boot.cluster_bytes);
    EkByte place = fragment != NULL ? ek_ntfs_place(table, fragment->first) : EK_UNPLACED;
    return place != EK_UNPLACED ? place + (at - fragment->at * table->boot.cluster_bytes) : place;
}

/* One that says it is another is none. */
static gboolean is_called(const EkNtfsTable *table, guint64 number, const guint8 *record)
{
    EkNtfsRecord header;
    ek_ntfs_record_read((EkSpan){record, table->boot.record_bytes}, &header);
    return header.number == G_MAXUINT32 || header.number == (guint32)number;
}

static gboolean is_record(const EkNtfsTable *table, guint64 number, guint8 *record)
{
    return ek_ntfs_record_fix_up(record, table->boot.record_bytes, table->boot.sector_size) &&
           is_called(table, number, record);
}

static gboolean read_mirror(const EkNtfsTable *table, guint64 number, guint8 *record)
{
    EkByte place = ek_ntfs_place(table, table->boot.mirror_cluster);
    guint32 bytes = table->boot.record_bytes;
    EkKnown known;
    return number < MIRRORED && !table->is_earlier && place != EK_UNPLACED &&
           ek_reader_read(table->reader, place + number * bytes, record, bytes, &known, NULL) &&
           known.good == bytes && is_record(table, number, record);
}

/* Fragments are whole clusters: others may stand in the first one and in the last. */
static gboolean is_its_own(const EkNtfsTable *table, guint64 number)
{
    EkByte at = ek_ntfs_record_place(table, number);
    guint low = 0;
    for (guint high = table->only->len; low < high;) {
        guint middle = (low + high) / 2;
        EkRange range = g_array_index(table->only, EkRange, middle);
        if (ek_range_holds(range, at))
            return TRUE;
        if (range.first > at)
            high = middle;
        else
            low = middle + 1;
    }
    return FALSE;
}

EkNtfsFound ek_ntfs_table_take(const EkNtfsTable *table, guint64 number, guint8 *record,
                               gboolean was_read)
{
    if (table->only != NULL && !is_its_own(table, number))
        return EK_NTFS_EMPTY;
    if (was_read && ek_span_le32((EkSpan){record, 4}, 0) == 0)
        return EK_NTFS_EMPTY;
    if (was_read && is_record(table, number, record))
        return ek_ntfs_table_is_older(table, (EkSpan){record, table->boot.record_bytes})
                   ? EK_NTFS_EMPTY
                   : EK_NTFS_FOUND;
    if (read_mirror(table, number, record))
        return EK_NTFS_FOUND;
    return was_read ? EK_NTFS_BROKEN : EK_NTFS_UNREAD;
}

EkNtfsFound ek_ntfs_table_read(const EkNtfsTable *table, guint64 number, guint8 *record)
{
    guint32 bytes = table->boot.record_bytes;
    EkKnown known;
    if (number >= table->records)
        return EK_NTFS_EMPTY;
    gboolean was_read =
        ek_ntfs_read_fragments(table, table->fragments, number * bytes, record, bytes, &known) &&
        known.good == bytes;
    return ek_ntfs_table_take(table, number, record, was_read);
}

gboolean ek_ntfs_table_read_part(const EkNtfsTable *table, guint64 number, guint8 *record,
                                 gboolean *is_torn)
{
    guint32 bytes = table->boot.record_bytes;
    gsize known = 0;
    EkKnown own;
    if (number >= table->records || (table->only != NULL && !is_its_own(table, number)))
        return FALSE;
    memset(record, 0, bytes);
    while (known < bytes &&
           ek_ntfs_read_fragments(table, table->fragments, number * bytes + known, record + known,
                                  EK_STEP, &own) &&
           own.good == EK_STEP)
        known += EK_STEP;
    *is_torn = known == bytes;
    return ek_ntfs_record_fix_up_part(record, bytes, known, table->boot.sector_size) &&
           is_called(table, number, record) &&
           !ek_ntfs_table_is_older(table, (EkSpan){record, bytes});
}

/* The rest of its own runs stands in records that are reached by the first ones. */
static void add_listed_runs(EkNtfsTable *table, EkSpan first, guint8 *record)
{
    g_autoptr(GArray) others = ek_ntfs_list_records(table, first, 0, EK_NTFS_DATA, NULL);
    EkSpan span = {record, table->boot.record_bytes};
    for (guint i = 0; i < others->len; i++) {
        guint64 number = g_array_index(others, guint64, i);
        if (ek_ntfs_table_read(table, number, record) != EK_NTFS_FOUND)
            continue;
        EkNtfsAttribute data = ek_ntfs_attribute_named(span, EK_NTFS_DATA, "");
        if (!ek_ntfs_attribute_exists(&data) || data.is_resident || data.first_cluster == 0)
            continue;
        ek_ntfs_add_runs(&data, table->fragments);
        ek_ntfs_sort_fragments(table->fragments);
    }
}

gboolean ek_ntfs_table_open(EkNtfsTable *table, EkReader *reader, const EkVolume *volume)
{
    *table = (EkNtfsTable){.reader = reader,
                           .first_byte = volume->first_byte,
                           .is_earlier = volume->is_earlier,
                           .is_guessed = volume->is_earlier};
    if (!ek_ntfs_boot_read(ek_volume_header(volume), &table->boot))
        return FALSE;
    table->is_unproved = table->is_earlier && table->boot.mirror_cluster != table->boot.mft_cluster;
    guint32 bytes = table->boot.record_bytes;
    g_autofree guint8 *record = g_malloc0(bytes);
    g_autofree guint8 *other = g_malloc0(bytes);
    EkSpan span = {record, bytes};
    EkByte place = ek_ntfs_place(table, table->boot.mft_cluster);
    EkKnown known;
    gboolean was_read = place != EK_UNPLACED &&
                        ek_reader_read(reader, place, record, bytes, &known, NULL) &&
                        known.good == bytes;
    table->fragments = g_array_new(FALSE, FALSE, sizeof(EkNtfsFragment));
    table->further = ek_ntfs_further_new();
    if (table->is_earlier)
        return TRUE;
    if (ek_ntfs_table_take(table, 0, record, was_read) == EK_NTFS_FOUND) {
        EkNtfsAttribute data = ek_ntfs_attribute_named(span, EK_NTFS_DATA, "");
        EkNtfsAttribute list = ek_ntfs_attribute_of(span, EK_NTFS_LIST);
        ek_ntfs_add_runs(&data, table->fragments);
        /* No more than there is room for, whatever it says. */
        table->records = MIN(data.size, ek_ntfs_boot_bytes(&table->boot)) / bytes;
        table->written = MIN(data.valid / bytes, table->records);
        if (ek_ntfs_attribute_exists(&list))
            add_listed_runs(table, span, other);
    }
    if (table->fragments->len == 0)
        ek_ntfs_table_guess(table);
    return TRUE;
}

void ek_ntfs_table_close(EkNtfsTable *table)
{
    g_clear_pointer(&table->fragments, g_array_unref);
    g_clear_pointer(&table->only, g_array_unref);
    g_clear_pointer(&table->indexes, g_array_unref);
    g_clear_pointer(&table->further, ek_ntfs_further_free);
}

/* --- lists of attributes -------------------------------------------------------------------- */

#define LIST_MOST (1u << 20)
#define LIST_ENTRY 26u

static guint8 *load_list(const EkNtfsTable *table, const EkNtfsAttribute *attribute, gsize *length,
                         gboolean *is_whole)
{
    *is_whole = TRUE;
    EkSpan resident = attribute->content;
    if (resident.length > 0) {
        *length = resident.length;
        return g_memdup2(resident.data, resident.length);
    }
    g_autoptr(GArray) fragments = g_array_new(FALSE, FALSE, sizeof(EkNtfsFragment));
    EkKnown known;
    ek_ntfs_add_runs(attribute, fragments);
    *length = (gsize)MIN(attribute->size, LIST_MOST);
    guint8 *list = g_malloc0(*length + 1);
    /* What of it was not read is zeros, where it ends. */
    if (!ek_ntfs_read_fragments(table, fragments, 0, list, *length, &known))
        *length = 0;
    *is_whole = *length > 0 && known.good == *length;
    return list;
}

GArray *ek_ntfs_list_records(const EkNtfsTable *table, EkSpan record, guint64 self, guint32 type,
                             gboolean *is_whole)
{
    gboolean was_read = TRUE;
    GArray *others = g_array_new(FALSE, FALSE, sizeof(guint64));
    EkNtfsAttribute attribute = ek_ntfs_attribute_of(record, EK_NTFS_LIST);
    if (!ek_ntfs_attribute_exists(&attribute))
        return others;
    gsize length = 0;
    g_autofree guint8 *list = load_list(table, &attribute, &length, &was_read);
    if (is_whole != NULL)
        *is_whole = was_read;
    g_autoptr(GHashTable) known = g_hash_table_new(g_direct_hash, g_direct_equal);
    EkSpan span = {list, length};
    for (gsize at = 0; at + LIST_ENTRY <= length;) {
        guint16 step = ek_span_le16(span, at + 4);
        guint64 number = ek_span_le64(span, at + 16) & EK_NTFS_NUMBER;
        if (step < LIST_ENTRY)
            break;
        if (number != self && (type == 0 || ek_span_le32(span, at) == type) &&
            g_hash_table_add(known, GSIZE_TO_POINTER(number)))
            g_array_append_val(others, number);
        at += step;
    }
    return others;
}
