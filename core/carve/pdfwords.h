/* SPDX-License-Identifier: MIT */
/* The bytes and words of a PDF (ISO 32000-1, 7.2), and its tables of where objects are (7.5.4). */
#ifndef EK_CARVE_PDFWORDS_H
#define EK_CARVE_PDFWORDS_H

#include "carve/content.h"

/* A place in a PDF. Who reads its content otherwise sets span.length to 0 before it goes on. */
typedef struct {
    EkContent *content;
    EkByte at;
    EkSpan span; /* bytes in sight, from `span_at` on */
    EkByte span_at;
} EkPdfCursor;

/* The byte there, wherever the cursor stands; -1: there is none. */
int ek_pdf_byte_at(EkPdfCursor *cursor, EkByte at);

/* Does this word begin there? */
gboolean ek_pdf_stands(EkPdfCursor *cursor, EkByte at, const char *word);

/* None that a name or a number has. */
gboolean ek_pdf_is_delimiter(int c);

/* Passes blanks and comments. */
void ek_pdf_pass_blanks(EkPdfCursor *cursor);

/* Passes a string in brackets, or in hexadecimal. FALSE where it breaks. */
gboolean ek_pdf_pass_string(EkPdfCursor *cursor);
gboolean ek_pdf_pass_hex(EkPdfCursor *cursor);

/* Takes a name, a number, a word; into `word` as far as it fits. FALSE where there is none, or a
 * byte in it that no file has outside of strings. */
gboolean ek_pdf_take_word(EkPdfCursor *cursor, char *word, gsize size);

/* --- tables ---------------------------------------------------------------------------------- */

#define EK_PDF_OBJECT_SHOWN 32u

/* Does the object of this number begin with these bytes, behind up to four blanks? Pure. */
gboolean ek_pdf_is_object(EkSpan span, guint64 number);

typedef struct {
    EkByte wrong;   /* the first byte where it names an object and none is; 0: all are there */
    guint64 number; /* of that object */
    EkByte right;   /* the last object before that which is where it says */
} EkPdfTable;

/* A table, to the word behind it: each object that it names is looked at, unless that was not read
 * or lies behind the content. Where not one is where it says, the table is taken for wrong as a
 * whole, and nothing is said. FALSE where the table itself breaks. */
gboolean ek_pdf_pass_table(EkPdfCursor *cursor, EkPdfTable *table);

#endif
