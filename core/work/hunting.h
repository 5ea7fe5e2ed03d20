/* SPDX-License-Identifier: MIT */
/* Hunting as a job on a case. */
#ifndef EK_WORK_HUNTING_H
#define EK_WORK_HUNTING_H

#include "case/volumestore.h"
#include "hunt/hunt.h"
#include "work/view.h"

typedef struct EkHunting EkHunting;

/* From now on the case expects such a volume to have been there (NULL: none); to be called before
 * it is hunted. FALSE when it cannot be written to. */
gboolean ek_hunting_expect(const char *folder, const EkExpected *expected, GError **error);

/* From now on little evidence is enough for earlier volumes of the case. */
gboolean ek_hunting_make_deep(const char *folder, GError **error);

/* Prepares to hunt what is good by now and was not hunted yet. `likely`: only the likely places. */
EkHunting *ek_hunting_new(const char *folder, const char *options, guint threads, gboolean likely,
                          const gint *cancel, GError **error);
void ek_hunting_free(EkHunting *hunting);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkHunting, ek_hunting_free)

EkHuntProgress ek_hunting_progress(EkHunting *hunting);

/* Volumes that are known so far; from any thread while it runs. */
guint ek_hunting_count(EkHunting *hunting);

/* Called with each volume that was not known before, from the thread that runs, as soon as it is
 * measured. */
typedef void (*EkHuntingNews)(void *data, const EkCaseVolume *entry);
void ek_hunting_tell(EkHunting *hunting, EkHuntingNews news, void *data);

/* Called whenever a further part was searched, from the thread that runs. */
typedef void (*EkHuntingStep)(void *data, const EkHuntProgress *now);
void ek_hunting_watch(EkHunting *hunting, EkHuntingStep step, void *data);

/* Scans, measures and stores the volumes. FALSE with EK_ERROR_CANCELLED when interrupted: what was
 * scanned is kept, and the volumes that it gives are stored. */
gboolean ek_hunting_run(EkHunting *hunting, GError **error);

/* Follows imaging: looks at what was read since, again and again, until *ended (atomic) is not 0,
 * then once more. Volumes are stored, and told of, as they turn up. In place of ek_hunting_run. */
gboolean ek_hunting_follow(EkHunting *hunting, const gint *ended, GError **error);

/* What there is after it: EkCaseVolume*, the caller unrefs. */
GPtrArray *ek_hunting_volumes(EkHunting *hunting, GError **error);

/* Bytes of a sector of the image. */
guint32 ek_hunting_sector_size(const EkHunting *hunting);

/* What the case expects to have been there; FALSE: nothing. */
gboolean ek_hunting_expected(EkHunting *hunting, EkExpected *expected);

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
