/* SPDX-License-Identifier: MIT */
/* A structure of some sectors, not all of which were read from the drive. */
#include "image/checkedblock.h"

gboolean ek_checked_block_read(EkCheckedBlock *piece, EkReader *reader, EkByte first,
                               guint8 *buffer, gsize length)
{
    piece->span = (EkSpan){buffer, length};
    if (length > EK_PIECE_MOST ||
        !ek_reader_read(reader, first, buffer, length, &piece->known, NULL))
        return FALSE;
    for (gsize at = 0; at < length; at += EK_PIECE_SECTOR) {
        gsize part = MIN(EK_PIECE_SECTOR, length - at);
        piece->is_good[at / EK_PIECE_SECTOR] =
            piece->known.good == length ||
            (piece->known.good > 0 && ek_reader_known(reader, first + at, part).good == part);
    }
    return TRUE;
}

gsize ek_checked_block_until(const EkCheckedBlock *piece, gsize at)
{
    gsize end = at;
    while (end < piece->span.length && piece->is_good[end / EK_PIECE_SECTOR])
        end = (end / EK_PIECE_SECTOR + 1) * EK_PIECE_SECTOR;
    return MIN(end, MAX(piece->span.length, at));
}

gboolean ek_checked_block_has(const EkCheckedBlock *piece, gsize at, gsize length)
{
    return ek_span_has(piece->span, at, length) && ek_checked_block_until(piece, at) - at >= length;
}
