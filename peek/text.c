/* SPDX-License-Identifier: MIT */
/* Text: its encoding, and whether it holds to the end. */
#include "peek.h"

#include <string.h>

#define LONGEST_LINE 4000u

/* Bytes that say no encoding are shown as Western European ones. */
static GIConv western;

gboolean text_prepare(void)
{
    western = g_iconv_open("UTF-8", "WINDOWS-1252");
    return western != (GIConv)-1;
}

static gboolean is_text(const char *mime)
{
    static const char *const others[] = {"application/json", "application/javascript",
                                         "application/xml",  "application/x-ndjson",
                                         "application/csv",  "image/svg+xml"};
    gboolean found = g_str_has_prefix(mime, "text/") || g_str_has_prefix(mime, "message/");
    for (gsize i = 0; !found && i < G_N_ELEMENTS(others); i++)
        found = g_str_equal(mime, others[i]);
    return found;
}

void text_show(const char *text, gsize length, const Canvas *canvas, Finding *finding)
{
    const char *end = text + length;
    finding->look = "text";
    for (guint line = 0; line < canvas->lines && text < end; line++) {
        const char *stop = memchr(text, '\n', (gsize)(end - text));
        gsize bytes = (gsize)((stop != NULL ? stop : end) - text);
        gsize shown = MIN(bytes, LONGEST_LINE);
        while (shown > 0 && shown < bytes && ((guint8)text[shown] & 0xc0) == 0x80)
            shown--;
        if (shown > 0 && text[shown - 1] == '\r')
            shown--;
        g_string_append_len(finding->shown, text, (gssize)shown);
        g_string_append_c(finding->shown, '\n');
        text += bytes + (stop != NULL);
    }
}

static gsize count_lines(const Content *content, guint8 mark)
{
    gsize lines = 0;
    for (gsize i = 0; i < content->length; i++)
        lines += content->bytes[i] == mark;
    return lines + (content->length > 0 && content->bytes[content->length - 1] != mark);
}

static void judge_utf16(const Content *content, const Canvas *canvas, Finding *finding)
{
    gboolean big = content->bytes[0] == 0xfe;
    gsize units = content->length / 2 - 1;
    g_autofree gunichar2 *swapped = g_new(gunichar2, units + 1);
    for (gsize i = 0; i < units; i++) {
        const guint8 *pair = content->bytes + 2 + 2 * i;
        swapped[i] = (gunichar2)(big ? pair[0] << 8 | pair[1] : pair[1] << 8 | pair[0]);
    }
    glong used = 0;
    glong written = 0;
    g_autoptr(GError) error = NULL;
    g_autofree char *text = g_utf16_to_utf8(swapped, (glong)units, &used, &written, &error);
    gboolean has_zero = (gsize)used < units || content->length % 2 != 0;
    if (text == NULL || has_zero)
        finding_says(finding, "no", "it is UTF-16 that breaks off at byte %ld", 2 + 2 * used);
    else
        finding_says(finding, "yes", "UTF-16 without errors");
    if (text != NULL)
        text_show(text, (gsize)written, canvas, finding);
}

/* What is neither ASCII nor UTF-8, as UTF-8. */
static GString *from_western(const guint8 *bytes, gsize length)
{
    GString *converted = g_string_new(NULL);
    for (gsize i = 0; i < length; i++) {
        char one[8];
        char *out = one;
        gsize room = sizeof one;
        char byte = (char)bytes[i];
        char *in = &byte;
        gsize left = 1;
        if (bytes[i] < 0x80)
            g_string_append_c(converted, byte);
        else if (g_iconv(western, &in, &left, &out, &room) == (gsize)-1)
            g_string_append(converted, "\xef\xbf\xbd");
        else
            g_string_append_len(converted, one, (gssize)(sizeof one - room));
    }
    return converted;
}

#define WINDOW 512u
#define FOREIGN_MOST 24u /* control characters in it: noise has twice as many */

/* Where what is no text begins: many control characters close together; the length where there is
 * nothing of that kind. */
static gsize foreign_from(const Content *content)
{
    for (gsize at = 0; at < content->length; at += WINDOW) {
        gsize end = MIN(at + WINDOW, content->length);
        guint foreign = 0;
        for (gsize i = at; i < end; i++) {
            guint8 c = content->bytes[i];
            foreign += (c < 0x20 && strchr("\t\n\r\f\b\033", c) == NULL) || c == 0 || c == 0x7f;
        }
        if (foreign > FOREIGN_MOST)
            return at;
    }
    return content->length;
}

static void judge_bytes(const Content *content, const Canvas *canvas, Finding *finding)
{
    const char *text = (const char *)content->bytes;
    const char *end = NULL;
    gsize lines = count_lines(content, '\n');
    const char *noun = lines == 1 ? "line" : "lines";
    gboolean is_cut = content->length < content->size;
    gboolean valid = g_utf8_validate_len(text, content->length, &end);
    gboolean ascii = TRUE;
    for (gsize i = 0; ascii && i < content->length; i++)
        ascii = content->bytes[i] < 0x80;
    /* The beginning of a long one may end inside a character. */
    valid = valid || (is_cut && content->length - (gsize)(end - text) < 4);
    gsize foreign = foreign_from(content);
    if (foreign < content->length)
        finding_says(finding, "no",
                     "it is text up to byte %" G_GSIZE_FORMAT ", and something else "
                     "from there",
                     foreign);
    else if (is_cut)
        finding_says(finding, "unchecked", "text, of which only the beginning was looked at");
    else if (valid)
        finding_says(finding, "yes", "%" G_GSIZE_FORMAT " %s of text in %s without errors", lines,
                     noun, ascii ? "ASCII" : "UTF-8");
    else
        finding_says(finding, "yes",
                     "%" G_GSIZE_FORMAT
                     " %s of text in 8-bit characters; it does not say which ones",
                     lines, noun);
    if (valid) {
        text_show(text, (gsize)(end - text), canvas, finding);
        return;
    }
    gsize part = MIN(content->length, (gsize)canvas->lines * LONGEST_LINE);
    GString *converted = from_western(content->bytes, part);
    text_show(converted->str, converted->len, canvas, finding);
    g_string_free(converted, TRUE);
}

/* Text in which bytes are zero that never were: no type is found for it, but it is clear enough. */
static gboolean judge_holed(const Content *content, const Canvas *canvas, Finding *finding)
{
    gsize zeros = 0;
    gsize first = content->length;
    for (gsize i = 0; i < content->length; i++) {
        guint8 c = content->bytes[i];
        if (c == 0 && zeros++ == 0)
            first = i;
        if (c != 0 && c < 0x20 && strchr("\t\n\r\f", c) == NULL)
            return FALSE;
    }
    /* One alone may be UTF-16 without its mark. */
    if (zeros == 0 || zeros > content->length / 16 * 15 || first + 1 >= content->length ||
        content->bytes[first + 1] != 0)
        return FALSE;
    finding_says(finding, "no",
                 "it is text in which %" G_GSIZE_FORMAT
                 " bytes are zero, the first of them at byte %" G_GSIZE_FORMAT,
                 zeros, first);
    gsize part = MIN(first, (gsize)canvas->lines * LONGEST_LINE);
    GString *converted = g_utf8_validate_len((const char *)content->bytes, part, NULL)
                             ? g_string_new_len((const char *)content->bytes, (gssize)part)
                             : from_western(content->bytes, part);
    text_show(converted->str, converted->len, canvas, finding);
    g_string_free(converted, TRUE);
    return TRUE;
}

gboolean text_judge(const Content *content, const Canvas *canvas, Finding *finding)
{
    gboolean utf16 =
        content->length >= 2 && ((content->bytes[0] == 0xfe && content->bytes[1] == 0xff) ||
                                 (content->bytes[0] == 0xff && content->bytes[1] == 0xfe));
    if (!is_text(finding->mime))
        return g_str_equal(finding->mime, "application/octet-stream") &&
               judge_holed(content, canvas, finding);
    if (utf16)
        judge_utf16(content, canvas, finding);
    else
        judge_bytes(content, canvas, finding);
    return TRUE;
}
