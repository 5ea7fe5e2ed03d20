/* SPDX-License-Identifier: MIT */
/* LZMA2 as it lies in a content. */
#ifndef EK_CARVE_LZMACONTENT_H
#define EK_CARVE_LZMACONTENT_H

#include "carve/lzma.h"
#include "carve/type.h"

/* What unpacks, and what takes it. */
typedef struct {
    EkLzma *lzma; /* NULL: chunks are passed over */
    EkLzmaTake take;
    void *data;
    gsize data_bytes; /* of it, which make all that is taken so far; 0: it cannot be remembered */
} EkLzmaUnpacking;

/* Unpacks the chunks that begin at *at, to the mark that ends them, and leaves *at behind that.
 * FALSE: it breaks at *at, and *broken is the chunk that is not there or does not decode, where it
 * is one. */
gboolean ek_content_lzma2(EkContent *content, EkByte *at, const EkLzmaUnpacking *unpacking,
                          EkBroken *broken);

/* Do chunks of LZMA2 that are no first ones follow one another from *at on in these bytes, each but
 * the last one as full as packers make them? *at is left where what is not one of them begins:
 * behind the mark that ends them, or at the last one that was seen. Pure. */
typedef enum { EK_LZMA_CHAIN_BREAKS, EK_LZMA_CHAIN_GOES_ON, EK_LZMA_CHAIN_ENDS } EkLzmaChain;
EkLzmaChain ek_lzma2_chain(EkSpan span, gsize *at);

#endif
