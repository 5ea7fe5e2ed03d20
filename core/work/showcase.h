/* SPDX-License-Identifier: MIT */
/* Which files of a case are shown to its client: pictures and documents from the folders that
 * people use, some of each folder, in memory that does not depend on how many files there are. */
#ifndef EK_WORK_SHOWCASE_H
#define EK_WORK_SHOWCASE_H

#include "work/indexing.h"

typedef struct {
    guint volume; /* EK_CONTENTS: a content that was found */
    char *path;
    EkFile file;
    EkCondition condition;
} EkExhibit;

typedef struct EkShowcase EkShowcase;

EkShowcase *ek_showcase_new(void);
void ek_showcase_free(EkShowcase *showcase);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkShowcase, ek_showcase_free)

/* Looks at a file; with `is_lesser` it comes after all others. */
void ek_showcase_add(EkShowcase *showcase, guint volume, const char *path, const EkItem *item,
                     gboolean is_lesser);

/* The best first: one of each folder, then the next of each (EkExhibit*, its own). The caller
 * unrefs; valid as long as the showcase. */
GPtrArray *ek_showcase_list(const EkShowcase *showcase);

/* How near a folder is to what people keep: 0 the most, 2 what belongs to a system. */
guint ek_showcase_distance(const char *path);

#endif
