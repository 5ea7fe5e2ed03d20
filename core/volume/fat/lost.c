/* SPDX-License-Identifier: MIT */
/* Folders of a FAT volume that nothing leads to: one says in its first entry where it is, and in
 * the next one which it is in; a part of one that does not begin it is known by its entries. */
#include "volume/fat/lost.h"

#include "volume/headers.h"

#define LOST_MOST (1u << 20)
#define MARK_EVERY 65536u /* clusters */
#define PART_LEAST 2u     /* entries */

EkLink ek_fat_link_of(const EkFatSearch *search, guint32 cluster, guint32 *next)
{
    return search->is_earlier ? EK_LINK_FREE
                              : ek_links_of(search->links, EK_LINK_JUDGED, cluster, next);
}

guint32 ek_fat_owner_of(const EkFatSearch *search, EkSpan span)
{
    const EkFatBoot *boot = search->boot;
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length; at += EK_FAT_ENTRY_BYTES) {
        EkFatEntry entry = ek_fat_entry_read(span, at);
        guint32 cluster = ek_fat_entry_cluster(&entry, boot->bits);
        guint8 start[2 * EK_FAT_ENTRY_BYTES];
        EkFatEntry self;
        EkFatEntry parent;
        if (entry.is_end)
            break;
        if (entry.is_long || !entry.is_folder || ek_fat_entry_is_dot(&entry) ||
            ek_fat_entry_is_dot_dot(&entry) || !ek_fat_cluster_exists(boot, cluster) ||
            ek_presence_read(search->reader, ek_fat_cluster_byte(boot, search->first_byte, cluster),
                             start, sizeof start) != EK_PRESENT ||
            !ek_fat_begins_folder((EkSpan){start, sizeof start}, &self, &parent) ||
            ek_fat_entry_cluster(&self, boot->bits) != cluster)
            continue;
        return ek_fat_entry_cluster(&parent, boot->bits);
    }
    return EK_FAT_OWNER_UNKNOWN;
}

/* Does a long name stand right before the short one that it is the name of? Its sum says so. */
static gboolean has_long_name(EkSpan span)
{
    gboolean is_next = FALSE;
    guint8 sum = 0;
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length; at += EK_FAT_ENTRY_BYTES) {
        EkFatEntry entry = ek_fat_entry_read(span, at);
        if (entry.is_end)
            break;
        if (is_next && !entry.is_long && !entry.is_deleted && ek_fat_name_sum(entry.name) == sum)
            return TRUE;
        is_next = entry.is_long && !entry.is_deleted && entry.order == 1;
        sum = entry.sum;
    }
    return FALSE;
}

gboolean ek_fat_is_part_of_folder(const EkFatSearch *search, EkSpan span)
{
    guint plausible = 0;
    guint used = ek_fat_count_entries(span, &plausible);
    EkFatEntry first = ek_fat_entry_read(span, 0);
    return used >= PART_LEAST && plausible == used && !ek_fat_entry_is_dot(&first) &&
           (ek_fat_count_sound(span, search->boot) >= PART_LEAST || has_long_name(span));
}

/* Does a folder begin in this cluster? It says so in its first entry, and in the next one which
 * folder it is in. */
static gboolean begins_folder(const EkFatSearch *search, guint32 cluster, EkSpan sector,
                              EkFatLost *lost)
{
    EkFatEntry self;
    EkFatEntry parent;
    if (!ek_fat_begins_folder(sector, &self, &parent) ||
        ek_fat_entry_cluster(&self, search->boot->bits) != cluster)
        return FALSE;
    lost->parent = ek_fat_entry_cluster(&parent, search->boot->bits);
    lost->modified = ek_fat_entry_written(&self);
    return TRUE;
}

/* Does a cluster, whose first sector is in `data`, hold entries that begin no folder? Those that a
 * folder right before goes on with are its own. */
static gboolean holds_part(const EkFatSearch *search, const GArray *all, guint8 *data,
                           EkFatLost *lost)
{
    const EkFatBoot *boot = search->boot;
    const EkFatLost *before = all->len > 0 ? &g_array_index(all, EkFatLost, all->len - 1) : NULL;
    EkSpan span = {data, boot->cluster_bytes};
    if (!ek_fat_is_part_of_folder(search, ek_span_part(span, 0, EK_STEP)) ||
        ek_presence_read(search->reader, lost->place, data, span.length) != EK_PRESENT ||
        !ek_fat_is_part_of_folder(search, span))
        return FALSE;
    lost->is_part = TRUE;
    lost->parent = ek_fat_owner_of(search, span);
    return before == NULL || before->cluster + 1 != lost->cluster ||
           (lost->parent != EK_FAT_OWNER_UNKNOWN && lost->parent != before->cluster);
}

GArray *ek_fat_find_lost(const EkFatSearch *search)
{
    const EkFatBoot *boot = search->boot;
    GArray *all = g_array_new(FALSE, FALSE, sizeof(EkFatLost));
    EkByte bytes = ek_reader_bytes(search->reader);
    EkByte first = search->first_byte + boot->data_start;
    g_autofree guint8 *data = g_malloc(boot->cluster_bytes);
    gboolean is_over = FALSE;
    EkRange run = {0, 0};
    /* A volume may claim more than there is. */
    guint64 clusters = MIN(boot->clusters, (bytes - MIN(first, bytes)) / boot->cluster_bytes);
    for (guint32 i = 0; i < clusters && all->len < LOST_MOST && !is_over; i++) {
        guint32 cluster = i + 2;
        guint32 next = 0;
        EkByte place = ek_fat_cluster_byte(boot, search->first_byte, cluster);
        EkFatLost lost = {.cluster = cluster, .place = place};
        if (i % MARK_EVERY == 0)
            is_over = !search->mark(search->data);
        if (!ek_may_hold_data(search->reader, place, EK_STEP, &run)) {
            /* On to the cluster in which something stands again. */
            guint64 next_one = MIN((run.first - first) / boot->cluster_bytes, clusters);
            i = (guint32)MAX(next_one, (guint64)i + 1) - 1;
            continue;
        }
        if (ek_cluster_bitmap_has(search->taken, cluster) ||
            ek_cluster_bitmap_has(search->files, cluster))
            continue;
        EkLink link = ek_fat_link_of(search, cluster, &next);
        /* What was not read is not asked for: it may be anything. */
        if (link == EK_LINK_BAD || ek_reader_known(search->reader, place, EK_STEP).good < EK_STEP ||
            ek_presence_read(search->reader, place, data, EK_STEP) != EK_PRESENT || data[0] == 0)
            continue;
        if (data[0] == '.' ? begins_folder(search, cluster, (EkSpan){data, EK_STEP}, &lost)
                           : link == EK_LINK_FREE && holds_part(search, all, data, &lost)) {
            lost.is_free = link == EK_LINK_FREE;
            g_array_append_val(all, lost);
        }
    }
    return all;
}

gboolean ek_fat_is_lost(const GArray *all, guint32 cluster)
{
    guint low = 0;
    guint high = all->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        guint32 other = g_array_index(all, EkFatLost, middle).cluster;
        if (other == cluster)
            return TRUE;
        if (other < cluster)
            low = middle + 1;
        else
            high = middle;
    }
    return FALSE;
}
