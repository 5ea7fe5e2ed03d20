/* SPDX-License-Identifier: MIT */
/* Breaking text into lines, and writing it in ASCII. */
#include "wrap.h"

#include "color.h"

#include <string.h>

static guint columns_of_char(gunichar c)
{
    if (g_unichar_iszerowidth(c))
        return 0;
    return g_unichar_iswide(c) ? 2 : 1;
}

guint ek_show_columns(const char *text)
{
    guint columns = 0;
    while (*text != '\0') {
        gsize code = ek_color_code_length(text);
        gunichar c = g_utf8_get_char_validated(text, -1);
        gboolean is_char = c != (gunichar)-1 && c != (gunichar)-2;
        columns += code > 0 ? 0 : is_char ? columns_of_char(c) : 1;
        text = code > 0 ? text + code : is_char ? g_utf8_next_char(text) : text + 1;
    }
    return columns;
}

/* The units that the program prints behind a number. */
static gboolean is_unit(const char *word)
{
    static const char *const units[] = {"B",  "KiB", "MiB", "GiB",   "TiB",     "PiB", "KB",
                                        "MB", "GB",  "TB",  "PB",    "ms",      "s",   "min",
                                        "h",  "d",   "%",   "bytes", "sectors", "x"};
    gsize length = strcspn(word, ".,;:)/");
    for (gsize i = 0; i < G_N_ELEMENTS(units); i++)
        if (strlen(units[i]) == length && strncmp(word, units[i], length) == 0)
            return TRUE;
    return FALSE;
}

static gboolean is_number(const char *word)
{
    gsize length = strlen(word);
    return length > 0 && g_ascii_isdigit(word[length - 1]) &&
           g_ascii_isdigit(word[strspn(word, "(+-")]);
}

/* Do two words stand in one line, whatever happens? `is_quoted`: the first ends inside quotes. */
static gboolean belongs(const char *word, const char *next, gboolean is_quoted, guint in_command)
{
    if (is_quoted || in_command > 0)
        return TRUE;
    if (is_number(word) && (is_unit(next) || g_ascii_isdigit(*next)))
        return TRUE;
    /* "--scheme gpt": a value is a lower-case word, a number or a placeholder. */
    return g_str_has_prefix(word, "--") && *next != '-' && strpbrk(word, ".,;:)") == NULL;
}

/* Bytes of the next piece that is not broken. */
static gsize piece_at(const char *text)
{
    gsize length = 0;
    gboolean is_quoted = FALSE;
    guint in_command = 0;
    for (;;) {
        gsize word = strcspn(text + length, " ");
        g_autofree char *last = g_strndup(text + length, word);
        for (const char *p = last; *p != '\0'; p++)
            is_quoted ^= *p == '"';
        length += word;
        if (text[length] == '\0')
            return length;
        const char *next = text + length + 1;
        /* "ektypon plan bench-17": the command, its name and the case. */
        in_command = g_str_equal(last, "ektypon") ? 2 : in_command - (in_command > 0);
        if (strpbrk(last, ".,;)") != NULL)
            in_command = 0;
        g_autofree char *following = g_strndup(next, strcspn(next, " "));
        if (*following == '\0' ||
            !belongs(last, following, is_quoted && strchr(next, '"') != NULL, in_command))
            return length;
        length++;
    }
}

static void wrap_line(GString *out, const char *line, guint width, guint first, guint indent)
{
    guint column = first;
    gboolean is_first = TRUE;
    /* Spaces at the front are kept as they are. */
    gsize front = strspn(line, " ");
    g_string_append_len(out, line, (gssize)front);
    column += (guint)front;
    line += front;
    while (*line != '\0') {
        gsize length = piece_at(line);
        g_autofree char *piece = g_strndup(line, length);
        guint columns = ek_show_columns(piece);
        if (!is_first && column + 1 + columns > width) {
            /* What is too wide for that begins further to the left. */
            column = MIN(indent, width - MIN(width, columns));
            g_string_append_printf(out, "\n%*s", (int)column, "");
        } else if (!is_first) {
            g_string_append_c(out, ' ');
            column++;
        }
        g_string_append(out, piece);
        column += columns;
        is_first = FALSE;
        line += length;
        line += *line == ' ';
    }
}

#define LABEL_LEAST 4u
#define LABEL_MOST 16

/* Where further lines begin: below the text of a line that has a label before it ("Read     …"),
 * below one that is indented itself, else at `indent`. */
static guint hanging(const char *line, guint indent)
{
    gsize front = strspn(line, " ");
    if (front >= LABEL_LEAST)
        return (guint)front;
    const char *gap = front == 0 ? strstr(line, "  ") : NULL;
    if (gap != NULL && gap - line < LABEL_MOST && memchr(line, ' ', (gsize)(gap - line)) == NULL)
        return (guint)((gsize)(gap - line) + strspn(gap, " "));
    return indent + (guint)front;
}

char *ek_wrap(const char *text, guint width, guint first, guint indent)
{
    GString *out = g_string_new(NULL);
    for (guint number = 0;; number++) {
        const char *end = strchr(text, '\n');
        g_autofree char *line = end != NULL ? g_strndup(text, (gsize)(end - text)) : g_strdup(text);
        guint start = number == 0 ? first : 0;
        if (start + ek_show_columns(line) <= width)
            g_string_append(out, line);
        else
            wrap_line(out, line, width, start, start > 0 ? indent : hanging(line, indent));
        if (end == NULL)
            return g_string_free(out, FALSE);
        g_string_append_c(out, '\n');
        text = end + 1;
    }
}

char *ek_wrap_ascii(const char *text)
{
    static const struct {
        const char *glyph;
        const char *ascii;
    } glyphs[] = {
        {"…", "~"}, {"·", "."}, {"×", "x"}, {"█", "#"},  {"▓", "#"}, {"▒", "+"}, {"░", "-"},
        {"▏", "|"}, {"▎", "|"}, {"▍", "|"}, {"▌", "|"},  {"▋", "|"}, {"▊", "|"}, {"▉", "#"},
        {"━", "="}, {"─", "-"}, {"┣", "["}, {"┫", "]"},  {"│", "|"}, {"├", "|"}, {"└", "`"},
        {"┃", "|"}, {"╌", "-"}, {"┄", "-"}, {"▀", "\""}, {"▄", "_"}, {"±", "~"}, {"–", "-"},
        {"→", ">"}, {"≥", ">"}, {"µ", "u"},
    };
    GString *out = g_string_new(NULL);
    while (*text != '\0') {
        gsize length = 1;
        const char *ascii = NULL;
        for (gsize i = 0; (guchar)*text >= 0x80 && i < G_N_ELEMENTS(glyphs) && ascii == NULL; i++)
            if (g_str_has_prefix(text, glyphs[i].glyph)) {
                ascii = glyphs[i].ascii;
                length = strlen(glyphs[i].glyph);
            }
        if (ascii != NULL)
            g_string_append(out, ascii);
        else if ((guchar)*text >= 0x80)
            g_string_append_printf(out, "\\x%02x", (guchar)*text);
        else
            g_string_append_c(out, *text);
        text += length;
    }
    return g_string_free(out, FALSE);
}
