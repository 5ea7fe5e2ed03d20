/* SPDX-License-Identifier: MIT */
/* Files of many types with content that differs by seed, made by the libraries that programs make
 * them with, or put together byte by byte as their formats say. */
#ifndef EK_TESTS_SPECIMENS_H
#define EK_TESTS_SPECIMENS_H

#include <glib.h>

typedef struct {
    const char *type; /* of ek_carve_types */
    const char *ending;
    guint8 *data;
    gsize length;
    gboolean joins;  /* two pieces of it are put together again */
    gboolean proves; /* it is called whole where it lies in one piece */
} Specimen;

/* One of each: Specimen*. The caller unrefs. */
GPtrArray *specimens_new(guint32 seed);

/* Of such a list. */
void specimen_free(void *specimen);

#endif
