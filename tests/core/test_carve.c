/* SPDX-License-Identifier: MIT */
/* The search by content: files of each type in ground of every kind, whole, cut, in pieces. */
#include "base/checksum.h"
#include "carve/carve.h"
#include "carve/indirect.h"
#include "carve/types.h"
#include "check.h"
#include "fixture.h"
#include "program.h"
#include "specimens.h"

#include <string.h>

typedef struct {
    GPtrArray *found; /* EkFound */
    guint64 searched;
} Results;

/* What is handed on is the search's own: a copy is kept. */
static gboolean take(void *data, const EkFound *found, GError **error)
{
    Results *results = data;
    EkFound *copy = g_memdup2(found, sizeof *found);
    (void)error;
    copy->places = g_array_copy(found->places);
    copy->why = g_strdup(found->why);
    g_ptr_array_add(results->found, copy);
    return TRUE;
}

static gboolean count(void *data, EkRange range, GError **error)
{
    Results *results = data;
    (void)error;
    results->searched += range.bytes;
    return TRUE;
}

static EkByte place_of(const EkFound *found)
{
    return g_array_index(found->places, EkRange, 0).first;
}

/* Joins what breaks, some at a time. */
static void join_all(EkCarve *carve, GPtrArray *found, guint threads)
{
    g_autoptr(GArray) tasks = g_array_new(FALSE, FALSE, sizeof(EkJoinTask));
    for (guint i = 0; i < found->len; i++) {
        const EkFound *one = found->pdata[i];
        gboolean is_open = one->state == EK_CONTENT_CUT || ek_found_held(one) == 0;
        EkJoinTask task = {is_open ? one->type : NULL, place_of(one), NULL};
        g_array_append_val(tasks, task);
    }
    for (guint i = 0; i < tasks->len;) {
        EkJoinTask *some = &g_array_index(tasks, EkJoinTask, i);
        guint done = ek_carve_join_many(carve, some, MIN(tasks->len - i, MAX(3 * threads, 4)),
                                        EK_CARVE_TRIES);
        CHECK(done > 0);
        for (guint k = 0; k < done; k++) {
            if (some[k].joined == NULL)
                continue;
            ek_found_free(found->pdata[i + k]);
            found->pdata[i + k] = some[k].joined;
        }
        i += MAX(done, 1);
    }
}

/* Searches all of it and joins what breaks, or, without that, tells of what is part of others too.
 * EkFound*, by place; the caller unrefs. */
static GPtrArray *search(Bench *bench, guint threads, gboolean joins)
{
    GPtrArray *found = g_ptr_array_new_with_free_func((GDestroyNotify)ek_found_free);
    Results results = {found, 0};
    gint cancel = 0;
    g_autoptr(GArray) ground = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkRange all = {0, ek_reader_bytes(bench->reader)};
    g_array_append_val(ground, all);
    EkCarveOrder order = {bench->reader, ground, NULL, threads, !joins, 4096};
    EkCarveSink sink = {&results, take, count};
    g_autoptr(EkCarve) carve = ek_carve_new(&order, &sink, &cancel);
    g_autoptr(GArray) good = bench_good(bench);
    GError *error = NULL;
    CHECK(ek_carve_scan(carve, good, &error));
    g_clear_error(&error);
    if (joins)
        join_all(carve, found, threads);
    return found;
}

static const EkFound *found_at(const GPtrArray *found, EkByte at)
{
    for (guint i = 0; i < found->len; i++)
        if (place_of(found->pdata[i]) == at)
            return found->pdata[i];
    return NULL;
}

/* Is this what the file was, but for zeros that fill it up? */
static gboolean is_same(const Bench *bench, const EkFound *found, const Specimen *specimen)
{
    g_autoptr(GByteArray) bytes = g_byte_array_new();
    for (guint i = 0; i < found->places->len; i++) {
        EkRange place = g_array_index(found->places, EkRange, i);
        g_autofree guint8 *part =
            ek_reader_read_new(bench->reader, place.first, (gsize)place.bytes, NULL, NULL);
        g_byte_array_append(bytes, part, (guint)place.bytes);
    }
    gsize common = MIN(bytes->len, specimen->length);
    return memcmp(bytes->data, specimen->data, common) == 0 &&
           ek_bytes_are_zero(bytes->data + common, bytes->len - common) &&
           ek_bytes_are_zero(specimen->data + common, specimen->length - common);
}

/* --- drives ---------------------------------------------------------------------------------- */

typedef struct {
    GByteArray *bytes;
    guint32 seed;
} Drive;

static void pad(Drive *drive, gsize grid, gboolean with_noise)
{
    gsize over = drive->bytes->len % grid;
    gsize more = over == 0 ? 0 : grid - over;
    gsize at = drive->bytes->len;
    g_byte_array_set_size(drive->bytes, (guint)(at + more));
    if (with_noise)
        fill_noise(drive->bytes->data + at, more, drive->seed++);
    else
        memset(drive->bytes->data + at, 0, more);
}

static void put_noise(Drive *drive, gsize length)
{
    gsize at = drive->bytes->len;
    g_byte_array_set_size(drive->bytes, (guint)(at + length));
    fill_noise(drive->bytes->data + at, length, drive->seed++);
}

static EkByte put_bytes(Drive *drive, const guint8 *data, gsize length)
{
    EkByte at = drive->bytes->len;
    g_byte_array_append(drive->bytes, data, (guint)length);
    return at;
}

static Drive drive_new(guint32 seed)
{
    Drive drive = {g_byte_array_new(), seed};
    put_noise(&drive, 8192);
    return drive;
}

static void drive_open(Drive *drive, Bench *bench)
{
    pad(drive, 4096, FALSE);
    bench_open(bench, drive->bytes->data, drive->bytes->len);
}

/* --- the tests ------------------------------------------------------------------------------- */

/* Each type, at 512 and at 4096 bytes, with zeros and with noise behind it. */
static void what_lies_in_one_piece_comes_out(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    for (guint round = 0; round < 2; round++) {
        Drive drive = drive_new(seed + round);
        g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkByte));
        gsize grid = round % 2 == 0 ? 4096 : 512;
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            EkByte at = put_bytes(&drive, specimen->data, specimen->length);
            g_array_append_val(places, at);
            pad(&drive, grid, FALSE);
            if (round == 1)
                put_noise(&drive, grid * (1 + i % 3));
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
        CHECK_NUMBER(found->len, specimens->len);
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            const EkFound *one = found_at(found, g_array_index(places, EkByte, i));
            if (one == NULL || !is_same(&bench, one, specimen) ||
                !g_str_equal(one->type->name, specimen->type))
                g_print("%s at round %u: %s\n", specimen->type, round,
                        one != NULL ? one->why : "not found");
            CHECK(one != NULL);
            if (one == NULL)
                continue;
            CHECK_TEXT(one->type->name, specimen->type);
            CHECK(is_same(&bench, one, specimen));
            CHECK(one->state == (specimen->proves ? EK_CONTENT_WHOLE : EK_CONTENT_DOUBTFUL));
            const char *ending =
                *one->followed.ending != '\0' ? one->followed.ending : one->type->ending;
            CHECK_TEXT(ending, specimen->ending);
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

/* Whatever lies where the end was: none of them is called whole. */
static void what_was_overwritten_is_not_whole(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    for (guint round = 0; round < (is_sanitized() ? 1u : 3u); round++) {
        Drive drive = drive_new(seed + round);
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            const Specimen *other = specimens->pdata[(i + 5 + round) % specimens->len];
            gsize sectors = specimen->length / 512;
            gsize kept = sectors > 1 ? 512 * (1 + (seed + i * 7 + round * 13) % (sectors - 1)) : 0;
            gsize rest = (specimen->length - kept + 4095) / 4096 * 4096;
            put_bytes(&drive, specimen->data, kept);
            if (round % 3 == 0) {
                put_noise(&drive, rest);
            } else if (round % 3 == 1) {
                gsize at = drive.bytes->len;
                g_byte_array_set_size(drive.bytes, (guint)(at + rest));
                memset(drive.bytes->data + at, 0, rest);
            } else {
                /* The middle of another file. */
                gsize skip = other->length / 2 / 512 * 512;
                put_bytes(&drive, other->data + skip, MIN(rest, other->length - skip));
            }
            pad(&drive, 4096, TRUE);
            put_noise(&drive, 4096);
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
        for (guint i = 0; i < found->len; i++) {
            const EkFound *one = found->pdata[i];
            gboolean is_right = one->state != EK_CONTENT_WHOLE;
            for (guint k = 0; k < specimens->len && !is_right; k++)
                is_right = is_same(&bench, one, specimens->pdata[k]);
            if (!is_right)
                g_print("round %u: %s at %" G_GUINT64_FORMAT " is called whole: %s\n", round,
                        one->type->name, place_of(one), one->why);
            CHECK(is_right);
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

static void two_pieces_are_joined(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    guint tried = 0;
    guint joined = 0;
    for (guint round = 0; round < 2; round++) {
        Drive drive = drive_new(seed + round);
        g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkByte));
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            const Specimen *between = specimens->pdata[(i + 3) % specimens->len];
            gsize blocks = specimen->length / 4096;
            if (!specimen->joins || blocks < 2)
                continue;
            gsize cut = 4096 * (1 + (seed + round * 3 + i) % (blocks - 1));
            EkByte at = put_bytes(&drive, specimen->data, cut);
            g_array_append_val(places, at);
            /* Between them lies another file, or what is none. */
            if (round % 2 == 0)
                put_bytes(&drive, between->data, between->length);
            else
                put_noise(&drive, 4096 * (1 + i % 5));
            pad(&drive, 4096, FALSE);
            put_bytes(&drive, specimen->data + cut, specimen->length - cut);
            pad(&drive, 4096, FALSE);
            put_noise(&drive, 4096);
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
        guint place = 0;
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            if (!specimen->joins || specimen->length / 4096 < 2)
                continue;
            const EkFound *one = found_at(found, g_array_index(places, EkByte, place++));
            gboolean is_right = one != NULL && is_same(&bench, one, specimen);
            tried++;
            joined += is_right ? 1 : 0;
            if (!is_right)
                g_print("round %u: %s: %s\n", round, specimen->type,
                        one != NULL ? one->why : "not found");
            CHECK(is_right || one == NULL || one->state != EK_CONTENT_WHOLE);
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
    CHECK(tried >= 6);
    CHECK(joined * 100 >= tried * 60);
}

/* A sound that swings slowly, with a title behind it. The caller unrefs. */
static GByteArray *make_sound(guint samples, guint32 seed)
{
    GByteArray *wav = g_byte_array_new();
    guint8 head[44] =
        "RIFF\0\0\0\0WAVEfmt \x10\0\0\0\1\0\1\0\x40\x1f\0\0\x80\x3e\0\0\2\0\x10\0data";
    ek_put_le32(head + 4, 36 + 2 * samples + 24);
    ek_put_le32(head + 40, 2 * samples);
    g_byte_array_append(wav, head, sizeof head);
    for (guint i = 0; i < samples; i++) {
        seed = seed * 1664525u + 1013904223u;
        gint32 swing = (gint32)((i * 37) % 2000) - 1000 + (gint32)(seed >> 25);
        guint8 sample[2];
        ek_put_le16(sample, (guint16)swing);
        g_byte_array_append(wav, sample, 2);
    }
    g_byte_array_append(wav, (const guint8 *)"LIST\x10\0\0\0INFOINAM\4\0\0\0Reed", 24);
    return wav;
}

static void put_text(Drive *drive, guint blocks, guint32 seed)
{
    g_autoptr(GString) text = g_string_new(NULL);
    while (text->len < 4096 * (gsize)blocks)
        g_string_append_printf(text, "accession %u;Silene;%u seeds\n", (guint)text->len, seed % 90);
    put_bytes(drive, (const guint8 *)text->str, 4096 * (gsize)blocks);
}

/* Where nothing in a file tells the cut, what stands behind it tells how far its rest is shifted,
 * and the look of the blocks the rest. What has a checksum is whole then. */
static void landmarks_tell_the_shift(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    for (guint round = 0; round < 4; round++) {
        g_autoptr(GByteArray) wav =
            make_sound((guint)g_rand_int_range(random, 60000, 120000), g_rand_int(random));
        Specimen sound = {"wav", "wav", wav->data, wav->len, TRUE, FALSE};
        const Specimen *archive = NULL;
        for (guint i = 0; i < specimens->len && archive == NULL; i++)
            if (g_str_equal(((const Specimen *)specimens->pdata[i])->type, "7z"))
                archive = specimens->pdata[i];
        const Specimen *both[] = {&sound, archive};
        Drive drive = drive_new(seed + round);
        EkByte places[2];
        for (guint i = 0; i < G_N_ELEMENTS(both); i++) {
            gsize blocks = both[i]->length / 4096;
            gsize cut = 4096 * (gsize)g_rand_int_range(random, 1, (gint32)blocks);
            places[i] = put_bytes(&drive, both[i]->data, cut);
            put_text(&drive, (guint)g_rand_int_range(random, 1, 40), g_rand_int(random));
            put_bytes(&drive, both[i]->data + cut, both[i]->length - cut);
            pad(&drive, 4096, FALSE);
            put_noise(&drive, 4096);
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
        for (guint i = 0; i < G_N_ELEMENTS(both); i++) {
            const EkFound *one = found_at(found, places[i]);
            gboolean is_right = one != NULL && is_same(&bench, one, both[i]);
            if (!is_right)
                g_print("round %u: %s: %s\n", round, both[i]->type,
                        one != NULL ? one->why : "not found");
            CHECK(is_right);
            CHECK(!is_right ||
                  one->state == (both[i]->proves ? EK_CONTENT_WHOLE : EK_CONTENT_DOUBTFUL));
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

static void put_be32(GByteArray *bytes, guint32 value)
{
    guint8 raw[4];
    ek_put_be32(raw, value);
    g_byte_array_append(bytes, raw, sizeof raw);
}

static void put_chunk(GByteArray *png, const char *name, const guint8 *data, guint length)
{
    gsize first = png->len + 4;
    put_be32(png, length);
    g_byte_array_append(png, (const guint8 *)name, 4);
    g_byte_array_append(png, data, length);
    put_be32(png, ek_crc32((EkSpan){png->data + first, png->len - first}));
}

/* One chunk of many blocks is cut at any of them: its sum tells where, and where it goes on. */
static void a_sum_tells_where_a_part_goes_on(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    g_autofree guint8 *dots = g_malloc(400000);
    for (guint round = 0; round < 4; round++) {
        g_autoptr(GByteArray) png = g_byte_array_new();
        guint length = (guint)g_rand_int_range(random, 300000, 400000);
        fill_noise(dots, length, seed + round);
        g_byte_array_append(png, (const guint8 *)"\x89PNG\r\n\x1a\n", 8);
        put_chunk(png, "IHDR", (const guint8 *)"\0\0\1\0\0\0\1\0\10\2\0\0\0", 13);
        put_chunk(png, "IDAT", dots, length);
        put_chunk(png, "IEND", dots, 0);
        Specimen specimen = {"png", "png", png->data, png->len, TRUE, TRUE};
        Drive drive = drive_new(seed + round);
        gsize cut = 4096 * (gsize)g_rand_int_range(random, 1, (gint32)(length / 4096));
        EkByte at = put_bytes(&drive, specimen.data, cut);
        put_noise(&drive, 4096 * (gsize)g_rand_int_range(random, 1, 200));
        put_bytes(&drive, specimen.data + cut, specimen.length - cut);
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
        const EkFound *one = found_at(found, at);
        CHECK(one != NULL);
        if (one != NULL) {
            CHECK(is_same(&bench, one, &specimen));
            CHECK(one->state == EK_CONTENT_WHOLE);
            CHECK_NUMBER(one->places->len, 2);
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

static void put_number(Drive *drive, gsize at, guint64 number)
{
    ek_put_le32(drive->bytes->data + at, (guint32)number);
}

/* A block of numbers for the `count` blocks that are put behind it; returns how many it holds. */
static gsize put_list(Drive *drive, gsize block, gsize count)
{
    gsize most = MIN(count, block / 4);
    gsize at = drive->bytes->len;
    pad(drive, block, FALSE);
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
    EkByte at = put_bytes(drive, specimen->data, MIN(put * block, specimen->length));
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
        put_bytes(drive, specimen->data + first, MIN(more * block, specimen->length - first));
        put += more;
    }
    pad(drive, block, FALSE);
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
        put_noise(&drive, 16 * 4096);
        for (guint i = 0; i < specimens->len; i++) {
            EkByte at = put_in_blocks(&drive, specimens->pdata[i], block);
            g_array_append_val(places, at);
        }
        put_noise(&drive, 4096);
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            const EkFound *one = found_at(found, g_array_index(places, EkByte, i));
            if (!specimen->proves || specimen->length <= 13 * block)
                continue;
            gboolean is_right = one != NULL && is_same(&bench, one, specimen);
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
        put_noise(&drive, 16 * block);
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
        g_autoptr(GArray) laid = ek_indirect_layout(bench.reader, at, TRUE);
        CHECK(laid != NULL && laid->len >= 2);
        EkByte bytes = 0;
        for (guint i = 0; laid != NULL && i < laid->len; i++)
            bytes += g_array_index(laid, EkRange, i).bytes;
        CHECK(round != 0 || bytes == text->len);
        CHECK(bytes >= (12 + 256) * block);
        g_autoptr(GArray) none = ek_indirect_layout(bench.reader, at + block, TRUE);
        CHECK(none == NULL);
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

/* The second piece lies before the first one, far away among others. */
static void pieces_before_the_file_are_found(void)
{
    guint32 seed = test_seed();
    static const char *const types[] = {"tiff", "png", "gzip", "mp4", "zip"};
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    guint right = 0;
    for (gsize k = 0; k < G_N_ELEMENTS(types); k++) {
        const Specimen *one = NULL;
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            if (g_str_equal(specimen->type, types[k]) && specimen->length > 3 * 4096)
                one = specimen;
        }
        if (one == NULL)
            continue;
        Drive drive = drive_new(seed);
        gsize cut = 4096 * (1 + seed % (one->length / 4096 - 1));
        for (guint i = 0; i < 6; i++) {
            const Specimen *other = specimens->pdata[(i * 5 + k) % specimens->len];
            if (i == 3)
                put_bytes(&drive, one->data + cut, one->length - cut);
            else if (other != one)
                put_bytes(&drive, other->data, other->length);
            pad(&drive, 4096, FALSE);
        }
        EkByte at = put_bytes(&drive, one->data, cut);
        const Specimen *behind = specimens->pdata[k % 3];
        put_bytes(&drive, behind->data, behind->length);
        pad(&drive, 4096, FALSE);
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
        const EkFound *joined = found_at(found, at);
        gboolean is_right = joined != NULL && is_same(&bench, joined, one);
        right += is_right ? 1 : 0;
        if (!is_right)
            g_print("before: %s: %s\n", types[k], joined != NULL ? joined->why : "not found");
        CHECK(is_right || joined == NULL || joined->state != EK_CONTENT_WHOLE);
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
    CHECK(right >= 3);
}

/* Nothing begins in a sound on a block: where something proved does, the sound lies around it. */
static void what_length_bounds_is_laid_around_others(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    const Specimen *sound = NULL;
    const Specimen *picture = NULL;
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        sound = g_str_equal(specimen->type, "au") ? specimen : sound;
        picture = g_str_equal(specimen->type, "png") ? specimen : picture;
    }
    Drive drive = drive_new(seed);
    EkByte at = put_bytes(&drive, sound->data, 4096);
    EkByte inner = put_bytes(&drive, picture->data, picture->length);
    pad(&drive, 4096, FALSE);
    put_bytes(&drive, sound->data + 4096, sound->length - 4096);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
    CHECK_NUMBER(found->len, 2);
    const EkFound *one = found_at(found, inner);
    CHECK(one != NULL && one->state == EK_CONTENT_WHOLE);
    one = found_at(found, at);
    CHECK(one != NULL && is_same(&bench, one, sound) && one->state == EK_CONTENT_DOUBTFUL);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

static void noise_holds_nothing(void)
{
    Drive drive = drive_new(test_seed());
    put_noise(&drive, 32u << 20);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
    CHECK_NUMBER(found->len, 0);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* The beginning of each type in every sector, noise behind it: none is whole, and it ends. */
static void forged_beginnings_are_not_whole(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    Drive drive = drive_new(seed);
    for (guint i = 0; i < 8192; i++) {
        const Specimen *specimen = specimens->pdata[i % specimens->len];
        gsize length = MIN(specimen->length, 512 * (1 + (gsize)i / specimens->len % 2)) / 512 * 512;
        put_bytes(&drive, specimen->data, length);
        if (i % 3 == 0)
            put_noise(&drive, 512);
    }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = search(&bench, 0, FALSE);
    for (guint i = 0; i < found->len; i++) {
        const EkFound *one = found->pdata[i];
        if (one->state == EK_CONTENT_WHOLE)
            g_print("WHOLE %s at %" G_GUINT64_FORMAT ": %s\n", one->type->name, place_of(one),
                    one->why);
        CHECK(one->state != EK_CONTENT_WHOLE);
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

static void threads_change_nothing(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    Drive drive = drive_new(seed);
    for (guint i = 0; i < 3 * specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i % specimens->len];
        put_bytes(&drive, specimen->data, i % 4 == 3 ? specimen->length / 2 : specimen->length);
        pad(&drive, 512, TRUE);
    }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) one = search(&bench, 1, TRUE);
    g_autoptr(GPtrArray) many = search(&bench, 7, TRUE);
    CHECK_NUMBER(one->len, many->len);
    for (guint i = 0; i < MIN(one->len, many->len); i++) {
        const EkFound *a = one->pdata[i];
        const EkFound *b = many->pdata[i];
        CHECK_NUMBER(place_of(a), place_of(b));
        CHECK_NUMBER(a->bytes, b->bytes);
        CHECK(a->state == b->state && a->type == b->type);
        CHECK_TEXT(a->why, b->why);
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* A file that is longer than what a worker looks at once, with others in it all along: only it is
 * told, whoever comes upon its middle first. Where its beginning is gone, these are told. */
static void long_files_are_found_once(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    const Specimen *picture = NULL;
    for (guint i = 0; i < specimens->len && picture == NULL; i++)
        if (g_str_equal(((const Specimen *)specimens->pdata[i])->type, "png"))
            picture = specimens->pdata[i];
    g_autoptr(GByteArray) png = g_byte_array_new();
    g_autofree guint8 *dots = g_malloc(1u << 20);
    guint inside = 0;
    g_byte_array_append(png, (const guint8 *)"\x89PNG\r\n\x1a\n", 8);
    put_chunk(png, "IHDR", (const guint8 *)"\0\0\1\0\0\0\1\0\10\2\0\0\0", 13);
    for (guint i = 0; i < 40; i++) {
        /* The first block of its data that begins on one of the drive. */
        gsize skip = (512 - (png->len + 8) % 512) % 512;
        fill_noise(dots, 1u << 20, seed + i);
        memcpy(dots + skip, picture->data, picture->length);
        put_chunk(png, "IDAT", dots, 1u << 20);
        inside++;
    }
    put_chunk(png, "IEND", dots, 0);
    for (guint round = 0; round < 2; round++) {
        Drive drive = drive_new(seed);
        gsize cut = round == 0 ? 0 : 512;
        put_bytes(&drive, png->data + cut, png->len - cut);
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) one = search(&bench, 1, TRUE);
        g_autoptr(GPtrArray) many = search(&bench, 5, TRUE);
        CHECK_NUMBER(one->len, round == 0 ? 1 : inside);
        CHECK_NUMBER(many->len, one->len);
        for (guint i = 0; i < MIN(one->len, many->len); i++) {
            const EkFound *a = one->pdata[i];
            const EkFound *b = many->pdata[i];
            CHECK(a->state == EK_CONTENT_WHOLE && b->state == EK_CONTENT_WHOLE);
            CHECK_NUMBER(place_of(a), place_of(b));
            CHECK_NUMBER(a->bytes, b->bytes);
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

/* A picture of a document of which nothing else is left is told only when parts are asked for. */
static void pictures_of_documents_are_parts(void)
{
    g_autoptr(GPtrArray) specimens = specimens_new(test_seed());
    const Specimen *picture = specimens->pdata[0];
    Drive drive = drive_new(1);
    CHECK_TEXT(picture->type, "jpeg");
    memcpy(drive.bytes->data + drive.bytes->len - 7, "stream\n", 7);
    EkByte inside = put_bytes(&drive, picture->data, picture->length);
    pad(&drive, 4096, FALSE);
    EkByte alone = put_bytes(&drive, picture->data, picture->length);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) listed = search(&bench, 0, TRUE);
    CHECK_NUMBER(listed->len, 1);
    CHECK(found_at(listed, alone) != NULL);
    g_autoptr(GPtrArray) nested = search(&bench, 0, FALSE);
    CHECK(found_at(nested, inside) != NULL && found_at(nested, alone) != NULL);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* What could not be read is told, and the file is not whole. */
static void holes_are_told(void)
{
    g_autoptr(GPtrArray) specimens = specimens_new(test_seed());
    Drive drive = drive_new(1);
    g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkByte));
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        EkByte at = put_bytes(&drive, specimen->data, specimen->length);
        g_array_append_val(places, at);
        pad(&drive, 4096, FALSE);
    }
    Bench bench;
    drive_open(&drive, &bench);
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        bench_hole(&bench, g_array_index(places, EkByte, i) / 512 + specimen->length / 1024, 1,
                   EK_STATE_BAD);
    }
    g_autoptr(GPtrArray) found = search(&bench, 0, TRUE);
    for (guint i = 0; i < found->len; i++)
        CHECK(((const EkFound *)found->pdata[i])->state != EK_CONTENT_WHOLE);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

static EkSpan specimen_head(const Specimen *specimen)
{
    return (EkSpan){specimen->data, MIN(specimen->length, EK_CONTENT_SHOWN)};
}

static gboolean refuse(void *data)
{
    (void)data;
    return FALSE;
}

/* Once the work shall end nothing more is given out, at whatever byte that is: each type comes to
 * an end, and calls nothing whole. */
static void what_is_given_no_more_ends(void)
{
    g_autoptr(GPtrArray) specimens = specimens_new(test_seed());
    g_autoptr(GRand) random = g_rand_new_with_seed(test_seed());
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        Drive drive = drive_new(1);
        EkByte at = put_bytes(&drive, specimen->data, specimen->length);
        EkRange range = {at, specimen->length};
        Bench bench;
        drive_open(&drive, &bench);
        for (guint round = 0; round < 12; round++) {
            gint cancel = round == 0;
            g_autoptr(EkContent) content = ek_content_new(bench.reader);
            ek_content_watch(content, &cancel);
            ek_content_lay(content, &range, 1);
            gint32 most = (gint32)MIN(specimen->length, round % 2 == 0 ? 512 : G_MAXINT32);
            ek_content_set_gate(content, at + (EkByte)g_rand_int_range(random, 0, most), refuse,
                                NULL);
            for (guint k = 0; ek_carve_types[k] != NULL; k++) {
                const EkCarveType *type = ek_carve_types[k];
                EkFollowed followed = {0};
                if (type->begin != NULL && !type->begin(specimen_head(specimen)))
                    continue;
                ek_content_lay(content, &range, 1);
                type->follow(content, &followed);
                CHECK(followed.length <= G_MAXINT64);
            }
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

static void types_are_found_by_name(void)
{
    for (guint i = 0; ek_carve_types[i] != NULL; i++) {
        CHECK(ek_carve_type_named(ek_carve_types[i]->name) == ek_carve_types[i]);
        CHECK(ek_carve_types[i]->checks != NULL && ek_carve_types[i]->follow != NULL);
        CHECK(ek_carve_types[i]->signature_count > 0);
    }
    CHECK(ek_carve_type_named("jpg") == ek_carve_type_named("jpeg"));
    CHECK(ek_carve_type_named("nothing") == NULL);
}

int main(void)
{
    static const Test tests[] = {
        {"what lies in one piece comes out", what_lies_in_one_piece_comes_out},
        {"what was overwritten is not whole", what_was_overwritten_is_not_whole},
        {"two pieces are joined", two_pieces_are_joined},
        {"landmarks tell the shift", landmarks_tell_the_shift},
        {"a sum tells where a part goes on", a_sum_tells_where_a_part_goes_on},
        {"blocks of numbers lead through a file", blocks_of_numbers_lead_through_a_file},
        {"hostile numbers end", hostile_numbers_end},
        {"pieces before the file are found", pieces_before_the_file_are_found},
        {"what length bounds is laid around others", what_length_bounds_is_laid_around_others},
        {"noise holds nothing", noise_holds_nothing},
        {"forged beginnings are not whole", forged_beginnings_are_not_whole},
        {"threads change nothing", threads_change_nothing},
        {"long files are found once", long_files_are_found_once},
        {"pictures of documents are parts", pictures_of_documents_are_parts},
        {"holes are told", holes_are_told},
        {"what is given no more ends", what_is_given_no_more_ends},
        {"types are found by name", types_are_found_by_name},
    };
    return RUN_TESTS("carve", tests);
}
