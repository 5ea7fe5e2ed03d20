/* SPDX-License-Identifier: MIT */
/* Blocks of the image of which a newer copy stands elsewhere in it, as in a journal: readers of
 * such a block are given the copy. Positions are in bytes of the image. */
#ifndef EK_IMAGE_MOVES_H
#define EK_IMAGE_MOVES_H

#include "base/units.h"

#include <glib.h>

typedef struct {
    EkByte at;      /* of the block */
    EkByte from;    /* of the copy */
    guint64 order;  /* of two copies the one with more is newer */
    gboolean patch; /* the copy's first bytes are not as they are in the block: EkMoves.first */
} EkMove;

typedef struct {
    guint32 block_bytes;
    guint8 first[4]; /* what a block begins with of which the copy is patched */
    GArray *moves;   /* EkMove, in order of `at`, one a block once it is settled */
} EkMoves;

EkMoves *ek_moves_new(guint32 block_bytes);
void ek_moves_free(EkMoves *moves);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkMoves, ek_moves_free)

/* Puts them in order and keeps the newest of each block. */
void ek_moves_settle(EkMoves *moves);

/* The first block that is moved and of which some lies in [from, limit); NULL: none. */
const EkMove *ek_moves_next(const EkMoves *moves, EkByte from, EkByte limit);

#endif
