/* SPDX-License-Identifier: MIT */
#include "check.h"
#include "fixture.h"
#include "table/table.h"

#include <string.h>

static gboolean reads(const guint8 *sector, EkTable *table)
{
    return ek_table_mbr.read((EkSpan){sector, 512}, 512, table);
}

static void a_table_is_read(void)
{
    guint8 sector[512] = {0};
    EkTable table;
    mbr_put(sector, 0, 0x07, 2048, 163840);
    mbr_put(sector, 2, 0x0c, 165888, 98304);
    sector[446 + 32] = 0x80;
    ek_put_le32(sector + 440, 0x5eed0042);
    CHECK(reads(sector, &table));
    CHECK_TEXT(table.scheme, "mbr");
    CHECK_NUMBER(table.disk_signature, 0x5eed0042);
    CHECK_NUMBER(table.count, 2);
    CHECK_NUMBER(table.entries[1].index, 2);
    CHECK_NUMBER(table.entries[1].range.first, 165888 * 512);
    CHECK_NUMBER(table.entries[1].range.bytes, 98304 * 512);
    CHECK_NUMBER(table.entries[1].type, 0x0c);
    CHECK(table.entries[1].active);
    CHECK(!table.entries[0].active);
    /* The same numbers count in the drive's sectors. */
    CHECK(ek_table_mbr.read((EkSpan){sector, 512}, 4096, &table));
    CHECK_NUMBER(table.entries[0].range.first, 2048 * 4096);
}

static void what_is_no_table_is_not_read(void)
{
    guint8 sector[512] = {0};
    EkTable table;
    CHECK(!reads(sector, &table));
    ek_put_le16(sector + 510, 0xaa55);
    CHECK(!reads(sector, &table)); /* no partition at all */
    mbr_put(sector, 0, 0x07, 2048, 100);
    CHECK(reads(sector, &table));
    CHECK(!ek_table_mbr.read((EkSpan){sector, 511}, 512, &table));
    sector[446] = 0x7f; /* neither active nor not */
    CHECK(!reads(sector, &table));
    sector[446] = 0;
    mbr_put(sector, 1, 0x07, 2100, 100); /* overlaps */
    CHECK(!reads(sector, &table));
    mbr_put(sector, 1, 0x00, 5, 5); /* a place without a type */
    CHECK(!reads(sector, &table));
    mbr_put(sector, 1, 0x07, 0, 5);
    CHECK(!reads(sector, &table));
}

static void what_is_composed_reads_back(void)
{
    guint8 sector[512];
    EkTable back;
    GError *error = NULL;
    fill_noise(sector, sizeof sector, 5);
    guint8 code[440];
    memcpy(code, sector, sizeof code);
    EkTable table = {.scheme = "mbr", .disk_signature = 7, .count = 2};
    table.entries[0] = (EkTableEntry){.index = 3, .range = {63 * 512, 1000 * 512}, .type = 0x07};
    table.entries[1] =
        (EkTableEntry){.index = 1, .range = {1ull << 40, 1ull << 39}, .type = 0x0c, .active = TRUE};
    CHECK(ek_table_mbr.compose(&table, 512, sector, &error));
    CHECK_FINE(&error);
    CHECK_BYTES(sector, code, sizeof code); /* the boot code is kept */
    CHECK(reads(sector, &back));
    CHECK_NUMBER(back.count, 2);
    CHECK_NUMBER(back.entries[0].index, 1);
    CHECK(back.entries[0].range.first == 1ull << 40);
    CHECK(back.entries[0].active);
    CHECK_NUMBER(back.entries[1].range.bytes, 1000 * 512);
    /* Sector 63 is head 1, sector 1 of cylinder 0; the far one is past what cylinders can say. */
    CHECK_BYTES(sector + 446 + 48 + 1, "\x01\x01\x00", 3);
    CHECK_BYTES(sector + 446 + 16 + 1, "\xfe\xff\xff", 3);
}

static void what_an_mbr_cannot_say_is_refused(void)
{
    guint8 sector[512] = {0};
    GError *error = NULL;
    EkTable table = {.scheme = "mbr", .count = 1};
    table.entries[0] = (EkTableEntry){.range = {512, 1ull << 42}, .type = 7};
    CHECK(!ek_table_mbr.compose(&table, 512, sector, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "cannot express");
    table.entries[0].range = (EkRange){700, 512};
    CHECK(!ek_table_mbr.compose(&table, 512, sector, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "does not begin and end on sectors");
    table.entries[0] = (EkTableEntry){.index = 4, .range = {512, 512}, .type = 7};
    CHECK(!ek_table_mbr.compose(&table, 512, sector, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "four primary");
}

static void the_fields_cover_the_sector(void)
{
    guint8 sector[512] = {0};
    mbr_put(sector, 0, 0x07, 2048, 163840);
    g_autoptr(GPtrArray) fields = ek_table_mbr.explain((EkSpan){sector, 512}, 512);
    gsize at = 0;
    for (guint i = 0; i < fields->len; i++) {
        const EkField *field = fields->pdata[i];
        CHECK_NUMBER(field->offset, at);
        at += field->length;
        if (field->offset == 446)
            CHECK_TEXT(field->meaning, "type 07 NTFS / exFAT, sectors 2048 to 165887 (80.0 MiB)");
    }
    CHECK_NUMBER(at, 512);
}

int main(void)
{
    static const Test tests[] = {
        {"a table is read", a_table_is_read},
        {"what is no table is not read", what_is_no_table_is_not_read},
        {"what is composed reads back", what_is_composed_reads_back},
        {"what an MBR cannot say is refused", what_an_mbr_cannot_say_is_refused},
        {"the fields cover the sector", the_fields_cover_the_sector},
    };
    return RUN_TESTS("table", tests);
}
