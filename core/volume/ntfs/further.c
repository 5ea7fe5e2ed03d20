/* SPDX-License-Identifier: MIT */
/* The further records of files where their lists of attributes were not read: each record says
 * whose it is. One pass over the table, the first time that this is asked. */
#include "volume/ntfs/table.h"

#define WINDOW_BYTES (256u << 10)
#define FURTHER_MOST 1000000u

typedef struct {
    guint64 owner; /* a reference, with its generation */
    guint64 number;
    gboolean is_in_use;
} Further;

struct EkNtfsFurther {
    GArray *all; /* Further, by owner and number */
    gboolean is_loaded;
};

EkNtfsFurther *ek_ntfs_further_new(void)
{
    EkNtfsFurther *further = g_new0(EkNtfsFurther, 1);
    further->all = g_array_new(FALSE, FALSE, sizeof(Further));
    return further;
}

void ek_ntfs_further_free(EkNtfsFurther *further)
{
    g_array_unref(further->all);
    g_free(further);
}

static gint by_owner(gconstpointer a, gconstpointer b)
{
    const Further *one = a;
    const Further *other = b;
    if (one->owner != other->owner)
        return one->owner < other->owner ? -1 : 1;
    return (one->number > other->number) - (one->number < other->number);
}

/* The beginning of a record is not under the update sequence's care. */
static void note_record(GArray *all, guint64 number, EkSpan record)
{
    EkNtfsRecord header;
    if (!ek_ntfs_record_read(record, &header) || (header.base & EK_NTFS_NUMBER) == 0 ||
        all->len >= FURTHER_MOST)
        return;
    Further further = {header.base, number, header.is_in_use};
    g_array_append_val(all, further);
}

static void load(const EkNtfsTable *table)
{
    guint32 bytes = table->boot.record_bytes;
    guint64 most = WINDOW_BYTES / bytes;
    g_autofree guint8 *window = g_malloc(WINDOW_BYTES);
    GArray *all = table->further->all;
    table->further->is_loaded = TRUE;
    for (guint64 at = ek_ntfs_table_next(table, 0); at < table->records && all->len < FURTHER_MOST;
         at = ek_ntfs_table_next(table, at)) {
        guint64 count = MIN(most, table->records - at);
        EkKnown known;
        /* Where not all was read there are zeros, which are no record. Behind the fragment there
         * may be a gap: then one by one. */
        while (!ek_ntfs_read_fragments(table, table->fragments, at * bytes, window,
                                       (gsize)(count * bytes), &known) &&
               count > 1)
            count = 1;
        for (guint64 i = 0; i < count && known.good > 0; i++)
            note_record(all, at + i, (EkSpan){window + i * bytes, bytes});
        at += count;
    }
    g_array_sort(all, by_owner);
}

void ek_ntfs_further_add(const EkNtfsTable *table, guint64 owner, gboolean is_in_use,
                         GArray *records)
{
    if (!table->further->is_loaded)
        load(table);
    const GArray *all = table->further->all;
    guint first = 0;
    for (guint end = all->len; first < end;) {
        guint middle = first + (end - first) / 2;
        if (g_array_index(all, Further, middle).owner < owner)
            first = middle + 1;
        else
            end = middle;
    }
    g_autoptr(GHashTable) known = g_hash_table_new(g_direct_hash, g_direct_equal);
    for (guint i = 0; i < records->len; i++)
        g_hash_table_add(known, GSIZE_TO_POINTER(g_array_index(records, guint64, i)));
    for (guint i = first; i < all->len; i++) {
        const Further *one = &g_array_index(all, Further, i);
        if (one->owner != owner)
            break;
        if (one->is_in_use == is_in_use && g_hash_table_add(known, GSIZE_TO_POINTER(one->number)))
            g_array_append_val(records, one->number);
    }
}
