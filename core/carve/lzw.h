/* SPDX-License-Identifier: MIT */
/* Following LZW codes without unpacking them: GIF 89a, and TIFF 6.0 section 13. */
#ifndef EK_CARVE_LZW_H
#define EK_CARVE_LZW_H

#include "base/bytes.h"

typedef struct {
    guint32 lengths[4096]; /* dots that a code stands for */
    guint first;           /* bits of the smallest codes */
    gboolean is_tiff;      /* the first bit of a code is the highest, and it grows a code early */
    guint width;           /* bits of the next code */
    guint next;            /* code that is made next */
    gint before;           /* code before; -1: none */
    guint32 held;
    guint count;
    guint64 dots;      /* that came out so far */
    gsize taken;       /* bytes of the last span up to the end code, or up to what is impossible */
    gboolean is_ended; /* by the code for it */
} EkLzw;

/* `first`: 2 to 8 bits (1 in some GIF). */
void ek_lzw_begin(EkLzw *lzw, guint first, gboolean is_tiff);

/* The next bytes; FALSE where a code is impossible. Behind the end code nothing is taken. */
gboolean ek_lzw_take(EkLzw *lzw, EkSpan bytes);

#endif
