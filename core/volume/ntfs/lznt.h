/* SPDX-License-Identifier: MIT */
/* LZNT1, as in [MS-XCA] section 2.5: chunks of 4096 bytes, each a header of two bytes and what it
 * holds, plain or compressed. */
#ifndef EK_VOLUME_NTFS_LZNT_H
#define EK_VOLUME_NTFS_LZNT_H

#include "base/bytes.h"

/* Fills `length` bytes; what no chunk gives is zeros. FALSE when a chunk contradicts itself: what
 * came before it stands. */
gboolean ek_lznt_expand(EkSpan packed, guint8 *buffer, gsize length);

#endif
