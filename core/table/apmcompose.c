/* SPDX-License-Identifier: MIT */
/* Composing an Apple partition map: block 0 that names the size of a block, the entry of the map
 * itself, one for each partition, and for what is free in between. As in "Inside Macintosh:
 * Devices", 3-22. */
#include "table/apm.h"

#include <string.h>

#define USUAL_MAP 63u      /* blocks */
#define STATUS_USUAL 0x33u /* valid, allocated, readable, writable */
#define GAPS_MOST (2 * EK_TABLE_MOST)

typedef enum { SLOT_EMPTY, SLOT_MAP, SLOT_FREE, SLOT_PARTITION } SlotKind;

/* An entry as it is planned, in blocks. */
typedef struct {
    SlotKind kind;
    guint64 first;
    guint64 count;
    const EkTableEntry *entry; /* of a partition */
    guint was;                 /* the slot that has the rest of its bytes; G_MAXUINT: none */
} Slot;

typedef struct {
    const EkTable *table;
    EkReader *reader;
    guint32 size; /* of a block */
    guint64 blocks;
    EkTable old; /* what is left of the map */
    Slot slots[EK_APM_ENTRIES_MOST];
    guint count;
    Slot gaps[GAPS_MOST];
    guint gap_count;
} Composing;

static gboolean overlaps(const Slot *one, const Slot *other)
{
    return one->first < other->first + other->count && other->first < one->first + one->count;
}

/* What is left of the map stays where it contradicts no partition that is planned. */
static void keep_own(Composing *composing)
{
    for (guint i = 0; i < composing->old.count; i++) {
        const EkTableEntry *entry = &composing->old.entries[i];
        Slot slot = {.kind = g_str_equal(entry->type_text, EK_APM_MAP) ? SLOT_MAP : SLOT_FREE,
                     .first = entry->range.first / composing->size,
                     .count = entry->range.bytes / composing->size,
                     .was = entry->index};
        gboolean fits = entry->extended && entry->index < composing->count &&
                        composing->slots[entry->index].kind == SLOT_EMPTY &&
                        slot.first + slot.count <= composing->blocks;
        for (guint k = 0; k < composing->count && fits; k++)
            fits = composing->slots[k].kind == SLOT_EMPTY || !overlaps(&slot, &composing->slots[k]);
        if (fits)
            composing->slots[entry->index] = slot;
    }
}

static gboolean put_partitions(Composing *composing, GError **error)
{
    guint32 size = composing->size;
    for (guint i = 0; i < composing->table->count; i++) {
        const EkTableEntry *entry = &composing->table->entries[i];
        if (entry->extended)
            continue;
        if (entry->index >= EK_APM_ENTRIES_MOST)
            return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                                "this version makes Apple partition maps of up to %u entries",
                                EK_APM_ENTRIES_MOST);
        if (entry->range.first % size != 0 || entry->range.bytes % size != 0 ||
            entry->range.bytes == 0)
            return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                                "a partition at byte %" G_GUINT64_FORMAT
                                " does not begin and end on blocks of %u bytes",
                                entry->range.first, size);
        Slot slot = {.kind = SLOT_PARTITION,
                     .first = entry->range.first / size,
                     .count = entry->range.bytes / size,
                     .entry = entry,
                     .was = G_MAXUINT};
        for (guint k = 0; k < composing->old.count; k++)
            if (composing->old.entries[k].range.first == entry->range.first &&
                !composing->old.entries[k].extended)
                slot.was = composing->old.entries[k].index;
        composing->slots[entry->index] = slot;
        composing->count = MAX(composing->count, entry->index + 1);
    }
    return TRUE;
}

static gint by_first(gconstpointer a, gconstpointer b)
{
    const Slot *left = a;
    const Slot *right = b;
    return left->first < right->first ? -1 : left->first > right->first;
}

/* The map takes what is usual of the region in front of the first partition, and more where it has
 * many entries. */
static gboolean put_map(Composing *composing, GError **error)
{
    guint most = 2 * composing->table->count + 2; /* with free space around each */
    guint64 end = MIN(composing->blocks, MAX(USUAL_MAP, most) + 1);
    for (guint i = 0; i < composing->count; i++) {
        if (composing->slots[i].kind == SLOT_MAP)
            return TRUE;
        if (composing->slots[i].kind == SLOT_PARTITION)
            end = MIN(end, composing->slots[i].first);
    }
    for (guint i = 0; i < composing->count; i++)
        if (composing->slots[i].kind == SLOT_FREE && composing->slots[i].first < end)
            composing->slots[i].kind = SLOT_EMPTY;
    if (end < 2 || composing->slots[0].kind == SLOT_PARTITION)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "an Apple partition map has no room in front of the first partition");
    composing->slots[0] = (Slot){.kind = SLOT_MAP, .first = 1, .count = end - 1, .was = G_MAXUINT};
    composing->count = MAX(composing->count, 1);
    return TRUE;
}

static void find_gaps(Composing *composing)
{
    Slot taken[EK_APM_ENTRIES_MOST];
    guint count = 0;
    for (guint i = 0; i < composing->count; i++)
        if (composing->slots[i].kind != SLOT_EMPTY)
            taken[count++] = composing->slots[i];
    qsort(taken, count, sizeof *taken, by_first);
    guint64 at = 1;
    for (guint i = 0; i <= count && composing->gap_count < GAPS_MOST; i++) {
        guint64 next = i < count ? taken[i].first : composing->blocks;
        if (next > at)
            composing->gaps[composing->gap_count++] =
                (Slot){.kind = SLOT_FREE, .first = at, .count = next - at, .was = G_MAXUINT};
        if (i < count)
            at = MAX(at, taken[i].first + taken[i].count);
    }
}

/* Free space takes the slots that nothing stands in. A map of which nothing is missing gets no more
 * of them; slots that stay empty are closed up: a map ends at the first. */
static gboolean fill_slots(Composing *composing, GError **error)
{
    guint gap = 0;
    gboolean is_changed = composing->count != composing->old.entry_count;
    for (guint i = 0; i < composing->count; i++) {
        is_changed |= composing->slots[i].kind == SLOT_EMPTY;
        if (composing->slots[i].kind == SLOT_EMPTY && gap < composing->gap_count)
            composing->slots[i] = composing->gaps[gap++];
    }
    while (is_changed && gap < composing->gap_count && composing->count < EK_APM_ENTRIES_MOST)
        composing->slots[composing->count++] = composing->gaps[gap++];
    guint kept = 0;
    guint64 room = 0;
    for (guint i = 0; i < composing->count; i++)
        if (composing->slots[i].kind != SLOT_EMPTY)
            composing->slots[kept++] = composing->slots[i];
    composing->count = kept;
    for (guint i = 0; i < kept; i++)
        if (composing->slots[i].kind == SLOT_MAP)
            room = composing->slots[i].first + composing->slots[i].count - 1;
    if (kept > room)
        return ek_error_set(
            error, EK_ERROR_UNSUPPORTED,
            "an Apple partition map of %u entries has no room in the %" G_GUINT64_FORMAT
            " blocks in front of the first partition",
            kept, room);
    return TRUE;
}

static void put_text(guint8 *at, const char *text)
{
    gsize length = MIN(strlen(text), EK_APM_TEXT);
    memset(at, 0, EK_APM_TEXT);
    memcpy(at, text, length);
}

static void put_entry(const Composing *composing, const Slot *slot, guint8 block[EK_STEP])
{
    memset(block, 0, EK_STEP);
    if (slot->was == G_MAXUINT ||
        !ek_reader_read(composing->reader, (EkByte)composing->size * (slot->was + 1), block,
                        EK_STEP, NULL, NULL)) {
        const char *type = slot->kind == SLOT_PARTITION ? slot->entry->type_text
                           : slot->kind == SLOT_MAP     ? EK_APM_MAP
                                                        : EK_APM_FREE;
        const char *name = slot->kind == SLOT_PARTITION ? slot->entry->name
                           : slot->kind == SLOT_MAP     ? "Apple"
                                                        : "Extra";
        memset(block, 0, EK_STEP);
        memcpy(block, "PM", 2);
        put_text(block + EK_APM_NAME_AT, name);
        put_text(block + EK_APM_TYPE_AT, type);
        ek_put_be32(block + 88, slot->kind != SLOT_FREE ? STATUS_USUAL : 0);
        ek_put_be32(block + 84, (guint32)slot->count);
    }
    if (slot->kind == SLOT_PARTITION)
        put_text(block + EK_APM_TYPE_AT, slot->entry->type_text);
    EkSpan span = {block, EK_STEP};
    /* Where the data was as long as the partition, it still is. */
    if (ek_span_be32(span, 84) == ek_span_be32(span, 12))
        ek_put_be32(block + 84, (guint32)slot->count);
    ek_put_be32(block + 4, composing->count);
    ek_put_be32(block + 8, (guint32)slot->first);
    ek_put_be32(block + 12, (guint32)slot->count);
}

/* Block 0: what names the size of a block. An MBR's partitions in it would rule beside the map. */
static gboolean put_descriptor(const Composing *composing, EkTableSink sink, void *data,
                               GError **error)
{
    guint8 block[EK_STEP];
    if (!ek_reader_read(composing->reader, 0, block, sizeof block, NULL, error))
        return FALSE;
    EkSpan span = {block, sizeof block};
    if (ek_span_equals(span, 0, "ER", 2))
        return TRUE;
    if (ek_span_le16(span, EK_STEP - 2) == 0xaa55)
        memset(block + ek_mbr_entry_offset(0), 0, 64);
    memcpy(block, "ER", 2);
    ek_put_be16(block + 2, (guint16)composing->size);
    ek_put_be32(block + 4, (guint32)composing->blocks);
    return sink(data, "apm", 0, block, sizeof block, "Apple partition map's block 0", error);
}

static gboolean put_all(const Composing *composing, EkTableSink sink, void *data, GError **error)
{
    for (guint i = 0; i < composing->count; i++) {
        guint8 block[EK_STEP];
        g_autofree char *what = g_strdup_printf("Apple partition map's entry %u", i + 1);
        put_entry(composing, &composing->slots[i], block);
        if (!sink(data, "apm", (EkByte)composing->size * (i + 1), block, sizeof block, what, error))
            return FALSE;
    }
    return put_descriptor(composing, sink, data, error);
}

gboolean ek_apm_compose(const EkTable *table, EkReader *reader, EkTableSink sink, void *data,
                        GError **error)
{
    g_autofree Composing *composing = g_new0(Composing, 1);
    composing->table = table;
    composing->reader = reader;
    composing->size = table->sector_size;
    composing->blocks = ek_reader_bytes(reader) / table->sector_size;
    if (composing->blocks > G_MAXUINT32)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "an Apple partition map counts no further than block %u", G_MAXUINT32);
    if (!ek_apm_gather(reader, &composing->old) || composing->old.sector_size != table->sector_size)
        composing->old = (EkTable){0};
    composing->count = MIN(composing->old.entry_count, EK_APM_ENTRIES_MOST);
    if (!put_partitions(composing, error))
        return FALSE;
    keep_own(composing);
    if (!put_map(composing, error))
        return FALSE;
    find_gaps(composing);
    return fill_slots(composing, error) && put_all(composing, sink, data, error);
}
