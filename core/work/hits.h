/* SPDX-License-Identifier: MIT */
/* What the sectors that were not read belong to: files, what a file system needs for itself,
 * free space, or no volume at all. */
#ifndef EK_WORK_HITS_H
#define EK_WORK_HITS_H

#include "work/indexing.h"

typedef struct {
    EkRange region;  /* bytes of the image that were not read */
    gboolean is_bad; /* else it is worth another try */
    guint volume;    /* 0: none lies there */
    char *path;      /* of the file that lies there; NULL: none */
    guint64 number;  /* of that file */
    gboolean is_own; /* that is the file system's own */
    EkUsage usage;   /* where no file lies there: what the volume says of it */
} EkHit;

typedef struct {
    GArray *hits;      /* EkHit, in order of place */
    EkByte not_looked; /* bytes that are left out since there are too many stretches */
} EkHits;

void ek_hits_clear(EkHits *hits);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(EkHits, ek_hits_clear)

/* `indexings`: EkIndexing*, each with a finished inventory. FALSE with *error. */
gboolean ek_hits_find(EkView *view, const GPtrArray *indexings, EkHits *hits, GError **error);

#endif
