/* SPDX-License-Identifier: MIT */
/* The read map in the case: map.db. */
#ifndef EK_CASE_MAPSTORE_H
#define EK_CASE_MAPSTORE_H

#include "capture/imagewriter.h"
#include "case/case.h"

/* The read map as stored; what stands in it is checked. */
EkReadMap *ek_mapstore_load(EkCase *self, GError **error);

/* The one row that sums it up. */
gboolean ek_mapstore_state(EkCase *self, EkKeptState *state, GError **error);

/* Where a image writer's results go; `self` must stay open. */
EkImageWriterSink ek_mapstore_sink(EkCase *self);

/* The sum of a block of the image; FALSE with no error set when it has none. */
gboolean ek_mapstore_block_sum(EkCase *self, guint64 number, guint64 *sum, GError **error);

#endif
