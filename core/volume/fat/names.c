/* SPDX-License-Identifier: MIT */
/* Names: eleven bytes in the code page of whoever wrote them (read as 437, the one of most), or
 * UTF-16 in up to twenty entries. Bytes and units that are no text become \xNN. */
#include "base/text.h"
#include "volume/fat/fat.h"

#define LOWER_BASE 0x08u
#define LOWER_EXTENSION 0x10u

/* Characters that are no name: a separator or a control would lead out of the folder. */
static gboolean is_name_character(gunichar c)
{
    return c >= 0x20 && c != 0x7f && c != '/' && c != '\\';
}

static void append_byte(GString *name, guint8 byte, gboolean lower, gboolean *escaped)
{
    gsize length = 0;
    char raw = (char)byte;
    g_autofree char *text = byte < 0x80 ? g_strndup(&raw, 1)
                                        : g_convert(&raw, 1, "UTF-8", "CP437", NULL, &length, NULL);
    if (text == NULL || !is_name_character(byte)) {
        g_string_append_printf(name, "\\x%02X", byte);
        *escaped = TRUE;
        return;
    }
    g_autofree char *folded = lower ? g_utf8_strdown(text, -1) : g_steal_pointer(&text);
    g_string_append(name, folded);
}

static gsize trimmed(const guint8 *text, gsize length)
{
    while (length > 0 && text[length - 1] == ' ')
        length--;
    return length;
}

char *ek_fat_short_name(const guint8 *name, guint8 case_flags, gboolean *escaped)
{
    GString *out = g_string_new(NULL);
    gsize base = trimmed(name, 8);
    gsize extension = trimmed(name + 8, 3);
    *escaped = FALSE;
    for (gsize i = 0; i < base; i++) {
        /* 05 stands for E5 in the first place, where E5 would say deleted. */
        guint8 byte = i == 0 && name[0] == 0x05 ? 0xe5 : name[i];
        append_byte(out, byte, (case_flags & LOWER_BASE) != 0, escaped);
    }
    if (extension > 0)
        g_string_append_c(out, '.');
    for (gsize i = 0; i < extension; i++)
        append_byte(out, name[8 + i], (case_flags & LOWER_EXTENSION) != 0, escaped);
    return g_string_free(out, FALSE);
}

guint8 ek_fat_name_sum(const guint8 *name)
{
    guint8 sum = 0;
    for (gsize i = 0; i < 11; i++)
        sum = (guint8)((sum >> 1 | sum << 7) + name[i]);
    return sum;
}
