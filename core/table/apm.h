/* SPDX-License-Identifier: MIT */
/* What reading and composing of an Apple partition map share. */
#ifndef EK_TABLE_APM_H
#define EK_TABLE_APM_H

#include "table/table.h"

#define EK_APM_ENTRIES_MOST 256u
#define EK_APM_NAME_AT 16u
#define EK_APM_TYPE_AT 48u
#define EK_APM_MAP "Apple_partition_map"
#define EK_APM_FREE "Apple_Free"

/* One entry, which is then the only one of *table. FALSE when the span (512 bytes) holds none. */
gboolean ek_apm_entry_read(EkSpan span, guint32 sector_size, EkTable *table);

/* Composes a map (apmcompose.c). What is left of its entries is kept but for their places. */
gboolean ek_apm_compose(const EkTable *table, EkReader *reader, EkTableSink sink, void *data,
                        GError **error);

/* As in EkTableFormat. */
gboolean ek_apm_read(EkSpan span, guint32 sector_size, EkTable *table);
gboolean ek_apm_follow(EkReader *reader, EkByte at, EkTable *table);

#endif
