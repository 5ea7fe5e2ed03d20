/* SPDX-License-Identifier: MIT */
/* Numbers and names as people read them. */
#include "base/text.h"

#include "base/bytes.h"

#include <math.h>
#include <string.h>

static char *in_units(guint64 bytes, double base, const char *const *units, int last)
{
    int unit = 0;
    double value = (double)bytes;
    while (value >= base && unit < last) {
        value /= base;
        unit++;
    }
    if (unit == 0)
        return g_strdup_printf("%" G_GUINT64_FORMAT " %s", bytes, units[0]);
    /* 1023.96 KiB must not print as 1024.0 KiB. */
    if (round(value * 10) / 10 >= base && unit < last) {
        value /= base;
        unit++;
    }
    return g_strdup_printf("%.1f %s", value, units[unit]);
}

char *ek_text_size(guint64 bytes)
{
    static const char *const units[] = {"B", "KiB", "MiB", "GiB", "TiB", "PiB", "EiB"};
    return in_units(bytes, 1024, units, 6);
}

char *ek_text_label_size(guint64 bytes)
{
    static const char *const units[] = {"B", "kB", "MB", "GB", "TB", "PB", "EB"};
    char *text = in_units(bytes, 1000, units, 6);
    char *zero = strstr(text, ".0 ");
    if (zero != NULL)
        memmove(zero, zero + 2, strlen(zero + 2) + 1);
    return text;
}

char *ek_text_duration(double seconds)
{
    if (!(seconds > 0))
        seconds = 0;
    if (seconds > 1e9)
        return g_strdup("years");
    if (seconds > 0 && seconds < 0.9995)
        return g_strdup_printf("%.0f ms", MAX(seconds * 1000, 1));
    guint64 s = (guint64)llround(seconds);
    if (s < 60)
        return g_strdup_printf("%d s", (int)s);
    if (s < 3600)
        return g_strdup_printf("%d min %d s", (int)(s / 60), (int)(s % 60));
    if (s < 86400)
        return g_strdup_printf("%d h %d min", (int)(s / 3600), (int)(s / 60 % 60));
    return g_strdup_printf("%d d %d h", (int)(s / 86400), (int)(s / 3600 % 24));
}

char *ek_text_share(guint64 part, guint64 whole)
{
    if (whole == 0 || part >= whole)
        return g_strdup("100 %");
    if (part == 0)
        return g_strdup("0 %");
    double percent = 100.0 * (double)part / (double)whole;
    if (percent < 0.01)
        return g_strdup("<0.01 %");
    if (percent > 99.99)
        return g_strdup(">99.99 %");
    return g_strdup_printf(percent > 99 || percent < 1 ? "%.2f %%" : "%.1f %%", percent);
}

static gboolean is_treacherous(gunichar c)
{
    return c < 0x20 || (c >= 0x7f && c < 0xa0) || c == 0x061c || (c >= 0x200b && c <= 0x200f) ||
           (c >= 0x2028 && c <= 0x202e) || (c >= 0x2066 && c <= 0x2069) || c == 0xfeff;
}

/* `literal`: an ASCII character that stays though it is one of those, 0: none. */
static char *escape(const char *text, gboolean doubles_backslashes, char literal)
{
    GString *out = g_string_new(NULL);
    for (const char *p = text; *p != '\0';) {
        gunichar c = g_utf8_get_char_validated(p, -1);
        if (c == (gunichar)-1 || c == (gunichar)-2) {
            g_string_append_printf(out, "\\x%02X", (guint8)*p++);
            continue;
        }
        if (c == '\\' && doubles_backslashes)
            g_string_append(out, "\\\\");
        else if (is_treacherous(c) && c != (gunichar)literal)
            g_string_append_printf(out, c < 0x100 ? "\\x%02X" : "\\u%04X", c);
        else
            g_string_append_unichar(out, c);
        p = g_utf8_next_char(p);
    }
    return g_string_free(out, FALSE);
}

char *ek_text_escape(const char *name)
{
    return escape(name, TRUE, '\0');
}

char *ek_text_printable(const char *text, gboolean keeps_lines)
{
    return escape(text, FALSE, keeps_lines ? '\n' : '\0');
}

char *ek_text_count(guint64 count, const char *one, const char *many)
{
    return g_strdup_printf("%" G_GUINT64_FORMAT " %s", count, count == 1 ? one : many);
}

char *ek_text_hex(const guint8 *data, gsize length, char separator)
{
    GString *out = g_string_sized_new(length * 3 + 1);
    for (gsize i = 0; i < length; i++) {
        if (i > 0 && separator != '\0')
            g_string_append_c(out, separator);
        g_string_append_printf(out, "%02x", data[i]);
    }
    return g_string_free(out, FALSE);
}

GBytes *ek_text_from_hex(const char *hex)
{
    gsize length = strlen(hex);
    if (length % 2 != 0)
        return NULL;
    g_autofree guint8 *data = g_malloc(length / 2 + 1);
    for (gsize i = 0; i < length; i += 2) {
        int high = g_ascii_xdigit_value(hex[i]);
        int low = g_ascii_xdigit_value(hex[i + 1]);
        if (high < 0 || low < 0)
            return NULL;
        data[i / 2] = (guint8)(high << 4 | low);
    }
    return g_bytes_new_take(g_steal_pointer(&data), length / 2);
}

char *ek_text_time(gint64 unix_seconds)
{
    g_autoptr(GDateTime) time = g_date_time_new_from_unix_local(unix_seconds);
    return time != NULL ? g_date_time_format(time, "%Y-%m-%d %H:%M:%S") : g_strdup("-");
}

gboolean ek_text_parse_u64(const char *text, guint64 *value)
{
    return g_ascii_string_to_unsigned(text, 10, 0, G_MAXUINT64, value, NULL);
}

char *ek_text_utf8(const guint8 *data, gsize length)
{
    GString *text = g_string_new(NULL);
    const char *at = (const char *)data;
    const char *end = at + length;
    while (at < end) {
        const char *valid = NULL;
        gboolean whole = g_utf8_validate_len(at, (gsize)(end - at), &valid);
        g_string_append_len(text, at, valid - at);
        if (!whole)
            g_string_append_printf(text, "\\x%02X", (guint8)*valid++);
        at = valid;
    }
    return g_string_free(text, FALSE);
}

char *ek_text_utf16(const guint8 *data, gsize length, gboolean big_endian)
{
    GString *text = g_string_new(NULL);
    EkSpan span = {data, length};
    gunichar high = 0;
    for (gsize i = 0; i + 2 <= length; i += 2) {
        gunichar unit = big_endian ? ek_span_be16(span, i) : ek_span_le16(span, i);
        gboolean is_low = unit >= 0xdc00 && unit < 0xe000;
        if (high != 0 && is_low) {
            g_string_append_unichar(text, 0x10000 + ((high - 0xd800) << 10) + (unit - 0xdc00));
            high = 0;
            continue;
        }
        if (high != 0)
            g_string_append_unichar(text, 0xfffd);
        high = 0;
        if (unit == 0)
            break;
        if (unit >= 0xd800 && unit < 0xdc00)
            high = unit;
        else
            g_string_append_unichar(text, is_low ? 0xfffd : unit);
    }
    if (high != 0)
        g_string_append_unichar(text, 0xfffd);
    return g_string_free(text, FALSE);
}
