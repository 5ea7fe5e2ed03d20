/* SPDX-License-Identifier: MIT */
/* Primary and logical partitions of an MBR. Those that an old chain named are logical, and the
 * links stand where they stood; more than four partitions need logical ones besides. */
#include "rebuild/planner.h"

#include <string.h>

#define EXTENDED 0x05u
#define EXTENDED_LBA 0x0fu
#define CHS_SECTORS (1024ull * 255 * 63)
#define TRACK 63u
#define ALIGNED (1u << 20)

typedef struct {
    EkPlanner *planner;
    EkTable *table;
    guint first; /* logical ones, by position: from here */
    guint last;
    gboolean any;
} Chain;

/* Does it lie in the extended partition of the table that stands there? */
static gboolean is_in_old_extended(const EkPlanner *planner, EkRange range)
{
    for (guint i = 0; planner->has_current && i < planner->current.count; i++) {
        const EkTableEntry *old = &planner->current.entries[i];
        if (old->extended && !old->logical && range.first > old->range.first &&
            ek_range_end(range) <= ek_range_end(old->range))
            return TRUE;
    }
    return FALSE;
}

/* Is there just the room in front of a partition that a link to it takes: a MiB, or a track? A
 * volume may end a little before its partition does. */
static gboolean has_room_for_link(const EkTable *table, guint index)
{
    EkByte first = table->entries[index].range.first;
    EkByte end = ek_range_end(table->entries[index - 1].range);
    EkByte track = (EkByte)TRACK * table->sector_size;
    EkByte gap = first - MIN(end, first);
    return (first % ALIGNED == 0 && gap >= ALIGNED && gap < 2 * (EkByte)ALIGNED) ||
           (first % track == 0 && gap >= track && gap < 2 * track);
}

/* With no table left, what no more than a link explains tells of logical partitions: at least two
 * in a row, up to the last. */
static void find_by_gaps(Chain *chain)
{
    guint count = chain->table->count;
    guint from = count;
    while (from > 1 && has_room_for_link(chain->table, from - 1) &&
           chain->table->entries[from - 1].index == G_MAXUINT)
        from--;
    if (count - from < 2)
        return;
    chain->first = from;
    chain->last = count - 1;
    chain->any = TRUE;
    ek_planner_warn(chain->planner,
                    "the last %u partitions are planned as logical ones: the gap in front of each "
                    "is that of a link",
                    count - from);
}

/* From the first to the last that an old chain names, or that lies where it was. A primary one
 * between them would lie inside the extended partition: it becomes logical, too. */
static void find_logical(Chain *chain)
{
    for (guint i = 0; i < chain->table->count; i++) {
        const EkTableEntry *entry = &chain->table->entries[i];
        if (!entry->logical && !is_in_old_extended(chain->planner, entry->range))
            continue;
        if (!chain->any)
            chain->first = i;
        chain->last = i;
        chain->any = TRUE;
    }
    if (!chain->any && !chain->planner->has_current)
        find_by_gaps(chain);
}

static guint count_primaries(const Chain *chain)
{
    return chain->table->count - (chain->any ? chain->last - chain->first : 0);
}

/* Four slots: what is more becomes logical, later ones first. */
static void make_room(Chain *chain)
{
    guint count = chain->table->count;
    if (count > EK_MBR_PRIMARIES && !chain->any) {
        chain->first = chain->last = count - 1;
        chain->any = TRUE;
    }
    while (count_primaries(chain) > EK_MBR_PRIMARIES) {
        if (chain->last + 1 < count)
            chain->last++;
        else
            chain->first--;
    }
}

static EkByte end_before(const Chain *chain, guint index)
{
    EkByte end = chain->table->sector_size;
    for (guint i = 0; i < index; i++)
        end = MAX(end, ek_range_end(chain->table->entries[i].range));
    return end;
}

/* Where a link to the partition can stand: where it stood, where the usual tools put it, right in
 * front of it. FALSE: there is no room. */
static gboolean place_link(const Chain *chain, guint index)
{
    EkTableEntry *entry = &chain->table->entries[index];
    guint32 size = chain->table->sector_size;
    EkByte first = entry->range.first;
    EkByte least = end_before(chain, index);
    EkByte track = (EkByte)TRACK * size;
    EkByte places[] = {entry->link_byte,
                       first % ALIGNED == 0 && first >= ALIGNED ? first - ALIGNED : 0,
                       first >= track ? first - track : 0, first - size};
    for (gsize i = 0; i < G_N_ELEMENTS(places); i++)
        if (places[i] >= least && places[i] < first && places[i] % size == 0) {
            entry->link_byte = places[i];
            return TRUE;
        }
    return FALSE;
}

static void drop(Chain *chain, guint index)
{
    EkTable *table = chain->table;
    chain->planner->dropped++;
    ek_planner_warn(chain->planner,
                    "the partition at sector %" G_GUINT64_FORMAT
                    " is left out: as a logical partition it needs a free sector before it. A GPT "
                    "can hold it: --scheme gpt",
                    table->entries[index].range.first / table->sector_size);
    table->entries[index].range.bytes = 0; /* it is dropped by whoever laid it out */
}

/* The old extended partition, where it still holds all logical ones and nothing else; or one that
 * is as long as it must be. */
static EkTableEntry extended_for(const Chain *chain, EkByte first, EkByte end)
{
    const EkPlanner *planner = chain->planner;
    EkTableEntry made = {.range = {first, end - first},
                         .type = end / chain->table->sector_size > CHS_SECTORS ? EXTENDED_LBA
                                                                               : EXTENDED,
                         .extended = TRUE,
                         .index = G_MAXUINT};
    for (guint i = 0; planner->has_current && i < planner->current.count; i++) {
        const EkTableEntry *old = &planner->current.entries[i];
        gboolean fits = old->extended && !old->logical && old->range.first <= first &&
                        ek_range_end(old->range) >= end &&
                        ek_range_end(old->range) <= planner->bytes;
        for (guint k = 0; fits && k < chain->table->count; k++)
            fits = (k >= chain->first && k <= chain->last) ||
                   !ek_ranges_overlap(old->range, chain->table->entries[k].range);
        if (fits) {
            made = *old;
            break;
        }
    }
    return made;
}

void ek_planner_chain(EkPlanner *planner, EkTable *table)
{
    Chain chain = {.planner = planner, .table = table};
    find_logical(&chain);
    make_room(&chain);
    if (!chain.any)
        return;
    EkByte first = 0;
    EkByte end = 0;
    guint number = EK_MBR_PRIMARIES;
    EkTableEntry *head = NULL;
    for (guint i = chain.first; i <= chain.last; i++) {
        EkTableEntry *entry = &table->entries[i];
        entry->logical = TRUE;
        entry->active = FALSE;
        if (!place_link(&chain, i)) {
            drop(&chain, i);
            continue;
        }
        entry->index = number++;
        if (head == NULL) {
            head = entry;
            first = entry->link_byte;
        }
        end = MAX(end, ek_range_end(entry->range));
    }
    if (head != NULL) {
        EkTableEntry extended = extended_for(&chain, first, end);
        head->link_byte = extended.range.first;
        for (guint i = 0; i < table->count; i++)
            if (!table->entries[i].logical && table->entries[i].index == extended.index)
                extended.index = G_MAXUINT;
        table->entries[table->count++] = extended;
    }
}
