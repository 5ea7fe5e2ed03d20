/* SPDX-License-Identifier: MIT */
/* What hunting found, in the case. */
#ifndef EK_CASE_VOLUMESTORE_H
#define EK_CASE_VOLUMESTORE_H

#include "case/case.h"
#include "hunt/hunt.h"

/* A volume as the case keeps it. */
typedef struct {
    guint number;
    EkStanding standing;
    guint host;         /* nested: the volume whose file it is in; remains: a newer one; 0: none */
    EkByte overwritten; /* remains: bytes of it that newer volumes lie on */
    EkVolume *volume;
} EkCaseVolume;

/* The ranges that were hunted by this set of recognisers: EkRange, sorted, apart from one another;
 * the caller unrefs. */
GArray *ek_volumestore_hunted(EkCase *self, const char *recognisers, GError **error);

typedef struct EkHuntStore EkHuntStore;

/* Where a scan's results go: rows gather and are committed with the range they belong to. */
EkHuntStore *ek_huntstore_new(EkCase *self, gint64 event, const char *recognisers);
void ek_huntstore_free(EkHuntStore *store);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkHuntStore, ek_huntstore_free)
EkHuntSink ek_huntstore_sink(EkHuntStore *store);

/* Commits what has gathered. */
gboolean ek_huntstore_flush(EkHuntStore *store, GError **error);

/* Are the volumes in the case what its traces give? They are when nothing was hunted since
 * ek_huntstore_measured, which is for whoever has just stored them. */
gboolean ek_huntstore_is_measured(EkHuntStore *store);
gboolean ek_huntstore_measured(EkHuntStore *store, GError **error);

/* All traces, in order of position: EkTrace*, the caller unrefs. */
GPtrArray *ek_volumestore_traces(EkCase *self, GError **error);

/* The runs of a format's records in a range, in order of position: EkRecordRun, the caller unrefs.
 * *all is FALSE when there were more than are kept. */
GArray *ek_volumestore_runs(EkCase *self, const char *format, EkRange range, gboolean *all,
                            GError **error);

/* Stores the findings (EkFinding*): a volume that is known keeps its number, a new one gets the
 * next, none is used twice. */
gboolean ek_volumestore_put(EkCase *self, gint64 event, const GPtrArray *findings, GError **error);

/* All volumes in order of place: EkCaseVolume*, the caller unrefs. */
GPtrArray *ek_volumestore_list(EkCase *self, GError **error);

/* The volume of this number out of that list; NULL with EK_ERROR_ABSENT. */
const EkCaseVolume *ek_volumestore_find(const GPtrArray *volumes, guint64 number, GError **error);

#endif
