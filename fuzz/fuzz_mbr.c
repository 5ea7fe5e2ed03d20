/* SPDX-License-Identifier: MIT */
/* Fuzzes the MBR and its chain. */
#include "harness.h"
#include "table/table.h"

#include <stdlib.h>

static gboolean is_same(const EkTableEntry *a, const EkTableEntry *b)
{
    return a->index == b->index && a->range.first == b->range.first &&
           a->range.bytes == b->range.bytes && a->type == b->type && a->active == b->active &&
           a->extended == b->extended;
}

static gboolean lay(void *data, const char *structure, EkByte first_byte, const guint8 *after,
                    gsize length, const char *what, GError **error)
{
    (void)structure;
    (void)what;
    (void)error;
    if (first_byte == 0)
        memcpy(data, after, length);
    return TRUE;
}

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
    FuzzImage blank;
    if (!fuzz_image_open(&blank, sector, sizeof sector))
        return 0;
    gboolean fine = ek_table_mbr.compose(&table, blank.reader, lay, sector, NULL);
    fuzz_image_close(&blank);
    if (!fine || !ek_table_mbr.read((EkSpan){sector, sizeof sector}, 512, &back) ||
        back.count != table.count)
        abort();
    for (guint i = 0; i < table.count; i++)
        if (!is_same(&table.entries[i], &back.entries[i]))
            abort();
    return 0;
}
