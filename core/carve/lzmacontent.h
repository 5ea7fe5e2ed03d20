/* SPDX-License-Identifier: MIT */
/* LZMA2 as it lies in a content. */
#ifndef EK_CARVE_LZMACONTENT_H
#define EK_CARVE_LZMACONTENT_H

#include "carve/lzma.h"
#include "carve/type.h"

/* Unpacks the chunks that begin at *at, to the mark that ends them, and leaves *at behind that.
 * `lzma` NULL: passes over them. FALSE: it breaks at *at, and *broken is the chunk that does not
 * decode, where it is one. */
gboolean ek_content_lzma2(EkContent *content, EkByte *at, EkLzma *lzma, EkLzmaTake take, void *data,
                          EkBroken *broken);

#endif
