/* SPDX-License-Identifier: MIT */
/* Folders of an exFAT volume that nothing leads to. Nothing in a folder says where it is, nor in
 * which one: it is known by the sets in it, and proved by what these name. */
#include "volume/exfat/lost.h"

#define LOST_MOST (1u << 20)
#define MARK_EVERY 65536u /* clusters */
#define FOLDER_LOOK 4096u /* bytes of a cluster that are looked at */
#define CONTRADICTED_LEAST 2u

static EkByte place_of(const EkExfatSearch *search, guint32 cluster)
{
    return ek_exfat_cluster_byte(search->boot, search->first_byte, cluster);
}

/* --- which clusters are asked ----------------------------------------------------------------- */

static void load_page(EkExfatSearch *search, EkByte at)
{
    search->page_at = at - at % EK_STEP;
    search->page_is_known = FALSE;
    for (guint i = 0; i < search->bitmap->len; i++) {
        const EkExtent *run = &g_array_index(search->bitmap, EkExtent, i);
        EkByte into = search->page_at - run->offset;
        EkKnown known;
        if (search->page_at < run->offset || into >= run->bytes)
            continue;
        gsize length = (gsize)MIN(EK_STEP, run->bytes - into);
        memset(search->page, 0xff, EK_STEP);
        search->page_is_known = ek_reader_read(search->reader, run->first_byte + into, search->page,
                                               length, &known, NULL) &&
                                known.good == length;
        return;
    }
}

/* May this cluster be in use, as far as the bitmap was read? */
static gboolean may_be_used(EkExfatSearch *search, guint32 cluster)
{
    EkByte at = (cluster - 2) / 8;
    if (search->is_earlier)
        return TRUE;
    if (search->page_at == EK_UNPLACED || at < search->page_at || at - search->page_at >= EK_STEP)
        load_page(search, at);
    return !search->page_is_known ||
           (search->page[at - search->page_at] >> (cluster - 2) % 8 & 1) != 0;
}

/* Does it say so, rather than that it was not read? */
static gboolean is_told_used(EkExfatSearch *search, guint32 cluster)
{
    return !search->is_earlier && may_be_used(search, cluster) && search->page_is_known;
}

static gboolean is_unclaimed(EkExfatSearch *search, guint32 cluster)
{
    return ek_exfat_cluster_exists(search->boot, cluster) &&
           !ek_cluster_bitmap_has(search->taken, cluster) &&
           !ek_cluster_bitmap_has(search->files, cluster) &&
           may_be_used(search, cluster) != search->seeks_free;
}

/* --- what a folder looks like ----------------------------------------------------------------- */

static gboolean is_entry_type(guint8 type)
{
    type |= EK_EXFAT_IN_USE;
    return type == EK_EXFAT_FILE || type == EK_EXFAT_STREAM || type == EK_EXFAT_NAME;
}

/* The type of an entry in a cluster; 0 when it was not read. */
static guint8 type_at(EkExfatSearch *search, guint32 cluster, gsize index)
{
    guint8 type = 0;
    EkByte at = place_of(search, cluster) + index * EK_EXFAT_ENTRY_BYTES;
    return ek_reader_read(search->reader, at, &type, 1, NULL, NULL) ? type : 0;
}

guint32 ek_exfat_goes_on(EkExfatSearch *search, guint32 cluster)
{
    guint32 next = 0;
    gsize last = search->boot->cluster_bytes / EK_EXFAT_ENTRY_BYTES - 1;
    EkLink link = ek_links_of(search->links, EK_LINK_JUDGED, cluster, &next);
    if (link != EK_LINK_FREE && link != EK_LINK_UNKNOWN)
        return link == EK_LINK_NEXT ? next : 0;
    return is_entry_type(type_at(search, cluster, last)) && is_unclaimed(search, cluster + 1) &&
                   is_entry_type(type_at(search, cluster + 1, 0))
               ? cluster + 1
               : 0;
}

/* Does a folder begin where a set says? Its first entry is that of a file. */
static EkPresence look_at_folder(EkExfatSearch *search, const EkExfatSet *set)
{
    guint8 start[EK_EXFAT_SET_MOST * EK_EXFAT_ENTRY_BYTES];
    EkExfatSet first;
    if (!ek_exfat_cluster_exists(search->boot, set->cluster) ||
        ek_presence_read(search->reader, place_of(search, set->cluster), start, sizeof start) !=
            EK_PRESENT)
        return EK_UNREAD;
    return ek_exfat_set_read((EkSpan){start, sizeof start}, &first) && first.is_sound ? EK_PRESENT
                                                                                      : EK_UNREAD;
}

/* What later files may lie on tells nothing. */
static EkPresence look_at_content(EkExfatSearch *search, const EkExfatSet *set)
{
    if (set->is_folder)
        return look_at_folder(search, set);
    if (!ek_exfat_cluster_exists(search->boot, set->cluster))
        return set->bytes > 0 ? EK_ABSENT : EK_UNREAD;
    guint64 last = set->cluster + (MAX(set->bytes, 1) - 1) / search->boot->cluster_bytes;
    if (last > G_MAXUINT32 || !ek_exfat_cluster_exists(search->boot, (guint32)last))
        return EK_ABSENT;
    if (search->seeks_free && may_be_used(search, (guint32)last))
        return EK_UNREAD;
    return ek_exfat_look_at_end(search->reader, set, place_of(search, 2),
                                search->boot->cluster_bytes);
}

/* What agrees, and what does not. */
typedef struct {
    guint ends;    /* of files */
    guint folders; /* that begin where they are named: those of another volume may, side by side */
    guint others;
} Signs;

static EkExfatProof proof_of(const Signs *signs)
{
    guint agreeing = signs->ends + signs->folders;
    if ((signs->ends > 0 || signs->folders > 1) && 2 * signs->others <= agreeing)
        return EK_EXFAT_PROVED;
    return signs->others >= CONTRADICTED_LEAST && signs->others > agreeing ? EK_EXFAT_ANOTHERS
                                                                           : EK_EXFAT_OPEN;
}

/* Reads the beginning of a cluster; what was not read is zeros. *from: where the first part begins
 * that was. FALSE: none was. */
static gboolean read_partly(EkExfatSearch *search, guint32 cluster, guint8 *data, gsize length,
                            gsize *from)
{
    *from = length;
    for (gsize at = 0; at < length; at += EK_STEP) {
        if (ek_presence_read(search->reader, place_of(search, cluster) + at, data + at, EK_STEP) !=
            EK_PRESENT)
            memset(data + at, 0, EK_STEP);
        else if (*from == length)
            *from = at;
    }
    return *from < length;
}

/* Does a folder begin in this cluster? Nothing says so but the sets in it. */
static gboolean begins_folder(EkExfatSearch *search, guint32 cluster, GHashTable *led,
                              EkExfatProof *proof)
{
    guint8 data[FOLDER_LOOK];
    EkSpan span = {data, MIN(search->boot->cluster_bytes, sizeof data)};
    guint found = 0;
    gboolean may_be_deleted = !is_told_used(search, cluster);
    gsize from = 0;
    Signs signs = {0};
    if (!read_partly(search, cluster, data, span.length, &from) || !is_entry_type(data[from]))
        return FALSE;
    for (gsize at = 0; at < span.length; at += EK_EXFAT_ENTRY_BYTES) {
        EkExfatSet set;
        if (!ek_exfat_set_read(ek_span_part(span, at, span.length - at), &set) || !set.is_sound)
            continue;
        EkPresence content = look_at_content(search, &set);
        /* In a folder that was deleted with all that was in it, all are. */
        gboolean counts = !set.is_deleted || may_be_deleted;
        found += counts ? 1 : 0;
        signs.ends += content == EK_PRESENT && !set.is_folder;
        signs.folders += content == EK_PRESENT && set.is_folder;
        signs.others += content == EK_ABSENT;
        if (set.is_folder && counts)
            g_hash_table_add(led, GUINT_TO_POINTER(set.cluster));
    }
    *proof = proof_of(&signs);
    return found > 0;
}

GArray *ek_exfat_find_lost(EkExfatSearch *search, GHashTable *led)
{
    GArray *all = g_array_new(FALSE, FALSE, sizeof(EkExfatLost));
    EkByte bytes = ek_reader_bytes(search->reader);
    EkByte heap = place_of(search, 2);
    /* A volume may claim more than there is. */
    guint64 clusters =
        MIN(search->boot->clusters, (bytes - MIN(heap, bytes)) / search->boot->cluster_bytes);
    EkRange run = {0, 0};
    gboolean is_over = FALSE;
    for (guint32 i = 0; i < clusters && all->len < LOST_MOST && !is_over; i++) {
        EkExfatLost lost = {.cluster = i + 2};
        if (!ek_may_hold_data(search->reader, place_of(search, lost.cluster), EK_STEP, &run)) {
            /* On to the cluster in which something stands again. */
            guint64 next = MIN((run.first - heap) / search->boot->cluster_bytes, clusters);
            i = (guint32)MAX(next, (guint64)i + 1) - 1;
            continue;
        }
        if (is_unclaimed(search, lost.cluster) &&
            begins_folder(search, lost.cluster, led, &lost.proof)) {
            lost.is_told = is_told_used(search, lost.cluster);
            g_array_append_val(all, lost);
            g_hash_table_add(led, GUINT_TO_POINTER(ek_exfat_goes_on(search, lost.cluster)));
        }
        if (i % MARK_EVERY == 0)
            is_over = !search->mark(search->data);
    }
    return all;
}
