/* SPDX-License-Identifier: MIT */
/* The table: its scheme by evidence, and its entries. What is left of old tables decides on
 * everything that volumes do not tell: slots, types, GUIDs, names, attributes, what is active,
 * what is logical. Old entries that contradict no chosen volume stay as they are. */
#include "rebuild/planner.h"

#include "hunt/hunt.h"

#include <string.h>

#define NO_SLOT G_MAXUINT

typedef struct {
    EkPlanner *planner;
    EkScheme scheme;
    EkTable table; /* that is planned */
    /* Of each of its entries, in the same order: */
    guint volumes[EK_TABLE_MOST];
    const char *notes[EK_TABLE_MOST];
} Layout;

/* Entries without their header are part of a GPT. */
static gboolean is_of(const EkTable *table, EkScheme scheme)
{
    return table->scheme == scheme ||
           (scheme == EK_SCHEME_GPT && table->scheme == EK_SCHEME_GPT_ENTRIES);
}

static gboolean is_scheme(const EkTable *table, EkScheme scheme)
{
    return table->scheme == scheme;
}

/* --- what is left of old tables ------------------------------------------------------------- */

/* Does a table that was found stand where one of this drive would? Those inside of files do not. */
static gboolean is_in_place(const EkPlanner *planner, const EkTable *table)
{
    if (is_scheme(table, EK_SCHEME_GPT))
        return table->place * table->sector_size == table->first_byte;
    if (is_scheme(table, EK_SCHEME_GPT_ENTRIES))
        return table->first_byte == 2 * (EkByte)table->sector_size ||
               table->first_byte + (1u << 20) > planner->bytes;
    if (is_scheme(table, EK_SCHEME_APM))
        return table->first_byte == table->sector_size;
    if (is_scheme(table, EK_SCHEME_MBR))
        return table->first_byte == 0;
    for (guint i = 0; i < planner->chosen->len; i++) {
        EkRange range = g_array_index(planner->chosen, EkChosen, i).range;
        if (table->first_byte > range.first && table->first_byte < ek_range_end(range))
            return FALSE;
    }
    return TRUE; /* a link of a chain, between volumes */
}

/* The entry that a link gives, with its place on the drive. */
static EkTableEntry absolute(const EkTable *table, const EkTableEntry *entry)
{
    EkTableEntry copy = *entry;
    if (is_scheme(table, EK_SCHEME_EBR)) {
        copy.range.first += table->first_byte;
        copy.link_byte = table->first_byte;
        copy.index = NO_SLOT;
    }
    return copy;
}

/* How many of the chosen volumes a table names. */
static guint count_named(const EkPlanner *planner, const EkTable *table)
{
    guint count = 0;
    for (guint i = 0; i < table->count; i++) {
        EkTableEntry entry = absolute(table, &table->entries[i]);
        for (guint k = 0; k < planner->chosen->len && !entry.extended; k++)
            count += g_array_index(planner->chosen, EkChosen, k).range.first == entry.range.first;
    }
    return count;
}

/* All tables that may tell of this drive, the one that rules it first: const EkTable*. */
static GPtrArray *tables_of(const EkPlanner *planner, EkScheme scheme)
{
    GPtrArray *tables = g_ptr_array_new();
    const GPtrArray *all = planner->input->tables;
    if (planner->has_current && is_of(&planner->current, scheme))
        g_ptr_array_add(tables, (gpointer)&planner->current);
    if (scheme == EK_SCHEME_APM && planner->has_map)
        g_ptr_array_add(tables, (gpointer)&planner->map);
    for (guint turn = 0; turn < 2; turn++)
        for (guint i = 0; all != NULL && i < all->len; i++) {
            const EkTable *table = all->pdata[i];
            gboolean fits = is_of(table, scheme) ||
                            (scheme == EK_SCHEME_MBR && is_scheme(table, EK_SCHEME_EBR));
            if (fits && (table->is_whole != 0) == (turn == 0) && is_in_place(planner, table))
                g_ptr_array_add(tables, (gpointer)table);
        }
    return tables;
}

static gboolean is_about(EkRange range, EkRange planned, gboolean exactly)
{
    EkByte first = MAX(range.first, planned.first);
    EkByte end = MIN(ek_range_end(range), ek_range_end(planned));
    if (exactly)
        return range.first == planned.first;
    return end > first && (end - first) * 2 > MAX(range.bytes, planned.bytes);
}

/* By how many bytes all entries of a table are before, or behind, chosen volumes: at least two. 0:
 * they are not. */
static gint64 shift_of(const EkPlanner *planner, const EkTable *table)
{
    const GArray *chosen = planner->chosen;
    for (guint i = 0; i < chosen->len && table->count > 1 && !is_scheme(table, EK_SCHEME_EBR);
         i++) {
        gint64 off = (gint64)(g_array_index(chosen, EkChosen, i).range.first -
                              table->entries[0].range.first);
        guint fits = 0;
        for (guint k = 0; k < table->count; k++)
            for (guint c = 0; c < chosen->len; c++)
                fits += g_array_index(chosen, EkChosen, c).range.first ==
                        table->entries[k].range.first + (guint64)off;
        if (off != 0 && fits == table->count)
            return off;
    }
    return 0;
}

/* The old entry for a partition: one that begins there; else one that is about the same region, of
 * which a number went wrong. */
static gboolean find_old(const EkPlanner *planner, const GPtrArray *tables, EkRange planned,
                         EkTableEntry *found)
{
    for (guint turn = 0; turn < 3; turn++)
        for (guint i = 0; i < tables->len; i++) {
            const EkTable *table = tables->pdata[i];
            /* A whole table may be off by what an adapter hid in front of the drive. */
            gint64 off = turn == 1 ? shift_of(planner, table) : 0;
            if (turn == 1 && off == 0)
                continue;
            for (guint k = 0; k < table->count; k++) {
                *found = absolute(table, &table->entries[k]);
                found->range.first += (guint64)off;
                if (is_about(found->range, planned, turn < 2) && !found->extended &&
                    found->type != EK_MBR_PROTECTIVE)
                    return TRUE;
            }
        }
    return FALSE;
}

/* --- the scheme ----------------------------------------------------------------------------- */

static EkScheme scheme_by_traces(const EkPlanner *planner)
{
    static const EkScheme schemes[] = {EK_SCHEME_GPT, EK_SCHEME_MBR, EK_SCHEME_APM};
    EkScheme best = EK_SCHEME_UNKNOWN;
    guint most = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(schemes); i++) {
        g_autoptr(GPtrArray) tables = tables_of(planner, schemes[i]);
        guint named = 0;
        for (guint k = 0; k < tables->len; k++)
            named = MAX(named, count_named(planner, tables->pdata[k]));
        if (named > most || (best == EK_SCHEME_UNKNOWN && tables->len > 0 && i != 1)) {
            best = schemes[i];
            most = named;
        }
    }
    return best;
}

/* Is any of the chosen volumes one that no MBR is made for? */
static gboolean needs_gpt(const EkPlanner *planner)
{
    gboolean is_large = planner->bytes / planner->table_size > G_MAXUINT32;
    for (guint i = 0; i < planner->chosen->len && !is_large; i++) {
        const EkChosen *chosen = &g_array_index(planner->chosen, EkChosen, i);
        if (g_str_equal(chosen->filesystem, "apfs") || ek_planner_is_efi(planner, chosen))
            return TRUE;
    }
    return is_large;
}

static EkScheme choose_scheme(EkPlanner *planner)
{
    EkScheme wished = planner->wishes->scheme;
    if (wished != EK_SCHEME_UNKNOWN)
        return wished;
    for (guint i = 0; i < planner->chosen->len; i++)
        if (g_array_index(planner->chosen, EkChosen, i).range.first == 0) {
            ek_planner_warn(planner,
                            "volume %u starts at sector 0, so no partition table is needed",
                            g_array_index(planner->chosen, EkChosen, i).number);
            return EK_SCHEME_NONE;
        }
    for (guint i = 0; planner->has_current && i < planner->current.count; i++) {
        const char *ruler = ek_mbr_other_ruler(planner->current.entries[i].type);
        if (is_scheme(&planner->current, EK_SCHEME_MBR) && ruler != NULL &&
            !g_str_equal(ruler, "GPT")) {
            ek_planner_warn(planner,
                            "the drive uses a %s, which this version cannot write. The table stays "
                            "unchanged; boot sectors are still repaired",
                            ruler);
            return EK_SCHEME_NONE;
        }
    }
    EkScheme by_traces = scheme_by_traces(planner);
    gboolean is_protective = FALSE;
    for (guint i = 0; planner->has_current && i < planner->current.count; i++)
        is_protective |= planner->current.entries[i].type == EK_MBR_PROTECTIVE;
    if (planner->has_current && !is_protective)
        return planner->current.scheme;
    if (is_protective)
        return EK_SCHEME_GPT;
    if (by_traces != EK_SCHEME_UNKNOWN)
        return by_traces;
    return needs_gpt(planner) ? EK_SCHEME_GPT : EK_SCHEME_MBR;
}

/* --- entries -------------------------------------------------------------------------------- */

static gboolean slot_is_free(const EkTable *table, guint index)
{
    for (guint i = 0; i < table->count; i++)
        if (table->entries[i].index == index)
            return FALSE;
    return TRUE;
}

static void add_entry(Layout *layout, const EkTableEntry *entry, guint volume, const char *note)
{
    EkTable *table = &layout->table;
    /* One is kept for the extended one. */
    if (table->count == EK_TABLE_MOST - 1) {
        ek_planner_warn(layout->planner,
                        "the partition at sector %" G_GUINT64_FORMAT
                        " is left out: there are more than %u",
                        entry->range.first / table->sector_size, EK_TABLE_MOST - 1);
        return;
    }
    layout->volumes[table->count] = volume;
    layout->notes[table->count] = note;
    table->entries[table->count++] = *entry;
}

/* Version 4 of RFC 4122, made at random; GPTs store the first fields the other way round. */
static void make_uuid(const EkPlanner *planner, const char *what, guint8 uuid[16])
{
    ek_planner_make_id(planner, what, uuid, 16);
    uuid[7] = (guint8)((uuid[7] & 0x0f) | 0x40);
    uuid[8] = (guint8)((uuid[8] & 0x3f) | 0x80);
}

/* What a GPT says of a partition beyond its place. */
static void take_gpt(const EkPlanner *planner, const EkChosen *chosen, const EkTableEntry *old,
                     EkTableEntry *entry)
{
    const guint8 *type = ek_gpt_type_named(ek_partition_type_for(chosen->filesystem)->gpt);
    entry->type = 0;
    memset(entry->type_uuid, 0, sizeof entry->type_uuid);
    if (ek_planner_is_efi(planner, chosen))
        type = ek_gpt_type_named(EK_GPT_EFI_SYSTEM);
    if (type != NULL)
        memcpy(entry->type_uuid, type, sizeof entry->type_uuid);
    if (old != NULL && !ek_bytes_are_zero(old->type_uuid, sizeof old->type_uuid)) {
        /* An EFI system, or one for recovery, is a FAT or NTFS of which only the table knows. */
        memcpy(entry->type_uuid, old->type_uuid, sizeof entry->type_uuid);
        memcpy(entry->uuid, old->uuid, sizeof entry->uuid);
        memcpy(entry->units, old->units, sizeof entry->units);
        memcpy(entry->name, old->name, sizeof entry->name);
        entry->attributes = old->attributes;
        return;
    }
    g_autofree char *what = g_strdup_printf("partition at %" G_GUINT64_FORMAT, entry->range.first);
    make_uuid(planner, what, entry->uuid);
}

/* What an Apple partition map says of a partition beyond its place. */
static void take_apm(const EkChosen *chosen, const EkTableEntry *old, EkTableEntry *entry)
{
    entry->type = 0;
    g_strlcpy(entry->type_text, ek_partition_type_for(chosen->filesystem)->apm,
              sizeof entry->type_text);
    if (old != NULL && *old->type_text != '\0') {
        memcpy(entry->type_text, old->type_text, sizeof entry->type_text);
        memcpy(entry->name, old->name, sizeof entry->name);
    } else if (chosen->volume != NULL && chosen->volume->label != NULL) {
        g_strlcpy(entry->name, chosen->volume->label, EK_APM_TEXT);
    }
}

static EkTableEntry entry_for(const Layout *layout, const EkChosen *chosen, const EkTableEntry *old)
{
    const EkPlanner *planner = layout->planner;
    guint8 usual = ek_partition_type_for(chosen->filesystem)->mbr;
    EkTableEntry entry = {.range = chosen->range, .type = usual, .index = NO_SLOT};
    if (old != NULL) {
        entry.index = old->index;
        entry.active = old->active;
        entry.logical = old->logical;
        entry.link_byte = old->link_byte;
        /* A type that systems accept stays. */
        if (old->type != 0 && ek_mbr_type_fits(old->type, usual))
            entry.type = old->type;
        /* A partition may be a little longer than its volume: then the old table knows better. */
        EkByte least =
            chosen->is_taken && chosen->volume != NULL ? chosen->volume->bytes : entry.range.bytes;
        if (!chosen->is_exact && old->range.first == entry.range.first &&
            old->range.bytes >= least && ek_range_end(old->range) <= planner->bytes)
            entry.range = old->range;
    }
    if (layout->scheme == EK_SCHEME_GPT)
        take_gpt(planner, chosen, old, &entry);
    if (layout->scheme == EK_SCHEME_APM)
        take_apm(chosen, old, &entry);
    return entry;
}

/* Old partitions are taken as they were where they are longer, unless that is another's region. */
static void shorten(Layout *layout)
{
    EkTable *table = &layout->table;
    for (guint i = 0; i < table->count; i++)
        for (guint k = 0; k < table->count; k++) {
            EkTableEntry *one = &table->entries[i];
            const EkTableEntry *other = &table->entries[k];
            if (i != k && !one->extended && !other->extended &&
                other->range.first > one->range.first &&
                ek_ranges_overlap(one->range, other->range))
                one->range.bytes = other->range.first - one->range.first;
        }
}

static gboolean is_taken(const Layout *layout, EkRange range)
{
    for (guint i = 0; i < layout->table.count; i++)
        if (ek_ranges_overlap(layout->table.entries[i].range, range))
            return TRUE;
    const GArray *chosen = layout->planner->chosen;
    for (guint i = 0; i < chosen->len; i++)
        if (ek_ranges_overlap(g_array_index(chosen, EkChosen, i).range, range))
            return TRUE;
    return FALSE;
}

/* Old entries that no chosen volume contradicts stay: whatever they hold, we know no better. */
static void keep_old(Layout *layout, const GPtrArray *tables)
{
    for (guint i = 0; i < tables->len; i++) {
        const EkTable *table = tables->pdata[i];
        /* What only a lone link or an old copy of another scheme names may be of another time. */
        gboolean rules = layout->planner->has_current && table == &layout->planner->current;
        for (guint k = 0; k < table->count; k++) {
            EkTableEntry entry = absolute(table, &table->entries[k]);
            EkRange inside;
            if (entry.extended || entry.type == EK_MBR_PROTECTIVE ||
                is_taken(layout, entry.range) || is_scheme(table, EK_SCHEME_EBR) ||
                (!rules && !is_of(table, layout->scheme)) ||
                !ek_range_checked(entry.range.first, entry.range.bytes, layout->planner->bytes,
                                  &inside))
                continue;
            if (!slot_is_free(&layout->table, entry.index))
                entry.index = NO_SLOT;
            add_entry(layout, &entry, 0, "kept from the old table");
        }
    }
}

static void add_chosen(Layout *layout, const GPtrArray *tables)
{
    const GArray *chosen = layout->planner->chosen;
    for (guint i = 0; i < chosen->len; i++) {
        const EkChosen *one = &g_array_index(chosen, EkChosen, i);
        EkTableEntry old = {0};
        gboolean has_old = find_old(layout->planner, tables, one->range, &old);
        EkTableEntry entry = entry_for(layout, one, has_old ? &old : NULL);
        if (entry.index != NO_SLOT && !slot_is_free(&layout->table, entry.index))
            entry.index = NO_SLOT;
        if (one->range.first == 0)
            continue;
        if (one->is_taken && !(has_old && old.range.first == one->range.first))
            ek_planner_warn(layout->planner,
                            "volume %u (%s) does not record its length: its partition is planned "
                            "up to the next volume. To set the length: --resize %u:SECTORS",
                            one->number, one->filesystem, one->number);
        add_entry(layout, &entry, one->number,
                  one->number == 0 ? "asked for"
                  : has_old        ? "found, and named by an old table"
                                   : "found");
    }
}

/* The map itself stands in a slot of an Apple partition map, and so does free space that stays. */
static gboolean is_of_map(const Layout *layout, guint slot)
{
    const EkPlanner *planner = layout->planner;
    gboolean has_map = FALSE;
    if (layout->scheme != EK_SCHEME_APM)
        return FALSE;
    for (guint i = 0; planner->has_map && i < planner->map.count; i++) {
        const EkTableEntry *entry = &planner->map.entries[i];
        has_map |= entry->extended && entry->range.first == planner->map.sector_size;
        if (entry->extended && entry->index == slot && !is_taken(layout, entry->range))
            return TRUE;
    }
    return slot == 0 && !has_map;
}

/* Those whose slot is not known take the free ones, in order of position. */
static void fill_slots(Layout *layout)
{
    EkTable *table = &layout->table;
    for (guint i = 0; i < table->count; i++)
        for (guint slot = 0; table->entries[i].index == NO_SLOT; slot++)
            if (slot_is_free(table, slot) && !is_of_map(layout, slot))
                table->entries[i].index = slot;
}

static void sort_entries(Layout *layout, gboolean by_slot)
{
    EkTable *table = &layout->table;
    for (guint i = 1; i < table->count; i++)
        for (guint k = i; k > 0; k--) {
            EkTableEntry *one = &table->entries[k - 1];
            EkTableEntry *two = &table->entries[k];
            gboolean is_right =
                by_slot ? one->index <= two->index : one->range.first <= two->range.first;
            if (is_right)
                break;
            EkTableEntry entry = *one;
            guint volume = layout->volumes[k - 1];
            const char *note = layout->notes[k - 1];
            *one = *two;
            layout->volumes[k - 1] = layout->volumes[k];
            layout->notes[k - 1] = layout->notes[k];
            *two = entry;
            layout->volumes[k] = volume;
            layout->notes[k] = note;
        }
}

static void drop_empty(Layout *layout)
{
    EkTable *table = &layout->table;
    guint kept = 0;
    for (guint i = 0; i < table->count; i++) {
        if (table->entries[i].range.bytes == 0)
            continue;
        table->entries[kept] = table->entries[i];
        layout->volumes[kept] = layout->volumes[i];
        layout->notes[kept++] = layout->notes[i];
    }
    table->count = kept;
}

/* Do the usable sectors of an old header hold all that is planned? */
static gboolean leaves_room(const Layout *layout, const EkTable *old)
{
    EkSector last = layout->planner->bytes / layout->table.sector_size - 1;
    if (old->first_usable < 2 || old->last_usable < old->first_usable || old->last_usable >= last)
        return FALSE;
    for (guint i = 0; i < layout->table.count; i++) {
        EkRange range = layout->table.entries[i].range;
        if (range.first / old->sector_size < old->first_usable ||
            ek_range_end(range) / old->sector_size > old->last_usable + 1)
            return FALSE;
    }
    return TRUE;
}

/* What stands in the header of the best copy. */
static void take_gpt_header(Layout *layout, const GPtrArray *tables)
{
    EkTable *table = &layout->table;
    const EkTable *old = NULL;
    for (guint i = 0; i < tables->len && old == NULL; i++)
        if (is_scheme(tables->pdata[i], EK_SCHEME_GPT))
            old = tables->pdata[i];
    if (old == NULL) {
        make_uuid(layout->planner, "drive", table->uuid);
        return;
    }
    memcpy(table->uuid, old->uuid, sizeof table->uuid);
    if (ek_bytes_are_zero(table->uuid, sizeof table->uuid))
        make_uuid(layout->planner, "drive", table->uuid);
    /* Another geometry than the usual one is believed of a whole copy where one of this drive is.
     */
    EkSector last = layout->planner->bytes / table->sector_size - 1;
    gboolean is_own = old->is_whole && old->sector_size == table->sector_size &&
                      (old->place == 1 || old->place == last) && leaves_room(layout, old);
    if (is_own) {
        table->entry_count = old->entry_count;
        table->entry_bytes = old->entry_bytes;
        table->first_usable = old->first_usable;
        table->last_usable = old->last_usable;
    }
    if (old->sector_size != table->sector_size || !leaves_room(layout, old))
        return;
    table->place = old->place;
    table->other_place = old->other_place;
    table->entries_place = old->entries_place;
    if (MAX(old->place, old->other_place) != last)
        ek_planner_warn(layout->planner,
                        "the GPT was made for a drive ending at sector %" G_GUINT64_FORMAT
                        ", but this one ends at %" G_GUINT64_FORMAT
                        ". The backup GPT is planned at the end of this drive",
                        MAX(old->place, old->other_place), last);
}

static void take_mbr_header(Layout *layout)
{
    guint8 record[EK_STEP];
    EkPlanner *planner = layout->planner;
    guint32 signature = 0;
    if (ek_reader_read(planner->reader, 0, record, sizeof record, NULL, NULL) &&
        ek_span_le16((EkSpan){record, sizeof record}, 510) == 0xaa55)
        signature = ek_span_le32((EkSpan){record, sizeof record}, 440);
    if (planner->has_current && is_scheme(&planner->current, EK_SCHEME_MBR))
        signature = planner->current.disk_signature;
    else if (signature == 0) {
        guint8 id[4];
        ek_planner_make_id(planner, "disk signature", id, sizeof id);
        signature = ek_span_le32((EkSpan){id, sizeof id}, 0) | 1; /* never 0, which says none */
    }
    layout->table.disk_signature = signature;
}

static void warn_of_other_sectors(EkPlanner *planner, const GPtrArray *tables)
{
    for (guint i = 0; i < tables->len; i++) {
        const EkTable *table = tables->pdata[i];
        if (table->sector_size == planner->table_size)
            continue;
        ek_planner_warn(
            planner,
            "the old table counts in sectors of %u bytes, the planned one in %u, as the adapter "
            "showed the drive that was imaged. A drive with %u-byte sectors needs the other "
            "one: --table-sectors %u",
            table->sector_size, planner->table_size, table->sector_size, table->sector_size);
        return;
    }
}

/* What the table that rules the drive says of what is planned. */
static char *now_of(const EkPlanner *planner, const EkTableEntry *planned)
{
    const EkTableEntry *near = NULL;
    for (guint i = 0; planner->has_current && i < planner->current.count; i++) {
        const EkTableEntry *entry = &planner->current.entries[i];
        if (entry->extended != planned->extended ||
            !ek_ranges_overlap(entry->range, planned->range))
            continue;
        if (near == NULL || entry->range.first == planned->range.first)
            near = entry;
    }
    if (near == NULL)
        return g_strdup("not listed");
    guint32 size = planner->sector_size;
    gboolean is_same_place =
        near->range.first == planned->range.first && near->range.bytes == planned->range.bytes;
    gboolean is_same_type =
        near->type == planned->type &&
        memcmp(near->type_uuid, planned->type_uuid, sizeof near->type_uuid) == 0 &&
        g_str_equal(near->type_text, planned->type_text);
    if (is_same_place && is_same_type && near->logical == planned->logical)
        return g_strdup(near->active == planned->active ? "the same"
                                                        : "same, but active flag differs");
    if (is_same_place)
        return g_strdup(is_same_type ? "same, but primary/logical differs" : "another type");
    return g_strdup_printf("sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT,
                           near->range.first / size, ek_range_end(near->range) / size - 1);
}

/* What stands in the table now, and would be gone. */
static void tell_of_removed(const Layout *layout)
{
    EkPlanner *planner = layout->planner;
    for (guint i = 0; planner->has_current && i < planner->current.count; i++) {
        const EkTableEntry *entry = &planner->current.entries[i];
        gboolean is_there = entry->extended || entry->type == EK_MBR_PROTECTIVE;
        for (guint k = 0; k < layout->table.count && !is_there; k++)
            is_there = ek_ranges_overlap(layout->table.entries[k].range, entry->range) &&
                       !layout->table.entries[k].extended;
        if (!is_there)
            ek_planner_warn(planner,
                            "partition %u of the current table (sectors %" G_GUINT64_FORMAT
                            " to %" G_GUINT64_FORMAT ") is removed",
                            entry->index + 1, entry->range.first / planner->sector_size,
                            ek_range_end(entry->range) / planner->sector_size - 1);
    }
}

static void take_partitions(Layout *layout)
{
    tell_of_removed(layout);
    for (guint i = 0; i < layout->table.count; i++) {
        EkPlanPartition *partition = g_new0(EkPlanPartition, 1);
        partition->entry = layout->table.entries[i];
        partition->volume = layout->volumes[i];
        partition->note =
            g_strdup(layout->notes[i] != NULL ? layout->notes[i] : "extended partition");
        partition->now = now_of(layout->planner, &partition->entry);
        partition->check = g_strdup("");
        g_ptr_array_add(layout->planner->plan->partitions, partition);
    }
}

static const EkTableFormat *format_of(EkScheme scheme)
{
    for (gsize i = 0; ek_table_formats[i] != NULL; i++)
        if (ek_table_formats[i]->scheme == scheme)
            return ek_table_formats[i];
    return NULL;
}

static gboolean lay_out(EkPlanner *planner, Layout *layout, GError **error)
{
    const EkTableFormat *format = format_of(layout->scheme);
    gboolean is_apm = layout->scheme == EK_SCHEME_APM;
    g_autoptr(GPtrArray) tables = tables_of(planner, layout->scheme);
    layout->table = (EkTable){.scheme = layout->scheme, .sector_size = planner->table_size};
    if (is_apm && planner->has_map && planner->wishes->table_sectors == 0)
        layout->table.sector_size = planner->map.sector_size;
    /* A map names the size of its blocks, whatever the drive's sectors are. */
    if (!is_apm)
        warn_of_other_sectors(planner, tables);
    add_chosen(layout, tables);
    keep_old(layout, tables);
    shorten(layout);
    sort_entries(layout, FALSE);
    if (layout->scheme == EK_SCHEME_GPT) {
        take_gpt_header(layout, tables);
    } else if (!is_apm) {
        take_mbr_header(layout);
        ek_planner_chain(planner, &layout->table);
        drop_empty(layout);
        sort_entries(layout, FALSE);
    }
    fill_slots(layout);
    sort_entries(layout, TRUE);
    if (layout->table.count == 0)
        return TRUE; /* nothing is known: what stands there stays */
    take_partitions(layout);
    return format->compose(&layout->table, planner->reader, ek_planner_take_part, planner, error);
}

static void start_anew(EkPlanner *planner, Layout *layout, EkScheme scheme)
{
    g_ptr_array_set_size(planner->plan->partitions, 0);
    g_ptr_array_set_size(planner->plan->edits, 0);
    *layout = (Layout){.planner = planner, .scheme = scheme};
    planner->plan->scheme = scheme;
}

/* What one scheme cannot express the other one may: a drive over 2 TiB, a volume right at its
 * beginning. */
static gboolean lay_out_otherwise(EkPlanner *planner, Layout *layout, GError *failure,
                                  GError **error)
{
    gboolean was_gpt = layout->scheme == EK_SCHEME_GPT;
    if (planner->wishes->scheme != EK_SCHEME_UNKNOWN ||
        !g_error_matches(failure, EK_ERROR, EK_ERROR_UNSUPPORTED)) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    ek_planner_warn(planner, "the evidence points to %s, but %s. Planned instead: %s",
                    ek_table_scheme_words(layout->scheme), failure->message,
                    ek_table_scheme_words(was_gpt ? EK_SCHEME_MBR : EK_SCHEME_GPT));
    g_error_free(failure);
    start_anew(planner, layout, was_gpt ? EK_SCHEME_MBR : EK_SCHEME_GPT);
    return lay_out(planner, layout, error);
}

/* Some volumes did not fit into an MBR of which nothing is left: a GPT may hold all of them. Where
 * it does not either, the MBR is planned. */
static gboolean lay_out_all(EkPlanner *planner, Layout *layout, GError **error)
{
    static const EkScheme schemes[] = {EK_SCHEME_GPT, EK_SCHEME_MBR};
    GError *failure = NULL;
    for (gsize i = 0; i < G_N_ELEMENTS(schemes); i++) {
        g_clear_error(&failure);
        start_anew(planner, layout, schemes[i]);
        if (lay_out(planner, layout, &failure)) {
            if (i == 0)
                ek_planner_warn(planner, "a GPT is planned: an MBR has no room for all volumes");
            return TRUE;
        }
    }
    g_propagate_error(error, failure);
    return FALSE;
}

gboolean ek_planner_lay_out(EkPlanner *planner, GError **error)
{
    GError *failure = NULL;
    g_autofree Layout *layout = g_new0(Layout, 1);
    layout->planner = planner;
    layout->scheme = choose_scheme(planner);
    planner->plan->scheme = layout->scheme;
    if (layout->scheme == EK_SCHEME_NONE)
        return TRUE;
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkChosen *chosen = &g_array_index(planner->chosen, EkChosen, i);
        if (chosen->range.first == 0)
            return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                                "--scheme %s: volume %u (%s) begins in sector 0, where the "
                                "partition table would be written. A volume that fills the drive "
                                "needs no table: leave --scheme out",
                                ek_scheme_name(layout->scheme), chosen->number, chosen->filesystem);
    }
    if (planner->table_unread)
        ek_planner_warn(planner, "sector 0 was not read: the old partition table and boot code are "
                                 "unknown and cannot be preserved");
    if (!lay_out(planner, layout, &failure))
        return lay_out_otherwise(planner, layout, failure, error);
    return planner->dropped == 0 || planner->has_current ||
           planner->wishes->scheme != EK_SCHEME_UNKNOWN || lay_out_all(planner, layout, error);
}
