/* SPDX-License-Identifier: MIT */
/* Files in pieces, found by their content: what is joined, and what may be called whole then. */
#include "base/checksum.h"
#include "carve/carve.h"
#include "carved.h"
#include "check.h"
#include "composed.h"
#include "fixture.h"
#include "specimens.h"

#include <string.h>

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
            EkByte at = drive_put(&drive, specimen->data, cut);
            g_array_append_val(places, at);
            /* Between them lies another file, or what is none. */
            if (round % 2 == 0)
                drive_put(&drive, between->data, between->length);
            else
                drive_noise(&drive, 4096 * (1 + i % 5));
            drive_pad(&drive, 4096, FALSE);
            drive_put(&drive, specimen->data + cut, specimen->length - cut);
            drive_pad(&drive, 4096, FALSE);
            drive_noise(&drive, 4096);
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
        guint place = 0;
        for (guint i = 0; i < specimens->len; i++) {
            const Specimen *specimen = specimens->pdata[i];
            if (!specimen->joins || specimen->length / 4096 < 2)
                continue;
            const EkFound *one = carved_at(found, g_array_index(places, EkByte, place++));
            gboolean is_right = one != NULL && carved_is_same(&bench, one, specimen);
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
            places[i] = drive_put(&drive, both[i]->data, cut);
            drive_text(&drive, 4096 * (gsize)g_rand_int_range(random, 1, 40));
            drive_put(&drive, both[i]->data + cut, both[i]->length - cut);
            drive_pad(&drive, 4096, FALSE);
            drive_noise(&drive, 4096);
        }
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
        for (guint i = 0; i < G_N_ELEMENTS(both); i++) {
            const EkFound *one = carved_at(found, places[i]);
            gboolean is_right = one != NULL && carved_is_same(&bench, one, both[i]);
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
        png_chunk(png, "IHDR", (const guint8 *)"\0\0\1\0\0\0\1\0\10\2\0\0\0", 13);
        png_chunk(png, "IDAT", dots, length);
        png_chunk(png, "IEND", dots, 0);
        Specimen specimen = {"png", "png", png->data, png->len, TRUE, TRUE};
        Drive drive = drive_new(seed + round);
        gsize cut = 4096 * (gsize)g_rand_int_range(random, 1, (gint32)(length / 4096));
        EkByte at = drive_put(&drive, specimen.data, cut);
        drive_noise(&drive, 4096 * (gsize)g_rand_int_range(random, 1, 200));
        drive_put(&drive, specimen.data + cut, specimen.length - cut);
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
        const EkFound *one = carved_at(found, at);
        CHECK(one != NULL);
        if (one != NULL) {
            CHECK(carved_is_same(&bench, one, &specimen));
            CHECK(one->state == EK_CONTENT_WHOLE);
            CHECK_NUMBER(one->places->len, 2);
        }
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
                drive_put(&drive, one->data + cut, one->length - cut);
            else if (other != one)
                drive_put(&drive, other->data, other->length);
            drive_pad(&drive, 4096, FALSE);
        }
        EkByte at = drive_put(&drive, one->data, cut);
        const Specimen *behind = specimens->pdata[k % 3];
        drive_put(&drive, behind->data, behind->length);
        drive_pad(&drive, 4096, FALSE);
        Bench bench;
        drive_open(&drive, &bench);
        g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
        const EkFound *joined = carved_at(found, at);
        gboolean is_right = joined != NULL && carved_is_same(&bench, joined, one);
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
    EkByte at = drive_put(&drive, sound->data, 4096);
    EkByte inner = drive_put(&drive, picture->data, picture->length);
    drive_pad(&drive, 4096, FALSE);
    drive_put(&drive, sound->data + 4096, sound->length - 4096);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    CHECK_NUMBER(found->len, 2);
    const EkFound *one = carved_at(found, inner);
    CHECK(one != NULL && one->state == EK_CONTENT_WHOLE);
    one = carved_at(found, at);
    CHECK(one != NULL && carved_is_same(&bench, one, sound) && one->state == EK_CONTENT_DOUBTFUL);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

#define NOTES 40000u

/* An archive of tar with a table, a picture and notes, or the picture last; not filled up to a
 * record. */
static GByteArray *pack_entries(const Specimen *picture, gboolean picture_last)
{
    GByteArray *tar = g_byte_array_new();
    g_autofree char *text = g_strnfill(NOTES, 'x');
    const struct {
        const char *name;
        const void *data;
        gsize length;
    } entries[] = {{"Catalogue.csv", "accession;seeds\nHF-1998-001;40\n", 32},
                   {"Germination.png", picture->data, picture->length},
                   {"Notes.bin", text, NOTES}};
    for (gsize n = 0; n < G_N_ELEMENTS(entries); n++) {
        gsize i = picture_last && n > 0 ? 3 - n : n;
        compose_tar_entry(tar, entries[i].name, '0', entries[i].length, COMPOSED_TAR_RIGHT,
                          entries[i].data, entries[i].length);
    }
    compose_tar_end(tar, FALSE);
    return tar;
}

/* Where an entry of an archive breaks, it goes on elsewhere; and what begins in the last entry that
 * nothing speaks for is a file of its own, as that may have been overwritten. */
static void entries_of_archives_are_followed(void)
{
    guint32 seed = test_seed();
    g_autoptr(GPtrArray) specimens = specimens_new(seed);
    const Specimen *picture = NULL;
    for (guint i = 0; i < specimens->len; i++) {
        const Specimen *one = specimens->pdata[i];
        if (g_str_equal(one->type, "png") && one->length > 8 * 4096)
            picture = one;
    }
    CHECK(picture != NULL);
    if (picture == NULL)
        return;
    g_autoptr(GByteArray) packed = pack_entries(picture, TRUE);
    g_autoptr(GByteArray) other = pack_entries(picture, FALSE);
    Specimen tar = {"tar", "tar", packed->data, packed->len, TRUE, FALSE};
    gsize cut = 4096 * (12 + seed % 5);
    Drive drive = drive_new(seed);
    EkByte at = drive_put(&drive, tar.data, cut);
    drive_noise(&drive, 3 * 4096);
    drive_put(&drive, tar.data + cut, tar.length - cut);
    drive_pad(&drive, 4096, FALSE);
    /* The last entry of the other one, overwritten by a picture. */
    EkByte second = drive_put(&drive, other->data, other->len);
    EkByte inner = second + other->len / 4096 * 4096 - 5 * 4096;
    memcpy(drive.bytes->data + inner, picture->data, 4 * 4096);
    drive_noise(&drive, 5 * 4096);
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    const EkFound *one = carved_at(found, at);
    CHECK(one != NULL && carved_is_same(&bench, one, &tar));
    CHECK(one != NULL && one->state == EK_CONTENT_DOUBTFUL);
    one = carved_at(found, second);
    CHECK(one != NULL && one->state != EK_CONTENT_WHOLE);
    one = carved_at(found, inner);
    CHECK(one != NULL);
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

int main(void)
{
    static const Test tests[] = {
        {"two pieces are joined", two_pieces_are_joined},
        {"landmarks tell the shift", landmarks_tell_the_shift},
        {"a sum tells where a part goes on", a_sum_tells_where_a_part_goes_on},
        {"pieces before the file are found", pieces_before_the_file_are_found},
        {"entries of archives are followed", entries_of_archives_are_followed},
        {"what length bounds is laid around others", what_length_bounds_is_laid_around_others},
    };
    return RUN_TESTS("joins", tests);
}
