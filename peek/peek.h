/* SPDX-License-Identifier: MIT */
/* The helper program: says what content is, whether it opens, and shows a bit of it. It is given
 * bytes and gives text back; anything else it can do no more once it is locked (lock.c). */
#ifndef EK_PEEK_H
#define EK_PEEK_H

#include <gdk-pixbuf/gdk-pixbuf.h>

typedef struct {
    const guint8 *bytes;
    gsize length;
    guint64 size;     /* of the file: more than `length` when only its beginning is here */
    gsize end_length; /* bytes of its end that follow those of its beginning */
} Content;

/* How much is shown, and with what. */
typedef struct {
    guint columns;
    guint lines;
    guint colors; /* 0, 16, 256 or 1 << 24 */
    gboolean ascii;
    gboolean pixels;    /* columns and lines of them, and nothing is drawn */
    gboolean look_only; /* what takes long is not judged */
} Canvas;

typedef struct {
    char *type;        /* in words */
    char *mime;        /* media type */
    const char *opens; /* "yes", "no" or "unchecked" */
    char *why;
    const char *look; /* "none", "text", "list" or "picture" */
    GString *shown;
} Finding;

/* Says how it opens; `format` the reason. */
void finding_says(Finding *finding, const char *opens, const char *format, ...) G_GNUC_PRINTF(3, 4);

/* Each loads what it needs from files before the lock; FALSE when it cannot. */
gboolean type_prepare(void);
gboolean picture_prepare(void);
gboolean text_prepare(void);
gboolean archive_prepare(void);
gboolean film_prepare(void);
gboolean page_prepare(void);

/* Type and media type, from the bytes alone. */
void type_find(const Content *content, Finding *finding);

/* Each judges content if its media type is one of its own, else returns FALSE. */
gboolean picture_judge(const Content *content, const Canvas *canvas, Finding *finding);
/* What is wrong inside a JPEG, though most programs show it; NULL: nothing, or, with *starved,
 * memory did not suffice to tell. The caller frees. */
char *jpeg_fault(const Content *content, gboolean *starved);
/* Shows a picture that lies in another file, without judging that by it, unless one of its sides
 * has fewer pixels than `least`, or it does not decode. */
void picture_show(const guint8 *bytes, gsize length, int least, const Canvas *canvas,
                  Finding *finding);
void picture_draw(const GdkPixbuf *picture, const Canvas *canvas, Finding *finding);
/* Films and recordings, where libraries that decode them were there to build it with. */
gboolean film_judge(const Content *content, const Canvas *canvas, Finding *finding);
/* Shows the first page of a PDF or its words, where a library for that was there to build it with.
 */
void page_show(const Content *content, const Canvas *canvas, Finding *finding);
/* Shows a picture that lies in a film or a PDF, where nothing else is shown of it. */
void embedded_show(const Content *content, const Canvas *canvas, Finding *finding);
gboolean archive_judge(const Content *content, const Canvas *canvas, Finding *finding);
/* The first lines of UTF-8. */
void text_show(const char *text, gsize length, const Canvas *canvas, Finding *finding);

/* Does this entry of an archive of this type hold the words of an office file? */
gboolean document_has_words(const char *mime, const char *name);
/* Shows them, in the place of anything else. */
void document_show(const guint8 *xml, gsize length, const Canvas *canvas, Finding *finding);
gboolean text_judge(const Content *content, const Canvas *canvas, Finding *finding);

/* From here on: no files but fonts that pages lack, no network, no other program, bounded memory
 * and processor time. FALSE when the system cannot do that. */
gboolean lock_down(void);

#endif
