/* SPDX-License-Identifier: MIT */
/* A volume with its inventory: the one that is kept, or a new one. */
#ifndef EK_WORK_INDEXING_H
#define EK_WORK_INDEXING_H

#include "case/contentstore.h"
#include "case/inventory.h"
#include "work/view.h"

typedef struct EkIndexing EkIndexing;

/* The number that stands for the catalogue of contents. */
#define EK_CONTENTS 0u

/* Opens a volume by its number, or the catalogue of contents. Where its inventory must be taken
 * first and the case can be written to, this takes the lock of it. The view must live as long. */
EkIndexing *ek_indexing_new(EkView *view, guint64 number, GError **error);
void ek_indexing_free(EkIndexing *indexing);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkIndexing, ek_indexing_free)

/* Takes the inventory, or what is left of it; at once when it is there. EK_ERROR_CANCELLED keeps
 * what can be gone on from. */
gboolean ek_indexing_run(EkIndexing *indexing, const gint *cancel, GError **error);

/* Must ek_indexing_run do anything? */
gboolean ek_indexing_is_needed(EkIndexing *indexing);

/* The totals of a volume's inventory, where it was taken already and nothing has changed since. */
gboolean ek_indexing_known(EkView *view, const EkCaseVolume *volume, EkInventoryTotals *totals);

/* From any thread. */
EkInventoryTotals ek_indexing_progress(EkIndexing *indexing);

EkInventory *ek_indexing_inventory(EkIndexing *indexing);
EkFiles *ek_indexing_files(EkIndexing *indexing);
const EkCaseVolume *ek_indexing_volume(EkIndexing *indexing);

/* What the inventory stands on: whatever else is known of its files is of no use once this
 * changes. */
const char *ek_indexing_basis(const EkIndexing *indexing);

/* The view that it was made with. */
EkView *ek_indexing_view(const EkIndexing *indexing);

/* The catalogue of contents where it stands for that; else NULL. */
EkContentStore *ek_indexing_contents(EkIndexing *indexing);

#endif
