/* SPDX-License-Identifier: MIT */
/* The entries of a GUID partition table whose header is gone: places, names and GUIDs of the
 * partitions are all in them. As in the UEFI Specification 2.10, 5.3.3 "GUID Partition Entry
 * Array". Known by the types of partitions that are in common use. */
#include "table/table.h"

#include "base/text.h"

#define ENTRY 128u
#define ENTRIES 128u

/* The first bytes of those types that a drive's first partition has. */
static const EkSignature signatures[] = {
    {.length = 8, .bytes = {0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11}},
    {.length = 8, .bytes = {0x16, 0xe3, 0xc9, 0xe3, 0x5c, 0x0b, 0xb8, 0x4d}},
    {.length = 8, .bytes = {0xa2, 0xa0, 0xd0, 0xeb, 0xe5, 0xb9, 0x33, 0x44}},
    {.length = 8, .bytes = {0xa4, 0xbb, 0x94, 0xde, 0xd1, 0x06, 0x40, 0x4d}},
    {.length = 8, .bytes = {0xaf, 0x3d, 0xc6, 0x0f, 0x83, 0x84, 0x72, 0x47}},
    {.length = 8, .bytes = {0x6d, 0xfd, 0x57, 0x06, 0xab, 0xa4, 0xc4, 0x43}},
    {.length = 8, .bytes = {0x79, 0xd3, 0xd6, 0xe6, 0x07, 0xf5, 0xc2, 0x44}},
    {.length = 8, .bytes = {0x00, 0x53, 0x46, 0x48, 0x00, 0x00, 0xaa, 0x11}},
    {.length = 8, .bytes = {0xef, 0x57, 0x34, 0x7c, 0x00, 0x00, 0xaa, 0x11}},
    {.length = 8, .bytes = {0x48, 0x61, 0x68, 0x21, 0x49, 0x64, 0x6f, 0x6e}},
};

/* Takes the entries of the span; FALSE when one of them is none. */
static gboolean take_entries(EkSpan span, EkTable *table)
{
    for (guint i = 0; i * ENTRY + ENTRY <= span.length; i++) {
        EkSpan entry = ek_span_part(span, (gsize)i * ENTRY, ENTRY);
        guint before = table->count;
        if (ek_bytes_are_zero(entry.data, ENTRY))
            continue;
        ek_gpt_take_entry(entry, i, table);
        if (table->count == before || ek_bytes_are_zero(entry.data + 16, 16))
            return FALSE;
    }
    return table->count > 0;
}

static gboolean entries_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    *table = (EkTable){.scheme = EK_SCHEME_GPT_ENTRIES,
                       .sector_size = sector_size,
                       .entry_bytes = ENTRY,
                       .entry_count = ENTRIES};
    return span.length >= EK_STEP && *ek_gpt_type_name(span.data) != '\0' &&
           take_entries(ek_span_part(span, 0, EK_STEP), table);
}

/* A table begins with its first entry: what stands before it must not be another one of it. */
static gboolean is_first(EkReader *reader, EkByte at)
{
    guint8 before[ENTRY];
    return at < EK_STEP || !ek_reader_read(reader, at - ENTRY, before, ENTRY, NULL, NULL) ||
           *ek_gpt_type_name(before) == '\0';
}

static gboolean entries_follow(EkReader *reader, EkByte at, EkTable *table)
{
    EkTable all = {.scheme = table->scheme,
                   .first_byte = at,
                   .sector_size = table->sector_size,
                   .entry_bytes = ENTRY,
                   .entry_count = ENTRIES};
    if (!is_first(reader, at))
        return FALSE;
    for (guint sector = 0; sector < ENTRIES * ENTRY / EK_STEP; sector++) {
        guint8 data[EK_STEP];
        EkTable some = all;
        EkKnown known;
        if (!ek_reader_read(reader, at + sector * (EkByte)EK_STEP, data, sizeof data, &known,
                            NULL) ||
            known.good < sizeof data)
            continue;
        some.count = 0;
        if (!take_entries((EkSpan){data, sizeof data}, &some) && some.count > 0)
            break; /* whatever follows is no table any more */
        for (guint i = 0; i < some.count && all.count < EK_TABLE_MOST; i++) {
            all.entries[all.count] = some.entries[i];
            all.entries[all.count++].index += sector * (guint)(EK_STEP / ENTRY);
        }
    }
    *table = all;
    return table->count > 0;
}

static char *explain_entry(EkSpan entry, guint32 sector_size)
{
    EkTable one = {.sector_size = sector_size};
    ek_gpt_take_entry(entry, 0, &one);
    if (one.count == 0)
        return g_strdup(ek_bytes_are_zero(entry.data, 16) ? "empty" : "no partition");
    const EkTableEntry *partition = &one.entries[0];
    const char *type = ek_gpt_type_name(partition->type_uuid);
    g_autofree char *size = ek_text_size(partition->range.bytes);
    return g_strdup_printf("%s, sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT " (%s)%s%s",
                           *type != '\0' ? type : "of a type that is not known",
                           partition->range.first / sector_size,
                           ek_range_end(partition->range) / sector_size - 1, size,
                           *partition->name != '\0' ? ", named " : "", partition->name);
}

static GPtrArray *entries_explain(EkSpan span, guint32 sector_size)
{
    GPtrArray *fields = ek_fields_new();
    for (gsize at = 0; at + ENTRY <= span.length; at += ENTRY)
        ek_fields_add(fields, at, ENTRY, "entry",
                      explain_entry(ek_span_part(span, at, ENTRY), sector_size));
    return fields;
}

const EkTableFormat ek_table_gpt_entries = {
    .scheme = EK_SCHEME_GPT_ENTRIES,
    .header_bytes = EK_STEP,
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .read = entries_read,
    .follow = entries_follow,
    .explain = entries_explain,
};
