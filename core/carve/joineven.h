/* SPDX-License-Identifier: MIT */
/* Joining by evenness: plain samples that go on smoothly. */
#ifndef EK_CARVE_JOINEVEN_H
#define EK_CARVE_JOINEVEN_H

#include "carve/joining.h"

/* Of a file that is laid as if it were in one piece, up to `length`, and is plain samples: where
 * some of its blocks are surely none, another piece is looked for behind them that is, to its end.
 * TRUE: it is laid so; else as before. */
gboolean ek_join_by_evenness(EkJoining *joining, EkByte length);

#endif
