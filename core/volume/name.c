/* SPDX-License-Identifier: MIT */
/* Names of files from other character sets. */
#include "base/bytes.h"
#include "volume/file.h"

#include <string.h>

static gboolean is_high(guint16 unit)
{
    return unit >= 0xd800 && unit < 0xdc00;
}

static gboolean is_low(guint16 unit)
{
    return unit >= 0xdc00 && unit < 0xe000;
}

void ek_name_made(GString *out, guint64 number)
{
    g_string_printf(out, "folder %" G_GUINT64_FORMAT, ek_number_inside(number));
}

gboolean ek_name_utf16(GString *out, EkSpan units, gboolean big_endian)
{
    gboolean escaped = FALSE;
    for (gsize i = 0; i + 2 <= units.length; i += 2) {
        guint16 unit = big_endian ? ek_span_be16(units, i) : ek_span_le16(units, i);
        guint16 next = big_endian ? ek_span_be16(units, i + 2) : ek_span_le16(units, i + 2);
        if (unit != 0 && unit != '/' && unit < 0x80) {
            g_string_append_c(out, (char)unit);
        } else if (is_high(unit) && is_low(next)) {
            g_string_append_unichar(out, 0x10000u + ((unit - 0xd800u) << 10) + (next - 0xdc00u));
            i += 2;
        } else if (unit == 0 || unit == '/' || is_high(unit) || is_low(unit)) {
            g_string_append_printf(out, "\\x%02X\\x%02X", units.data[i], units.data[i + 1]);
            escaped = TRUE;
        } else {
            g_string_append_unichar(out, unit);
        }
    }
    return escaped;
}

gboolean ek_name_utf8(GString *out, EkSpan bytes)
{
    const char *at = (const char *)bytes.data;
    const char *end = at + bytes.length;
    gboolean escaped = FALSE;
    while (at < end) {
        const char *valid = NULL;
        g_utf8_validate_len(at, (gsize)(end - at), &valid);
        for (const char *slash; (slash = memchr(at, '/', (gsize)(valid - at))) != NULL;) {
            g_string_append_len(out, at, slash - at);
            g_string_append(out, "\\x2F");
            escaped = TRUE;
            at = slash + 1;
        }
        g_string_append_len(out, at, valid - at);
        at = valid;
        if (at < end) {
            g_string_append_printf(out, "\\x%02X", (guint8)*at++);
            escaped = TRUE;
        }
    }
    return escaped;
}
