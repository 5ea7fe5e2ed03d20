/* SPDX-License-Identifier: MIT */
/* LZW codes, followed by the lengths of what they stand for. */
#include "carve/lzw.h"

static void reset(EkLzw *lzw)
{
    lzw->width = lzw->first + 1;
    lzw->next = (1u << lzw->first) + 2;
    lzw->before = -1;
    for (guint i = 0; i < 1u << lzw->first; i++)
        lzw->lengths[i] = 1;
}

void ek_lzw_begin(EkLzw *lzw, guint first, gboolean is_tiff)
{
    lzw->first = first;
    lzw->is_tiff = is_tiff;
    lzw->held = 0;
    lzw->count = 0;
    lzw->dots = 0;
    lzw->is_ended = FALSE;
    reset(lzw);
}

/* FALSE where a code is impossible. */
static gboolean take_code(EkLzw *lzw, guint code)
{
    guint clear = 1u << lzw->first;
    if (code == clear) {
        reset(lzw);
        return TRUE;
    }
    if (code == clear + 1) {
        lzw->is_ended = TRUE;
        return TRUE;
    }
    gboolean is_new = code == lzw->next && lzw->before >= 0 && lzw->next < 4096;
    if (code >= lzw->next && !is_new)
        return FALSE;
    guint32 length = is_new ? lzw->lengths[lzw->before] + 1 : lzw->lengths[code];
    if (lzw->before >= 0 && lzw->next < 4096) {
        lzw->lengths[lzw->next++] = lzw->lengths[lzw->before] + 1;
        if (lzw->next + (lzw->is_tiff ? 1 : 0) == 1u << lzw->width && lzw->width < 12)
            lzw->width++;
    }
    lzw->dots += length;
    lzw->before = (gint)code;
    return TRUE;
}

static guint next_code(EkLzw *lzw)
{
    guint mask = (1u << lzw->width) - 1;
    lzw->count -= lzw->width;
    if (lzw->is_tiff)
        return lzw->held >> lzw->count & mask;
    guint code = lzw->held & mask;
    lzw->held >>= lzw->width;
    return code;
}

gboolean ek_lzw_take(EkLzw *lzw, EkSpan bytes)
{
    for (gsize i = 0; i < bytes.length && !lzw->is_ended; i++) {
        lzw->taken = i + 1;
        if (lzw->is_tiff)
            lzw->held = lzw->held << 8 | bytes.data[i];
        else
            lzw->held |= (guint32)bytes.data[i] << lzw->count;
        lzw->count += 8;
        while (lzw->count >= lzw->width && !lzw->is_ended)
            if (!take_code(lzw, next_code(lzw)))
                return FALSE;
    }
    return TRUE;
}
