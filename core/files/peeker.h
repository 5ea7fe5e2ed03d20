/* SPDX-License-Identifier: MIT */
/* What a file is by its content, whether it opens, and a look at it. Content from a disk is decoded
 * in a helper program that can do nothing but answer (peek/). */
#ifndef EK_FILES_PEEKER_H
#define EK_FILES_PEEKER_H

#include "files/files.h"
#include "kind/kind.h"

typedef enum { EK_OPENS_UNCHECKED, EK_OPENS_YES, EK_OPENS_NO } EkOpens;

typedef enum {
    EK_LOOK_NONE,
    EK_LOOK_TEXT,
    EK_LOOK_LIST,    /* what is in it */
    EK_LOOK_PICTURE, /* drawn with characters and the terminal's colour codes */
    EK_LOOK_PIXELS
} EkLook;

typedef struct {
    char *type; /* in words; as hostile as the content, like all text here */
    char *mime;
    EkKind kind;       /* by `mime` */
    gboolean is_known; /* FALSE: what tells the type was not read from the drive */
    gboolean is_blank; /* all that was read of it is one repeated byte */
    guint8 blank;      /* which */
    EkOpens opens;
    char *why;
    EkLook look;
    char *shown;    /* lines of it */
    guint8 *pixels; /* EK_LOOK_PIXELS: red, green, blue, line by line; else NULL */
    guint wide;     /* of them */
    guint high;
    guint8 start[256]; /* its first bytes */
    gsize start_bytes;
} EkPeek;

void ek_peek_clear(EkPeek *peek);

/* How a picture is drawn. */
typedef struct {
    guint columns;
    guint lines;
    guint colors;       /* 0, 16, 256 or 1 << 24 */
    gboolean ascii;     /* no other characters */
    gboolean look_only; /* what takes long is not judged: EK_OPENS_UNCHECKED */
    gboolean pixels;    /* not drawn at all: `columns` and `lines` are the most pixels a side */
} EkPeekCanvas;

typedef struct EkPeeker EkPeeker;

/* `program` is the helper; canvas NULL: only what a file is will be asked. It is started when it is
 * first needed. */
EkPeeker *ek_peeker_new(const char *program, const EkPeekCanvas *canvas);
void ek_peeker_free(EkPeeker *peeker);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkPeeker, ek_peeker_free)

/* Reads a file that lies in these extents (EkExtent) and says what it is. Content that breaks its
 * decoder is an answer, not an error. The caller clears *peek, also after FALSE. */
gboolean ek_peeker_look(EkPeeker *peeker, EkFiles *files, const EkFile *file, const GArray *extents,
                        const gint *cancel, EkPeek *peek, GError **error);

#endif
