/* SPDX-License-Identifier: MIT */
/* The Apple partition map: from block 1 on one entry a block, the map itself among them; block 0
 * names the size of a block. As in "Inside Macintosh: Devices", 3-22. What it distrusts: an entry
 * says how many there are, and all must agree. */
#include "table/table.h"

#include "table/apm.h"

#include "base/text.h"

static const guint32 sizes[] = {512, 1024, 2048, 4096}; /* of blocks */

static gboolean is_text(EkSpan span)
{
    gsize length = 0;
    while (length < span.length && span.data[length] != 0)
        if (span.data[length] < 32 || span.data[length++] > 126)
            return FALSE;
    return TRUE;
}

gboolean ek_apm_entry_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    *table = (EkTable){.scheme = EK_SCHEME_APM, .sector_size = sector_size, .is_whole = TRUE};
    if (span.length < EK_STEP || !ek_span_equals(span, 0, "PM\0\0", 4))
        return FALSE;
    table->entry_count = ek_span_be32(span, 4);
    EkSpan type = ek_span_part(span, EK_APM_TYPE_AT, EK_APM_TEXT);
    EkSpan name = ek_span_part(span, EK_APM_NAME_AT, EK_APM_TEXT);
    if (table->entry_count == 0 || table->entry_count > EK_APM_ENTRIES_MOST || type.data[0] == 0 ||
        !is_text(type) || ek_span_be32(span, 8) == 0 || ek_span_be32(span, 12) == 0)
        return FALSE;
    EkTableEntry *entry = &table->entries[table->count++];
    *entry = (EkTableEntry){.range = {(EkByte)ek_span_be32(span, 8) * sector_size,
                                      (EkByte)ek_span_be32(span, 12) * sector_size}};
    g_autofree char *type_text = g_strndup((const char *)type.data, EK_APM_TEXT);
    g_autofree char *name_text = g_strndup((const char *)name.data, EK_APM_TEXT);
    g_strlcpy(entry->type_text, type_text, sizeof entry->type_text);
    if (g_utf8_validate(name_text, -1, NULL))
        g_strlcpy(entry->name, name_text, sizeof entry->name);
    /* The map is no volume, nor is what is free. */
    entry->extended = g_str_equal(type_text, EK_APM_MAP) || g_str_equal(type_text, EK_APM_FREE);
    return TRUE;
}

/* The entry for the map itself, which is its first: all others are found from there. */
gboolean ek_apm_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    return ek_apm_entry_read(span, sector_size, table) &&
           g_str_equal(table->entries[0].type_text, EK_APM_MAP);
}

static gboolean read_entry(EkReader *reader, EkByte at, guint32 sector_size, EkTable *one)
{
    guint8 block[EK_STEP];
    EkKnown known;
    return ek_reader_read(reader, at, block, sizeof block, &known, NULL) &&
           known.good == sizeof block &&
           ek_apm_entry_read((EkSpan){block, sizeof block}, sector_size, one);
}

/* Takes all entries of a map that agree with table->entry_count; `at` is where the first stands. */
static void take_entries(EkReader *reader, EkByte at, EkTable *table)
{
    EkTable *one = g_new(EkTable, 1);
    table->count = 0;
    for (guint i = 0; i < table->entry_count && table->count < EK_TABLE_MOST; i++) {
        if (!read_entry(reader, at + (EkByte)i * table->sector_size, table->sector_size, one) ||
            one->entry_count != table->entry_count) {
            table->is_whole = FALSE;
            continue;
        }
        table->entries[table->count] = one->entries[0];
        table->entries[table->count++].index = i;
    }
    g_free(one);
}

/* `at` is the first entry; block 0 stands before it and names the size of a block. */
gboolean ek_apm_follow(EkReader *reader, EkByte at, EkTable *table)
{
    EkTable one;
    guint32 size = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(sizes) && size == 0 && table->entry_count > 1; i++)
        if (read_entry(reader, at + sizes[i], EK_STEP, &one) &&
            one.entry_count == table->entry_count)
            size = sizes[i];
    table->sector_size = size != 0 ? size : EK_STEP;
    take_entries(reader, at, table);
    return table->count > 0;
}

gboolean ek_apm_gather(EkReader *reader, EkTable *table)
{
    guint8 block[EK_STEP];
    guint32 said = 0;
    EkTable *one = g_new(EkTable, 1);
    if (ek_reader_read(reader, 0, block, sizeof block, NULL, NULL) && block[0] == 'E' &&
        block[1] == 'R')
        said = ek_span_be16((EkSpan){block, sizeof block}, 2);
    *table = (EkTable){.scheme = EK_SCHEME_APM};
    for (gsize i = 0; i < G_N_ELEMENTS(sizes); i++) {
        EkTable *some = g_new0(EkTable, 1);
        some->scheme = EK_SCHEME_APM;
        some->first_byte = some->sector_size = sizes[i];
        some->is_whole = TRUE;
        for (guint k = 0; k < EK_APM_ENTRIES_MOST && some->entry_count == 0; k++)
            if (read_entry(reader, (EkByte)sizes[i] * (k + 1), sizes[i], one) &&
                k < one->entry_count)
                some->entry_count = one->entry_count;
        take_entries(reader, sizes[i], some);
        /* With blocks of 512 bytes the entries of larger ones are seen too, but not all. */
        if (some->count > table->count || (some->count == table->count && sizes[i] == said))
            *table = *some;
        g_free(some);
    }
    g_free(one);
    return table->count > 1 || (table->count == 1 && said != 0);
}
