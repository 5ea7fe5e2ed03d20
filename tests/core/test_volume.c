/* SPDX-License-Identifier: MIT */
/* Tests of core/volume. */
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "table/table.h"
#include "volume/fat/fat.h"
#include "volume/formats.h"
#include "volume/ntfs/index.h"
#include "volume/ntfs/record.h"
#include "volume/volume.h"

#include <string.h>

static EkVolume *measure(Bench *bench, const EkFileSystem *format, EkByte first, EkByte header,
                         EkRole role)
{
    GError *error = NULL;
    EkCandidate candidate = {first, header, role};
    EkVolume *volume = ek_volume_measure(format, bench->reader, &candidate, &error);
    CHECK_FINE(&error);
    return volume;
}

static char *reasons_of(const EkVolume *volume)
{
    GString *text = g_string_new(NULL);
    for (guint i = 0; i < volume->reasons->len; i++)
        g_string_append_printf(text, "%s\n", ((EkEvidence *)volume->reasons->pdata[i])->text);
    return g_string_free(text, FALSE);
}

static EkVolume *measure_rack(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    (void)reader;
    (void)error;
    EkVolume *rack = ek_volume_new(NULL, "rack");
    for (guint i = 0; i < 2; i++) {
        EkVolume *tray = ek_volume_new(i == 0 ? &ek_fs_fat : NULL, "tray");
        tray->first_byte = candidate->first_byte + 4096 * (i + 1);
        ek_volume_add_part(rack, tray);
    }
    return rack;
}

static void a_container_has_parts(void)
{
    static const EkFileSystem format = {.name = "rack", .measure = measure_rack};
    Bench bench;
    guint8 nothing[8192] = {0};
    bench_open(&bench, nothing, sizeof nothing);
    g_autoptr(EkVolume) rack = measure(&bench, &format, 512, 512, EK_ROLE_PRIMARY);
    CHECK(rack->is_container && rack->parts->len == 2);
    const EkVolume *first = rack->parts->pdata[0];
    const EkVolume *second = rack->parts->pdata[1];
    CHECK(first->format == &ek_fs_fat && second->format == &format);
    CHECK_NUMBER(second->first_byte, 512 + 8192);
    bench_close(&bench);
}

static void a_fat_boot_sector_is_decoded(void)
{
    static const guint widths[] = {12, 16, 32};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        g_autoptr(FatVolume) fat = fat_volume_new(widths[i], 63);
        EkFatBoot boot;
        CHECK(ek_fat_boot_read((EkSpan){fat->data, 512}, &boot));
        CHECK_NUMBER(boot.bits, widths[i]);
        CHECK_NUMBER(boot.clusters, fat->clusters);
        CHECK_NUMBER(boot.bytes, fat->length);
        CHECK_NUMBER(boot.data_start, fat->data_start);
        CHECK_NUMBER(boot.hidden_sectors, 63);
        CHECK_NUMBER(boot.serial, 0x5eed0000 + widths[i]);
    }
}

/* Any single byte may be anything: what is decoded then still keeps to its own bounds. */
static void no_boot_sector_speaks_of_places_outside(void)
{
    static const guint widths[] = {12, 16, 32};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        g_autoptr(FatVolume) fat = fat_volume_new(widths[i], 0);
        for (gsize at = 11; at < 64; at++) {
            guint8 kept = fat->data[at];
            for (guint value = 0; value < 256; value++) {
                EkFatBoot boot;
                fat->data[at] = (guint8)value;
                if (!ek_fat_boot_read((EkSpan){fat->data, 512}, &boot))
                    continue;
                EkByte end = boot.data_start + (EkByte)boot.clusters * boot.cluster_bytes;
                if (end > boot.bytes || boot.data_start < boot.fat_start ||
                    (boot.clusters + 2) * (guint64)boot.bits / 8 > boot.fat_bytes ||
                    boot.backup_sector >= boot.reserved_sectors)
                    CHECK_NUMBER(at, -1);
            }
            fat->data[at] = kept;
        }
    }
}

static void a_fat_volume_is_believed_for_its_parts(void)
{
    static const guint widths[] = {12, 16, 32};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        Bench bench;
        g_autoptr(FatVolume) fat = fat_volume_new(widths[i], 0);
        FatFolder root = fat_root(fat);
        fat_add(fat, &root, "SEED TRAYS ", NULL, 0x08, 0, 0);
        fat_add(fat, &root, "LABELS  TXT", NULL, 0x20, 0, 0);
        bench_open(&bench, fat->data, fat->length);
        g_autoptr(EkVolume) volume = measure(&bench, &ek_fs_fat, 0, 0, EK_ROLE_PRIMARY);
        CHECK(volume->is_confirmed);
        CHECK_TEXT(volume->filesystem, ek_fat_name((EkFatBits)widths[i]));
        CHECK_TEXT(volume->label, "SEED TRAYS");
        CHECK(volume->confidence >= 75);
        CHECK_NUMBER(volume->bytes, fat->length);
        bench_close(&bench);
    }
}

/* Either of them is enough beside a boot sector, at less confidence; neither is not. */
static void without_fat_and_root_there_is_no_volume(void)
{
    for (guint what = 1; what < 4; what++) {
        Bench bench;
        g_autoptr(FatVolume) fat = fat_volume_new(16, 0);
        EkFatBoot boot;
        CHECK(ek_fat_boot_read((EkSpan){fat->data, 512}, &boot));
        memcpy(fat->data + boot.root_start, "TRAYS      \x10", 12);
        ek_put_le16(fat->data + boot.root_start + 24, 0x5a21);
        ek_put_le16(fat->data + boot.root_start + 26, 2);
        if ((what & 1) != 0)
            memset(fat->data + boot.fat_start, 0, boot.fat_bytes * 2);
        if ((what & 2) != 0)
            fill_noise(fat->data + boot.root_start, boot.root_bytes, 3);
        bench_open(&bench, fat->data, fat->length);
        g_autoptr(EkVolume) volume = measure(&bench, &ek_fs_fat, 0, 0, EK_ROLE_PRIMARY);
        CHECK(volume->is_confirmed == (what != 3));
        CHECK(what == 3 ? volume->confidence == 0
                        : volume->confidence >= 30 && volume->confidence < 80);
        bench_close(&bench);
    }
}

static void what_was_not_read_does_not_count_against_it(void)
{
    Bench bench;
    g_autoptr(FatVolume) fat = fat_volume_new(16, 0);
    bench_open(&bench, fat->data, fat->length);
    g_autoptr(EkVolume) whole = measure(&bench, &ek_fs_fat, 0, 0, EK_ROLE_PRIMARY);
    bench_hole(&bench, 1, 10, EK_STATE_SET_ASIDE); /* the start of FAT 1 */
    g_autoptr(EkVolume) volume = measure(&bench, &ek_fs_fat, 0, 0, EK_ROLE_PRIMARY);
    g_autofree char *reasons = reasons_of(volume);
    CHECK(volume->is_confirmed);
    CHECK_CONTAINS(reasons, "FAT 1 at sector 1 is unread");
    CHECK(volume->confidence <= whole->confidence);
    bench_close(&bench);
}

static void the_fat32_backup_finds_the_volume(void)
{
    Bench bench;
    EkCandidate candidates[EK_CANDIDATES_MOST];
    g_autoptr(FatVolume) fat = fat_volume_new(32, 0);
    fill_noise(fat->data, 512, 1);
    bench_open(&bench, fat->data, fat->length);
    EkSpan span = {fat->data + 6 * 512, 512};
    CHECK_NUMBER(ek_fs_fat.recognise(span, 6 * 512, candidates), 2);
    CHECK_NUMBER(candidates[1].first_byte, 0);
    g_autoptr(EkVolume) as_primary = measure(&bench, &ek_fs_fat, 6 * 512, 6 * 512, EK_ROLE_PRIMARY);
    CHECK(!as_primary->is_confirmed);
    g_autoptr(EkVolume) volume = measure(&bench, &ek_fs_fat, 0, 6 * 512, EK_ROLE_BACKUP);
    CHECK(volume->is_confirmed);
    CHECK(volume->confidence >= 75);
    bench_close(&bench);
}

typedef struct {
    guint count;
    EkByte at[4];
    guint8 after[4][512];
} Repairs;

static void take_repair(void *data, EkRepair *repair)
{
    Repairs *repairs = data;
    repairs->at[repairs->count] = repair->first_byte;
    memcpy(repairs->after[repairs->count++], repair->after, 512);
    ek_repair_free(repair);
}

static void boot_sectors_are_repaired_from_their_copy(void)
{
    Bench bench;
    Repairs repairs = {0};
    GError *error = NULL;
    g_autoptr(FatVolume) fat = fat_volume_new(32, 0);
    g_autofree guint8 *good = g_memdup2(fat->data, 512);
    fill_noise(fat->data, 512, 1);
    bench_open(&bench, fat->data, fat->length);
    g_autoptr(EkVolume) volume = measure(&bench, &ek_fs_fat, 0, 6 * 512, EK_ROLE_BACKUP);
    CHECK(ek_fs_fat.repair(bench.reader, volume, take_repair, &repairs, &error));
    CHECK_NUMBER(repairs.count, 1);
    CHECK_NUMBER(repairs.at[0], 0);
    CHECK_BYTES(repairs.after[0], good, 512);
    bench_close(&bench);

    gsize length = 0;
    g_autofree guint8 *ntfs = ntfs_volume_new(16000, 0, &length);
    Repairs none = {0};
    bench_open(&bench, ntfs, length);
    g_autoptr(EkVolume) healthy = measure(&bench, &ek_fs_ntfs, 0, 0, EK_ROLE_PRIMARY);
    CHECK(ek_fs_ntfs.repair(bench.reader, healthy, take_repair, &none, &error));
    CHECK_NUMBER(none.count, 0);
    bench_hole(&bench, 16000, 1, EK_STATE_BAD);
    CHECK(ek_fs_ntfs.repair(bench.reader, healthy, take_repair, &none, &error));
    CHECK_NUMBER(none.count, 1);
    CHECK_NUMBER(none.at[0], 16000 * 512);
    CHECK_FINE(&error);
    bench_close(&bench);
}

static void an_ntfs_volume_is_believed_for_its_first_record(void)
{
    Bench bench;
    gsize length = 0;
    g_autofree guint8 *ntfs = ntfs_volume_new(16000, 2048, &length);
    bench_open(&bench, ntfs, length);
    g_autoptr(EkVolume) volume = measure(&bench, &ek_fs_ntfs, 0, 0, EK_ROLE_PRIMARY);
    CHECK(volume->is_confirmed);
    CHECK_NUMBER(volume->confidence, 90);
    CHECK_TEXT(volume->label, "Catalogue");
    CHECK_TEXT(volume->uuid, "5EED0042CAFE0001");
    CHECK_NUMBER(volume->bytes, length);

    /* The backup at the end finds the same volume. */
    EkCandidate candidates[EK_CANDIDATES_MOST];
    EkSpan span = {ntfs + 16000 * 512, 512};
    CHECK_NUMBER(ek_fs_ntfs.recognise(span, 16000 * 512, candidates), 2);
    CHECK_NUMBER(candidates[1].first_byte, 0);
    bench_hole(&bench, 0, 1, EK_STATE_BAD);
    g_autoptr(EkVolume) from_backup = measure(&bench, &ek_fs_ntfs, 0, 16000 * 512, EK_ROLE_BACKUP);
    g_autofree char *reasons = reasons_of(from_backup);
    CHECK(from_backup->is_confirmed);
    CHECK_CONTAINS(reasons, "boot sector at sector 0 could not be checked (unread)");
    bench_close(&bench);
}

static void an_ntfs_claim_without_records_is_none(void)
{
    Bench bench;
    gsize length = 0;
    g_autofree guint8 *ntfs = ntfs_volume_new(16000, 0, &length);
    guint32 mirror = 16000 / 8 / 2 * 4096;
    memset(ntfs + NTFS_MFT_BYTE, 0, 4096);
    memset(ntfs + mirror, 0, 4096);
    bench_open(&bench, ntfs, length);
    /* Two boot sectors that agree are a volume, of which nothing else is left. */
    g_autoptr(EkVolume) both = measure(&bench, &ek_fs_ntfs, 0, 0, EK_ROLE_PRIMARY);
    CHECK(both->is_confirmed && both->confidence < 50);
    bench_close(&bench);
    memset(ntfs + 16000 * 512, 0, 512);
    bench_open(&bench, ntfs, length);
    g_autoptr(EkVolume) volume = measure(&bench, &ek_fs_ntfs, 0, 0, EK_ROLE_PRIMARY);
    CHECK(!volume->is_confirmed);
    /* Unread is another matter, and is said. */
    bench_hole(&bench, NTFS_MFT_BYTE / 512, 8, EK_STATE_UNTOUCHED);
    g_autoptr(EkVolume) unread = measure(&bench, &ek_fs_ntfs, 0, 0, EK_ROLE_PRIMARY);
    g_autofree char *reasons = reasons_of(unread);
    CHECK(unread->is_confirmed);
    CHECK_CONTAINS(reasons, "could not be checked");
    bench_close(&bench);
}

static void a_torn_file_record_is_none(void)
{
    gsize length = 0;
    g_autofree guint8 *ntfs = ntfs_volume_new(16000, 0, &length);
    guint8 record[1024];
    memcpy(record, ntfs + NTFS_MFT_BYTE + 3 * 1024, sizeof record);
    CHECK(ek_ntfs_record_fix_up(record, sizeof record, 512));
    EkSpan span = {record, sizeof record};
    EkNtfsRecord header;
    EkNtfsAttribute data = ek_ntfs_attribute_of(span, EK_NTFS_DATA);
    CHECK(ek_ntfs_record_read(span, &header));
    CHECK_NUMBER(header.number, 3);
    CHECK_NUMBER(ek_ntfs_attribute_of(span, EK_NTFS_LABEL).content.length, 18);
    CHECK(!ek_ntfs_attribute_exists(&data));
    memcpy(record, ntfs + NTFS_MFT_BYTE, sizeof record);
    record[1022] ^= 1;
    CHECK(!ek_ntfs_record_fix_up(record, sizeof record, 512));
    for (gsize at = 0; at < 0x40; at++)
        for (guint value = 0; value < 256; value += 15) {
            memcpy(record, ntfs + NTFS_MFT_BYTE + 3 * 1024, sizeof record);
            record[at] = (guint8)value;
            if (ek_ntfs_record_fix_up(record, sizeof record, 512))
                ek_ntfs_attribute_of(span, EK_NTFS_LABEL);
        }
}

static void the_fields_of_a_header_cover_it(void)
{
    gsize length = 0;
    g_autoptr(FatVolume) narrow = fat_volume_new(16, 0);
    g_autoptr(FatVolume) wide = fat_volume_new(32, 0);
    g_autofree guint8 *ntfs = ntfs_volume_new(16000, 0, &length);
    GPtrArray *lists[] = {ek_fs_fat.explain((EkSpan){narrow->data, 512}),
                          ek_fs_fat.explain((EkSpan){wide->data, 512}),
                          ek_fs_ntfs.explain((EkSpan){ntfs, 512})};
    for (gsize i = 0; i < G_N_ELEMENTS(lists); i++) {
        gsize at = 0;
        for (guint k = 0; k < lists[i]->len; k++) {
            const EkField *field = lists[i]->pdata[k];
            CHECK_NUMBER(field->offset, at);
            at += field->length;
        }
        CHECK_NUMBER(at, 512);
        g_ptr_array_unref(lists[i]);
    }
}

/* Eight values end a chain, one marks a bad cluster, the rest lead on or nowhere. */
static void chains_end_where_the_format_says(void)
{
    static const guint widths[] = {12, 16, 32};
    for (gsize i = 0; i < G_N_ELEMENTS(widths); i++) {
        Bench bench;
        g_autoptr(FatVolume) fat = fat_volume_new(widths[i], 0);
        EkFatBoot boot;
        EkLinkTable links;
        guint32 top = widths[i] == 32 ? 0x0fffffff : (1u << widths[i]) - 1;
        guint32 next = 0;
        CHECK(ek_fat_boot_read((EkSpan){fat->data, 512}, &boot));
        for (guint k = 0; k < 8; k++)
            fat_set(fat, 10 + k, top - k);
        fat_set(fat, 18, top - 8);
        fat_set(fat, 19, boot.clusters + 1);
        fat_set(fat, 20, boot.clusters + 2);
        fat_set(fat, 21, 1);
        bench_open(&bench, fat->data, fat->length);
        EkLinkPlaces places = ek_fat_links(&boot, 0);
        ek_links_init(&links, bench.reader, &places, EK_FAT_GLANCE);
        for (guint k = 0; k < 8; k++)
            CHECK_NUMBER(ek_links_of(&links, 0, 10 + k, &next), EK_LINK_END);
        CHECK_NUMBER(ek_links_of(&links, 0, 18, &next), EK_LINK_BAD);
        CHECK_NUMBER(ek_links_of(&links, 0, 19, &next), EK_LINK_NEXT);
        CHECK_NUMBER(next, boot.clusters + 1);
        CHECK_NUMBER(ek_links_of(&links, 0, 20, &next), EK_LINK_BAD);
        CHECK_NUMBER(ek_links_of(&links, 0, 21, &next), EK_LINK_BAD);
        CHECK_NUMBER(ek_links_of(&links, 0, 22, &next), EK_LINK_FREE);
        ek_links_clear(&links);
        bench_close(&bench);
    }
}

/* Says of each step what the step alone says, whatever range is asked for. */
static void check_use(const char *make, const EkFileSystem *format, EkByte header)
{
    Bench bench;
    gsize length = 0;
    must("rm -f made.raw; mkdir -p put; seq 40000 > put/trays.txt; truncate -s 40M made.raw; %s",
         make);
    g_autofree guint8 *data = read_file("made.raw", &length);
    bench_open(&bench, data, length);
    g_autoptr(EkVolume) volume = measure(&bench, format, 0, header, EK_ROLE_PRIMARY);
    guint64 counts[3] = {0};
    guint runs = 0;
    guint wrong = 0;
    EkByte same = 0;
    for (EkByte at = 0; at < volume->bytes / EK_STEP * EK_STEP; at += same, runs++) {
        EkUsage usage =
            ek_volume_use(volume, bench.reader, (EkRange){at, volume->bytes - at}, &same);
        for (EkByte step = at / EK_STEP * EK_STEP; step < at + same; step += 7 * EK_STEP)
            wrong += ek_volume_use_at(volume, bench.reader, MAX(step, at)) != usage;
        wrong += ek_volume_use_at(volume, bench.reader, at + same - 1) != usage;
        counts[usage] += same;
    }
    CHECK_NUMBER(wrong, 0);
    CHECK(runs < 2000);
    CHECK(counts[EK_USAGE_FREE] > volume->bytes / 2 && counts[EK_USAGE_USED] > 100000);
    CHECK(counts[EK_USAGE_UNKNOWN] < 1u << 20);
    /* Nothing outside of it. */
    CHECK_NUMBER(ek_volume_use_at(volume, bench.reader, volume->bytes), EK_USAGE_UNKNOWN);
    ek_volume_use(volume, bench.reader, (EkRange){volume->bytes - 512, 1024}, &same);
    CHECK_NUMBER(same, 1024);
    bench_close(&bench);
}

static void use_is_told_for_ranges(void)
{
    check_use("mkfs.ntfs -q -F made.raw", &ek_fs_ntfs, 0);
    check_use("mkfs.vfat -F 16 made.raw && mcopy -i made.raw put/trays.txt ::", &ek_fs_fat, 0);
    check_use("mkfs.vfat -F 32 -s 1 made.raw && mcopy -i made.raw put/trays.txt ::", &ek_fs_fat, 0);
    check_use("mkfs.exfat made.raw >made.log", &ek_fs_exfat, 0);
    check_use("mke2fs -q -t ext4 -g 4096 -d put made.raw", &ek_fs_ext, 1024);
    check_use("mke2fs -q -t ext2 -b 1024 -d put made.raw", &ek_fs_ext, 1024);
    check_use("mke2fs -q -t ext4 -O bigalloc -C 16384 -d put made.raw", &ek_fs_ext, 1024);
}

/* What a format calls its partitions is known to the tables. */
static void partition_types_are_known(void)
{
    guint with_types = 0;
    for (gsize i = 0; ek_file_systems[i] != NULL; i++)
        for (gsize k = 0; k < EK_PARTITION_TYPES; k++) {
            const EkPartitionType *type = &ek_file_systems[i]->types[k];
            if (type->mbr == 0)
                continue;
            with_types++;
            CHECK(*ek_mbr_type_name(type->mbr) != '\0');
            CHECK(ek_gpt_type_named(type->gpt) != NULL && type->apm != NULL);
        }
    CHECK_NUMBER(with_types, 19);
    CHECK_NUMBER(ek_partition_type_for("fat12")->mbr, 0x01);
    CHECK_NUMBER(ek_partition_type_for("fat32")->mbr, 0x0c);
    CHECK_NUMBER(ek_partition_type_for("luks2")->mbr, 0x83);
    CHECK_NUMBER(ek_partition_type_for("iso9660")->mbr, 0);
    CHECK_NUMBER(ek_partition_type_for("seeds")->mbr, 0);
}

#define INDEX_BYTES 4096u

/* An entry of an index: "A" and what follows it in the alphabet. Returns its length. */
static gsize put_entry(guint8 *at, guint number, guint parent)
{
    const gsize length = 16 + 66 + 2 + 4;
    memset(at, 0, length);
    ek_put_le64(at, number | (guint64)7 << 48);
    ek_put_le16(at + 8, (guint16)length);
    ek_put_le16(at + 10, 66 + 2);
    ek_put_le64(at + 16, parent | (guint64)3 << 48);
    for (guint i = 0; i < 4; i++)
        ek_put_le64(at + 24 + (gsize)i * 8, 0x01DB000000000000);
    ek_put_le64(at + 64, 1000 + number);
    at[80] = 1;
    ek_put_le16(at + 82, (guint16)('A' + number));
    return length;
}

static void seal_index(guint8 *block)
{
    ek_put_le16(block + 0x28, 0x1234);
    for (gsize i = 0; i < INDEX_BYTES / 512; i++) {
        memcpy(block + 0x2a + i * 2, block + (i + 1) * 512 - 2, 2);
        ek_put_le16(block + (i + 1) * 512 - 2, 0x1234);
    }
}

/* Three entries, the one at the end, and two that were deleted behind it. */
static void make_index(guint8 *block)
{
    memset(block, 0, INDEX_BYTES);
    memcpy(block, "INDX", 4);
    ek_put_le16(block + 4, 0x28);
    ek_put_le16(block + 6, INDEX_BYTES / 512 + 1);
    gsize at = 0x58;
    ek_put_le32(block + 24, (guint32)at - 24);
    for (guint i = 0; i < 3; i++)
        at += put_entry(block + at, i, 40);
    ek_put_le16(block + at + 8, 16);
    ek_put_le16(block + at + 12, 2);
    at += 16;
    ek_put_le32(block + 28, (guint32)at - 24);
    ek_put_le32(block + 32, INDEX_BYTES - 24);
    at += put_entry(block + at + 24, 10, 40) + 24;
    put_entry(block + 2048, 11, 40);
    seal_index(block);
}

static gboolean note_entry(void *data, const EkNtfsEntry *entry)
{
    GString *text = data;
    g_string_append_printf(text, "%c%s ", (char)ek_span_le16(entry->named.units, 0),
                           entry->is_deleted ? "-" : "");
    return TRUE;
}

static void entries_of_an_index_are_decoded(void)
{
    g_autofree guint8 *block = g_malloc(INDEX_BYTES);
    g_autoptr(GString) text = g_string_new(NULL);
    make_index(block);
    CHECK(ek_ntfs_index_block(block, INDEX_BYTES, note_entry, text));
    CHECK_TEXT(text->str, "A B C K- L- ");
    /* From a sector of another time on nothing counts. */
    make_index(block);
    ek_put_le16(block + 5 * 512 - 2, 0x4321);
    g_string_truncate(text, 0);
    CHECK(ek_ntfs_index_block(block, INDEX_BYTES, note_entry, text));
    CHECK_TEXT(text->str, "A B C K- ");
    make_index(block);
    ek_put_le32(block + 24, G_MAXUINT32);
    g_string_truncate(text, 0);
    CHECK(ek_ntfs_index_block(block, INDEX_BYTES, note_entry, text));
    CHECK_TEXT(text->str, "");
    /* Whatever it says of lengths it is not left. */
    for (guint seed = 0; seed < 2000; seed++) {
        make_index(block);
        g_autoptr(GRand) random = g_rand_new_with_seed(seed);
        for (guint i = 0; i < 8; i++)
            block[g_rand_int_range(random, 8, 600)] = (guint8)g_rand_int(random);
        ek_ntfs_index_block(block, INDEX_BYTES, note_entry, text);
    }
}

/* A record of the journal of changes. Returns its length. */
static gsize put_change(guint8 *at, guint number, guint32 reason)
{
    const gsize length = 64;
    memset(at, 0, length);
    ek_put_le32(at, (guint32)length);
    ek_put_le16(at + 4, 2);
    ek_put_le64(at + 8, number);
    ek_put_le64(at + 16, 40);
    ek_put_le64(at + 32, 0x01DB000000000000);
    ek_put_le32(at + 40, reason);
    ek_put_le16(at + 56, 2);
    ek_put_le16(at + 58, 60);
    ek_put_le16(at + 60, (guint16)('A' + number));
    return length;
}

static void changes_are_decoded(void)
{
    guint8 page[EK_NTFS_PAGE] = {0};
    g_autoptr(GString) text = g_string_new(NULL);
    gsize at = 40; /* the end of what does not begin here */
    at += put_change(page + at, 0, 0x100);
    at += put_change(page + at, 1, 0x200);
    at += put_change(page + at, 2, 0x1000);
    at += put_change(page + at, 3, 0x2000);
    put_change(page + sizeof page - 64, 4, 0x1);
    CHECK(ek_ntfs_changes_page((EkSpan){page, sizeof page}, note_entry, text));
    CHECK_TEXT(text->str, "A B- D E ");
    ek_put_le32(page + sizeof page - 64, 72);
    g_string_truncate(text, 0);
    CHECK(ek_ntfs_changes_page((EkSpan){page, sizeof page}, note_entry, text));
    CHECK_TEXT(text->str, "A B- D ");
}

/* An operation of the log that puts an entry into a folder, or takes it out. Returns its length. */
static gsize put_operation(guint8 *page, gsize at, guint number, gboolean is_removal)
{
    guint8 *client = page + at + 48;
    gsize length = put_entry(client + 40, number, 40);
    guint of = is_removal ? 4 : 0;
    ek_put_le64(page + at, (7u << 9) + at / 8);
    ek_put_le32(page + at + 24, (guint32)(40 + length));
    ek_put_le32(page + at + 32, 1);
    ek_put_le16(client, is_removal ? 15 : 14);
    ek_put_le16(client + 2, is_removal ? 14 : 15);
    ek_put_le16(client + 4 + of, 40);
    ek_put_le16(client + 6 + of, (guint16)length);
    return 48 + 40 + length;
}

static void make_log_page(guint8 *page)
{
    gsize at = 72; /* the end of what does not begin here */
    memset(page, 0, EK_NTFS_PAGE);
    memcpy(page, "RCRD", 4);
    ek_put_le16(page + 4, 0x28);
    ek_put_le16(page + 6, EK_NTFS_PAGE / 512 + 1);
    at += put_operation(page, at, 0, FALSE);
    at += put_operation(page, at, 1, TRUE);
    at += put_operation(page, at, 2, FALSE);
    put_operation(page, EK_NTFS_PAGE - 256, 3, FALSE);
    seal_index(page);
}

static void the_log_is_decoded(void)
{
    g_autofree guint8 *page = g_malloc(EK_NTFS_PAGE);
    g_autoptr(GString) text = g_string_new(NULL);
    make_log_page(page);
    CHECK(ek_ntfs_log_page(page, EK_NTFS_PAGE, note_entry, text));
    CHECK_TEXT(text->str, "A B- C D ");
    /* What does not stand where its number says is none. */
    make_log_page(page);
    ek_put_le64(page + EK_NTFS_PAGE - 256, 7u << 9);
    g_string_truncate(text, 0);
    CHECK(ek_ntfs_log_page(page, EK_NTFS_PAGE, note_entry, text));
    CHECK_TEXT(text->str, "A B- C ");
    for (guint seed = 0; seed < 2000; seed++) {
        make_log_page(page);
        g_autoptr(GRand) random = g_rand_new_with_seed(seed);
        for (guint i = 0; i < 8; i++)
            page[g_rand_int_range(random, 72, 700)] = (guint8)g_rand_int(random);
        ek_ntfs_log_page(page, EK_NTFS_PAGE, note_entry, text);
    }
}

static gboolean is_later(EkTimestamp used, EkTimestamp before)
{
    EkVolume later = {.used = used};
    EkVolume earlier = {.used = before};
    return ek_volume_is_later(&later, &earlier);
}

static void the_later_volume_is_told_as_finely_as_both_tell(void)
{
    EkTimestamp early = {1780000000, 100, FALSE, TRUE};
    EkTimestamp late = {1780000000, 200, FALSE, TRUE};
    EkTimestamp whole = {1780000000, 0, FALSE, TRUE};
    EkTimestamp next = {1780000001, 0, FALSE, TRUE};
    EkTimestamp local = {1780000001, 0, TRUE, TRUE};
    CHECK(is_later(late, early));
    CHECK(!is_later(early, late));
    CHECK(!is_later(early, whole));
    CHECK(!is_later(whole, early));
    CHECK(is_later(next, late));
    CHECK(!is_later(local, late));
    CHECK(!is_later(late, (EkTimestamp){0}));
    CHECK(!is_later((EkTimestamp){0}, late));
    EkTimestamp moment = early;
    ek_timestamp_advance(&moment, late);
    CHECK_NUMBER(moment.nanoseconds, 200);
    ek_timestamp_advance(&moment, early);
    CHECK_NUMBER(moment.nanoseconds, 200);
    CHECK_NUMBER(ek_timestamp_nanoseconds((EkTimestamp){G_MAXINT64, 0, FALSE, TRUE}),
                 9000000000000000000);
}

int main(void)
{
    static const Test tests[] = {
        {"the later volume is told as finely as both tell",
         the_later_volume_is_told_as_finely_as_both_tell},
        {"chains end where the format says", chains_end_where_the_format_says},
        {"a FAT boot sector is decoded", a_fat_boot_sector_is_decoded},
        {"no boot sector speaks of places outside", no_boot_sector_speaks_of_places_outside},
        {"a FAT volume is believed for its parts", a_fat_volume_is_believed_for_its_parts},
        {"without FAT or root there is no volume", without_fat_and_root_there_is_no_volume},
        {"what was not read does not count against it",
         what_was_not_read_does_not_count_against_it},
        {"the FAT32 backup finds the volume", the_fat32_backup_finds_the_volume},
        {"boot sectors are mended from their copy", boot_sectors_are_repaired_from_their_copy},
        {"an NTFS volume is believed for its first record",
         an_ntfs_volume_is_believed_for_its_first_record},
        {"an NTFS claim without records is none", an_ntfs_claim_without_records_is_none},
        {"a torn file record is none", a_torn_file_record_is_none},
        {"entries of an index are decoded", entries_of_an_index_are_decoded},
        {"changes are decoded", changes_are_decoded},
        {"the log is decoded", the_log_is_decoded},
        {"the fields of a header cover it", the_fields_of_a_header_cover_it},
        {"a container has parts", a_container_has_parts},
        {"partition types are known", partition_types_are_known},
        {"use is told for ranges", use_is_told_for_ranges},
    };
    return RUN_TESTS("volume", tests);
}
