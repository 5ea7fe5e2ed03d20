/* SPDX-License-Identifier: MIT */
/* Hunting as a job on a case. */
#ifndef EK_WORK_HUNTING_H
#define EK_WORK_HUNTING_H

#include "hunt/hunt.h"
#include "work/view.h"

typedef struct EkHunting EkHunting;

/* Prepares to hunt what is good by now and was not hunted yet. */
EkHunting *ek_hunting_new(const char *folder, const char *options, guint threads,
                          const gint *cancel, GError **error);
void ek_hunting_free(EkHunting *hunting);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkHunting, ek_hunting_free)

EkHuntProgress ek_hunting_progress(EkHunting *hunting);

/* Scans, measures and stores the volumes. FALSE with EK_ERROR_CANCELLED when interrupted: what was
 * scanned is kept, and the volumes that it gives are stored. */
gboolean ek_hunting_run(EkHunting *hunting, GError **error);

/* What there is after it: EkCaseVolume*, the caller unrefs. */
GPtrArray *ek_hunting_volumes(EkHunting *hunting, GError **error);

/* A partition table that was found. */
typedef struct {
    EkByte first_byte; /* in the image */
    gboolean is_current;
    const char *what; /* what it is to the drive, in words; "" for the current one */
    EkTable table;
} EkHuntedTable;

/* All of them, in order of place: EkHuntedTable*, the caller unrefs. */
GPtrArray *ek_hunting_tables(EkHunting *hunting, GError **error);

/* How many bytes of the drive are good, and how many are not (for what may still be missing). */
EkKnown ek_hunting_known(EkHunting *hunting);

#endif
