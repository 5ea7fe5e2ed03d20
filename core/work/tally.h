/* SPDX-License-Identifier: MIT */
/* Files counted by kind and by folder. */
#ifndef EK_WORK_TALLY_H
#define EK_WORK_TALLY_H

#include "files/files.h"
#include "kind/kind.h"

typedef struct {
    guint64 files;
    guint64 bytes;
    guint64 whole; /* of the files */
} EkCount;

void ek_count_add(EkCount *count, const EkItem *item);

typedef struct {
    char *name;
    EkCount count;
} EkTallyFolder;

typedef struct {
    EkCount all;
    EkCount kinds[EK_KINDS];
    GPtrArray *folders;  /* EkTallyFolder, as they came */
    GHashTable *by_name; /* of their names, to them */
    guint folders_most;  /* the others become one, the last */
} EkTally;

/* The caller frees. */
EkTally *ek_tally_new(guint folders_most);
void ek_tally_free(EkTally *tally);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkTally, ek_tally_free)

/* Counts a file by the folder at the top that it is in, which is called by `prefix` and its name
 * ("" where it is in no folder). */
void ek_tally_add(EkTally *tally, const char *prefix, const char *path, const EkItem *item);

#endif
