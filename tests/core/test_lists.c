/* SPDX-License-Identifier: MIT */
/* Files as ext2 and ext3 lay them, found by their content and the blocks of numbers that are left.
 */
#include "carve/indirect.h"
#include "carved.h"
#include "check.h"
#include "fixture.h"
#include "specimens.h"

#include <string.h>

/* --- what looks like one ---------------------------------------------------------------------- */

static void fill_numbers(guint8 *bytes, gsize count, guint32 first, gsize jump_each)
{
    for (gsize i = 0; i < count; i++)
        ek_put_le32(bytes + 4 * i, first + (guint32)(i + (jump_each > 0 ? i / jump_each * 90 : 0)));
}

static void numbers_that_go_up_are_one(void)
{
    static const struct {
        gsize count;
        guint32 first;
        gsize jump_each;
        gboolean is_one;
    } cases[] = {{128, 7000, 0, TRUE}, {128, 7000, 16, TRUE}, {5, 7000, 4, TRUE},
                 {1, 7000, 0, TRUE},   {128, 13, 0, FALSE},   {128, 7000, 2, FALSE},
                 {0, 0, 0, FALSE}};
    for (gsize i = 0; i < G_N_ELEMENTS(cases); i++) {
        guint8 bytes[4 * EK_STEP] = {0};
        g_autoptr(GArray) found = g_array_new(FALSE, FALSE, sizeof(EkListed));
        fill_numbers(bytes + EK_STEP, cases[i].count, cases[i].first, cases[i].jump_each);
        CHECK(ek_lists_is_one((EkSpan){bytes + EK_STEP, EK_STEP}) == cases[i].is_one);
        ek_lists_look((EkSpan){bytes, sizeof bytes}, 20480, found);
        CHECK_NUMBER(found->len, cases[i].is_one ? 1 : 0);
        if (found->len > 0) {
            CHECK_NUMBER(g_array_index(found, EkListed, 0).place, 20480 + EK_STEP);
            CHECK_NUMBER(g_array_index(found, EkListed, 0).number, cases[i].first);
        }
        /* Something behind the zeros. */
        bytes[2 * EK_STEP - 1] = 1;
        CHECK(!ek_lists_is_one((EkSpan){bytes + EK_STEP, EK_STEP}) || cases[i].count == 128);
    }
}

/* A block of 4 KiB is one every 1024 bytes, as a block may be as small; not in between. */
static void what_goes_on_is_listed_once(void)
{
    guint8 bytes[4096];
    g_autoptr(GArray) found = g_array_new(FALSE, FALSE, sizeof(EkListed));
    fill_numbers(bytes, 1024, 100000, 0);
    ek_lists_look((EkSpan){bytes, sizeof bytes}, 0, found);
    CHECK_NUMBER(found->len, 4);
    g_array_set_size(found, 0);
    ek_lists_look((EkSpan){bytes, sizeof bytes}, 63 * EK_STEP, found);
    CHECK_NUMBER(g_array_index(found, EkListed, 0).place, 63 * EK_STEP);
}

/* --- what they are counted from --------------------------------------------------------------- */

static void files_tell_where_the_volume_begins(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    for (guint round = 0; round < 6; round++) {
        EkLists *lists = ek_lists_new();
        g_autoptr(GArray) firsts = g_array_new(FALSE, FALSE, sizeof(EkByte));
        EkBlocks blocks = {(EkByte)g_rand_int_range(random, 1, 5000) * EK_STEP,
                           (EkByte)1024 << round % 3};
        guint count = round < 3 ? 12 : 900;
        guint32 number = 200;
        for (guint i = 0; i < count; i++) {
            number += 12 + (guint32)g_rand_int_range(random, 1, 400);
            EkByte first = blocks.volume + (number - 12) * blocks.block;
            EkListed own = {
                blocks.volume + blocks.block * (EkByte)g_rand_int_range(random, 3, 9000), number};
            EkListed other = {EK_STEP * (EkByte)g_rand_int_range(random, 3, 90000),
                              g_rand_int(random) % 500000};
            g_array_append_val(firsts, first);
            /* Some files have none, and some of these are of no file. */
            CHECK(ek_lists_add(lists, i % 4 != 3 ? own : other));
        }
        ek_lists_settle(lists, firsts);
        const GArray *ways = ek_lists_blocks(lists);
        CHECK(ways->len >= 1);
        if (ways->len > 0) {
            CHECK_NUMBER(g_array_index(ways, EkBlocks, 0).volume, blocks.volume);
            CHECK_NUMBER(g_array_index(ways, EkBlocks, 0).block, blocks.block);
        }
        EkByte place = 0;
        CHECK_NUMBER(ek_lists_find(lists, G_MAXUINT32, &place, 1), 0);
        ek_lists_free(lists);
    }
}

static void what_agrees_on_nothing_tells_nothing(void)
{
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    g_autoptr(GArray) firsts = g_array_new(FALSE, FALSE, sizeof(EkByte));
    EkLists *lists = ek_lists_new();
    ek_lists_settle(lists, firsts);
    CHECK_NUMBER(ek_lists_blocks(lists)->len, 0);
    ek_lists_free(lists);
    lists = ek_lists_new();
    for (guint i = 0; i < 300; i++) {
        EkByte first = (EkByte)i * 3000 * EK_STEP;
        EkListed listed = {(EkByte)g_rand_int(random) * EK_STEP, g_rand_int(random)};
        g_array_append_val(firsts, first);
        ek_lists_add(lists, listed);
    }
    ek_lists_settle(lists, firsts);
    CHECK_NUMBER(ek_lists_blocks(lists)->len, 0);
    ek_lists_free(lists);
}

/* --- those that stand in the run of a file ---------------------------------------------------- */

static void put_number(Drive *drive, gsize at, guint64 number)
{
    ek_put_le32(drive->bytes->data + at, (guint32)number);
}

/* A block of numbers for the `count` blocks that are put behind it; returns how many it holds. */
static gsize put_list(Drive *drive, gsize block, gsize count)
{
    gsize most = MIN(count, block / 4);
    gsize at = drive->bytes->len;
    drive_pad(drive, block, FALSE);
    g_byte_array_set_size(drive->bytes, (guint)(at + block));
    memset(drive->bytes->data + at, 0, block);
    for (gsize i = 0; i < most; i++)
        put_number(drive, at + 4 * i, at / block + 1 + i);
    return most;
}

/* As ext2 and ext3 lay a file on a volume that begins with the drive (docs of ext4,
 * "direct/indirect block addressing"): twelve blocks, one of numbers, those; one that names two of
 * numbers, and so on. */
static EkByte put_in_blocks(Drive *drive, const Specimen *specimen, gsize block)
{
    gsize count = (specimen->length + block - 1) / block;
    gsize put = MIN(count, 12);
    EkByte at = drive_put(drive, specimen->data, MIN(put * block, specimen->length));
    gsize top = 0; /* where the block stands that names blocks of numbers */
    for (guint list = 0; put < count; list++) {
        if (list == 1) {
            top = drive->bytes->len;
            put_list(drive, block, 0);
        }
        if (list > 0)
            put_number(drive, top + 4 * (list - 1), drive->bytes->len / block);
        gsize more = put_list(drive, block, count - put);
        gsize first = put * block;
        drive_put(drive, specimen->data + first, MIN(more * block, specimen->length - first));
        put += more;
    }
    drive_pad(drive, block, FALSE);
    return at;
}

static void blocks_of_numbers_lead_through_a_file(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    guint tried = 0;
    for (gsize block = 1024; block <= 4096; block *= 2) {
        Drive drive = drive_new(seed + (guint)block);
        g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkByte));
        drive_noise(&drive, 16 * 4096);
        for (guint i = 0; i < specimens->len; i++) {
            EkByte at = put_in_blocks(&drive, specimens->pdata[i], block);
            g_array_append_val(places, at);
        }
        drive_noise(&drive, 4096);
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            const EkFound *one = carved_at(found, g_array_index(places, EkByte, i));
            if (!specimen->proves || specimen->length <= 13 * block)
                continue;
            gboolean is_right = one != NULL && carved_is_same(&bench, one, specimen);
            tried++;
            if (!is_right)
                g_print("blocks of %u: %s: %s\n", (guint)block, specimen->type,
                        one != NULL ? one->why : "not found");
            CHECK(is_right);
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
    CHECK(tried >= 10);
}

/* Blocks of numbers that name themselves, or what is not there, come to an end. */
static void hostile_numbers_end(void)
{
    guint32 seed = test_seed();
    for (guint round = 0; round < 4; round++) {
        const gsize block = 1024;
        Drive drive = drive_new(seed + round);
        g_autoptr(GByteArray) text = g_byte_array_new();
        g_byte_array_set_size(text, 400 * block);
        memset(text->data, 'a' + (int)round, text->len);
        Specimen specimen = {"text", "txt", text->data, text->len, FALSE, FALSE};
        drive_noise(&drive, 16 * block);
        EkByte at = put_in_blocks(&drive, &specimen, block);
        gsize top = (gsize)at + (12 + 1 + 256) * block;
        for (gsize i = 0; round == 1 && i < block / 4; i++)
            put_number(&drive, top + 4 * i, top / block);
        for (gsize i = 0; round == 2 && i < block / 4; i++)
            put_number(&drive, top + 4 * i, top / block + 1 + i % 2);
        for (gsize i = 0; round == 3 && i < block / 4; i++)
            put_number(&drive, top + block + 4 * i, G_MAXUINT32 - i);
        Bench bench;
        drive_open(&drive, &bench);
        EkBlocks blocks = {0};
        CHECK(ek_indirect_in_run(bench.reader, at, block, &blocks));
        CHECK_NUMBER(blocks.volume, 0);
        g_autoptr(GArray) laid =
            ek_indirect_layout(bench.reader, NULL, blocks, at, at + 12 * block, TRUE);
        CHECK(laid->len >= 2);
        EkByte bytes = 0;
        for (guint i = 0; i < laid->len; i++)
            bytes += g_array_index(laid, EkRange, i).bytes;
        CHECK(round != 0 || bytes == text->len);
        CHECK(bytes >= (12 + 256) * block);
        CHECK(!ek_indirect_in_run(bench.reader, at + block, block, &blocks));
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

/* --- those that lie anywhere ------------------------------------------------------------------ */

/* As today's driver of Linux fills it: files in runs of sixteen blocks, the blocks of numbers of
 * one file side by side in a place of their own. */
typedef struct {
    Drive drive;
    EkBlocks blocks;
    GArray *runs; /* guint32, shuffled: first blocks that are free */
    guint32 list; /* the next block for numbers */
} Volume;

#define RUN 16u
#define LISTS 512u /* blocks for them */

static guint8 *block_of(Volume *volume, guint32 number)
{
    return volume->drive.bytes->data + volume->blocks.volume + number * volume->blocks.block;
}

static Volume volume_new(guint32 seed, EkByte block, gsize bytes)
{
    Volume volume = {
        drive_new(seed), {63 * EK_STEP, block}, g_array_new(FALSE, FALSE, sizeof(guint32)), 32};
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    guint count = (guint)(bytes / (RUN * block)) + 1;
    drive_noise(&volume.drive, (gsize)(volume.blocks.volume + (32 + LISTS + RUN * count) * block));
    for (guint i = 0; i < count; i++) {
        guint32 first = 32 + LISTS + RUN * i;
        g_array_append_val(volume.runs, first);
    }
    for (guint i = count - 1; i > 0; i--) {
        guint32 *runs = (guint32 *)(gpointer)volume.runs->data;
        guint other = (guint)g_rand_int_range(random, 0, (gint32)i + 1);
        guint32 kept = runs[i];
        runs[i] = runs[other];
        runs[other] = kept;
    }
    for (guint i = 0; i < LISTS; i++)
        memset(block_of(&volume, 32 + i), 0, (gsize)block);
    return volume;
}

static void name_block(Volume *volume, guint32 list, gsize index, guint32 number)
{
    ek_put_le32(block_of(volume, list) + 4 * index, number);
}

/* Returns where it begins. */
static EkByte volume_put(Volume *volume, const Specimen *specimen)
{
    gsize block = (gsize)volume->blocks.block;
    gsize count = (specimen->length + block - 1) / block;
    gsize each = block / 4;
    guint32 leaf = 0;
    guint32 node = 0;
    guint32 run = 0;
    EkByte first = 0;
    for (gsize i = 0; i < count; i++) {
        if (i % RUN == 0) {
            run = g_array_index(volume->runs, guint32, volume->runs->len - 1);
            g_array_set_size(volume->runs, volume->runs->len - 1);
        }
        guint32 number = run + (guint32)(i % RUN);
        guint8 *own = block_of(volume, number);
        if (i == 0)
            first = (EkByte)(own - volume->drive.bytes->data);
        memset(own, 0, block);
        memcpy(own, specimen->data + i * block, MIN(block, specimen->length - i * block));
        if (i < 12)
            continue;
        if (i == 12 + each)
            node = volume->list++;
        if ((i - 12) % each == 0) {
            leaf = volume->list++;
            if (node != 0)
                name_block(volume, node, (i - 12) / each - 1, leaf);
        }
        name_block(volume, leaf, (i - 12) % each, number);
    }
    CHECK(volume->list < 32 + LISTS);
    return first;
}

/* One that names another as its own, and was left from a file before. */
static void put_false_list(Volume *volume, EkByte first, guint32 next)
{
    EkByte number = (first - volume->blocks.volume) / volume->blocks.block + 12;
    guint32 list = volume->list++;
    name_block(volume, list, 0, (guint32)number);
    for (gsize i = 1; i < volume->blocks.block / 4; i++)
        name_block(volume, list, i, next + (guint32)i);
}

static GByteArray *long_picture(guint32 seed)
{
    GByteArray *png = g_byte_array_new();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    guint8 dots[8000];
    g_byte_array_append(png, (const guint8 *)"\x89PNG\r\n\x1a\n", 8);
    png_chunk(png, "IHDR", (const guint8 *)"\0\0\1\0\0\0\1\0\10\2\0\0\0", 13);
    for (guint i = 0; i < 150; i++) {
        for (gsize k = 0; k < sizeof dots; k++)
            dots[k] = (guint8)g_rand_int(random);
        png_chunk(png, "IDAT", dots, sizeof dots);
    }
    png_chunk(png, "IEND", dots, 0);
    return png;
}

static gsize bytes_of(const GPtrArray *specimens, gsize block)
{
    gsize bytes = 0;
    for (guint i = 0; i < specimens->len; i++)
        bytes += ((const Specimen *)specimens->pdata[i])->length + RUN * block;
    return bytes;
}

/* Each that can be proved comes back, whatever false ones say. */
static guint check_volume(const GPtrArray *specimens, const GArray *places, Bench *bench,
                          gsize block)
{
    g_autoptr(GPtrArray) found = carved_search(bench, 0, TRUE);
    guint tried = 0;
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        const EkFound *one = carved_at(found, g_array_index(places, EkByte, i));
        gboolean is_right = one != NULL && carved_is_same(bench, one, specimen);
        gboolean is_lie = one != NULL && !is_right && one->state == EK_CONTENT_WHOLE;
        if (is_lie)
            g_print("whole and not right: %s: %s\n", specimen->type, one->why);
        CHECK(!is_lie);
        if (!specimen->proves || specimen->length <= RUN * block)
            continue;
        tried++;
        if (!is_right)
            g_print("blocks of %u: %s: %s\n", (guint)block, specimen->type,
                    one != NULL ? one->why : "not found");
        CHECK(is_right);
    }
    return tried;
}

static void blocks_of_numbers_anywhere_lead_through_files(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    g_autoptr(GByteArray) png = long_picture(seed);
    /* What begins in the long entry of an archive is of that: nothing in it tells otherwise. */
    for (guint i = specimens->len; i > 0; i--)
        if (g_str_equal(((const Specimen *)specimens->pdata[i - 1])->type, "tar"))
            g_ptr_array_remove_index_fast(specimens, i - 1);
    Specimen *picture = g_new0(Specimen, 1);
    *picture = (Specimen){"png", "png", g_memdup2(png->data, png->len), png->len, TRUE, TRUE};
    g_ptr_array_add(specimens, picture);
    guint tried = 0;
    for (guint round = 0; round < 4; round++) {
        EkByte block = (EkByte)1024 << round % 3;
        Volume volume = volume_new(seed + round, block, bytes_of(specimens, (gsize)block));
        g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkByte));
        for (guint i = 0; i < specimens->len; i++) {
            EkByte at = volume_put(&volume, specimens->pdata[i]);
            g_array_append_val(places, at);
            /* To the end of the drive and beyond, to other files, and to itself. */
            if (round == 3)
                put_false_list(&volume, at,
                               i % 3 == 0   ? G_MAXUINT32 - 100
                               : i % 3 == 1 ? 32 + LISTS + RUN * i
                                            : volume.list);
        }
        Bench bench;
        drive_open(&volume.drive, &bench);
        tried += check_volume(specimens, places, &bench, (gsize)block);
        bench_close(&bench);
        g_byte_array_unref(volume.drive.bytes);
        g_array_unref(volume.runs);
    }
    CHECK(tried >= 20);
}

int main(void)
{
    static const Test tests[] = {
        {"numbers that go up are one", numbers_that_go_up_are_one},
        {"what goes on is listed once", what_goes_on_is_listed_once},
        {"files tell where the volume begins", files_tell_where_the_volume_begins},
        {"what agrees on nothing tells nothing", what_agrees_on_nothing_tells_nothing},
        {"blocks of numbers lead through a file", blocks_of_numbers_lead_through_a_file},
        {"hostile numbers end", hostile_numbers_end},
        {"blocks of numbers anywhere lead through files",
         blocks_of_numbers_anywhere_lead_through_files},
    };
    return RUN_TESTS("lists", tests);
}
