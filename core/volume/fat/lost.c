/* SPDX-License-Identifier: MIT */
/* Folders of a FAT volume that nothing leads to: one says in its first entry where it is, and in
 * the next one which it is in; a part of one that does not begin it is known by its entries. */
#include "volume/fat/lost.h"

#include "volume/fat/longname.h"
#include "volume/headers.h"

#define LOST_MOST (1u << 20)
#define MARK_EVERY 65536u /* clusters */
#define PART_LEAST 2u     /* entries */
#define CASE_FLAGS 0x18u  /* all that is ever set there */
#define CHAINS_LEAST 2u   /* points for files in a part */
#define STEPS_MORE 65536u
#define CHAIN_MOST 16u    /* clusters of it that are looked at for that */
#define TAILS_MOST 20000u /* each part is compared with all of them */

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

/* How many entries say in every field what entries do. Those of long names are counted too: nothing
 * else has so many fixed bytes. */
static guint count_right(EkSpan span, const EkFatBoot *boot)
{
    guint count = 0;
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length && ek_span_u8(span, at) != 0;
         at += EK_FAT_ENTRY_BYTES)
        count += ek_fat_is_long(span, at) ||
                 ek_fat_is_sound(ek_span_part(span, at, EK_FAT_ENTRY_BYTES), boot);
    return count;
}

gboolean ek_fat_is_part_of_folder(const EkFatSearch *search, EkSpan span)
{
    guint plausible = 0;
    guint used = ek_fat_count_entries(span, &plausible);
    EkFatEntry first = ek_fat_entry_read(span, 0);
    if (used == 0 || plausible < used || ek_fat_entry_is_dot(&first))
        return FALSE;
    guint right = count_right(span, search->boot);
    /* One alone is believed when nothing else stands there, nor in it where nothing may. */
    return used >= PART_LEAST ? right >= PART_LEAST
                              : right == 1 && (first.case_flags & ~CASE_FLAGS) == 0 &&
                                    ek_bytes_are_zero(span.data + EK_FAT_ENTRY_BYTES,
                                                      span.length - EK_FAT_ENTRY_BYTES);
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

/* --- which part goes on with which folder ----------------------------------------------------- */

/* A cluster that ends within a long name, or behind one whose short entry is still to come. */
typedef struct {
    guint32 cluster;
    guint32 owner; /* the folder's first cluster; EK_FAT_OWNER_UNKNOWN */
    guint expected;
    guint8 sum;
    gboolean is_erased; /* its entries are deleted, and have lost their order */
    gunichar2 first;    /* unit of such a name, if it is complete */
    gboolean is_followed;
} Tail;

static void add_tail(GArray *tails, EkSpan span, guint32 cluster, guint32 owner)
{
    EkFatLongName name = {.total = 0};
    Tail tail = {.cluster = cluster, .owner = owner};
    ek_fat_long_take_all(&name, span);
    tail.expected = name.expected;
    tail.sum = name.sum;
    tail.is_erased = name.erased > 0;
    tail.first = name.units[0];
    if (name.total > 0 || name.erased > 0)
        g_array_append_val(tails, tail);
}

/* Does a deleted entry go on with a deleted name? By the sum; a long one that has room behind its
 * last letter begins a name; the first letter of a short one is most often that of the long one. */
static gboolean goes_on_erased(const Tail *tail, EkSpan span, const EkFatEntry *entry)
{
    if (!tail->is_erased)
        return FALSE;
    if (entry->is_long) {
        gunichar2 units[EK_FAT_LONG_UNITS];
        ek_fat_entry_units(span, 0, units);
        return entry->sum == tail->sum && units[EK_FAT_LONG_UNITS - 1] != 0xffff &&
               units[EK_FAT_LONG_UNITS - 1] != 0;
    }
    guint8 name[EK_FAT_NAME_BYTES];
    memcpy(name, entry->name, sizeof name);
    name[0] = tail->first < 0x80 ? (guint8)g_ascii_toupper((char)tail->first) : EK_FAT_LOST_LETTER;
    return ek_fat_name_sum(name) == tail->sum;
}

/* Is the first entry of a part the next one of the name that is open at the tail? */
static gboolean goes_on(const Tail *tail, EkSpan span)
{
    EkFatEntry entry = ek_fat_entry_read(span, 0);
    if (entry.is_deleted)
        return goes_on_erased(tail, span, &entry);
    if (tail->is_erased || (entry.is_long && entry.is_last))
        return FALSE;
    return entry.is_long ? entry.order == tail->expected && entry.sum == tail->sum
                         : tail->expected == 0 && ek_fat_name_sum(entry.name) == tail->sum;
}

/* The tail that a part goes on with: its first entry is the next one of the open name. The nearest
 * one before it; a driver seldom goes back. */
static Tail *find_tail(const EkFatSearch *search, GArray *tails, const EkFatLost *part)
{
    guint8 data[EK_FAT_ENTRY_BYTES];
    EkSpan span = {data, sizeof data};
    Tail *best = NULL;
    if (ek_presence_read(search->reader, part->place, data, sizeof data) != EK_PRESENT)
        return NULL;
    for (guint i = 0; i < tails->len; i++) {
        Tail *tail = &g_array_index(tails, Tail, i);
        if (tail->cluster >= part->cluster)
            break;
        gboolean is_known = part->parent != EK_FAT_OWNER_UNKNOWN;
        if (tail->is_followed || !goes_on(tail, span) ||
            (is_known && tail->owner != EK_FAT_OWNER_UNKNOWN && tail->owner != part->parent))
            continue;
        if (best == NULL || !is_known || best->owner != part->parent || tail->owner == part->parent)
            best = tail;
    }
    return best;
}

static EkFatLost *lost_at(const GArray *all, guint32 cluster)
{
    guint low = 0;
    guint high = all->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        EkFatLost *other = &g_array_index(all, EkFatLost, middle);
        if (other->cluster == cluster)
            return other;
        if (other->cluster < cluster)
            low = middle + 1;
        else
            high = middle;
    }
    return NULL;
}

const EkFatLost *ek_fat_lost_at(const GArray *all, guint32 cluster)
{
    return lost_at(all, cluster);
}

/* Whose parts they are: by the names that go on in them, else by the folders they name. */
static void join_parts(const EkFatSearch *search, GArray *all, GArray *tails)
{
    for (guint i = 0; i < all->len && tails->len < TAILS_MOST; i++) {
        EkFatLost *part = &g_array_index(all, EkFatLost, i);
        Tail *tail = part->is_part ? find_tail(search, tails, part) : NULL;
        if (tail == NULL)
            continue;
        tail->is_followed = TRUE;
        part->follows = tail->cluster;
        if (part->parent == EK_FAT_OWNER_UNKNOWN)
            part->parent = tail->owner;
        for (guint k = 0; k < tails->len; k++) {
            Tail *own = &g_array_index(tails, Tail, k);
            if (own->cluster == part->cluster)
                own->owner = part->parent;
        }
    }
    /* From the last one on, so that each list is in order. */
    for (guint i = all->len; i > 0; i--) {
        EkFatLost *part = &g_array_index(all, EkFatLost, i - 1);
        EkFatLost *owner = part->is_part && part->parent != EK_FAT_OWNER_UNKNOWN
                               ? lost_at(all, part->parent)
                               : NULL;
        if (owner == NULL || owner->is_part)
            continue;
        part->next = owner->next;
        owner->next = part->cluster;
    }
}

/* --- the search ------------------------------------------------------------------------------- */

typedef struct {
    const EkFatSearch *search;
    GArray *all;
    GArray *tails;
    guint8 *data;   /* of a cluster */
    guint32 before; /* the cluster that the folder at hand went on to, and... */
    guint32 owner;  /* ...its first one */
    guint64 steps;  /* clusters of chains that may still be followed: a hostile FAT has no end */
} Scan;

/* An entry that was never used ends a folder. */
static gboolean is_last_cluster(EkSpan span)
{
    return ek_span_u8(span, span.length - EK_FAT_ENTRY_BYTES) == 0;
}

/* Adds how much speaks for entries: a file whose chain is as long as it is, twice where that takes
 * several clusters. FALSE: one is not. */
static gboolean weigh_chains(Scan *scan, EkSpan span, guint *points)
{
    const EkFatSearch *search = scan->search;
    const EkFatBoot *boot = search->boot;
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length; at += EK_FAT_ENTRY_BYTES) {
        EkFatEntry entry = ek_fat_entry_read(span, at);
        guint32 cluster = ek_fat_entry_cluster(&entry, boot->bits);
        if (entry.is_end)
            break;
        if (entry.is_long || entry.is_deleted || entry.is_label || entry.is_folder ||
            entry.size == 0)
            continue;
        guint64 wanted = ek_divide_up(entry.size, boot->cluster_bytes);
        if (!ek_fat_cluster_exists(boot, cluster))
            return FALSE;
        wanted = MIN(wanted, boot->clusters);
        if (wanted > scan->steps)
            return FALSE;
        EkChain chain = ek_links_follow(search->links, cluster, wanted);
        scan->steps -= MIN(chain.clusters, scan->steps);
        if (!ek_chain_fits(&chain, wanted))
            return FALSE;
        *points += wanted > 1 ? 2 : 1;
    }
    return TRUE;
}

/* Clusters in use that nothing leads to may be those of a disk image: the entries are believed when
 * the FAT has chains for them, and those they go on with, that are as long as their files. */
static gboolean chains_fit(Scan *scan, guint32 cluster)
{
    const EkFatSearch *search = scan->search;
    const EkFatBoot *boot = search->boot;
    EkSpan span = {scan->data, boot->cluster_bytes};
    guint points = 0;
    for (guint i = 0; i < CHAIN_MOST && points < CHAINS_LEAST; i++) {
        EkByte place = ek_fat_cluster_byte(boot, search->first_byte, cluster);
        if (ek_presence_read(search->reader, place, scan->data, span.length) != EK_PRESENT ||
            (i > 0 && !ek_fat_is_part_of_folder(search, span)) ||
            !weigh_chains(scan, span, &points) ||
            (points < CHAINS_LEAST && ek_fat_link_of(search, cluster, &cluster) != EK_LINK_NEXT))
            return FALSE;
    }
    return points >= CHAINS_LEAST;
}

/* A cluster, whose first sector was read, that holds entries and begins no folder. Those that a
 * folder right before goes on with are its own. */
static gboolean takes_part(Scan *scan, EkFatLost *lost, EkLink link)
{
    const EkFatSearch *search = scan->search;
    EkSpan span = {scan->data, search->boot->cluster_bytes};
    if (!ek_fat_is_part_of_folder(search, ek_span_part(span, 0, EK_STEP)) ||
        ek_presence_read(search->reader, lost->place, scan->data, span.length) != EK_PRESENT ||
        !ek_fat_is_part_of_folder(search, span))
        return FALSE;
    lost->is_part = TRUE;
    lost->parent = ek_fat_owner_of(search, span);
    /* Of what is in use the FAT says whose it is, when the beginning is there. */
    if (link != EK_LINK_FREE) {
        scan->before = 0;
        return chains_fit(scan, lost->cluster);
    }
    gboolean goes_on = scan->before != 0 && scan->before + 1 == lost->cluster &&
                       (lost->parent == EK_FAT_OWNER_UNKNOWN || lost->parent == scan->owner);
    guint32 owner = goes_on ? scan->owner : lost->parent;
    scan->before =
        !is_last_cluster(span) && (goes_on || owner != EK_FAT_OWNER_UNKNOWN) ? lost->cluster : 0;
    scan->owner = owner;
    add_tail(scan->tails, span, lost->cluster, owner);
    return !goes_on || ek_fat_lost_at(scan->all, scan->owner) == NULL;
}

static gboolean takes_folder(Scan *scan, EkFatLost *lost)
{
    EkSpan span = {scan->data, scan->search->boot->cluster_bytes};
    if (!begins_folder(scan->search, lost->cluster, ek_span_part(span, 0, EK_STEP), lost))
        return FALSE;
    scan->before = 0;
    scan->owner = lost->cluster;
    if (ek_presence_read(scan->search->reader, lost->place, scan->data, span.length) ==
        EK_PRESENT) {
        scan->before = is_last_cluster(span) ? 0 : lost->cluster;
        add_tail(scan->tails, span, lost->cluster, lost->cluster);
    }
    return TRUE;
}

/* A folder that is known may go on elsewhere when its chain is gone. */
static void take_open_end(Scan *scan, guint32 cluster, EkByte place)
{
    EkSpan span = {scan->data, scan->search->boot->cluster_bytes};
    EkFatEntry first;
    if (ek_presence_read(scan->search->reader, place, scan->data, span.length) != EK_PRESENT ||
        is_last_cluster(span))
        return;
    first = ek_fat_entry_read(span, 0);
    add_tail(scan->tails, span, cluster,
             ek_fat_entry_is_dot(&first) ? cluster : ek_fat_owner_of(scan->search, span));
}

static void look_at_cluster(Scan *scan, guint32 cluster, EkByte place)
{
    const EkFatSearch *search = scan->search;
    EkFatLost lost = {.cluster = cluster, .place = place};
    guint32 next = 0;
    if (ek_cluster_bitmap_has(search->files, cluster))
        return;
    EkLink link = ek_fat_link_of(search, cluster, &next);
    if (ek_cluster_bitmap_has(search->taken, cluster)) {
        if (link == EK_LINK_FREE)
            take_open_end(scan, cluster, place);
        return;
    }
    /* What was not read is not asked for: it may be anything. */
    if (link == EK_LINK_BAD || ek_reader_known(search->reader, place, EK_STEP).good < EK_STEP ||
        ek_presence_read(search->reader, place, scan->data, EK_STEP) != EK_PRESENT ||
        scan->data[0] == 0)
        return;
    if (scan->data[0] == '.' ? takes_folder(scan, &lost) : takes_part(scan, &lost, link)) {
        lost.is_free = link == EK_LINK_FREE;
        g_array_append_val(scan->all, lost);
    }
}

GArray *ek_fat_find_lost(const EkFatSearch *search)
{
    const EkFatBoot *boot = search->boot;
    EkByte bytes = ek_reader_bytes(search->reader);
    EkByte first = search->first_byte + boot->data_start;
    g_autofree guint8 *data = g_malloc(MAX(boot->cluster_bytes, EK_STEP));
    g_autoptr(GArray) tails = g_array_new(FALSE, FALSE, sizeof(Tail));
    Scan scan = {search, g_array_new(FALSE, FALSE, sizeof(EkFatLost)), tails, data, 0, 0, 0};
    gboolean is_over = FALSE;
    EkRange run = {0, 0};
    /* A volume may claim more than there is. */
    guint64 clusters = MIN(boot->clusters, (bytes - MIN(first, bytes)) / boot->cluster_bytes);
    scan.steps = clusters + STEPS_MORE;
    for (guint32 i = 0; i < clusters && scan.all->len < LOST_MOST && !is_over; i++) {
        EkByte place = ek_fat_cluster_byte(boot, search->first_byte, i + 2);
        if (i % MARK_EVERY == 0)
            is_over = !search->mark(search->data);
        if (!ek_may_hold_data(search->reader, place, EK_STEP, &run)) {
            /* On to the cluster in which something stands again. */
            guint64 next_one = MIN((run.first - first) / boot->cluster_bytes, clusters);
            i = (guint32)MAX(next_one, (guint64)i + 1) - 1;
            continue;
        }
        look_at_cluster(&scan, i + 2, place);
    }
    if (!is_over)
        join_parts(search, scan.all, tails);
    return scan.all;
}
