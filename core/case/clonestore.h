/* SPDX-License-Identifier: MIT */
/* Which targets clones of this case were written to. */
#ifndef EK_CASE_CLONESTORE_H
#define EK_CASE_CLONESTORE_H

#include "case/case.h"

/* Notes that a clone to this target begins; returns its id, or 0 with *error. */
gint64 ek_clonestore_begin(EkCase *self, gint64 event, const char *target, const char *identity,
                           GError **error);
gboolean ek_clonestore_finish(EkCase *self, gint64 id, GError **error);

/* TRUE when the newest clone to this target was not finished: what stands there is ours. */
gboolean ek_clonestore_is_unfinished(EkCase *self, const char *identity);

#endif
