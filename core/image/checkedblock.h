/* SPDX-License-Identifier: MIT */
/* A structure of some sectors, not all of which were read from the drive: what stands in the others
 * still counts. */
#ifndef EK_IMAGE_CHECKEDBLOCK_H
#define EK_IMAGE_CHECKEDBLOCK_H

#include "base/bytes.h"
#include "image/reader.h"

#define EK_PIECE_MOST 65536u /* bytes of a piece */
#define EK_PIECE_SECTOR 512u /* bytes: no drive reads less */

typedef struct {
    EkSpan span;   /* zeros where nothing was read; belongs to the caller */
    EkKnown known; /* what the read map says of all of it */
    gboolean is_good[EK_PIECE_MOST / EK_PIECE_SECTOR]; /* by sector of the piece */
} EkCheckedBlock;

/* Reads `length` bytes (EK_PIECE_MOST at most) at `first` into the buffer, which must live as long
 * as the piece. FALSE when they leave the image, or cannot be read from it. */
gboolean ek_checked_block_read(EkCheckedBlock *piece, EkReader *reader, EkByte first,
                               guint8 *buffer, gsize length);

/* The end of what was read from byte `at` on; `at` itself where nothing was. */
gsize ek_checked_block_until(const EkCheckedBlock *piece, gsize at);

/* Whether all of these bytes lie in the piece and were read. */
gboolean ek_checked_block_has(const EkCheckedBlock *piece, gsize at, gsize length);

#endif
