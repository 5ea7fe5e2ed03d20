/* SPDX-License-Identifier: MIT */
/* The search by content: files of each type in ground of every kind, whole, cut, in pieces. */
#include "base/checksum.h"
#include "carve/carve.h"
#include "carve/indirect.h"
#include "carve/types.h"
#include "carved.h"
#include "check.h"
#include "composed.h"
#include "fixture.h"
#include "program.h"
#include "specimens.h"

#include <string.h>

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
            EkByte at = drive_put(&drive, specimen->data, specimen->length);
            g_array_append_val(places, at);
            drive_pad(&drive, grid, FALSE);
            if (round == 1)
                drive_noise(&drive, grid * (1 + i % 3));
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
        CHECK_NUMBER(found->len, specimens->len);
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            const EkFound *one = carved_at(found, g_array_index(places, EkByte, i));
            if (one == NULL || !carved_is_same(&bench, one, specimen) ||
                !g_str_equal(one->type->name, specimen->type))
                g_print("%s at round %u: %s\n", specimen->type, round,
                        one != NULL ? one->why : "not found");
            CHECK(one != NULL);
            if (one == NULL)
                continue;
            CHECK_TEXT(one->type->name, specimen->type);
            CHECK(carved_is_same(&bench, one, specimen));
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
            drive_put(&drive, specimen->data, kept);
            if (round % 3 == 0) {
                drive_noise(&drive, rest);
            } else if (round % 3 == 1) {
                gsize at = drive.bytes->len;
                g_byte_array_set_size(drive.bytes, (guint)(at + rest));
                memset(drive.bytes->data + at, 0, rest);
            } else {
                /* The middle of another file. */
                gsize skip = other->length / 2 / 512 * 512;
                drive_put(&drive, other->data + skip, MIN(rest, other->length - skip));
            }
            drive_pad(&drive, 4096, TRUE);
            drive_noise(&drive, 4096);
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
        for (guint i = 0; i < found->len; i++) {
            const EkFound *one = found->pdata[i];
            gboolean is_right = one->state != EK_CONTENT_WHOLE;
            for (guint k = 0; k < specimens->len && !is_right; k++)
                is_right = carved_is_same(&bench, one, specimens->pdata[k]);
            if (!is_right)
                g_print("round %u: %s at %" G_GUINT64_FORMAT " is called whole: %s\n", round,
                        one->type->name, carved_place(one), one->why);
            CHECK(is_right);
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

/* What is left of files whose beginning is gone may begin as one does: it is not called whole. */
static void the_rest_of_a_file_is_not_whole(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    for (guint round = 0; round < (is_sanitized() ? 2u : 4u); round++) {
        g_autoptr(GPtrArray) specimens = g_ptr_array_new_with_free_func(specimen_free);
        add_composed_films(specimens, g_rand_int(random));
        Drive drive = drive_new(seed + round);
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            gsize lost = 4096 * (gsize)g_rand_int_range(random, 1, (gint32)specimen->length / 4096);
            drive_noise(&drive, lost);
            drive_put(&drive, specimen->data + lost, specimen->length - lost);
            drive_pad(&drive, 4096, FALSE);
            drive_noise(&drive, 4096);
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, round % 2 == 0);
        for (guint i = 0; i < found->len; i++)
            CHECK(((const EkFound *)found->pdata[i])->state != EK_CONTENT_WHOLE);
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
}

/* A member of gzip with so many bytes all together, not packed. */
static void add_member(GByteArray *bytes, gsize length, guint32 seed)
{
    gsize data = length - 10 - 5 - 8;
    g_autofree guint8 *noise = g_malloc(data);
    fill_noise(noise, data, seed);
    compose_bytes(bytes, "\x1f\x8b\x08\0\0\0\0\0\0\3", 10);
    compose_number(bytes, 1, 1, FALSE);
    compose_number(bytes, data, 2, FALSE);
    compose_number(bytes, ~data & 0xffff, 2, FALSE);
    compose_bytes(bytes, noise, data);
    compose_number(bytes, ek_crc32((EkSpan){noise, data}), 4, FALSE);
    compose_number(bytes, data, 4, FALSE);
}

/* Members of one file, or two files? Where no block begins nothing is in doubt. */
static void what_begins_right_behind_is_in_doubt(void)
{
    guint32 seed = test_seed();
    static const struct {
        gsize first;
        gsize second;
        EkContentState state;
        EkByte bytes;
    } pairs[] = {{8192, 5000, EK_CONTENT_DOUBTFUL, 8192},
                 {8000, 5000, EK_CONTENT_WHOLE, 13000},
                 {512 * 3, 5000, EK_CONTENT_DOUBTFUL, 512 * 3 + 5000}};
    Drive drive = drive_new(seed);
    EkByte places[G_N_ELEMENTS(pairs)];
    for (gsize i = 0; i < G_N_ELEMENTS(pairs); i++) {
        g_autoptr(GByteArray) bytes = g_byte_array_new();
        add_member(bytes, pairs[i].first, seed);
        add_member(bytes, pairs[i].second, seed + 1);
        places[i] = drive_put(&drive, bytes->data, bytes->len);
        drive_pad(&drive, 4096, FALSE);
    }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (gsize i = 0; i < G_N_ELEMENTS(pairs); i++) {
        const EkFound *one = carved_at(found, places[i]);
        CHECK(one != NULL && one->state == pairs[i].state);
        CHECK_NUMBER(one != NULL ? one->bytes : 0, pairs[i].bytes);
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

static void noise_holds_nothing(void)
{
    Drive drive = drive_new(test_seed());
    drive_noise(&drive, 32u << 20);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    CHECK_NUMBER(found->len, 0);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* The directory of an archive is full of small numbers and names, as the list of tables in a font
 * is. However it lies, none is found in it. */
static void names_of_an_archive_are_no_font(void)
{
    guint32 seed = test_seed();
    Drive drive = drive_new(seed);
    for (guint i = 0; i < 512; i++) {
        guint8 head[46] = "PK\x01\x02\x1e\x03\x14\0\0\0\x08";
        g_autofree char *name =
            g_strdup_printf("seed-lots/accessions/%u/germination-%u.csv", i, i * i);
        fill_noise(head + 16, 12, seed + i);
        memcpy(head + 28, (guint8[]){(guint8)strlen(name), 0, 0, 0, 0, 0, 0, 0}, 8);
        memcpy(head + 36, "\x01\0\0\0\xa4\x81", 6);
        /* What the system knows of a file comes to the mark of a font. */
        guint gap = (guint)((512 - (drive.bytes->len + 35) % 512) % 512);
        if (i % 4 == 0)
            drive_text(&drive, gap);
        drive_put(&drive, head, sizeof head);
        drive_put(&drive, (const guint8 *)name, strlen(name));
    }
    drive_pad(&drive, 512, TRUE);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (guint i = 0; i < found->len; i++)
        CHECK(!g_str_equal(((const EkFound *)found->pdata[i])->type->name, "font"));
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* Programs hold their words one behind the other; a file has zeros behind it up to the next sector,
 * or something that is no text. */
static void words_of_a_program_are_no_text(void)
{
    static const char words[] =
        "cannot open the catalogue of the cold store: %s, see the log of sensor %d";
    static const struct {
        const char *behind; /* the bytes right behind the text */
        gsize length;
        gboolean is_text;
    } ends[] = {{"\0", 0, TRUE},
                {"\0usage", 6, FALSE},
                {"\0\0\0\xff", 4, FALSE},
                {"\x01\x7f\x80", 3, TRUE}};
    Drive drive = drive_new(test_seed());
    EkByte places[G_N_ELEMENTS(ends)];
    for (gsize i = 0; i < G_N_ELEMENTS(ends); i++) {
        drive_noise(&drive, 4096);
        places[i] = drive_put(&drive, (const guint8 *)words, sizeof words - 1);
        drive_put(&drive, (const guint8 *)ends[i].behind, ends[i].length);
        drive_pad(&drive, 512, FALSE);
    }
    drive_noise(&drive, 4096);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (gsize i = 0; i < G_N_ELEMENTS(ends); i++) {
        const EkFound *one = carved_at(found, places[i]);
        CHECK_NUMBER(one != NULL, ends[i].is_text);
        if (one != NULL)
            CHECK_NUMBER(one->bytes, sizeof words - 1);
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* As people and programs write it: set in, and beyond ASCII, in UTF-8 and in code pages. */
static void text_of_many_hands_is_found(void)
{
    static const char *const texts[] = {
        "{\n    \"accession\": {\n        \"species\": {\n            \"name\": \"Silene\"\n       "
        " }\n"
        "    }\n}\n",
        "[\r\n  {\r\n    \"lot\": 17,\r\n    \"seeds\": 4200,\r\n    \"store\": \"cold\"\r\n  "
        "}\r\n]\r\n",
        "#\n# The sensors of the cold store, and what they are read by each quarter of an "
        "hour\n#\n",
        /* UTF-8: Cyrillic, Greek, Japanese */
        "Каталог семян: учёт образцов холодного хранилища, по годам и по видам растений.\n",
        "Κατάλογος σπόρων: τα δείγματα της ψυχρής αποθήκης, ανά έτος και ανά είδος.\n",
        "種子目録：低温保管庫の標本を、年ごと、種ごとに記録する。発芽率と含水率も併せて記す。\n",
        /* Windows-1251: "the catalogue of seeds of the cold store, by years and by kinds of plants"
         */
        "\xea\xe0\xf2\xe0\xeb\xee\xe3 \xf1\xe5\xec\xff\xed \xf5\xee\xeb\xee\xe4\xed\xee\xe3\xee "
        "\xf5\xf0\xe0\xed\xe8\xeb\xe8\xf9\xe0, \xef\xee \xe3\xee\xe4\xe0\xec \xe8 \xef\xee "
        "\xe2\xe8\xe4\xe0\xec \xf0\xe0\xf1\xf2\xe5\xed\xe8\xe9\n"};
    Drive drive = drive_new(test_seed());
    EkByte places[G_N_ELEMENTS(texts)];
    for (gsize i = 0; i < G_N_ELEMENTS(texts); i++) {
        drive_noise(&drive, 4096);
        places[i] = drive_put(&drive, (const guint8 *)texts[i], strlen(texts[i]));
        drive_pad(&drive, 512, FALSE);
    }
    drive_noise(&drive, 4096);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (gsize i = 0; i < G_N_ELEMENTS(texts); i++) {
        const EkFound *one = carved_at(found, places[i]);
        if (one == NULL)
            printf("text %" G_GSIZE_FORMAT ": ", i);
        CHECK(one != NULL && g_str_equal(one->type->name, "text"));
        if (one != NULL)
            CHECK_NUMBER(one->bytes, strlen(texts[i]));
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* Samples and dots have values that letters have, but no words. */
static void samples_are_no_text(void)
{
    /* The lowest value, and how many there are from it on. */
    static const guint8 ranges[][2] = {{0xc0, 64}, {0xe0, 32}, {0x20, 96},
                                       {0xa0, 96}, {0x41, 26}, {0x30, 10}};
    Drive drive = drive_new(test_seed());
    for (gsize i = 0; i < G_N_ELEMENTS(ranges); i++) {
        EkByte at = drive.bytes->len;
        drive_noise(&drive, 64 * 1024);
        for (EkByte k = at; k < drive.bytes->len; k++)
            drive.bytes->data[k] = (guint8)(ranges[i][0] + drive.bytes->data[k] % ranges[i][1]);
        drive_noise(&drive, 4096);
    }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
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
        drive_put(&drive, specimen->data, length);
        if (i % 3 == 0)
            drive_noise(&drive, 512);
    }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
    for (guint i = 0; i < found->len; i++) {
        const EkFound *one = found->pdata[i];
        if (one->state == EK_CONTENT_WHOLE)
            g_print("WHOLE %s at %" G_GUINT64_FORMAT ": %s\n", one->type->name, carved_place(one),
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
        drive_put(&drive, specimen->data, i % 4 == 3 ? specimen->length / 2 : specimen->length);
        drive_pad(&drive, 512, TRUE);
    }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) one = carved_search(&bench, 1, TRUE);
    g_autoptr(GPtrArray) many = carved_search(&bench, 7, TRUE);
    CHECK_NUMBER(one->len, many->len);
    for (guint i = 0; i < MIN(one->len, many->len); i++) {
        const EkFound *a = one->pdata[i];
        const EkFound *b = many->pdata[i];
        CHECK_NUMBER(carved_place(a), carved_place(b));
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
    png_chunk(png, "IHDR", (const guint8 *)"\0\0\1\0\0\0\1\0\10\2\0\0\0", 13);
    for (guint i = 0; i < 40; i++) {
        /* The first block of its data that begins on one of the drive. */
        gsize skip = (512 - (png->len + 8) % 512) % 512;
        fill_noise(dots, 1u << 20, seed + i);
        memcpy(dots + skip, picture->data, picture->length);
        png_chunk(png, "IDAT", dots, 1u << 20);
        inside++;
    }
    png_chunk(png, "IEND", dots, 0);
    for (guint round = 0; round < 2; round++) {
        Drive drive = drive_new(seed);
        gsize cut = round == 0 ? 0 : 512;
        drive_put(&drive, png->data + cut, png->len - cut);
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) one = carved_search(&bench, 1, TRUE);
        g_autoptr(GPtrArray) many = carved_search(&bench, 5, TRUE);
        CHECK_NUMBER(one->len, round == 0 ? 1 : inside);
        CHECK_NUMBER(many->len, one->len);
        for (guint i = 0; i < MIN(one->len, many->len); i++) {
            const EkFound *a = one->pdata[i];
            const EkFound *b = many->pdata[i];
            CHECK(a->state == EK_CONTENT_WHOLE && b->state == EK_CONTENT_WHOLE);
            CHECK_NUMBER(carved_place(a), carved_place(b));
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
    EkByte inside = drive_put(&drive, picture->data, picture->length);
    drive_pad(&drive, 4096, FALSE);
    EkByte alone = drive_put(&drive, picture->data, picture->length);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) listed = carved_search(&bench, 0, TRUE);
    CHECK_NUMBER(listed->len, 1);
    CHECK(carved_at(listed, alone) != NULL);
    g_autoptr(GPtrArray) nested = carved_search(&bench, 0, FALSE);
    CHECK(carved_at(nested, inside) != NULL && carved_at(nested, alone) != NULL);
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
        EkByte at = drive_put(&drive, specimen->data, specimen->length);
        g_array_append_val(places, at);
        drive_pad(&drive, 4096, FALSE);
    }
    Bench bench;
    drive_open(&drive, &bench);
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *specimen = specimens->pdata[i];
        bench_hole(&bench, g_array_index(places, EkByte, i) / 512 + specimen->length / 1024, 1,
                   EK_STATE_BAD);
    }
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
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
        EkByte at = drive_put(&drive, specimen->data, specimen->length);
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

/* One block of a file is another's, and the rest is right: that is what a newer file leaves of a
 * deleted one. Whatever is called whole is what some file was. */
static void a_foreign_block_is_noticed(void)
{
    guint32 seed = test_seed();
    g_autoptr(GRand) random = g_rand_new_with_seed(seed);
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    guint tried = 0;
    for (guint round = 0; round < 6; round++) {
        Drive drive = drive_new(seed + round);
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            gsize blocks = specimen->length / 4096;
            if (blocks < 3)
                continue;
            const Specimen *other = specimens->pdata[(i + 1 + round) % specimens->len];
            g_autofree guint8 *changed = g_memdup2(specimen->data, specimen->length);
            guint8 *block = changed + 4096 * (gsize)g_rand_int_range(random, 1, (gint32)blocks);
            gsize skip = other->length / 2 / 512 * 512;
            if (round % 2 == 0 || other->length - skip < 4096)
                fill_noise(block, 4096, g_rand_int(random));
            else
                memcpy(block, other->data + skip, 4096);
            drive_put(&drive, changed, specimen->length);
            drive_pad(&drive, 4096, TRUE);
            drive_noise(&drive, 4096);
            tried++;
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, FALSE);
        for (guint i = 0; i < found->len; i++) {
            const EkFound *one = found->pdata[i];
            gboolean is_right = one->state != EK_CONTENT_WHOLE || one->bytes <= 4096;
            for (guint k = 0; k < specimens->len && !is_right; k++)
                is_right = carved_is_same(&bench, one, specimens->pdata[k]);
            if (!is_right)
                g_print("round %u: %s is called whole: %s\n", round, one->type->name, one->why);
            CHECK(is_right);
        }
        bench_close(&bench);
        g_byte_array_unref(drive.bytes);
    }
    CHECK(tried > 60);
}

int main(void)
{
    static const Test tests[] = {
        {"what lies in one piece comes out", what_lies_in_one_piece_comes_out},
        {"what was overwritten is not whole", what_was_overwritten_is_not_whole},
        {"the rest of a file is not whole", the_rest_of_a_file_is_not_whole},
        {"what begins right behind is in doubt", what_begins_right_behind_is_in_doubt},
        {"noise holds nothing", noise_holds_nothing},
        {"names of an archive are no font", names_of_an_archive_are_no_font},
        {"words of a program are no text", words_of_a_program_are_no_text},
        {"text of many hands is found", text_of_many_hands_is_found},
        {"samples are no text", samples_are_no_text},
        {"a foreign block is noticed", a_foreign_block_is_noticed},
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
