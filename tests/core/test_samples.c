/* SPDX-License-Identifier: MIT */
/* Plain samples: what is like a recording, and recordings in two pieces. */
#include "carve/samples.h"

#include "carved.h"
#include "check.h"
#include "composed.h"
#include "fixture.h"

#include <math.h>
#include <string.h>

/* Two tones and some hum, as loud as said (of 32767), sample by sample. */
static gint32 tone(guint32 moment, guint channel, gdouble loud, guint32 seed)
{
    gdouble at = moment / 48000.0;
    gdouble pitch = 180.0 + seed % 400 + 30.0 * channel;
    gdouble value = 0.5 * sin(2 * G_PI * pitch * at) + 0.3 * sin(2 * G_PI * 3.1 * pitch * at) +
                    0.2 * sin(2 * G_PI * 50 * at);
    return (gint32)(value * loud);
}

static void put_sample(GByteArray *to, gint32 value, const EkSamples *samples)
{
    gint64 wide = (gint64)value * 65536;
    if (samples->width == 1) {
        guint8 byte = (guint8)((value >> 8) + (samples->is_unsigned ? 128 : 0));
        g_byte_array_append(to, &byte, 1);
    } else {
        compose_number(
            to, (guint64)(wide >> (32 - 8 * samples->width)) & ((1ull << 8 * samples->width) - 1),
            samples->width, samples->is_big);
    }
}

/* The caller unrefs. */
static GByteArray *play(const EkSamples *samples, guint32 moments, gdouble loud, guint32 seed)
{
    GByteArray *sound = g_byte_array_new();
    for (guint32 i = 0; i < moments; i++)
        for (guint k = 0; k < samples->channels; k++)
            put_sample(sound, tone(i, k, loud, seed), samples);
    return sound;
}

/* --- blocks ----------------------------------------------------------------------------------- */

static void recordings_are_told_from_others(void)
{
    static const EkSamples forms[] = {
        {44, 0, 2, 2, FALSE, FALSE, FALSE}, {44, 0, 2, 1, FALSE, FALSE, FALSE},
        {58, 0, 3, 2, FALSE, FALSE, FALSE}, {44, 0, 4, 1, FALSE, FALSE, FALSE},
        {44, 0, 1, 2, FALSE, TRUE, FALSE},  {54, 0, 2, 2, TRUE, FALSE, FALSE},
        {54, 0, 3, 1, TRUE, FALSE, FALSE},  {54, 0, 1, 1, TRUE, FALSE, FALSE},
        {44, 0, 2, 6, FALSE, FALSE, FALSE}};
    guint8 noise[8192];
    g_autofree char *letters = g_malloc(8192);
    fill_noise(noise, sizeof noise, test_seed());
    for (gsize i = 0; i < 8192; i++)
        letters[i] = "abcdefghijklmnop qrstuvwxyz\n.,;"[noise[i] % 31];
    for (gsize i = 0; i < G_N_ELEMENTS(forms); i++) {
        g_autoptr(GByteArray) loud = play(&forms[i], 12000, 20000, test_seed() + (guint32)i);
        g_autoptr(GByteArray) silent = play(&forms[i], 12000, forms[i].width == 1 ? 0 : 4, 1);
        /* Wherever in the file a block begins, it is in step with the samples. */
        for (EkByte offset = 0; offset + 4096 <= loud->len && offset < 32768; offset += 1024) {
            EkByte at = forms[i].first + offset;
            EkSpan part = {loud->data + offset, 4096};
            CHECK_NUMBER(ek_samples_evenness(&forms[i], part, at), EK_EVEN);
        }
        CHECK_NUMBER(ek_samples_evenness(&forms[i], (EkSpan){silent->data, 4096}, forms[i].first),
                     EK_EVEN_UNKNOWN);
        for (EkByte offset = 4096; offset < 3 * 4096; offset += 4096) {
            CHECK_NUMBER(ek_samples_evenness(&forms[i], (EkSpan){noise, 4096}, offset), EK_UNEVEN);
            CHECK_NUMBER(
                ek_samples_evenness(&forms[i], (EkSpan){(const guint8 *)letters, 4096}, offset),
                EK_UNEVEN);
        }
        CHECK_NUMBER(ek_samples_evenness(&forms[i], (EkSpan){noise, 20}, 4096), EK_EVEN_UNKNOWN);
        CHECK_NUMBER(ek_samples_evenness(&forms[i], (EkSpan){noise, 0}, 0), EK_EVEN_UNKNOWN);
    }
}

/* --- files ------------------------------------------------------------------------------------ */

static GByteArray *make_wav(const EkSamples *samples, const GByteArray *sound)
{
    GByteArray *wav = g_byte_array_new();
    compose_bytes(wav, "RIFF", 4);
    compose_number(wav, 36 + sound->len, 4, FALSE);
    compose_bytes(wav, "WAVEfmt ", 8);
    compose_number(wav, 16, 4, FALSE);
    compose_number(wav, 1, 2, FALSE);
    compose_number(wav, samples->channels, 2, FALSE);
    compose_number(wav, 48000, 4, FALSE);
    compose_number(wav, 48000u * samples->channels * samples->width, 4, FALSE);
    compose_number(wav, samples->channels * samples->width, 2, FALSE);
    compose_number(wav, samples->width * 8, 2, FALSE);
    compose_bytes(wav, "data", 4);
    compose_number(wav, sound->len, 4, FALSE);
    compose_bytes(wav, sound->data, sound->len);
    return wav;
}

static GByteArray *make_aiff(const EkSamples *samples, const GByteArray *sound)
{
    GByteArray *aiff = g_byte_array_new();
    compose_bytes(aiff, "FORM", 4);
    compose_number(aiff, 46 + sound->len, 4, TRUE);
    compose_bytes(aiff, "AIFFCOMM", 8);
    compose_number(aiff, 18, 4, TRUE);
    compose_number(aiff, samples->channels, 2, TRUE);
    compose_number(aiff, sound->len / (samples->channels * samples->width), 4, TRUE);
    compose_number(aiff, samples->width * 8, 2, TRUE);
    compose_bytes(aiff, "\x40\x0e\xbb\x80\0\0\0\0\0\0", 10);
    compose_bytes(aiff, "SSND", 4);
    compose_number(aiff, 8 + sound->len, 4, TRUE);
    compose_number(aiff, 0, 8, TRUE);
    compose_bytes(aiff, sound->data, sound->len);
    return aiff;
}

/* One recording; an even number of bytes. */
static GByteArray *make_recording(guint kind, guint32 moments, guint32 seed)
{
    static const EkSamples forms[] = {{0, 0, 2, 2, FALSE, FALSE, FALSE},
                                      {0, 0, 3, 2, FALSE, FALSE, FALSE},
                                      {0, 0, 1, 2, FALSE, TRUE, FALSE},
                                      {0, 0, 2, 1, TRUE, FALSE, FALSE}};
    const EkSamples *form = &forms[kind % G_N_ELEMENTS(forms)];
    g_autoptr(GByteArray) sound = play(form, moments, 20000, seed);
    return form->is_big ? make_aiff(form, sound) : make_wav(form, sound);
}

typedef enum { BETWEEN_NOISE, BETWEEN_TEXT, BETWEEN_RECORDING, BETWEENS } Between;

static void recordings_in_two_pieces_are_joined(void)
{
    guint32 seed = test_seed();
    enum { KINDS = 4 };
    Drive drive = drive_new(seed);
    EkByte places[KINDS][BETWEENS];
    GByteArray *files[KINDS][BETWEENS];
    for (guint kind = 0; kind < KINDS; kind++)
        for (guint between = 0; between < BETWEENS; between++) {
            GByteArray *file = make_recording(kind, 60000 + 700 * kind, seed + kind * 7 + between);
            gsize cut = 4096 * (10 + (seed + between) % 10);
            places[kind][between] = drive_put(&drive, file->data, cut);
            if (between == BETWEEN_NOISE) {
                drive_noise(&drive, (gsize)4096 * (3 + kind));
            } else if (between == BETWEEN_TEXT) {
                drive_text(&drive, 20000);
            } else {
                g_autoptr(GByteArray) other = make_recording(kind + 1, 30000, seed + 99);
                drive_put(&drive, other->data, other->len);
            }
            drive_pad(&drive, 4096, FALSE);
            drive_put(&drive, file->data + cut, file->len - cut);
            drive_pad(&drive, 4096, FALSE);
            drive_noise(&drive, 8192);
            files[kind][between] = file;
        }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    for (guint kind = 0; kind < KINDS; kind++)
        for (guint between = 0; between < BETWEENS; between++) {
            GByteArray *file = files[kind][between];
            const EkFound *one = carved_at(found, places[kind][between]);
            Specimen specimen = {"wav", "wav", file->data, file->len, TRUE, FALSE};
            gboolean is_same = one != NULL && carved_is_same(&bench, one, &specimen);
            if (!is_same)
                printf("kind %u, between %u: ", kind, between);
            CHECK(is_same);
            if (one != NULL) {
                CHECK_NUMBER(one->state, EK_CONTENT_DOUBTFUL);
                CHECK_NUMBER(one->places->len, 2);
            }
            g_byte_array_unref(file);
        }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

/* Rain in the middle of a recording is as uneven as what is none: with nothing else that would fit
 * behind it, it stays in one piece; and so does one that breaks off for good. */
static void recordings_in_one_piece_stay_so(void)
{
    guint32 seed = test_seed() + 5;
    Drive drive = drive_new(seed);
    EkByte places[2];
    GByteArray *files[2];
    for (guint i = 0; i < G_N_ELEMENTS(files); i++) {
        files[i] = make_recording(0, 90000, seed + i);
        fill_noise(files[i]->data + 100000, i == 0 ? 30000 : files[i]->len - 100000, seed + i);
        places[i] = drive_put(&drive, files[i]->data, files[i]->len);
        drive_pad(&drive, 4096, FALSE);
        drive_text(&drive, 100000);
        drive_pad(&drive, 4096, FALSE);
    }
    Bench bench;
    drive_open(&drive, &bench);
    g_autoptr(GPtrArray) found = carved_search(&bench, 0, TRUE);
    for (guint i = 0; i < G_N_ELEMENTS(files); i++) {
        const EkFound *one = carved_at(found, places[i]);
        Specimen specimen = {"wav", "wav", files[i]->data, files[i]->len, TRUE, FALSE};
        CHECK(one != NULL && carved_is_same(&bench, one, &specimen));
        CHECK(one != NULL && one->places->len == 1);
        g_byte_array_unref(files[i]);
    }
    bench_close(&bench);
    g_byte_array_unref(drive.bytes);
}

int main(void)
{
    static const Test tests[] = {
        {"recordings are told from others", recordings_are_told_from_others},
        {"recordings in two pieces are joined", recordings_in_two_pieces_are_joined},
        {"recordings in one piece stay so", recordings_in_one_piece_stay_so},
    };
    return RUN_TESTS("samples", tests);
}
