/* SPDX-License-Identifier: MIT */
/* Which clusters of a volume belong to folders, or to files, that were taken already: so that
 * circles end, and what nothing leads to is seen. */
#ifndef EK_VOLUME_CLUSTERBITMAP_H
#define EK_VOLUME_CLUSTERBITMAP_H

#include <glib.h>

typedef struct {
    guint8 *bits;
    guint64 count;
} EkClusterBitmap;

/* For clusters 0 to count - 1. */
static inline EkClusterBitmap ek_cluster_bitmap_new(guint64 count)
{
    return (EkClusterBitmap){g_malloc0((gsize)(count / 8) + 1), count};
}

static inline void ek_cluster_bitmap_clear(EkClusterBitmap *taken)
{
    g_clear_pointer(&taken->bits, g_free);
}

/* FALSE when it was taken already, or there is no such cluster. */
static inline gboolean ek_cluster_bitmap_add(EkClusterBitmap *taken, guint64 cluster)
{
    guint8 bit = (guint8)(1u << cluster % 8);
    if (cluster >= taken->count || (taken->bits[cluster / 8] & bit) != 0)
        return FALSE;
    taken->bits[cluster / 8] |= bit;
    return TRUE;
}

static inline gboolean ek_cluster_bitmap_has(const EkClusterBitmap *taken, guint64 cluster)
{
    return cluster < taken->count && (taken->bits[cluster / 8] >> cluster % 8 & 1) != 0;
}

/* Takes a run, of which the first cluster is its own already where `has_first`. Returns how many of
 * them are its own then: up to the first that is another's. */
static inline guint64 ek_cluster_bitmap_add_run(EkClusterBitmap *taken, guint64 first,
                                                guint64 count, gboolean has_first)
{
    guint64 own = has_first && count > 0 ? 1 : 0;
    while (own < count && ek_cluster_bitmap_add(taken, first + own))
        own++;
    return own;
}

#endif
