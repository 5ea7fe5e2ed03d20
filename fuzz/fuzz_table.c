/* SPDX-License-Identifier: MIT */
/* Partition tables: each piece of the drive is taken for one of each kind, in sectors of both
 * sizes, and all together for what rules the drive. */
#include "pieces.h"
#include "table/table.h"
#include "volume/volume.h"

#include <stdlib.h>

static gboolean take_part(void *data, const char *structure, EkByte first_byte, const guint8 *after,
                          gsize length, const char *what, GError **error)
{
    (void)data;
    (void)first_byte;
    (void)what;
    (void)error;
    for (gsize i = 0; ek_table_formats[i] != NULL; i++)
        if (g_str_equal(ek_scheme_name(ek_table_formats[i]->scheme), structure))
            g_ptr_array_unref(ek_table_formats[i]->explain((EkSpan){after, length}, 512));
    return TRUE;
}

/* All that is asked of a table that was read. */
static void use_table(const EkTableFormat *format, EkReader *reader, EkByte at, guint32 sector_size,
                      const EkTable *table)
{
    EkScheme scheme;
    ek_table_scheme_words(table->scheme);
    /* What is stored by its name is read back as it was. */
    if (!ek_scheme_from_name(ek_scheme_name(table->scheme), &scheme) || scheme != table->scheme)
        abort();
    ek_gpt_is_lawful(table, ek_reader_bytes(reader));
    ek_gpt_is_lawful(table, (MAX(table->place, table->other_place) + 1) * table->sector_size);
    ek_gpt_usual_entries();
    ek_gpt_backup_bytes(sector_size);
    ek_mbr_type_fits(0x0c, 7);
    ek_mbr_type_fits(0x83, 7);
    guint8 *header = g_malloc0(MAX(format->header_bytes, sector_size));
    EkSpan span = {header, MAX(format->header_bytes, sector_size)};
    for (guint i = 0; i < table->count; i++) {
        const EkTableEntry *entry = &table->entries[i];
        g_free(ek_gpt_uuid(entry->type_uuid));
        ek_gpt_type_name(entry->type_uuid);
        ek_mbr_other_ruler(entry->type);
        ek_mbr_type_name(entry->type);
        ek_partition_type_for(entry->name);
        ek_gpt_type_named(entry->name);
        ek_mbr_type_fits(entry->type, 7);
        EkTableEntry copy = *entry;
        ek_gpt_set_name(&copy, entry->name);
    }
    if (ek_reader_read(reader, at, header, span.length, NULL, NULL)) {
        GPtrArray *fields = format->explain != NULL ? format->explain(span, sector_size) : NULL;
        if (fields != NULL)
            g_ptr_array_unref(fields);
    }
    for (gsize i = 0; ek_table_formats[i] != NULL; i++)
        if (ek_table_formats[i]->compose != NULL)
            ek_table_formats[i]->compose(table, reader, take_part, NULL, NULL);
    g_free(header);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    FuzzDrive drive;
    gboolean unread = FALSE;
    if (!fuzz_drive_open(&drive, data, size))
        return 0;
    EkTable *table = g_new0(EkTable, 1);
    for (guint32 sector = 512; sector <= 4096; sector *= 8) {
        for (guint i = 0; i < drive.count; i++)
            for (gsize k = 0; ek_table_formats[k] != NULL; k++)
                if (ek_table_load(ek_table_formats[k], drive.image.reader, drive.places[i], sector,
                                  table))
                    use_table(ek_table_formats[k], drive.image.reader, drive.places[i], sector,
                              table);
        if (!ek_table_current(drive.image.reader, sector, table, &unread))
            continue;
        for (gsize k = 0; ek_table_formats[k] != NULL; k++)
            if (ek_table_formats[k]->scheme == table->scheme)
                use_table(ek_table_formats[k], drive.image.reader, table->first_byte, sector,
                          table);
    }
    g_free(table);
    fuzz_drive_close(&drive);
    return 0;
}
