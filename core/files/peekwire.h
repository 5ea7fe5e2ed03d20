/* SPDX-License-Identifier: MIT */
/* What goes between the program and its helper (peek/), on one machine. A request is this header
 * and the bytes of content that it announces; the answer is its length (32 bits) and a key file
 * with the group below. Whoever reads an answer takes it for hostile. */
#ifndef EK_FILES_PEEKWIRE_H
#define EK_FILES_PEEKWIRE_H

#include <glib.h>

#define EK_PEEK_MAGIC 0x656b7031u

typedef struct {
    guint32 magic;
    guint32 sent;        /* bytes of content that follow, from its beginning */
    guint64 size;        /* bytes of the file */
    guint32 sent_of_end; /* bytes behind them, up to its end */
    guint32 unused;
} EkPeekRequest;

/* The most that is sent, of both. */
#define EK_PEEK_MOST (256u << 20)
/* The longest answer. */
#define EK_PEEK_ANSWER (4u << 20)

#define EK_PEEK_GROUP "content"
#define EK_PEEK_TYPE "type"   /* in words */
#define EK_PEEK_MIME "mime"   /* media type (RFC 6838) */
#define EK_PEEK_OPENS "opens" /* yes, no or unchecked */
#define EK_PEEK_WHY "why"     /* of it */
#define EK_PEEK_LOOK "look"   /* none, text, list, picture or pixels */
#define EK_PEEK_SHOWN "shown" /* lines to show; of pixels, see below */

#define EK_PEEK_LAST "last" /* yes: the helper ends now, for the time it has used */

/* Pixels: "WIDTH HEIGHT " and in Base64 (RFC 4648) three bytes each, red, green and blue, line by
 * line without anything between. */
#define EK_PEEK_PIXEL_BYTES 3u

#endif
