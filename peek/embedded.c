/* SPDX-License-Identifier: MIT */
/* Pictures inside of films and documents: the first frame where frames are JPEG, the small picture
 * that a camera puts beside its film, the scan that a PDF is made of. */
#include "peek.h"

#include <string.h>

#define SEARCHED (16u << 20) /* bytes from the beginning */
#define PICTURE_MOST (8u << 20)
#define LEAST_SIDE 48 /* pixels: smaller ones are marks and buttons */
#define TRIES 24u     /* beginnings that are tried */

static gboolean may_hold_pictures(const char *mime)
{
    return g_str_has_prefix(mime, "video/") || g_str_equal(mime, "application/pdf");
}

/* A beginning of a JPEG (ITU-T T.81): its mark, and another that comes first in one. */
static const guint8 *next_begin(const guint8 *at, const guint8 *end)
{
    while (end - at >= 4) {
        const guint8 *mark = memchr(at, 0xff, (gsize)(end - at - 3));
        if (mark == NULL)
            return NULL;
        if (mark[1] == 0xd8 && mark[2] == 0xff &&
            (mark[3] == 0xdb || mark[3] == 0xc0 || mark[3] == 0xc4 || mark[3] == 0xdd ||
             mark[3] == 0xfe || (mark[3] >= 0xe0 && mark[3] <= 0xef)))
            return mark;
        at = mark + 1;
    }
    return NULL;
}

void embedded_show(const Content *content, const Canvas *canvas, Finding *finding)
{
    const guint8 *end = content->bytes + MIN(content->length, SEARCHED);
    const guint8 *at = content->bytes;
    if (!may_hold_pictures(finding->mime) || canvas->columns == 0 || canvas->lines == 0)
        return;
    for (guint tries = 0; tries < TRIES && g_str_equal(finding->look, "none"); tries++) {
        at = next_begin(at, end);
        if (at == NULL)
            return;
        /* The decoder stops at the picture's own end. */
        gsize left = (gsize)(content->bytes + content->length - at);
        picture_show(at, MIN(left, PICTURE_MOST), LEAST_SIDE, canvas, finding);
        at += 2;
    }
}
