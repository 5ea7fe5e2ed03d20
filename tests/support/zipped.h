/* SPDX-License-Identifier: MIT */
/* ZIP archives, as office files are. */
#ifndef EK_TESTS_ZIPPED_H
#define EK_TESTS_ZIPPED_H

#include <glib.h>

typedef struct {
    const char *name;
    const void *bytes;
    gsize length;
} Zipped;

/* Writes one with these entries, in their order. */
void put_zip(const char *path, const Zipped *entries, gsize count);

#endif
