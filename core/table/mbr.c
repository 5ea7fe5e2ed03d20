/* SPDX-License-Identifier: MIT */
/* The master boot record: 446 bytes of boot code (of which the last six hold the disk signature and
 * two more bytes), four entries of 16 bytes, 55 AA. As in the UEFI Specification 2.10, 5.2 "LBA 0
 * Format". What it distrusts: every boot sector ends in 55 AA too, so the four entries decide. */
#include "table/table.h"

#include "base/text.h"

#define ENTRIES EK_MBR_PRIMARIES
#define SIGNATURE_OFFSET 440u
#define END_OFFSET 510u
#define MBR_BYTES 512u

static const struct {
    guint8 type;
    const char *name;
} type_names[] = {
    {0x01, "FAT12"},          {0x04, "FAT16, up to 32 MiB"},
    {0x05, "extended (CHS)"}, {0x06, "FAT16, from 32 MiB"},
    {0x07, "NTFS / exFAT"},   {0x0b, "FAT32 (CHS)"},
    {0x0c, "FAT32 (LBA)"},    {0x0e, "FAT16 (LBA)"},
    {0x0f, "extended (LBA)"}, {0x27, "hidden NTFS"},
    {0x42, "dynamic disk"},   {0x82, "Linux swap"},
    {0x83, "Linux"},          {0x85, "Linux extended"},
    {0x8e, "Linux LVM"},      {0xee, "protects a GPT"},
    {0xaf, "Apple HFS+"},     {0xef, "EFI system"},
    {0xfd, "Linux RAID"},
};

const char *ek_mbr_type_name(guint8 type)
{
    for (gsize i = 0; i < G_N_ELEMENTS(type_names); i++)
        if (type_names[i].type == type)
            return type_names[i].name;
    return "";
}

EkByte ek_mbr_entry_offset(guint slot)
{
    return EK_MBR_ENTRIES + (EkByte)slot * EK_MBR_ENTRY_BYTES;
}

const char *ek_mbr_other_ruler(guint8 type)
{
    return type == EK_MBR_PROTECTIVE ? "GPT" : type == 0x42 ? "dynamic disk" : NULL;
}

static gboolean is_extended(guint8 type)
{
    return type == 0x05 || type == 0x0f || type == 0x85;
}

/* A type that Windows gives a letter to, hidden ones and those for recovery included. */
static gboolean is_for_windows(guint8 type)
{
    static const guint8 types[] = {0x01, 0x04, 0x06, 0x07, 0x0b, 0x0c, 0x0e, 0xef, 0x27};
    for (gsize i = 0; i < G_N_ELEMENTS(types); i++)
        if (type == types[i] || (type < 0x20 && (type & ~0x10) == types[i]))
            return TRUE;
    return FALSE;
}

gboolean ek_mbr_type_fits(guint8 type, guint8 usual)
{
    if (usual == 0 || type == usual)
        return TRUE;
    if (type == 0 || is_extended(type) || type == EK_MBR_PROTECTIVE || usual == 0x42 ||
        type == 0x42)
        return FALSE;
    /* Linux and macOS look at what is in a partition, Windows at its type first. */
    return !is_for_windows(usual) || is_for_windows(type);
}

static const EkSignature signatures[] = {
    {.offset = END_OFFSET, .length = 2, .bytes = {0x55, 0xaa}},
};

/* A number that went wrong lets two touch; of code that looks like a table they share more. */
static gboolean are_on_one_region(EkRange a, EkRange b)
{
    EkByte first = MAX(a.first, b.first);
    EkByte end = MIN(ek_range_end(a), ek_range_end(b));
    return end > first && (end - first) * 2 > MIN(a.bytes, b.bytes);
}

static gboolean mbr_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    *table = (EkTable){.scheme = EK_SCHEME_MBR,
                       .sector_size = sector_size,
                       .is_whole = TRUE,
                       .disk_signature = ek_span_le32(span, SIGNATURE_OFFSET)};
    if (span.length < MBR_BYTES || ek_span_le16(span, END_OFFSET) != 0xaa55)
        return FALSE;
    gboolean has_odd = FALSE;
    for (guint i = 0; i < ENTRIES; i++) {
        EkSpan entry =
            ek_span_part(span, EK_MBR_ENTRIES + i * EK_MBR_ENTRY_BYTES, EK_MBR_ENTRY_BYTES);
        guint8 status = ek_span_u8(entry, 0);
        guint8 type = ek_span_u8(entry, 4);
        guint32 first = ek_span_le32(entry, 8);
        guint32 count = ek_span_le32(entry, 12);
        if (status != 0x00 && status != EK_MBR_ACTIVE)
            return FALSE;
        if (type == 0) {
            /* Makers of hybrid discs write a place without a type; so does code that is no table.
             */
            if (count == 0 && first != 0)
                return FALSE;
            has_odd |= count != 0;
            continue;
        }
        if (first == 0 || count == 0)
            return FALSE;
        table->entries[table->count++] = (EkTableEntry){
            .index = i,
            .range = {(EkByte)first * sector_size, (EkByte)count * sector_size},
            .type = type,
            .active = status == EK_MBR_ACTIVE,
            .extended = is_extended(type),
        };
    }
    for (guint i = 0; i < table->count; i++)
        for (guint k = i + 1; k < table->count; k++)
            /* What protects a GPT may cover what a hybrid names besides. */
            if (table->entries[i].type != EK_MBR_PROTECTIVE &&
                table->entries[k].type != EK_MBR_PROTECTIVE &&
                are_on_one_region(table->entries[i].range, table->entries[k].range))
                return FALSE;
    /* Beside such a one there must be an entry of a type that is known. */
    for (guint i = 0; has_odd && i < table->count; i++)
        has_odd = *ek_mbr_type_name(table->entries[i].type) == '\0';
    return table->count > 0 && !has_odd;
}

/* Cylinder, head and sector for 255 heads and 63 sectors; FE FF FF past what they can say. */
static void put_chs(guint8 *p, guint64 sector)
{
    guint64 cylinder = sector / (255 * 63);
    guint64 head = sector / 63 % 255;
    guint64 in_track = sector % 63 + 1;
    if (cylinder > 1023) {
        p[0] = 0xfe;
        p[1] = 0xff;
        p[2] = 0xff;
        return;
    }
    p[0] = (guint8)head;
    p[1] = (guint8)(in_track | (cylinder >> 8 << 6));
    p[2] = (guint8)(cylinder & 0xff);
}

/* Its place counts from `base`. */
static gboolean compose_entry(const EkTableEntry *entry, guint32 sector_size, EkByte base,
                              guint8 *p, GError **error)
{
    if (entry->range.first % sector_size != 0 || entry->range.bytes % sector_size != 0)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "the partition at byte %" G_GUINT64_FORMAT
                            " is not aligned to %u-byte sectors",
                            entry->range.first, sector_size);
    guint64 sector = entry->range.first / sector_size;
    guint64 first = (entry->range.first - base) / sector_size;
    guint64 count = entry->range.bytes / sector_size;
    if (first > G_MAXUINT32 || count > G_MAXUINT32 || count == 0)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "an MBR cannot express a partition of %" G_GUINT64_FORMAT
                            " sectors at sector %" G_GUINT64_FORMAT,
                            count, sector);
    memset(p, 0, EK_MBR_ENTRY_BYTES);
    p[0] = entry->active ? EK_MBR_ACTIVE : 0;
    put_chs(p + 1, sector);
    p[4] = entry->type;
    put_chs(p + 5, sector + count - 1);
    ek_put_le32(p + 8, (guint32)first);
    ek_put_le32(p + 12, (guint32)count);
    return TRUE;
}

/* Does an entry say the same already? Then its cylinder numbers, which are made in several ways,
 * are none of our business. */
static gboolean says_the_same(const guint8 *a, const guint8 *b)
{
    return a[0] == b[0] && a[4] == b[4] && memcmp(a + 8, b + 8, 8) == 0;
}

static char *explain_entry(EkSpan entry, guint32 sector_size)
{
    guint8 type = ek_span_u8(entry, 4);
    if (ek_bytes_are_zero(entry.data, entry.length))
        return g_strdup("empty");
    guint64 first = ek_span_le32(entry, 8);
    guint64 count = ek_span_le32(entry, 12);
    g_autofree char *size = ek_text_size(count * sector_size);
    return g_strdup_printf("type %02x %s, sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
                           " (%s)%s",
                           type, ek_mbr_type_name(type), first, first + MAX(count, 1) - 1, size,
                           ek_span_u8(entry, 0) == EK_MBR_ACTIVE ? ", active" : "");
}

static GPtrArray *mbr_explain(EkSpan span, guint32 sector_size)
{
    static const char *const entry_names[ENTRIES] = {"partition 1", "partition 2", "partition 3",
                                                     "partition 4"};
    GPtrArray *fields = ek_fields_new();
    gboolean blank = ek_bytes_are_zero(span.data, MIN(span.length, SIGNATURE_OFFSET));
    ek_fields_add(fields, 0, SIGNATURE_OFFSET, "boot code", blank ? g_strdup("none") : NULL);
    ek_fields_add(fields, SIGNATURE_OFFSET, 4, "disk signature",
                  g_strdup_printf("%08x", ek_span_le32(span, SIGNATURE_OFFSET)));
    ek_fields_add(fields, 444, 2, "reserved", NULL);
    for (guint i = 0; i < ENTRIES; i++) {
        gsize offset = EK_MBR_ENTRIES + i * EK_MBR_ENTRY_BYTES;
        ek_fields_add(fields, offset, EK_MBR_ENTRY_BYTES, entry_names[i],
                      explain_entry(ek_span_part(span, offset, EK_MBR_ENTRY_BYTES), sector_size));
    }
    ek_fields_add(fields, END_OFFSET, 2, "boot signature",
                  g_strdup(ek_span_le16(span, END_OFFSET) == 0xaa55 ? "a boot record" : "missing"));
    return fields;
}

/* --- logical partitions --------------------------------------------------------------------- */

#define CHAIN_MOST 124u

/* One link: the first entry is a partition, counted from this sector; the second names the next
 * link, counted from where the extended partition begins; the others are empty. */
static gboolean link_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    *table = (EkTable){.scheme = EK_SCHEME_EBR, .sector_size = sector_size, .is_whole = TRUE};
    if (span.length < MBR_BYTES || ek_span_le16(span, END_OFFSET) != 0xaa55 ||
        !ek_bytes_are_zero(span.data + EK_MBR_ENTRIES + 2 * EK_MBR_ENTRY_BYTES,
                           2 * EK_MBR_ENTRY_BYTES))
        return FALSE;
    for (guint i = 0; i < 2; i++) {
        EkSpan entry =
            ek_span_part(span, EK_MBR_ENTRIES + i * EK_MBR_ENTRY_BYTES, EK_MBR_ENTRY_BYTES);
        guint8 status = ek_span_u8(entry, 0);
        guint8 type = ek_span_u8(entry, 4);
        EkRange range = {(EkByte)ek_span_le32(entry, 8) * sector_size,
                         (EkByte)ek_span_le32(entry, 12) * sector_size};
        if ((status != 0x00 && status != EK_MBR_ACTIVE) ||
            (i == 1 && type != 0 && !is_extended(type)) || (i == 0 && is_extended(type)))
            return FALSE;
        if (type == 0)
            continue;
        if (range.bytes == 0 || (range.first == 0 && i == 0))
            return FALSE;
        table->entries[table->count++] = (EkTableEntry){.index = i,
                                                        .range = range,
                                                        .type = type,
                                                        .active = status == EK_MBR_ACTIVE,
                                                        .extended = i == 1,
                                                        .logical = i == 0};
    }
    return table->count > 0;
}

/* A link that nobody led to: nothing but the two entries stands in it. */
static gboolean ebr_read(EkSpan span, guint32 sector_size, EkTable *table)
{
    return link_read(span, sector_size, table) && ek_bytes_are_zero(span.data, SIGNATURE_OFFSET);
}

/* Adds the logical partitions. A chain that leads back, out of the extended partition, or to what
 * is no link is cut there. */
static void follow_chain(EkReader *reader, EkByte start, EkRange extended, guint32 sector_size,
                         EkTable *table)
{
    EkByte link = 0;
    guint number = 0;
    for (guint i = 0; i < CHAIN_MOST && table->count < EK_TABLE_MOST; i++) {
        guint8 sector[MBR_BYTES];
        EkTable one;
        EkKnown known;
        EkByte at = start + extended.first + link;
        if (!ek_reader_read(reader, at, sector, sizeof sector, &known, NULL) ||
            known.good < sizeof sector ||
            !link_read((EkSpan){sector, sizeof sector}, sector_size, &one)) {
            table->is_whole = FALSE;
            return;
        }
        EkByte next = 0;
        gboolean more = FALSE;
        for (guint k = 0; k < one.count; k++) {
            EkTableEntry entry = one.entries[k];
            if (entry.extended) {
                next = entry.range.first;
                more = TRUE;
                continue;
            }
            entry.link_byte = at;
            entry.range.first += extended.first + link;
            entry.index = ENTRIES + number++;
            table->entries[table->count++] = entry;
        }
        if (!more)
            return;
        if (next <= link || next >= extended.bytes) {
            table->is_whole = FALSE;
            return;
        }
        link = next;
    }
}

static gboolean mbr_follow(EkReader *reader, EkByte at, EkTable *table)
{
    guint primaries = table->count;
    for (guint i = 0; i < primaries; i++)
        if (table->entries[i].extended)
            follow_chain(reader, at, table->entries[i].range, table->sector_size, table);
    return TRUE;
}

/* --- composing ------------------------------------------------------------------------------ */

typedef struct {
    const EkTable *table;
    EkReader *reader;
    EkTableSink sink;
    void *data;
} Composing;

/* What stands in a boot record's sector; zeros where it was not read. */
static gboolean read_record(EkReader *reader, EkByte at, guint8 *record, GError **error)
{
    return ek_reader_read(reader, at, record, MBR_BYTES, NULL, error);
}

/* Lays an entry over what stands in its slot. */
static gboolean lay_entry(const EkTableEntry *entry, guint32 sector_size, EkByte base, guint slot,
                          guint8 *record, GError **error)
{
    guint8 composed[EK_MBR_ENTRY_BYTES] = {0};
    guint8 *there = record + EK_MBR_ENTRIES + slot * EK_MBR_ENTRY_BYTES;
    if (!compose_entry(entry, sector_size, base, composed, error))
        return FALSE;
    if (!says_the_same(composed, there))
        memcpy(there, composed, EK_MBR_ENTRY_BYTES);
    return TRUE;
}

static const EkTableEntry *extended_of(const EkTable *table)
{
    for (guint i = 0; i < table->count; i++)
        if (table->entries[i].extended)
            return &table->entries[i];
    return NULL;
}

static const EkTableEntry *next_logical(const EkTable *table, guint from)
{
    for (guint i = from; i < table->count; i++)
        if (table->entries[i].logical)
            return &table->entries[i];
    return NULL;
}

/* One link: its own partition, and where the next link begins. */
static gboolean compose_link(const Composing *composing, const EkTableEntry *own,
                             const EkTableEntry *next, EkRange extended, GError **error)
{
    guint32 size = composing->table->sector_size;
    guint8 record[MBR_BYTES];
    if (own->link_byte < extended.first || ek_range_end(own->range) > ek_range_end(extended) ||
        own->link_byte >= own->range.first)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "the logical partition at sector %" G_GUINT64_FORMAT
                            " has no room for its table in front of it",
                            own->range.first / size);
    if (!read_record(composing->reader, own->link_byte, record, error))
        return FALSE;
    /* What stands there may be no link at all: then nothing of it is kept. */
    EkTable there;
    if (!link_read((EkSpan){record, sizeof record}, size, &there))
        memset(record, 0, sizeof record);
    if (!lay_entry(own, size, own->link_byte, 0, record, error))
        return FALSE;
    if (next == NULL) {
        memset(record + EK_MBR_ENTRIES + EK_MBR_ENTRY_BYTES, 0, EK_MBR_ENTRY_BYTES);
    } else {
        EkTableEntry onward = {
            .range = {next->link_byte, ek_range_end(next->range) - next->link_byte}, .type = 0x05};
        if (!lay_entry(&onward, size, extended.first, 1, record, error))
            return FALSE;
    }
    memset(record + EK_MBR_ENTRIES + 2 * EK_MBR_ENTRY_BYTES, 0, 2 * EK_MBR_ENTRY_BYTES);
    ek_put_le16(record + END_OFFSET, 0xaa55);
    return composing->sink(composing->data, "ebr", own->link_byte, record, sizeof record,
                           "EBR (link to a logical partition)", error);
}

static gboolean compose_chain(const Composing *composing, GError **error)
{
    const EkTable *table = composing->table;
    const EkTableEntry *extended = extended_of(table);
    const EkTableEntry *own = next_logical(table, 0);
    if (own == NULL)
        return TRUE;
    if (extended == NULL || own->link_byte != extended->range.first)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "logical partitions need an extended one that begins with their chain");
    while (own != NULL) {
        const EkTableEntry *next = next_logical(table, (guint)(own - table->entries) + 1);
        if (!compose_link(composing, own, next, extended->range, error))
            return FALSE;
        own = next;
    }
    return TRUE;
}

static gboolean mbr_compose(const EkTable *table, EkReader *reader, EkTableSink sink, void *data,
                            GError **error)
{
    Composing composing = {table, reader, sink, data};
    guint8 record[MBR_BYTES];
    gboolean is_used[ENTRIES] = {FALSE};
    if (!read_record(reader, 0, record, error))
        return FALSE;
    EkTable there;
    gboolean is_table = mbr_read((EkSpan){record, sizeof record}, table->sector_size, &there);
    for (guint i = 0; i < table->count; i++) {
        const EkTableEntry *entry = &table->entries[i];
        if (entry->logical)
            continue;
        if (entry->index >= ENTRIES || is_used[entry->index])
            return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                                "an MBR can hold only four primary partitions");
        is_used[entry->index] = TRUE;
        if (!lay_entry(entry, table->sector_size, 0, entry->index, record, error))
            return FALSE;
    }
    for (guint i = 0; i < ENTRIES; i++)
        /* One without a type is no partition, and in a table it may be meant. */
        if (!is_used[i] && (!is_table || record[EK_MBR_ENTRIES + i * EK_MBR_ENTRY_BYTES + 4] != 0))
            memset(record + EK_MBR_ENTRIES + i * EK_MBR_ENTRY_BYTES, 0, EK_MBR_ENTRY_BYTES);
    ek_put_le32(record + SIGNATURE_OFFSET, table->disk_signature);
    ek_put_le16(record + END_OFFSET, 0xaa55);
    return sink(data, "mbr", 0, record, sizeof record, "partition table", error) &&
           compose_chain(&composing, error);
}

/* A link's own partition is counted from the link, so that only its size can be told. */
static GPtrArray *link_explain(EkSpan span, guint32 sector_size)
{
    GPtrArray *fields = ek_fields_new();
    EkSpan own = ek_span_part(span, EK_MBR_ENTRIES, EK_MBR_ENTRY_BYTES);
    EkSpan next = ek_span_part(span, EK_MBR_ENTRIES + EK_MBR_ENTRY_BYTES, EK_MBR_ENTRY_BYTES);
    g_autofree char *size = ek_text_size((guint64)ek_span_le32(own, 12) * sector_size);
    ek_fields_add(fields, 0, EK_MBR_ENTRIES, "unused", NULL);
    ek_fields_add(fields, EK_MBR_ENTRIES, EK_MBR_ENTRY_BYTES, "its partition",
                  g_strdup_printf("type %02x %s, %u sectors behind the link (%s)",
                                  ek_span_u8(own, 4), ek_mbr_type_name(ek_span_u8(own, 4)),
                                  ek_span_le32(own, 8), size));
    ek_fields_add(
        fields, EK_MBR_ENTRIES + EK_MBR_ENTRY_BYTES, EK_MBR_ENTRY_BYTES, "next link",
        ek_span_u8(next, 4) == 0
            ? g_strdup("none")
            : g_strdup_printf("%u sectors into the extended partition", ek_span_le32(next, 8)));
    ek_fields_add(fields, EK_MBR_ENTRIES + 2 * EK_MBR_ENTRY_BYTES, 2 * EK_MBR_ENTRY_BYTES, "unused",
                  NULL);
    ek_fields_add(fields, END_OFFSET, 2, "boot signature",
                  g_strdup(ek_span_le16(span, END_OFFSET) == 0xaa55 ? "a boot record" : "missing"));
    return fields;
}

const EkTableFormat ek_table_mbr = {
    .scheme = EK_SCHEME_MBR,
    .header_bytes = MBR_BYTES,
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .read = mbr_read,
    .follow = mbr_follow,
    .compose = mbr_compose,
    .explain = mbr_explain,
};

const EkTableFormat ek_table_ebr = {
    .scheme = EK_SCHEME_EBR,
    .header_bytes = MBR_BYTES,
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .read = ebr_read,
    .explain = link_explain,
};
