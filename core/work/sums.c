/* SPDX-License-Identifier: MIT */
/* The image against the sums of its blocks that the case keeps. */
#include "work/sums.h"

#include "base/digest.h"
#include "case/mapstore.h"

#define PIECE_BYTES (1u << 20)

gboolean ek_sums_of_block(EkReader *reader, guint32 sector_size, guint64 block, guint64 *sum,
                          GError **error)
{
    g_autofree guint8 *buffer = g_malloc(PIECE_BYTES);
    EkByte first = block * EK_BLOCK_BYTES;
    EkByte end = MIN(first + EK_BLOCK_BYTES, ek_reader_bytes(reader));
    for (*sum = 0; first < end; first += PIECE_BYTES) {
        gsize length = (gsize)MIN(PIECE_BYTES, end - first);
        if (!ek_reader_read(reader, first, buffer, length, NULL, error))
            return FALSE;
        *sum += ek_block_sum(first / sector_size, sector_size, buffer, length);
    }
    return TRUE;
}

gboolean ek_sums_are_kept(EkCase *self)
{
    g_autoptr(EkStatement) row =
        ek_sql_prepare(ek_case_map(self), NULL, "SELECT has_sums FROM totals", "");
    return row != NULL && ek_sql_step(ek_case_map(self), row, NULL) == 1 &&
           sqlite3_column_int(row, 0) != 0;
}

guint ek_sums_compare(EkCase *self, EkReader *reader, guint most, guint *asked)
{
    sqlite3 *store = ek_case_map(self);
    guint64 blocks = ek_divide_up(ek_reader_bytes(reader), EK_BLOCK_BYTES);
    guint same = 0;
    *asked = 0;
    if (!ek_sums_are_kept(self))
        return 0;
    g_autoptr(EkStatement) row =
        ek_sql_prepare(store, NULL,
                       "SELECT block,sum FROM block_sum WHERE block>=? AND sum<>0 ORDER BY block"
                       " LIMIT 1",
                       "");
    guint64 last = G_MAXUINT64;
    for (guint i = 0; row != NULL && i < most; i++) {
        guint64 sum = 0;
        sqlite3_reset(row);
        sqlite3_bind_int64(row, 1, (gint64)(blocks / most * i));
        if (ek_sql_step(store, row, NULL) != 1)
            break;
        guint64 block = (guint64)sqlite3_column_int64(row, 0);
        if (block == last || block >= blocks)
            continue;
        last = block;
        (*asked)++;
        same += ek_sums_of_block(reader, ek_case_info(self)->sector_size, block, &sum, NULL) &&
                sum == (guint64)sqlite3_column_int64(row, 1);
    }
    return same;
}
