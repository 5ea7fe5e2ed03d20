/* SPDX-License-Identifier: MIT */
/* The Apple partition map: from block 1 on one entry a block, the map itself among them; block 0
 * names the size of a block. As in "Inside Macintosh: Devices", 3-22. What it distrusts: an entry
 * says how many there are, and all must agree. */
#include "table/table.h"

#include "base/text.h"

#define ENTRIES_MOST 256u
#define NAME_BYTES 32u
#define MAP_TYPE "Apple_partition_map"

static const EkSignature signatures[] = {
    /* PM, two zeros, a number of entries below 65536. */
    {.offset = 0, .length = 6, .bytes = {'P', 'M', 0, 0, 0, 0}},
};

static gboolean is_text(EkSpan span)
{
    gsize length = 0;
    while (length < span.length && span.data[length] != 0)
        if (span.data[length] < 32 || span.data[length++] > 126)
            return FALSE;
    return TRUE;
}

/* One entry of the map. */
static gboolean entry_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    *table = (EkTable){.scheme = "apm", .sector_size = sector_size, .is_whole = TRUE};
    if (span.length < EK_STEP || !ek_span_equals(span, 0, "PM\0\0", 4))
        return FALSE;
    table->entry_count = ek_span_be32(span, 4);
    EkSpan type = ek_span_part(span, 48, NAME_BYTES);
    if (table->entry_count == 0 || table->entry_count > ENTRIES_MOST || type.data[0] == 0 ||
        !is_text(type) || ek_span_be32(span, 8) == 0 || ek_span_be32(span, 12) == 0)
        return FALSE;
    EkTableEntry *entry = &table->entries[table->count++];
    *entry = (EkTableEntry){.range = {(EkByte)ek_span_be32(span, 8) * sector_size,
                                      (EkByte)ek_span_be32(span, 12) * sector_size}};
    g_autofree char *name = g_strndup((const char *)type.data, NAME_BYTES);
    g_strlcpy(entry->name, name, sizeof entry->name);
    return TRUE;
}

/* The entry for the map itself, which is its first: all others are found from there. */
static gboolean apm_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    return entry_read(span, sector_size, table) && g_str_equal(table->entries[0].name, MAP_TYPE);
}

static gboolean read_entry(EkGate *gate, EkByte at, guint32 sector_size, EkTable *one)
{
    guint8 block[EK_STEP];
    EkKnown known;
    return ek_gate_read(gate, at, block, sizeof block, &known, NULL) &&
           known.good == sizeof block &&
           entry_read((EkSpan){block, sizeof block}, sector_size, one);
}

/* `at` is the first entry; block 0 stands before it and names the size of a block. */
static gboolean apm_follow(EkGate *gate, EkByte at, EkTable *table)
{
    static const guint32 sizes[] = {512, 1024, 2048, 4096};
    EkTable one;
    guint32 size = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(sizes) && size == 0 && table->entry_count > 1; i++)
        if (read_entry(gate, at + sizes[i], EK_STEP, &one) && one.entry_count == table->entry_count)
            size = sizes[i];
    table->sector_size = size != 0 ? size : EK_STEP;
    guint count = table->entry_count;
    table->count = 0;
    for (guint i = 0; i < count && table->count < EK_TABLE_MOST; i++) {
        if (!read_entry(gate, at + (EkByte)i * table->sector_size, table->sector_size, &one) ||
            one.entry_count != count) {
            table->is_whole = FALSE;
            continue;
        }
        EkTableEntry *entry = &table->entries[table->count++];
        *entry = one.entries[0];
        entry->index = i;
        /* The map is no volume, nor is what is free. */
        entry->extended =
            g_str_equal(entry->name, MAP_TYPE) || g_str_equal(entry->name, "Apple_Free");
    }
    return table->count > 0;
}

const EkTableFormat ek_table_apm = {
    .scheme = "apm",
    .header_bytes = EK_STEP,
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .read = apm_read,
    .follow = apm_follow,
};
