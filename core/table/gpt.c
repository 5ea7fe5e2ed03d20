/* SPDX-License-Identifier: MIT */
/* The GUID partition table: a header in sector 1 and one in the last sector, each with an array of
 * entries of its own. As in the UEFI Specification 2.10, 5.3 "GUID Partition Table (GPT) Disk
 * Layout". What it distrusts: a header may be right and its entries not, and the other way round;
 * both have sums, and what they say is kept when they do not fit. */
#include "table/table.h"

#include "base/checksum.h"
#include "base/text.h"

#define HEADER_LEAST 92u
#define SUM_OFFSET 16u
#define ENTRY_LEAST 128u
#define ENTRY_MOST 4096u
#define ENTRIES_MOST 1024u

static const EkSignature signatures[] = {
    {.offset = 0, .length = 8, .bytes = {'E', 'F', 'I', ' ', 'P', 'A', 'R', 'T'}},
};

static const struct {
    guint8 uuid[16];
    const char *name;
} type_names[] = {
    {{0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11, 0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9,
      0x3b},
     "EFI system"},
    {{0x16, 0xe3, 0xc9, 0xe3, 0x5c, 0x0b, 0xb8, 0x4d, 0x81, 0x7d, 0xf9, 0x2d, 0xf0, 0x02, 0x15,
      0xae},
     "Microsoft reserved"},
    {{0xa2, 0xa0, 0xd0, 0xeb, 0xe5, 0xb9, 0x33, 0x44, 0x87, 0xc0, 0x68, 0xb6, 0xb7, 0x26, 0x99,
      0xc7},
     "Microsoft basic data"},
    {{0xa4, 0xbb, 0x94, 0xde, 0xd1, 0x06, 0x40, 0x4d, 0xa1, 0x6a, 0xbf, 0xd5, 0x01, 0x79, 0xd6,
      0xac},
     "Windows recovery"},
    {{0xaa, 0xc8, 0x08, 0x58, 0x8f, 0x7e, 0xe0, 0x42, 0x85, 0xd2, 0xe1, 0xe9, 0x04, 0x34, 0xcf,
      0xb3},
     "Windows dynamic disk metadata"},
    {{0xa0, 0x60, 0x9b, 0xaf, 0x31, 0x14, 0x62, 0x4f, 0xbc, 0x68, 0x33, 0x11, 0x71, 0x4a, 0x69,
      0xad},
     "Windows dynamic disk data"},
    {{0xaf, 0x3d, 0xc6, 0x0f, 0x83, 0x84, 0x72, 0x47, 0x8e, 0x79, 0x3d, 0x69, 0xd8, 0x47, 0x7d,
      0xe4},
     "Linux"},
    {{0x6d, 0xfd, 0x57, 0x06, 0xab, 0xa4, 0xc4, 0x43, 0x84, 0xe5, 0x09, 0x33, 0xc8, 0x4b, 0x4f,
      0x4f},
     "Linux swap"},
    {{0x79, 0xd3, 0xd6, 0xe6, 0x07, 0xf5, 0xc2, 0x44, 0xa2, 0x3c, 0x23, 0x8f, 0x2a, 0x3d, 0xf9,
      0x28},
     "Linux LVM"},
    {{0x0f, 0x88, 0x9d, 0xa1, 0xfc, 0x05, 0x3b, 0x4d, 0xa0, 0x06, 0x74, 0x3f, 0x0f, 0x84, 0x91,
      0x1e},
     "Linux RAID"},
    {{0x00, 0x53, 0x46, 0x48, 0x00, 0x00, 0xaa, 0x11, 0xaa, 0x11, 0x00, 0x30, 0x65, 0x43, 0xec,
      0xac},
     "Apple HFS+"},
    {{0xef, 0x57, 0x34, 0x7c, 0x00, 0x00, 0xaa, 0x11, 0xaa, 0x11, 0x00, 0x30, 0x65, 0x43, 0xec,
      0xac},
     "Apple APFS"},
    {{0x48, 0x61, 0x68, 0x21, 0x49, 0x64, 0x6f, 0x6e, 0x74, 0x4e, 0x65, 0x65, 0x64, 0x45, 0x46,
      0x49},
     "BIOS boot"},
};

const char *ek_gpt_type_name(const guint8 *uuid)
{
    for (gsize i = 0; i < G_N_ELEMENTS(type_names); i++)
        if (memcmp(type_names[i].uuid, uuid, 16) == 0)
            return type_names[i].name;
    return "";
}

const guint8 *ek_gpt_type_named(const char *name)
{
    for (gsize i = 0; name != NULL && i < G_N_ELEMENTS(type_names); i++)
        if (g_str_equal(type_names[i].name, name))
            return type_names[i].uuid;
    return NULL;
}

char *ek_gpt_uuid(const guint8 *uuid)
{
    EkSpan span = {uuid, 16};
    return g_strdup_printf("%08X-%04X-%04X-%04X-%04X%08X", ek_span_le32(span, 0),
                           ek_span_le16(span, 4), ek_span_le16(span, 6), ek_span_be16(span, 8),
                           ek_span_be16(span, 10), ek_span_be32(span, 12));
}

static gboolean header_sum_fits(EkSpan span, gsize bytes)
{
    guint8 header[EK_STEP];
    memcpy(header, span.data, bytes);
    memset(header + SUM_OFFSET, 0, 4);
    return ek_crc32((EkSpan){header, bytes}) == ek_span_le32(span, SUM_OFFSET);
}

/* The header alone: the entries stand elsewhere. */
static gboolean gpt_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    *table = (EkTable){.scheme = EK_SCHEME_GPT, .sector_size = sector_size};
    if (span.length < EK_STEP || !ek_span_equals(span, 0, "EFI PART", 8))
        return FALSE;
    gsize bytes = ek_span_le32(span, 12);
    table->is_whole = bytes >= HEADER_LEAST && bytes <= EK_STEP && header_sum_fits(span, bytes);
    table->place = ek_span_le64(span, 24);
    table->other_place = ek_span_le64(span, 32);
    table->first_usable = ek_span_le64(span, 40);
    table->last_usable = ek_span_le64(span, 48);
    memcpy(table->uuid, span.data + 56, 16);
    table->entries_place = ek_span_le64(span, 72);
    table->entry_count = ek_span_le32(span, 80);
    table->entry_bytes = ek_span_le32(span, 84);
    return table->place > 0 && table->entries_place > 0 && table->entry_count > 0 &&
           table->entry_count <= ENTRIES_MOST && ek_is_power_of_two(table->entry_bytes) &&
           table->entry_bytes >= ENTRY_LEAST && table->entry_bytes <= ENTRY_MOST &&
           table->place < G_MAXINT64 / 4096 && table->entries_place < G_MAXINT64 / 4096;
}

void ek_gpt_take_entry(EkSpan span, guint index, EkTable *table)
{
    guint64 first = ek_span_le64(span, 32);
    guint64 last = ek_span_le64(span, 40);
    if (ek_bytes_are_zero(span.data, 16) || table->count >= EK_TABLE_MOST)
        return;
    if (first == 0 || last < first || last >= G_MAXINT64 / 4096) {
        table->is_whole = FALSE;
        return;
    }
    EkTableEntry *entry = &table->entries[table->count++];
    *entry = (EkTableEntry){
        .index = index,
        .range = {first * table->sector_size, (last - first + 1) * table->sector_size},
        .attributes = ek_span_le64(span, 48),
    };
    memcpy(entry->type_uuid, span.data, 16);
    memcpy(entry->uuid, span.data + 16, 16);
    g_autofree char *name = ek_text_utf16(span.data + 56, EK_GPT_NAME_BYTES, FALSE);
    g_strlcpy(entry->name, name, sizeof entry->name);
    memcpy(entry->units, span.data + 56, sizeof entry->units);
}

/* Its numbers count in sectors of 512 or 4096: the one for which it stands where it says. */
static void find_sector_size(EkByte at, EkTable *table)
{
    static const guint32 sizes[] = {512, 4096, 1024, 2048};
    for (gsize i = 0; i < G_N_ELEMENTS(sizes); i++)
        if (table->place * sizes[i] == at) {
            table->sector_size = sizes[i];
            return;
        }
}

static gboolean gpt_follow(EkReader *reader, EkByte at, EkTable *table)
{
    gsize length = (gsize)table->entry_count * table->entry_bytes;
    guint8 header[EK_STEP];
    EkKnown known;
    find_sector_size(at, table);
    if (!ek_reader_read(reader, at, header, sizeof header, NULL, NULL))
        return FALSE;
    /* Counted from this header, so that a table that was moved as a whole is read as well. */
    EkByte here = table->place * table->sector_size;
    EkByte there = table->entries_place * table->sector_size;
    if ((there < here && here - there > at) || (there > here && there - here > G_MAXINT64 - at))
        return FALSE;
    g_autofree guint8 *entries =
        ek_reader_read_new(reader, at + there - here, length, &known, NULL);
    if (entries == NULL)
        return FALSE;
    EkSpan span = {entries, length};
    if (known.good < length || ek_crc32(span) != ek_span_le32((EkSpan){header, sizeof header}, 88))
        table->is_whole = FALSE;
    for (guint i = 0; i < table->entry_count; i++)
        ek_gpt_take_entry(ek_span_part(span, (gsize)i * table->entry_bytes, table->entry_bytes), i,
                          table);
    return TRUE;
}

gboolean ek_gpt_holds(const EkTable *table, const EkTable *entries)
{
    return table->scheme == EK_SCHEME_GPT && entries->scheme == EK_SCHEME_GPT_ENTRIES &&
           table->first_byte + (table->entries_place - table->place) * table->sector_size ==
               entries->first_byte;
}

gboolean ek_gpt_is_lawful(const EkTable *table, EkByte bytes)
{
    EkSector last = bytes / table->sector_size - 1;
    gsize length = (gsize)table->entry_count * table->entry_bytes;
    EkSector entries = ek_divide_up(length, table->sector_size);
    gboolean is_first = table->place == 1 && table->other_place == last;
    gboolean is_backup = table->place == last && table->other_place == 1;
    if (!table->is_whole || (!is_first && !is_backup) ||
        length < (gsize)ek_gpt_usual_entries() * ENTRY_LEAST ||
        table->first_usable > table->last_usable || table->first_usable < 2 + entries ||
        table->last_usable + entries >= last)
        return FALSE;
    for (guint i = 0; i < table->count; i++) {
        EkRange range = table->entries[i].range;
        if (range.first / table->sector_size < table->first_usable ||
            ek_range_end(range) / table->sector_size > table->last_usable + 1)
            return FALSE;
        for (guint k = i + 1; k < table->count; k++)
            if (ek_ranges_overlap(range, table->entries[k].range))
                return FALSE;
    }
    return TRUE;
}

static GPtrArray *gpt_explain(EkSpan span, guint32 sector_size)
{
    static const EkFieldRule rules[] = {
        {0, 8, "signature", EK_FIELD_BYTES, NULL},
        {8, 4, "revision", EK_FIELD_BYTES, NULL},
        {12, 4, "bytes in the header", EK_FIELD_LE32, NULL},
        {16, 4, "checksum of the header", EK_FIELD_BYTES, NULL},
        {20, 4, "reserved", EK_FIELD_BYTES, NULL},
        {24, 8, "this copy at sector", EK_FIELD_LE64, NULL},
        {32, 8, "other copy in sector", EK_FIELD_LE64, NULL},
        {40, 8, "first usable sector", EK_FIELD_LE64, NULL},
        {48, 8, "last usable sector", EK_FIELD_LE64, NULL},
        {56, 16, "drive's UUID", EK_FIELD_BYTES, NULL},
        {72, 8, "entries begin in sector", EK_FIELD_LE64, NULL},
        {80, 4, "entries", EK_FIELD_LE32, NULL},
        {84, 4, "bytes per entry", EK_FIELD_LE32, NULL},
        {88, 4, "checksum of the entries", EK_FIELD_BYTES, NULL},
        {92, 420, "reserved", EK_FIELD_BYTES, NULL},
    };
    (void)sector_size;
    GPtrArray *fields = ek_fields_new();
    if (span.length >= EK_STEP)
        ek_fields_add_rules(fields, span, rules, G_N_ELEMENTS(rules));
    return fields;
}

const EkTableFormat ek_table_gpt = {
    .scheme = EK_SCHEME_GPT,
    .header_bytes = EK_STEP,
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .read = gpt_read,
    .follow = gpt_follow,
    .compose = ek_gpt_compose,
    .explain = gpt_explain,
};
