/* SPDX-License-Identifier: MIT */
/* Numbers as people type them. */
#include "numbers.h"

#include <errno.h>
#include <string.h>

static const char *skip_blanks(const char *text)
{
    while (g_ascii_isspace(*text))
        text++;
    return text;
}

gboolean ek_numbers_whole(const char *text, guint64 *value, const char **end)
{
    gboolean hex = text[0] == '0' && (text[1] == 'x' || text[1] == 'X');
    const char *digits = hex ? text + 2 : text;
    char *stop = NULL;
    if (hex ? !g_ascii_isxdigit(*digits) : !g_ascii_isdigit(*digits))
        return FALSE;
    errno = 0;
    *value = g_ascii_strtoull(digits, &stop, hex ? 16 : 10);
    *end = stop;
    return errno == 0;
}

gboolean ek_numbers_duration(const char *text, gint64 *seconds)
{
    static const char units[] = "hms";
    static const gint64 worth[] = {3600, 60, 1};
    static const char *const words[] = {"hours",  "hour", "minutes", "minute", "min", "seconds",
                                        "second", "sec",  "h",       "m",      "s"};
    gsize next = 0; /* the largest unit that may still come */
    *seconds = 0;
    do {
        guint64 value = 0;
        if (!ek_numbers_whole(text, &value, &text) || value > G_MAXINT32)
            return FALSE;
        text = skip_blanks(text);
        const char *unit = *text == '\0' ? units + 2 : strchr(units + next, *text);
        if (unit == NULL)
            return FALSE;
        *seconds += (gint64)value * worth[unit - units];
        next = (gsize)(unit - units) + 1;
        for (gsize i = 0; i < G_N_ELEMENTS(words); i++)
            if (g_str_has_prefix(text, words[i])) {
                text += strlen(words[i]);
                break;
            }
        text = skip_blanks(text);
    } while (*text != '\0' && next < sizeof units - 1);
    return *text == '\0' && *seconds > 0;
}

gboolean ek_numbers_size(const char *text, guint64 *bytes)
{
    static const char units[] = "KMGT";
    const char *end = NULL;
    if (!ek_numbers_whole(text, bytes, &end))
        return FALSE;
    end = skip_blanks(end);
    if (g_ascii_strcasecmp(end, "B") == 0)
        return TRUE;
    const char *unit = *end != '\0' ? strchr(units, g_ascii_toupper(*end)) : NULL;
    if (*end != '\0' && unit == NULL)
        return FALSE;
    guint shift = unit != NULL ? 10 * (guint)(unit - units + 1) : 0;
    if (*bytes > (guint64)G_MAXINT64 >> shift)
        return FALSE;
    *bytes <<= shift;
    end += unit != NULL;
    /* 2M, 2MB and 2MiB are the same. */
    if (unit != NULL && g_ascii_strncasecmp(end, "ib", 2) == 0)
        end += 2;
    else if (unit != NULL && g_ascii_toupper(*end) == 'B')
        end++;
    return *end == '\0';
}

GArray *ek_numbers_ranges(const char *path, GError **error)
{
    g_autofree char *contents = NULL;
    if (!g_file_get_contents(path, &contents, NULL, error))
        return NULL;
    g_autoptr(GArray) ranges = g_array_new(FALSE, FALSE, sizeof(EkSectorRange));
    int number = 0;
    for (char *next = contents; next != NULL;) {
        char *line = next;
        next = strchr(line, '\n');
        if (next != NULL)
            *next++ = '\0';
        number++;
        EkSectorRange range;
        const char *at = skip_blanks(line);
        if (*at == '\0' || *at == '#')
            continue;
        gboolean fine = ek_numbers_whole(at, &range.first, &at) && g_ascii_isspace(*at) &&
                        ek_numbers_whole(skip_blanks(at), &range.count, &at) &&
                        *skip_blanks(at) == '\0';
        if (!fine || range.count == 0 || range.first > G_MAXINT64 / 2 ||
            range.count > G_MAXINT64 / 2) {
            ek_error_set(error, EK_ERROR_DAMAGED,
                         "%s:%d: a line is `first count`, two whole numbers, decimal or 0x…, the "
                         "second at least 1",
                         path, number);
            return NULL;
        }
        g_array_append_val(ranges, range);
    }
    return g_steal_pointer(&ranges);
}
