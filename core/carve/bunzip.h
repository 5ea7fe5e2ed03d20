/* SPDX-License-Identifier: MIT */
/* Unpacking blocks of bzip2: Huffman codes, moved to the front, the transform of Burrows and
 * Wheeler undone, and runs. */
#ifndef EK_CARVE_BUNZIP_H
#define EK_CARVE_BUNZIP_H

#include "carve/bits.h"

typedef struct EkBunzip EkBunzip;

/* `level` is the digit of the header, 1 to 9: blocks of so many hundred thousand bytes. The caller
 * frees. */
EkBunzip *ek_bunzip_new(guint level);
void ek_bunzip_free(EkBunzip *bunzip);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkBunzip, ek_bunzip_free)

/* Unpacks the block whose mark and sum were taken, to its end. *sum is that of what came out
 * (CRC-32 as bzip2 has it). FALSE: it does not decode. */
gboolean ek_bunzip_block(EkBunzip *bunzip, EkBits *bits, guint32 *sum);

#endif
