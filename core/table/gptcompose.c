/* SPDX-License-Identifier: MIT */
/* Composing a GUID partition table: the protective MBR, header and entries at the beginning of the
 * drive and again at its end. As in the UEFI Specification 2.10, 5.2.3 and 5.3. */
#include "table/table.h"

#include "base/checksum.h"

#include <string.h>

#define MBR_BYTES 512u
#define HEADER_BYTES 92u
#define REVISION 0x00010000u
#define USUAL_ENTRIES 128u
#define USUAL_ENTRY 128u

typedef struct {
    const EkTable *table;
    EkReader *reader;
    EkTableSink sink;
    void *data;
    guint32 size; /* of a sector */
    EkSector last;
    EkSector entry_sectors;
    gsize entries_bytes; /* a whole number of sectors */
    guint32 entry_count;
    guint32 entry_bytes;
    EkSector first_usable;
    EkSector last_usable;
    guint32 entries_sum;
} Composing;

EkByte ek_gpt_backup_bytes(guint32 sector_size)
{
    return (EkByte)USUAL_ENTRIES * USUAL_ENTRY + sector_size;
}

guint ek_gpt_usual_entries(void)
{
    return USUAL_ENTRIES;
}

void ek_gpt_set_name(EkTableEntry *entry, const char *name)
{
    glong units = 0;
    g_autofree gunichar2 *text = g_utf8_to_utf16(name, -1, NULL, &units, NULL);
    memset(entry->units, 0, sizeof entry->units);
    for (glong i = 0; i < MIN(units, (glong)EK_GPT_NAME_BYTES / 2); i++)
        ek_put_le16(entry->units + 2 * i, text[i]);
    g_strlcpy(entry->name, name, sizeof entry->name);
}

/* Nothing but what protects the GPT is changed: a hybrid goes on naming what it names. */
static gboolean compose_protection(const Composing *composing, GError **error)
{
    guint8 record[MBR_BYTES];
    EkTable there;
    if (!ek_reader_read(composing->reader, 0, record, sizeof record, NULL, error))
        return FALSE;
    gboolean has_table =
        ek_table_mbr.read((EkSpan){record, sizeof record}, composing->size, &there);
    guint32 sectors = (guint32)MIN(composing->last, G_MAXUINT32);
    for (guint i = 0; has_table && i < there.count; i++) {
        const EkTableEntry *own = &there.entries[i];
        guint8 *count = record + EK_MBR_ENTRIES + own->index * EK_MBR_ENTRY_BYTES + 12;
        if (own->type != EK_MBR_PROTECTIVE || own->range.first != composing->size)
            continue;
        /* As long as the drive, or as an MBR can say. */
        guint32 said = ek_span_le32((EkSpan){count, 4}, 0);
        if (said == sectors || said == G_MAXUINT32)
            return TRUE;
        ek_put_le32(count, sectors);
        return composing->sink(composing->data, "mbr", 0, record, sizeof record, "protective MBR",
                               error);
    }
    guint8 entry[EK_MBR_ENTRY_BYTES] = {0, 0, 2, 0, EK_MBR_PROTECTIVE, 0xff, 0xff, 0xff, 1};
    ek_put_le32(entry + 12, sectors);
    memset(record + EK_MBR_ENTRIES, 0, EK_MBR_PRIMARIES * EK_MBR_ENTRY_BYTES);
    memcpy(record + EK_MBR_ENTRIES, entry, sizeof entry);
    ek_put_le16(record + MBR_BYTES - 2, 0xaa55);
    return composing->sink(composing->data, "mbr", 0, record, sizeof record, "protective MBR",
                           error);
}

static gboolean put_entry(const Composing *composing, const EkTableEntry *entry, guint8 *entries,
                          GError **error)
{
    guint32 size = composing->size;
    EkSector first = entry->range.first / size;
    EkSector last = ek_range_end(entry->range) / size - 1;
    if (entry->range.first % size != 0 || entry->range.bytes % size != 0 || entry->range.bytes == 0)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED,
                            "the partition at byte %" G_GUINT64_FORMAT
                            " is not aligned to %u-byte sectors",
                            entry->range.first, size);
    if (entry->index >= composing->entry_count)
        return ek_error_set(error, EK_ERROR_UNSUPPORTED, "this GPT has room for %u partitions",
                            composing->entry_count);
    if (first < 2 + composing->entry_sectors ||
        last > composing->last - composing->entry_sectors - 1)
        return ek_error_set(
            error, EK_ERROR_UNSUPPORTED,
            "the partition from sector %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
            " leaves no room for the GPT itself, which takes %" G_GUINT64_FORMAT
            " sectors at the beginning and %" G_GUINT64_FORMAT " at the end of the drive",
            first, last, 2 + composing->entry_sectors, 1 + composing->entry_sectors);
    guint8 *p = entries + (gsize)entry->index * composing->entry_bytes;
    memcpy(p, entry->type_uuid, 16);
    memcpy(p + 16, entry->uuid, 16);
    ek_put_le64(p + 32, first);
    ek_put_le64(p + 40, last);
    ek_put_le64(p + 48, entry->attributes);
    memcpy(p + 56, entry->units, sizeof entry->units);
    return TRUE;
}

static gboolean compose_header(const Composing *composing, EkSector place, EkSector other,
                               EkSector entries, const char *what, GError **error)
{
    guint8 header[MBR_BYTES] = {0};
    memcpy(header, "EFI PART", 8);
    ek_put_le32(header + 8, REVISION);
    ek_put_le32(header + 12, HEADER_BYTES);
    ek_put_le64(header + 24, place);
    ek_put_le64(header + 32, other);
    ek_put_le64(header + 40, composing->first_usable);
    ek_put_le64(header + 48, composing->last_usable);
    memcpy(header + 56, composing->table->uuid, 16);
    ek_put_le64(header + 72, entries);
    ek_put_le32(header + 80, composing->entry_count);
    ek_put_le32(header + 84, composing->entry_bytes);
    ek_put_le32(header + 88, composing->entries_sum);
    ek_put_le32(header + 16, ek_crc32((EkSpan){header, HEADER_BYTES}));
    return composing->sink(composing->data, "gpt", place * composing->size, header, sizeof header,
                           what, error);
}

static void set_sizes(Composing *composing)
{
    const EkTable *table = composing->table;
    composing->entry_count = table->entry_count != 0 ? table->entry_count : USUAL_ENTRIES;
    composing->entry_bytes = table->entry_bytes != 0 ? table->entry_bytes : USUAL_ENTRY;
    EkByte bytes =
        table->drive_bytes != 0 ? table->drive_bytes : ek_reader_bytes(composing->reader);
    composing->last = bytes / composing->size - 1;
    gsize entries = (gsize)composing->entry_count * composing->entry_bytes;
    composing->entry_sectors = ek_divide_up(entries, composing->size);
    composing->entries_bytes = (gsize)composing->entry_sectors * composing->size;
    EkSector behind = 2 + composing->entry_sectors;
    EkSector before = composing->last - composing->entry_sectors - 1;
    composing->first_usable = MAX(table->first_usable, behind);
    composing->last_usable = before;
    /* One that stands where it should, and leaves more room than it must, is right as it is. */
    if (MAX(table->place, table->other_place) == composing->last && table->last_usable != 0)
        composing->last_usable = MIN(table->last_usable, before);
}

gboolean ek_gpt_compose(const EkTable *table, EkReader *reader, EkTableSink sink, void *data,
                        GError **error)
{
    Composing composing = {
        .table = table, .reader = reader, .sink = sink, .data = data, .size = table->sector_size};
    set_sizes(&composing);
    if (composing.last < 2 * (composing.entry_sectors + 3))
        return ek_error_set(error, EK_ERROR_UNSUPPORTED, "the drive is too small for a GPT");
    g_autofree guint8 *entries = g_malloc0(composing.entries_bytes);
    for (guint i = 0; i < table->count; i++)
        if (!put_entry(&composing, &table->entries[i], entries, error))
            return FALSE;
    gsize summed = (gsize)composing.entry_count * composing.entry_bytes;
    composing.entries_sum = ek_crc32((EkSpan){entries, summed});
    EkSector last = composing.last;
    EkSector first_entries = 2;
    EkSector backup_entries = last - composing.entry_sectors;
    if (table->place == 1 && table->entries_place >= 2 &&
        table->entries_place + composing.entry_sectors <= composing.first_usable)
        first_entries = table->entries_place;
    return compose_protection(&composing, error) &&
           compose_header(&composing, 1, last, first_entries, "primary GPT header", error) &&
           sink(data, "gpt-entries", first_entries * composing.size, entries,
                composing.entries_bytes, "primary GPT entries", error) &&
           sink(data, "gpt-entries", backup_entries * composing.size, entries,
                composing.entries_bytes, "backup GPT entries", error) &&
           compose_header(&composing, last, 1, backup_entries, "backup GPT header", error);
}
