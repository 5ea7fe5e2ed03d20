/* SPDX-License-Identifier: MIT */
/* A sample of a volume's files. */
#include "rebuild/sample.h"

#include "base/bytes.h"
#include "kind/kind.h"

#include <string.h>

#define FILES_MOST 1024u
#define START_BYTES 12u

struct EkSample {
    GHashTable *places; /* guint64 of the file to EkByte, each allocated */
    GHashTable *types;  /* guint64 of the file to its const EkContentType */
};

EkSample *ek_sample_new(void)
{
    EkSample *sample = g_new0(EkSample, 1);
    sample->places = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, g_free);
    sample->types = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    return sample;
}

void ek_sample_free(EkSample *sample)
{
    g_hash_table_unref(sample->places);
    g_hash_table_unref(sample->types);
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
    const EkContentType *type = ek_content_type_of(name);
    if (type != NULL && type->length > 0 && g_hash_table_size(sample->types) < 4 * FILES_MOST)
        g_hash_table_insert(sample->types, g_memdup2(&file, sizeof file), (gpointer)type);
}

void ek_sample_check(const EkSample *sample, EkReader *reader, guint *fit, guint *all)
{
    GHashTableIter iterator;
    gpointer file = NULL;
    gpointer value = NULL;
    *fit = *all = 0;
    g_hash_table_iter_init(&iterator, sample->types);
    while (*all < FILES_MOST && g_hash_table_iter_next(&iterator, &file, &value)) {
        const EkByte *place = g_hash_table_lookup(sample->places, file);
        const EkContentType *type = value;
        guint8 start[START_BYTES];
        EkKnown known;
        if (place == NULL || !ek_reader_read(reader, *place, start, sizeof start, &known, NULL) ||
            known.good < sizeof start)
            continue;
        (*all)++;
        *fit += memcmp(start + type->offset, type->start, type->length) == 0 ? 1 : 0;
    }
}
