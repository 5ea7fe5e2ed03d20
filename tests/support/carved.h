/* SPDX-License-Identifier: MIT */
/* Drives put together for the search by content, and what it finds on them. */
#ifndef EK_TESTS_CARVED_H
#define EK_TESTS_CARVED_H

#include "carve/carve.h"
#include "fixture.h"
#include "specimens.h"

/* Searches all of it and joins what breaks, or, without that, tells of what is part of others too.
 * EkFound*, by place; the caller unrefs. */
GPtrArray *carved_search(Bench *bench, guint threads, gboolean joins);

EkByte carved_place(const EkFound *found);
const EkFound *carved_at(const GPtrArray *found, EkByte at);

/* Is this what the file was, but for zeros that fill it up? */
gboolean carved_is_same(const Bench *bench, const EkFound *found, const Specimen *specimen);

typedef struct {
    GByteArray *bytes;
    guint32 seed; /* of the next noise */
} Drive;

/* The caller unrefs the bytes. */
Drive drive_new(guint32 seed);
void drive_pad(Drive *drive, gsize grid, gboolean with_noise);
void drive_noise(Drive *drive, gsize length);
/* Lines of a table, so many bytes of them. */
void drive_text(Drive *drive, gsize length);
/* Returns where they begin. */
EkByte drive_put(Drive *drive, const guint8 *data, gsize length);
void drive_open(Drive *drive, Bench *bench);

/* Appends a chunk of PNG, with its checksum. */
void png_chunk(GByteArray *png, const char *name, const guint8 *data, guint length);

#endif
