/* SPDX-License-Identifier: MIT */
/* Tests of core/table. */
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
    CHECK_NUMBER(table.scheme, EK_SCHEME_MBR);
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
    mbr_put(sector, 1, 0x07, 2147, 100); /* a sector of it overlaps */
    CHECK(reads(sector, &table));
    mbr_put(sector, 1, 0x07, 2090, 100); /* more than half of it */
    CHECK(!reads(sector, &table));
    mbr_put(sector, 1, 0x00, 5, 5); /* a place without a type, as on hybrid discs */
    CHECK(reads(sector, &table));
    CHECK_NUMBER(table.count, 1);
    sector[446 + 4] = 0x5d; /* beside a type that nobody knows it is code */
    CHECK(!reads(sector, &table));
    sector[446 + 4] = 0x07;
    mbr_put(sector, 1, 0x07, 0, 5);
    CHECK(!reads(sector, &table));
}

/* An entry that ends before it begins is none, and its table is not whole. */
static void an_entry_ends_behind_its_beginning(void)
{
    guint8 entry[128] = {0xaf};
    EkTable table = {.scheme = EK_SCHEME_GPT, .sector_size = 512, .is_whole = TRUE};
    ek_put_le64(entry + 32, 100);
    ek_put_le64(entry + 40, 100);
    ek_gpt_take_entry((EkSpan){entry, sizeof entry}, 0, &table);
    CHECK_NUMBER(table.count, 1);
    CHECK_NUMBER(table.entries[0].range.bytes, 512);
    CHECK(table.is_whole);
    ek_put_le64(entry + 40, 99);
    ek_gpt_take_entry((EkSpan){entry, sizeof entry}, 1, &table);
    CHECK_NUMBER(table.count, 1);
    CHECK(!table.is_whole);
}

/* A drive in memory; what is composed is laid into it. */
#define DRIVE_BYTES (4u << 20)

typedef struct {
    guint8 *data;
} Drive;

static void drive_open(Drive *drive)
{
    drive->data = g_malloc0(DRIVE_BYTES);
    fill_noise(drive->data, 440, 5); /* boot code */
}

static void drive_close(Drive *drive)
{
    g_free(drive->data);
}

static gboolean lay(void *data, const char *structure, EkByte first_byte, const guint8 *after,
                    gsize length, const char *what, GError **error)
{
    (void)structure;
    (void)what;
    (void)error;
    memcpy((guint8 *)data + first_byte, after, length);
    return TRUE;
}

static gboolean compose(Drive *drive, const EkTableFormat *format, const EkTable *table,
                        GError **error)
{
    Bench bench;
    bench_open(&bench, drive->data, DRIVE_BYTES);
    gboolean fine = format->compose(table, bench.reader, lay, drive->data, error);
    bench_close(&bench);
    return fine;
}

static gboolean load(Drive *drive, const EkTableFormat *format, EkByte at, EkTable *table)
{
    Bench bench;
    bench_open(&bench, drive->data, DRIVE_BYTES);
    gboolean fine = ek_table_load(format, bench.reader, at, 512, table);
    bench_close(&bench);
    return fine;
}

static void what_is_composed_reads_back(void)
{
    Drive drive;
    EkTable back;
    GError *error = NULL;
    drive_open(&drive);
    g_autofree guint8 *code = g_memdup2(drive.data, 440);
    EkTable table = {.scheme = EK_SCHEME_MBR, .sector_size = 512, .disk_signature = 7, .count = 2};
    table.entries[0] = (EkTableEntry){.index = 3, .range = {63 * 512, 1000 * 512}, .type = 0x07};
    table.entries[1] =
        (EkTableEntry){.index = 1, .range = {1ull << 40, 1ull << 39}, .type = 0x0c, .active = TRUE};
    CHECK(compose(&drive, &ek_table_mbr, &table, &error));
    CHECK_FINE(&error);
    const guint8 *sector = drive.data;
    CHECK_BYTES(sector, code, 440); /* the boot code is kept */
    CHECK(reads(sector, &back));
    CHECK_NUMBER(back.count, 2);
    CHECK_NUMBER(back.entries[0].index, 1);
    CHECK(back.entries[0].range.first == 1ull << 40);
    CHECK(back.entries[0].active);
    CHECK_NUMBER(back.entries[1].range.bytes, 1000 * 512);
    /* Sector 63 is head 1, sector 1 of cylinder 0; the far one is past what cylinders can say. */
    CHECK_BYTES(sector + 446 + 48 + 1, "\x01\x01\x00", 3);
    CHECK_BYTES(sector + 446 + 16 + 1, "\xfe\xff\xff", 3);
    drive_close(&drive);
}

/* Two logical ones in an extended one: the chain leads to both. */
/* Slots that are not used are emptied, whatever the noise in them says of its type. What a maker
 * wrote without a type stays where the sector is a table. */
static void unused_slots_of_noise_are_emptied(void)
{
    static const guint8 odd[] = {0, 0, 0, 0, 0, 0, 0, 0, 0x10, 0, 0, 0, 0x20, 0, 0, 0};
    GError *error = NULL;
    EkTable table = {.scheme = EK_SCHEME_MBR, .sector_size = 512, .disk_signature = 7, .count = 1};
    table.entries[0] = (EkTableEntry){.index = 0, .range = {63 * 512, 1000 * 512}, .type = 0x07};
    for (guint had_table = 0; had_table < 2; had_table++) {
        Drive drive;
        EkTable back;
        drive_open(&drive);
        if (had_table) {
            CHECK(compose(&drive, &ek_table_mbr, &table, &error));
            memcpy(drive.data + 446 + 48, odd, sizeof odd);
        } else {
            fill_noise(drive.data + 446, 64, 11);
            drive.data[446 + 48 + 4] = 0;
        }
        CHECK(compose(&drive, &ek_table_mbr, &table, &error));
        CHECK_FINE(&error);
        CHECK(reads(drive.data, &back));
        CHECK_NUMBER(back.count, 1);
        CHECK_BYTES(drive.data + 446 + 48, had_table ? odd : (const guint8[16]){0}, 16);
        drive_close(&drive);
    }
}

static void a_chain_is_composed(void)
{
    Drive drive;
    EkTable back;
    GError *error = NULL;
    drive_open(&drive);
    EkTable table = {.scheme = EK_SCHEME_MBR, .sector_size = 512, .count = 4};
    table.entries[0] = (EkTableEntry){.index = 0, .range = {512, 99 * 512}, .type = 0x83};
    table.entries[1] =
        (EkTableEntry){.index = 1, .range = {100 * 512, 900 * 512}, .type = 0x05, .extended = TRUE};
    table.entries[2] = (EkTableEntry){.index = 4,
                                      .range = {163 * 512, 100 * 512},
                                      .type = 0x07,
                                      .logical = TRUE,
                                      .link_byte = 100 * 512};
    table.entries[3] = (EkTableEntry){.index = 5,
                                      .range = {400 * 512, 600 * 512},
                                      .type = 0x0b,
                                      .logical = TRUE,
                                      .link_byte = 399 * 512};
    CHECK(compose(&drive, &ek_table_mbr, &table, &error));
    CHECK_FINE(&error);
    CHECK(load(&drive, &ek_table_mbr, 0, &back));
    CHECK_NUMBER(back.count, 4);
    CHECK(back.is_whole);
    for (guint i = 0; i < 4; i++) {
        CHECK_NUMBER(back.entries[i].index, table.entries[i].index);
        CHECK_NUMBER(back.entries[i].range.first, table.entries[i].range.first);
        CHECK_NUMBER(back.entries[i].range.bytes, table.entries[i].range.bytes);
        CHECK_NUMBER(back.entries[i].type, table.entries[i].type);
        CHECK_NUMBER(back.entries[i].link_byte, table.entries[i].link_byte);
    }
    /* A link has to stand in front of its partition, and in the extended one. */
    table.entries[3].link_byte = 400 * 512;
    CHECK(!compose(&drive, &ek_table_mbr, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "no room for its table in front of it");
    table.entries[2].link_byte = 101 * 512;
    CHECK(!compose(&drive, &ek_table_mbr, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "need an extended one");
    drive_close(&drive);
}

static void a_gpt_is_composed_with_its_backup(void)
{
    Drive drive;
    EkTable first;
    EkTable second;
    GError *error = NULL;
    drive_open(&drive);
    EkTable table = {.scheme = EK_SCHEME_GPT, .sector_size = 512, .count = 2, .uuid = {1, 2, 3}};
    table.entries[0] = (EkTableEntry){
        .index = 0, .range = {64 * 512, 100 * 512}, .type_uuid = {1}, .uuid = {2}, .attributes = 4};
    table.entries[1] = (EkTableEntry){
        .index = 7, .range = {1000 * 512, 7000 * 512}, .type_uuid = {3}, .uuid = {4}};
    ek_gpt_set_name(&table.entries[1], "Größe der Keimlinge");
    CHECK(compose(&drive, &ek_table_gpt, &table, &error));
    CHECK_FINE(&error);
    CHECK(load(&drive, &ek_table_gpt, 512, &first));
    CHECK(load(&drive, &ek_table_gpt, DRIVE_BYTES - 512, &second));
    CHECK(first.is_whole && second.is_whole);
    CHECK_NUMBER(first.count, 2);
    CHECK_NUMBER(first.entries[1].index, 7);
    CHECK_NUMBER(first.entries[0].attributes, 4);
    CHECK_TEXT(second.entries[1].name, "Größe der Keimlinge");
    CHECK_NUMBER(first.place, 1);
    CHECK_NUMBER(first.other_place, second.place);
    CHECK_NUMBER(first.last_usable, DRIVE_BYTES / 512 - 34);
    EkTable protection;
    CHECK(reads(drive.data, &protection));
    CHECK_NUMBER(protection.entries[0].type, EK_MBR_PROTECTIVE);
    CHECK_NUMBER(protection.entries[0].range.bytes, DRIVE_BYTES - 512);
    /* The table's own region is no partition's. */
    table.entries[1].range.bytes = DRIVE_BYTES - 1000 * 512;
    CHECK(!compose(&drive, &ek_table_gpt, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "leaves no room for the GPT itself");
    drive_close(&drive);
}

/* The map itself, two partitions, and what is free before, between and behind them. */
static void an_apple_map_is_composed(void)
{
    static const struct {
        guint first;
        guint blocks;
        const char *type;
    } wanted[] = {{1, 63, "Apple_partition_map"}, {100, 900, "Apple_HFS"},
                  {64, 36, "Apple_Free"},         {2000, 6000, "DOS_FAT_32"},
                  {1000, 1000, "Apple_Free"},     {8000, 192, "Apple_Free"}};
    Drive drive;
    EkTable back;
    GError *error = NULL;
    drive_open(&drive);
    EkTable table = {.scheme = EK_SCHEME_APM, .sector_size = 512, .count = 2};
    table.entries[0] = (EkTableEntry){
        .index = 1, .range = {100 * 512, 900 * 512}, .type_text = "Apple_HFS", .name = "Photos"};
    table.entries[1] = (EkTableEntry){
        .index = 3, .range = {2000 * 512, 6000 * 512}, .type_text = "DOS_FAT_32", .name = "Logs"};
    CHECK(compose(&drive, &ek_table_apm, &table, &error));
    CHECK_FINE(&error);
    CHECK_NUMBER(ek_span_be32((EkSpan){drive.data, 512}, 4), DRIVE_BYTES / 512);
    CHECK(load(&drive, &ek_table_apm, 512, &back));
    CHECK(back.is_whole);
    CHECK_NUMBER(back.count, G_N_ELEMENTS(wanted));
    for (guint i = 0; i < MIN(back.count, G_N_ELEMENTS(wanted)); i++) {
        CHECK_NUMBER(back.entries[i].range.first, wanted[i].first * 512);
        CHECK_NUMBER(back.entries[i].range.bytes, wanted[i].blocks * 512);
        CHECK_TEXT(back.entries[i].type_text, wanted[i].type);
    }
    CHECK_TEXT(back.entries[1].name, "Photos");
    /* Composed once more, it stays as it is; so does what only its own maker knows. */
    fill_noise(drive.data + 2 * 512 + 92, 400, 3);
    g_autofree guint8 *before = g_memdup2(drive.data, DRIVE_BYTES);
    CHECK(compose(&drive, &ek_table_apm, &table, &error));
    CHECK_BYTES(drive.data, before, DRIVE_BYTES);
    /* What overlaps what is free takes its place. */
    table.entries[table.count++] =
        (EkTableEntry){.index = 4, .range = {1000 * 512, 500 * 512}, .type_text = "DOS_FAT_16"};
    CHECK(compose(&drive, &ek_table_apm, &table, &error));
    CHECK(load(&drive, &ek_table_apm, 512, &back) && back.is_whole);
    CHECK_TEXT(back.entries[4].type_text, "DOS_FAT_16");
    /* Without block 0 and its first entry the others still tell. */
    Bench bench;
    memset(drive.data, 0, 1024);
    bench_open(&bench, drive.data, DRIVE_BYTES);
    CHECK(ek_apm_gather(bench.reader, &back));
    bench_close(&bench);
    CHECK(!back.is_whole);
    CHECK_TEXT(back.entries[0].name, "Photos");
    drive_close(&drive);
}

static void what_an_apple_map_cannot_say_is_refused(void)
{
    Drive drive;
    GError *error = NULL;
    drive_open(&drive);
    EkTable table = {.scheme = EK_SCHEME_APM, .sector_size = 512, .count = 1};
    table.entries[0] = (EkTableEntry){.index = 1, .range = {512, 512}, .type_text = "Apple_HFS"};
    CHECK(!compose(&drive, &ek_table_apm, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "has no room in front of the first partition");
    table.entries[0].range = (EkRange){700, 512};
    CHECK(!compose(&drive, &ek_table_apm, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "does not begin and end on blocks");
    table.entries[0] =
        (EkTableEntry){.index = 300, .range = {65536, 512}, .type_text = "Apple_HFS"};
    CHECK(!compose(&drive, &ek_table_apm, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "up to 256 entries");
    CHECK_NUMBER(drive.data[512], 0); /* nothing was written */
    drive_close(&drive);
}

static void what_an_mbr_cannot_say_is_refused(void)
{
    Drive drive;
    GError *error = NULL;
    drive_open(&drive);
    EkTable table = {.scheme = EK_SCHEME_MBR, .sector_size = 512, .count = 1};
    table.entries[0] = (EkTableEntry){.range = {512, 1ull << 42}, .type = 7};
    CHECK(!compose(&drive, &ek_table_mbr, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "cannot express");
    table.entries[0].range = (EkRange){700, 512};
    CHECK(!compose(&drive, &ek_table_mbr, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "is not aligned to 512-byte sectors");
    table.entries[0] = (EkTableEntry){.index = 4, .range = {512, 512}, .type = 7};
    CHECK(!compose(&drive, &ek_table_mbr, &table, &error));
    CHECK_ERROR(&error, EK_ERROR_UNSUPPORTED, "four primary");
    drive_close(&drive);
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
        {"an entry ends behind its beginning", an_entry_ends_behind_its_beginning},
        {"what is composed reads back", what_is_composed_reads_back},
        {"unused slots of noise are emptied", unused_slots_of_noise_are_emptied},
        {"a chain is composed", a_chain_is_composed},
        {"a GPT is composed with its backup", a_gpt_is_composed_with_its_backup},
        {"an Apple map is composed", an_apple_map_is_composed},
        {"what an Apple map cannot say is refused", what_an_apple_map_cannot_say_is_refused},
        {"what an MBR cannot say is refused", what_an_mbr_cannot_say_is_refused},
        {"the fields cover the sector", the_fields_cover_the_sector},
    };
    return RUN_TESTS("table", tests);
}
