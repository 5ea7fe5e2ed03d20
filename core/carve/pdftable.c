/* SPDX-License-Identifier: MIT */
/* The table of a PDF that tells where each object begins: lines of a place, a generation, and
 * whether it is in use, behind two numbers for the first object and how many there are. */
#include "carve/pdfwords.h"

#include <string.h>

#define TOKENS_MOST 20000000u
#define BLANKS_MOST 4u

static gboolean is_blank(guint8 c)
{
    return c == ' ' || c == '\r' || c == '\n' || c == '\t';
}

static gsize pass_digits(EkSpan span, gsize at, guint64 *number)
{
    *number = 0;
    gsize first = at;
    for (; at < span.length && at < first + 18 && g_ascii_isdigit(span.data[at]); at++)
        *number = *number * 10 + (guint64)(span.data[at] - '0');
    return at;
}

static gsize pass_some_blanks(EkSpan span, gsize at)
{
    gsize first = at;
    while (at < span.length && at < first + BLANKS_MOST && is_blank(span.data[at]))
        at++;
    return at;
}

gboolean ek_pdf_is_object(EkSpan span, guint64 number)
{
    guint64 own = 0;
    guint64 generation = 0;
    gsize first = pass_some_blanks(span, 0);
    gsize at = pass_digits(span, first, &own);
    if (at == first || own != number || !is_blank(ek_span_u8(span, at)))
        return FALSE;
    first = pass_some_blanks(span, at);
    at = pass_digits(span, first, &generation);
    return at > first && ek_span_equals(span, pass_some_blanks(span, at), "obj", 3);
}

/* What is looked for on a way through the table. */
typedef struct {
    EkContent *content;
    EkPdfTable *table;
    gboolean seeks_right; /* the last right one before the first wrong one, which is known */
    gboolean has_right;
} Way;

static void look_at(Way *way, guint64 number, guint64 place)
{
    EkPdfTable *table = way->table;
    EkByte bytes = ek_content_bytes(way->content);
    if (place == 0 || place + EK_PDF_OBJECT_SHOWN > bytes ||
        (way->seeks_right && (place >= table->wrong || place <= table->right)) ||
        (!way->seeks_right && way->has_right && table->wrong != 0 && place >= table->wrong) ||
        ek_content_has_hole(way->content, place, EK_PDF_OBJECT_SHOWN))
        return;
    gboolean is_right =
        ek_pdf_is_object(ek_content_some(way->content, place, EK_PDF_OBJECT_SHOWN), number);
    way->has_right = way->has_right || is_right;
    if (way->seeks_right && is_right) {
        table->right = place;
    } else if (!way->seeks_right && !is_right && (table->wrong == 0 || place < table->wrong)) {
        table->wrong = place;
        table->number = number;
    }
}

static gboolean go_through(EkPdfCursor *cursor, Way *way)
{
    char word[32];
    guint64 numbers[2] = {0}; /* before a word */
    guint count = 0;
    guint64 next = 0; /* object */
    for (guint i = 0; i < TOKENS_MOST; i++) {
        ek_pdf_pass_blanks(cursor);
        if (!ek_pdf_take_word(cursor, word, sizeof word))
            return FALSE;
        if (strcmp(word, "trailer") == 0)
            return TRUE;
        gboolean is_used = strcmp(word, "n") == 0;
        if (!g_ascii_isdigit(*word) && !is_used && strcmp(word, "f") != 0)
            return FALSE;
        if (g_ascii_isdigit(*word)) {
            /* Three in a row: the first two were of the next part. */
            if (count == 2) {
                next = numbers[0];
                count = 0;
            }
            numbers[count++] = g_ascii_strtoull(word, NULL, 10);
            continue;
        }
        if (is_used && count == 2) {
            look_at(way, next, numbers[0]);
            cursor->span.length = 0;
        }
        next++;
        count = 0;
    }
    return FALSE;
}

gboolean ek_pdf_pass_table(EkPdfCursor *cursor, EkPdfTable *table)
{
    EkByte first = cursor->at;
    Way way = {.content = cursor->content, .table = table};
    *table = (EkPdfTable){0};
    if (!go_through(cursor, &way))
        return FALSE;
    if (table->wrong == 0)
        return TRUE;
    if (!way.has_right) {
        *table = (EkPdfTable){0};
        return TRUE;
    }
    EkByte end = cursor->at;
    cursor->at = first;
    way.seeks_right = TRUE;
    gboolean fine = go_through(cursor, &way);
    cursor->at = end;
    return fine;
}
