/* SPDX-License-Identifier: MIT */
/* Which targets clones of this case were written to. */
#ifndef EK_CASE_CLONESTORE_H
#define EK_CASE_CLONESTORE_H

#include "case/case.h"

/* Notes that a clone to this target begins, or goes on with `done` bytes written; returns its id,
 * or 0 with *error. */
gint64 ek_clonestore_begin(EkCase *self, gint64 event, const char *target, const char *identity,
                           gboolean as_imaged, EkByte done, GError **error);

/* Notes that its first `done` bytes are on stable storage. */
gboolean ek_clonestore_progress(EkCase *self, gint64 id, EkByte done, GError **error);
gboolean ek_clonestore_finish(EkCase *self, gint64 id, GError **error);

/* TRUE when the newest clone to this target was not finished: what stands there is ours. *done is
 * how much of it can stay: nothing, where the image or the plan changed since, or the other kind of
 * clone was made. */
gboolean ek_clonestore_is_unfinished(EkCase *self, const char *identity, gboolean as_imaged,
                                     EkByte *done);

/* Was a clone ever written to what has this identity? */
gboolean ek_clonestore_knows(EkCase *self, const char *identity);

/* What this case ever wrote to, besides its image: by clone or apply. */
typedef struct {
    char *path;
    char *identity;
} EkKnownTarget;

/* All of them: EkKnownTarget*, the caller unrefs. NULL on failure. */
GPtrArray *ek_clonestore_targets(EkCase *self);

#endif
