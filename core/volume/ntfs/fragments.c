/* SPDX-License-Identifier: MIT */
/* The fragments that an attribute of NTFS lies in, above all the file table. */
#include "volume/ntfs/table.h"

#include <string.h>

#define CLUSTERS_MOST (G_MAXINT64 / (2 << 20))

void ek_ntfs_add_runs(const EkNtfsAttribute *attribute, GArray *fragments)
{
    guint most = (guint)(attribute->runs.length / 2) + 1;
    g_autofree EkNtfsRun *runs = g_new(EkNtfsRun, most);
    guint count = ek_ntfs_runs(attribute, runs, most);
    guint64 cluster = attribute->first_cluster;
    for (guint i = 0; i < count && cluster < CLUSTERS_MOST; i++) {
        EkNtfsFragment fragment = {cluster, runs[i].clusters, runs[i].first};
        if (fragment.clusters > CLUSTERS_MOST - cluster)
            break;
        g_array_append_val(fragments, fragment);
        cluster += fragment.clusters;
    }
}

static gint by_cluster(gconstpointer a, gconstpointer b)
{
    const EkNtfsFragment *left = a;
    const EkNtfsFragment *right = b;
    return left->at < right->at ? -1 : left->at > right->at;
}

void ek_ntfs_sort_fragments(GArray *fragments)
{
    g_array_sort(fragments, by_cluster);
}

/* The fragment that holds a cluster of what they are of; NULL when none does. */
const EkNtfsFragment *ek_ntfs_fragment_at(const GArray *fragments, guint64 cluster)
{
    guint low = 0;
    guint high = fragments->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        const EkNtfsFragment *fragment = &g_array_index(fragments, EkNtfsFragment, middle);
        if (cluster < fragment->at)
            high = middle;
        else if (cluster - fragment->at >= fragment->clusters)
            low = middle + 1;
        else
            return fragment;
    }
    return NULL;
}

EkByte ek_ntfs_place(const EkNtfsTable *table, guint64 cluster)
{
    EkByte place = 0;
    return cluster != EK_NTFS_HOLE && cluster < CLUSTERS_MOST &&
                   g_uint64_checked_add(&place, table->first_byte,
                                        cluster * table->boot.cluster_bytes)
               ? place
               : EK_UNPLACED;
}

gboolean ek_ntfs_read_fragments(const EkNtfsTable *table, const GArray *fragments, guint64 offset,
                                guint8 *buffer, gsize length, EkKnown *known)
{
    guint32 cluster_bytes = table->boot.cluster_bytes;
    *known = (EkKnown){0};
    for (gsize done = 0; done < length;) {
        guint64 at = offset + done;
        const EkNtfsFragment *fragment = ek_ntfs_fragment_at(fragments, at / cluster_bytes);
        if (fragment == NULL)
            return FALSE;
        guint64 into = at - fragment->at * cluster_bytes;
        gsize part = (gsize)MIN(length - done, fragment->clusters * cluster_bytes - into);
        EkByte place = ek_ntfs_place(table, fragment->first);
        EkKnown own = {.good = part};
        if (fragment->first == EK_NTFS_HOLE)
            memset(buffer + done, 0, part);
        else if (place == EK_UNPLACED ||
                 !ek_reader_read(table->reader, place + into, buffer + done, part, &own, NULL))
            return FALSE;
        known->good += own.good;
        known->bad += own.bad;
        known->unread += own.unread;
        done += part;
    }
    return TRUE;
}

guint64 ek_ntfs_table_next(const EkNtfsTable *table, guint64 number)
{
    guint32 bytes = table->boot.record_bytes;
    guint32 size = table->boot.cluster_bytes;
    for (guint i = 0; i < table->fragments->len; i++) {
        const EkNtfsFragment *fragment = &g_array_index(table->fragments, EkNtfsFragment, i);
        if ((fragment->at + fragment->clusters) * size > number * bytes)
            return MIN(MAX(number, fragment->at * size / bytes), table->records);
    }
    return table->records;
}
