/* SPDX-License-Identifier: MIT */
/* The bytes and words of a PDF. */
#include "carve/pdfwords.h"

#include <string.h>

#define STRING_MOST (1u << 20)
#define BINARY_MOST 16384u /* bytes of a string that is no ASCII */
#define ZEROS_MOST 64u     /* that stand in a row */

int ek_pdf_byte_at(EkPdfCursor *cursor, EkByte at)
{
    if (at < cursor->span_at || at - cursor->span_at >= cursor->span.length) {
        cursor->span = ek_content_some(cursor->content, at, 16384);
        cursor->span_at = at;
        if (cursor->span.length == 0)
            return -1;
    }
    return cursor->span.data[at - cursor->span_at];
}

static gboolean is_blank(int c)
{
    return c == ' ' || c == '\r' || c == '\n' || c == '\t' || c == '\f' || c == 0;
}

gboolean ek_pdf_is_delimiter(int c)
{
    return c >= 0 && strchr("()<>[]{}/%", c) != NULL && c != 0;
}

gboolean ek_pdf_stands(EkPdfCursor *cursor, EkByte at, const char *word)
{
    for (; *word != '\0'; word++, at++)
        if (ek_pdf_byte_at(cursor, at) != (guint8)*word)
            return FALSE;
    return TRUE;
}

/* Blanks and comments; an end mark is no comment. Blocks of zeros are no blanks: files end there.
 */
void ek_pdf_pass_blanks(EkPdfCursor *cursor)
{
    guint zeros = 0;
    for (;;) {
        int c = ek_pdf_byte_at(cursor, cursor->at);
        zeros = c == 0 ? zeros + 1 : 0;
        if (is_blank(c) && zeros < ZEROS_MOST) {
            cursor->at++;
        } else if (c == '%' && !ek_pdf_stands(cursor, cursor->at, "%%EOF") &&
                   !ek_pdf_stands(cursor, cursor->at, "%PDF-")) {
            for (guint i = 0; i < 4096 && c != '\r' && c != '\n' && c >= 0; i++)
                c = ek_pdf_byte_at(cursor, ++cursor->at);
        } else {
            return;
        }
    }
}

gboolean ek_pdf_pass_string(EkPdfCursor *cursor)
{
    guint depth = 0;
    EkByte limit = cursor->at + STRING_MOST;
    EkByte first = cursor->at;
    guint zeros = 0;
    gboolean is_binary = FALSE;
    do {
        int c = ek_pdf_byte_at(cursor, cursor->at);
        zeros = c == 0 ? zeros + 1 : 0;
        is_binary = is_binary || c >= 0x7f || (c < ' ' && !is_blank(c));
        if (c < 0 || cursor->at > limit || zeros >= ZEROS_MOST ||
            (is_binary && cursor->at > first + BINARY_MOST))
            return FALSE;
        if (c == '\\')
            cursor->at++;
        depth += c == '(' ? 1 : 0;
        depth -= c == ')' ? 1 : 0;
        cursor->at++;
    } while (depth > 0);
    return TRUE;
}

gboolean ek_pdf_pass_hex(EkPdfCursor *cursor)
{
    EkByte limit = cursor->at + STRING_MOST;
    cursor->at++;
    for (;;) {
        int c = ek_pdf_byte_at(cursor, cursor->at++);
        if (c == '>')
            return TRUE;
        if (cursor->at > limit || (!is_blank(c) && (c < 0 || !g_ascii_isxdigit(c))))
            return FALSE;
    }
}

gboolean ek_pdf_take_word(EkPdfCursor *cursor, char *word, gsize size)
{
    gsize length = 0;
    int c = ek_pdf_byte_at(cursor, cursor->at);
    if (c == '/') {
        word[length++] = '/';
        c = ek_pdf_byte_at(cursor, ++cursor->at);
    }
    while (c > 0 && !is_blank(c) && !ek_pdf_is_delimiter(c)) {
        if (c < 0x20 || length > 4096)
            return FALSE;
        if (length + 1 < size)
            word[length] = (char)c;
        length++;
        c = ek_pdf_byte_at(cursor, ++cursor->at);
    }
    word[MIN(length, size - 1)] = '\0';
    return length > 0;
}
