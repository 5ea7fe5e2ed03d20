/* SPDX-License-Identifier: MIT */
/* The fragments that an attribute of NTFS lies in, above all the file table. */
#include "volume/ntfs/table.h"

#include <string.h>

#define CLUSTERS_MOST (G_MAXINT64 / (2 << 20))

void ek_ntfs_add_runs(const EkNtfsAttribute *attribute, GArray *pieces)
{
    guint most = (guint)(attribute->runs.length / 2) + 1;
    g_autofree EkNtfsRun *runs = g_new(EkNtfsRun, most);
    guint count = ek_ntfs_runs(attribute, runs, most);
    guint64 cluster = attribute->first_cluster;
    for (guint i = 0; i < count && cluster < CLUSTERS_MOST; i++) {
        EkNtfsFragment piece = {cluster, runs[i].clusters, runs[i].first};
        if (piece.clusters > CLUSTERS_MOST - cluster)
            break;
        g_array_append_val(pieces, piece);
        cluster += piece.clusters;
    }
}

static gint by_cluster(gconstpointer a, gconstpointer b)
{
    const EkNtfsFragment *left = a;
    const EkNtfsFragment *right = b;
    return left->at < right->at ? -1 : left->at > right->at;
}

void ek_ntfs_sort_fragments(GArray *pieces)
{
    g_array_sort(pieces, by_cluster);
}

/* The piece that holds a cluster of what they are of; NULL when none does. */
const EkNtfsFragment *ek_ntfs_fragment_at(const GArray *pieces, guint64 cluster)
{
    guint low = 0;
    guint high = pieces->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        const EkNtfsFragment *piece = &g_array_index(pieces, EkNtfsFragment, middle);
        if (cluster < piece->at)
            high = middle;
        else if (cluster - piece->at >= piece->clusters)
            low = middle + 1;
        else
            return piece;
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

gboolean ek_ntfs_read_fragments(const EkNtfsTable *table, const GArray *pieces, guint64 offset,
                                guint8 *buffer, gsize length, EkKnown *known)
{
    guint32 cluster_bytes = table->boot.cluster_bytes;
    *known = (EkKnown){0};
    for (gsize done = 0; done < length;) {
        guint64 at = offset + done;
        const EkNtfsFragment *piece = ek_ntfs_fragment_at(pieces, at / cluster_bytes);
        if (piece == NULL)
            return FALSE;
        guint64 into = at - piece->at * cluster_bytes;
        gsize part = (gsize)MIN(length - done, piece->clusters * cluster_bytes - into);
        EkByte place = ek_ntfs_place(table, piece->first);
        EkKnown own = {.good = part};
        if (piece->first == EK_NTFS_HOLE)
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
    for (guint i = 0; i < table->pieces->len; i++) {
        const EkNtfsFragment *piece = &g_array_index(table->pieces, EkNtfsFragment, i);
        if ((piece->at + piece->clusters) * size > number * bytes)
            return MIN(MAX(number, piece->at * size / bytes), table->records);
    }
    return table->records;
}
