/* SPDX-License-Identifier: MIT */
#include "harness.h"
#include "table/table.h"

#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size)
{
    EkSpan span = {data, size};
    EkTable table;
    g_ptr_array_unref(ek_table_mbr.explain(span, 512));
    if (!ek_table_mbr.read(span, 512, &table))
        return 0;
    /* What reads must compose into what reads the same. */
    guint8 sector[512] = {0};
    EkTable back;
    if (!ek_table_mbr.compose(&table, 512, sector, NULL) ||
        !ek_table_mbr.read((EkSpan){sector, sizeof sector}, 512, &back) ||
        back.count != table.count ||
        memcmp(back.entries, table.entries, table.count * sizeof table.entries[0]) != 0)
        abort();
    return 0;
}
