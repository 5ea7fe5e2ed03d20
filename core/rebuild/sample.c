/* SPDX-License-Identifier: MIT */
/* A sample of a volume's files. */
#include "rebuild/sample.h"

#include "base/bytes.h"

#include <string.h>

#define FILES_MOST 1024u
#define START_BYTES 12u

/* How files of some kinds begin, by the ends of their names: as their published formats say. */
static const struct {
    const char *end;
    guint8 offset;
    guint8 length;
    const char *bytes;
} starts[] = {
    {".jpg", 0, 3, "\xff\xd8\xff"},
    {".jpeg", 0, 3, "\xff\xd8\xff"},
    {".png", 0, 4, "\x89PNG"},
    {".gif", 0, 4, "GIF8"},
    {".webp", 0, 4, "RIFF"},
    {".bmp", 0, 2, "BM"},
    {".pdf", 0, 5, "%PDF-"},
    {".zip", 0, 2, "PK"},
    {".docx", 0, 2, "PK"},
    {".xlsx", 0, 2, "PK"},
    {".pptx", 0, 2, "PK"},
    {".odt", 0, 2, "PK"},
    {".ods", 0, 2, "PK"},
    {".odp", 0, 2, "PK"},
    {".wav", 0, 4, "RIFF"},
    {".avi", 0, 4, "RIFF"},
    {".mp4", 4, 4, "ftyp"},
    {".mov", 4, 4, "ftyp"},
    {".flac", 0, 4, "fLaC"},
    {".ogg", 0, 4, "OggS"},
    {".exe", 0, 2, "MZ"},
    {".dll", 0, 2, "MZ"},
    {".gz", 0, 2, "\x1f\x8b"},
    {".7z", 0, 4, "7z\xbc\xaf"},
    {".doc", 0, 4, "\xd0\xcf\x11\xe0"},
    {".xls", 0, 4, "\xd0\xcf\x11\xe0"},
};

struct EkSample {
    GHashTable *places; /* guint64 of the file to EkByte, each allocated */
    GHashTable *kinds;  /* guint64 of the file to the place in `starts`, from 1 */
};

EkSample *ek_sample_new(void)
{
    EkSample *sample = g_new0(EkSample, 1);
    sample->places = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, g_free);
    sample->kinds = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    return sample;
}

void ek_sample_free(EkSample *sample)
{
    g_hash_table_unref(sample->places);
    g_hash_table_unref(sample->kinds);
    g_free(sample);
}

void ek_sample_place(EkSample *sample, guint64 file, EkByte first_byte)
{
    /* Names that come later choose from more places than are read. */
    if (g_hash_table_size(sample->places) < 16 * FILES_MOST)
        g_hash_table_insert(sample->places, g_memdup2(&file, sizeof file),
                            g_memdup2(&first_byte, sizeof first_byte));
}

void ek_sample_name(EkSample *sample, guint64 file, const char *name)
{
    const char *end = strrchr(name, '.');
    for (guint i = 0; end != NULL && i < G_N_ELEMENTS(starts); i++)
        if (g_ascii_strcasecmp(end, starts[i].end) == 0 &&
            g_hash_table_size(sample->kinds) < 4 * FILES_MOST)
            g_hash_table_insert(sample->kinds, g_memdup2(&file, sizeof file),
                                GUINT_TO_POINTER(i + 1));
}

void ek_sample_check(const EkSample *sample, EkReader *reader, guint *fit, guint *all)
{
    GHashTableIter iterator;
    gpointer file = NULL;
    gpointer kind = NULL;
    *fit = *all = 0;
    g_hash_table_iter_init(&iterator, sample->kinds);
    while (*all < FILES_MOST && g_hash_table_iter_next(&iterator, &file, &kind)) {
        const EkByte *place = g_hash_table_lookup(sample->places, file);
        guint index = GPOINTER_TO_UINT(kind) - 1;
        guint8 start[START_BYTES];
        EkKnown known;
        if (place == NULL || !ek_reader_read(reader, *place, start, sizeof start, &known, NULL) ||
            known.good < sizeof start)
            continue;
        (*all)++;
        *fit += memcmp(start + starts[index].offset, starts[index].bytes, starts[index].length) == 0
                    ? 1
                    : 0;
    }
}
