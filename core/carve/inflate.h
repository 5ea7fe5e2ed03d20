/* SPDX-License-Identifier: MIT */
/* Unpacking deflate streams in a content, and going on in the middle of one where it is tried what
 * follows. */
#ifndef EK_CARVE_INFLATE_H
#define EK_CARVE_INFLATE_H

#include "carve/content.h"

typedef struct {
    EkByte offset;    /* where it begins in the content */
    EkByte most;      /* packed bytes that it has at most */
    gboolean is_zlib; /* of RFC 1950; else of RFC 1951 */
    gboolean has_sum; /* the CRC-32 is wanted */
    /* How it went. */
    EkByte packed;   /* bytes up to its end, or to where it breaks */
    EkByte unpacked; /* bytes that these come to */
    guint32 sum;     /* CRC-32 (IEEE 802.3) of them */
    EkByte strange;  /* packed bytes up to where what comes out changes, as it does where others
                      * begin that are not of it; 0: nowhere. Told of a content that remembers */
} EkStream;

/* Packed bytes of a stream that breaks up to where it went wrong, as far as that shows. */
static inline EkByte ek_stream_broke(const EkStream *stream)
{
    return stream->strange > 0 ? stream->strange : stream->packed;
}

/* Unpacks it to its end. FALSE where it breaks. */
gboolean ek_content_inflate(EkContent *content, EkStream *stream);

#endif
