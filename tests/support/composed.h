/* SPDX-License-Identifier: MIT */
/* Files put together byte by byte, of types that nothing at hand writes. */
#ifndef EK_TESTS_COMPOSED_H
#define EK_TESTS_COMPOSED_H

#include "specimens.h"

/* Appends bytes, or a number of so many bytes. */
void compose_bytes(GByteArray *bytes, const void *data, gsize length);
void compose_number(GByteArray *bytes, guint64 value, guint width, gboolean big);

/* Appends a box of the ISO base media file format. */
void compose_box(GByteArray *to, const char *name, const void *body, gsize length);

/* Appends noise. */
void compose_noise(GByteArray *bytes, gsize length, guint32 seed);

/* Adds a specimen of these bytes, which are unreffed. */
void compose_add(GPtrArray *list, const char *type, const char *ending, GByteArray *bytes,
                 gboolean joins, gboolean proves);

/* One of each. */
void add_composed(GPtrArray *list, guint32 seed);

/* Transport streams, program streams and ASF. */
void add_composed_films(GPtrArray *list, guint32 seed);

/* Of parts that follow one another: these. The caller unrefs the bytes. */
void add_composed_chains(GPtrArray *list, guint32 seed);
GByteArray *compose_flv(guint tags, guint32 seed);
GByteArray *compose_matroska(guint clusters, guint32 seed);   /* each with its checksum */
GByteArray *compose_fragments(guint fragments, guint32 seed); /* a film without a list of them */
GByteArray *compose_ole(guint32 sectors, guint32 seed); /* a document with a stream of so many */

/* Archives of tar: an entry whose header tells so many bytes, with its sum as it must be, of bytes
 * that are taken for signed ones, or wrong; a sparse one, with so many blocks of places; the end.
 */
typedef enum { COMPOSED_TAR_RIGHT, COMPOSED_TAR_SIGNED, COMPOSED_TAR_WRONG } ComposedTarSum;
void compose_tar_entry(GByteArray *archive, const char *name, char kind, gsize told,
                       ComposedTarSum how, const void *data, gsize bytes);
void compose_tar_sparse(GByteArray *archive, const char *name, guint blocks, const void *data,
                        gsize bytes);
void compose_tar_end(GByteArray *archive, gboolean fills_record);
void add_composed_tar(GPtrArray *list, guint32 seed);

/* With a checksum, one that is not its own, a signature too, or none of these. */
typedef enum { COMPOSED_SUMMED, COMPOSED_STALE, COMPOSED_SIGNED, COMPOSED_BARE } ComposedSum;
GByteArray *compose_program(ComposedSum kind, guint32 seed);

#endif
