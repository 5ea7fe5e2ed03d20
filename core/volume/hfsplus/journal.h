/* SPDX-License-Identifier: MIT */
/* What the journal of an HFS+ volume still holds of its catalog, as in Technical Note TN1150. */
#ifndef EK_VOLUME_HFSPLUS_JOURNAL_H
#define EK_VOLUME_HFSPLUS_JOURNAL_H

#include "volume/hfsplus/fork.h"

/* Receives a leaf of the catalog as it once was. Returns FALSE to stop. */
typedef gboolean (*EkHfsNodeSink)(void *data, EkSpan node);

/* Hands on the copies of leaves, of `node_bytes` each, that stand in the journal which a volume
 * header names: the last one that was written first. FALSE when the sink stopped it. */
gboolean ek_hfs_journal_leaves(const EkHfsArea *region, EkSpan header, guint32 node_bytes,
                               EkHfsNodeSink sink, void *data);

#endif
