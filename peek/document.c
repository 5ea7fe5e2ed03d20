/* SPDX-License-Identifier: MIT */
/* The words of office files, out of their XML (ECMA-376, OpenDocument 1.3, EPUB 3): paragraphs as
 * lines, cells of a table apart. What is no such XML gives nothing, or nonsense. */
#include "peek.h"

#include <stdlib.h>
#include <string.h>

#define TAG_MOST 64u

gboolean document_has_words(const char *mime, const char *name)
{
    gboolean is_web = g_str_has_suffix(name, ".xhtml") || g_str_has_suffix(name, ".html");
    return g_str_equal(name, "word/document.xml") || g_str_equal(name, "xl/sharedStrings.xml") ||
           (g_str_has_prefix(name, "ppt/slides/slide") && g_str_has_suffix(name, ".xml")) ||
           (g_str_equal(name, "content.xml") && g_str_has_prefix(mime, "application/vnd.oasis")) ||
           (is_web && g_str_has_prefix(mime, "application/epub"));
}

static gboolean is_one_of(const char *tag, const char *names)
{
    g_autofree char *part = g_strdup_printf(" %s ", tag);
    return strstr(names, part) != NULL;
}

typedef struct {
    GString *text;
    guint rows;   /* that are open: of tables in tables, too */
    guint silent; /* elements that are open and are not read */
} Words;

static void end_line(Words *words)
{
    gsize length = words->text->len;
    while (length > 0 && strchr(" \t", words->text->str[length - 1]) != NULL)
        length--;
    g_string_truncate(words->text, length);
    /* One empty line says as much as many. */
    if (length > 0 && !g_str_has_suffix(words->text->str, "\n\n"))
        g_string_append_c(words->text, '\n');
}

static void take_tag(Words *words, const char *tag, gboolean opens, gboolean closes)
{
    if (is_one_of(tag, " script style head office:annotation ")) {
        words->silent += opens && !closes;
        words->silent -= !opens && words->silent > 0;
    } else if (is_one_of(tag, " table:table-row w:tr a:tr tr row ")) {
        words->rows += opens && !closes;
        words->rows -= !opens && words->rows > 0;
        if (!opens)
            end_line(words);
    } else if (is_one_of(tag, " table:table-cell w:tc a:tc td th c w:tab text:tab ")) {
        if (closes)
            g_string_append_c(words->text, '\t');
    } else if (is_one_of(tag, " text:s ")) {
        g_string_append_c(words->text, ' ');
    } else if (closes && words->rows > 0 && is_one_of(tag, " w:p text:p a:p p ")) {
        g_string_append_c(words->text, ' ');
    } else if (closes &&
               is_one_of(tag, " w:p text:p text:h a:p si p h1 h2 h3 h4 li div br w:br ")) {
        end_line(words);
    }
}

/* A tag begins at `at`: takes it without its attributes. Returns what follows it. */
static const char *pass_tag(Words *words, const char *at, const char *end)
{
    char tag[TAG_MOST];
    const char *stop = memchr(at, '>', (gsize)(end - at));
    if (stop == NULL)
        return end;
    gboolean opens = at[1] != '/';
    gboolean closes = !opens || stop[-1] == '/';
    const char *name = at + (opens ? 1 : 2);
    gsize length = 0;
    while (name + length < stop && length < TAG_MOST - 1 &&
           strchr(" \t\r\n/", name[length]) == NULL)
        length++;
    memcpy(tag, name, length);
    tag[length] = '\0';
    take_tag(words, tag, opens, closes);
    return stop + 1;
}

/* An entity begins at `at`. Returns what follows it. */
static const char *pass_entity(Words *words, const char *at, const char *end)
{
    static const struct {
        const char *name;
        char character;
    } named[] = {{"&amp;", '&'}, {"&lt;", '<'}, {"&gt;", '>'}, {"&quot;", '"'}, {"&apos;", '\''}};
    gsize left = (gsize)(end - at);
    for (gsize i = 0; i < G_N_ELEMENTS(named); i++) {
        gsize length = strlen(named[i].name);
        if (left >= length && memcmp(at, named[i].name, length) == 0) {
            g_string_append_c(words->text, named[i].character);
            return at + length;
        }
    }
    const char *stop = memchr(at, ';', MIN(left, 12));
    if (left > 3 && at[1] == '#' && stop != NULL) {
        gboolean hex = at[2] == 'x';
        guint64 number = g_ascii_strtoull(at + (hex ? 3 : 2), NULL, hex ? 16 : 10);
        if (number >= 0x20 && g_unichar_validate((gunichar)MIN(number, G_MAXUINT32)))
            g_string_append_unichar(words->text, (gunichar)number);
        return stop + 1;
    }
    g_string_append_c(words->text, '&');
    return at + 1;
}

void document_show(const guint8 *xml, gsize length, const Canvas *canvas, Finding *finding)
{
    Words words = {.text = g_string_new(NULL)};
    const char *at = (const char *)xml;
    const char *end = at + length;
    while (at < end) {
        if (*at == '<') {
            at = pass_tag(&words, at, end);
        } else if (words.silent > 0) {
            at++;
        } else if (*at == '&') {
            at = pass_entity(&words, at, end);
        } else {
            /* Line ends in XML are blanks, and blanks between tags are nothing. */
            gboolean is_blank = strchr("\r\n\t ", *at) != NULL && *at != '\0';
            gboolean is_needed = words.text->len > 0 &&
                                 strchr("\n\t ", words.text->str[words.text->len - 1]) == NULL;
            if (!is_blank)
                g_string_append_c(words.text, *at);
            else if (is_needed)
                g_string_append_c(words.text, ' ');
            at++;
        }
    }
    g_strchomp(words.text->str);
    words.text->len = strlen(words.text->str);
    if (words.text->len > 0) {
        g_string_truncate(finding->shown, 0);
        text_show(words.text->str, words.text->len, canvas, finding);
    }
    g_string_free(words.text, TRUE);
}
