/* SPDX-License-Identifier: MIT */
/* Whether the log of an XFS volume holds what is not in place yet: as in "XFS Algorithms & Data
 * Structures", "Journaling Log". The last record of a volume that was cleanly unmounted says so. */
#include "volume/xfs/log.h"

#include "base/bytes.h"
#include "volume/headers.h"

#define BASIC_BLOCK 512u
#define RECORD_MAGIC 0xfeedbabeu
#define PIECE_BYTES (1u << 20)
#define LOG_MOST ((EkByte)256 << 20)
#define OPERATION_FLAGS (BASIC_BLOCK + 9u)
#define OPERATION_UNMOUNT 0x20u

gboolean ek_xfs_log_is_due(EkReader *reader, EkByte first, EkByte bytes)
{
    guint64 newest = 0;
    EkByte at_newest = EK_UNPLACED;
    g_autofree guint8 *piece = g_malloc(PIECE_BYTES);
    bytes = MIN(bytes, LOG_MOST);
    for (EkByte done = 0; done < bytes; done += PIECE_BYTES) {
        gsize length = (gsize)MIN(PIECE_BYTES, bytes - done);
        EkSpan span = {piece, length};
        /* What was not read may hold anything. */
        if (ek_presence_read(reader, first + done, piece, length) != EK_PRESENT)
            return FALSE;
        for (gsize at = 0; at + BASIC_BLOCK <= length; at += BASIC_BLOCK)
            if (ek_span_be32(span, at) == RECORD_MAGIC && ek_span_be64(span, at + 16) >= newest) {
                newest = ek_span_be64(span, at + 16);
                at_newest = first + done + at;
            }
    }
    guint8 record[2 * BASIC_BLOCK];
    EkSpan span = {record, sizeof record};
    if (at_newest == EK_UNPLACED ||
        ek_presence_read(reader, at_newest, record, sizeof record) != EK_PRESENT)
        return FALSE;
    gboolean is_unmount =
        ek_span_be32(span, 40) == 1 && (ek_span_u8(span, OPERATION_FLAGS) & OPERATION_UNMOUNT) != 0;
    return !is_unmount;
}
