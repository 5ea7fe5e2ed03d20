/* SPDX-License-Identifier: MIT */
/* Names for what is written. */
#include "files/names.h"

#include "base/digest.h"
#include "base/text.h"

#include <string.h>

#define MOST_BYTES 255u
#define MOST_UNITS 255u
#define LONGEST_ENDING 16u

static gboolean is_forbidden(gunichar c)
{
    return c < 0x20 || c == 0x7f || (c < 0x80 && strchr("<>:\"/\\|?*", (int)c) != NULL);
}

/* CON, con.txt, LPT1 …: names of devices to some systems, whatever follows the dot. */
static gboolean is_device_name(const char *name)
{
    static const char *const plain[] = {"con", "prn", "aux", "nul"};
    gsize base = strcspn(name, ".");
    while (base > 0 && name[base - 1] == ' ')
        base--;
    for (gsize i = 0; i < G_N_ELEMENTS(plain); i++)
        if (base == strlen(plain[i]) && g_ascii_strncasecmp(name, plain[i], base) == 0)
            return TRUE;
    return base == 4 &&
           (g_ascii_strncasecmp(name, "com", 3) == 0 || g_ascii_strncasecmp(name, "lpt", 3) == 0) &&
           name[3] >= '1' && name[3] <= '9';
}

static GString *replace_forbidden(const char *name)
{
    GString *safe = g_string_new(NULL);
    for (const char *p = name; *p != '\0';) {
        gunichar c = g_utf8_get_char_validated(p, -1);
        if (c == (gunichar)-1 || c == (gunichar)-2) {
            g_string_append_c(safe, '_');
            p++;
            continue;
        }
        g_string_append_unichar(safe, is_forbidden(c) ? '_' : c);
        p = g_utf8_next_char(p);
    }
    for (gsize end = safe->len; end > 0 && strchr(". ", safe->str[end - 1]) != NULL; end--)
        safe->str[end - 1] = '_';
    if (is_device_name(safe->str))
        g_string_prepend_c(safe, '_');
    return safe;
}

static gsize units_of(const char *text)
{
    gsize units = 0;
    for (const char *p = text; *p != '\0'; p++)
        units += ((guint8)*p & 0xc0) != 0x80 ? ((guint8)*p >= 0xf0 ? 2u : 1u) : 0u;
    return units;
}

/* Keeps the start and the ending, and tells names that begin alike apart. */
static void shorten(GString *safe, const char *name)
{
    guint8 sum[EK_SHA256_BYTES];
    ek_sha256_of(name, strlen(name), sum);
    g_autofree char *mark = ek_text_hex(sum, 4, '\0');
    const char *dot = strrchr(name, '.');
    if (dot == NULL || strlen(dot) > LONGEST_ENDING)
        dot = "";
    g_autofree char *ending = g_strdup(dot);
    gsize keep = MOST_BYTES - strlen(ending) - strlen(mark) - 1;
    keep = MIN(keep, safe->len);
    while (keep > 0 && ((guint8)safe->str[keep] & 0xc0) == 0x80)
        keep--;
    g_string_truncate(safe, keep);
    g_string_append_printf(safe, "~%s%s", mark, ending);
}

char *ek_name_for_target(const char *name, gboolean portable, gboolean *renamed)
{
    GString *safe = portable ? replace_forbidden(name) : g_string_new(name);
    if (safe->len == 0 || g_str_equal(safe->str, ".") || g_str_equal(safe->str, "..") ||
        g_str_has_prefix(safe->str, EK_PART_PREFIX))
        g_string_prepend_c(safe, '_');
    if (safe->len > MOST_BYTES || (portable && units_of(safe->str) > MOST_UNITS))
        shorten(safe, name);
    *renamed = *renamed || !g_str_equal(safe->str, name);
    return g_string_free(safe, FALSE);
}

char *ek_name_numbered(const char *name, guint number)
{
    if (number < 2)
        return g_strdup(name);
    const char *dot = strrchr(name, '.');
    gsize base = dot != NULL && dot != name ? (gsize)(dot - name) : strlen(name);
    g_autofree char *numbered =
        g_strdup_printf("%.*s (%u)%s", (int)base, name, number, name + base);
    gboolean renamed = FALSE;
    return ek_name_for_target(numbered, FALSE, &renamed);
}

gboolean ek_name_needs_portable(const char *filesystem)
{
    static const char *const known[] = {"vfat",  "msdos",   "exfat", "ntfs",
                                        "ntfs3", "fuseblk", "cifs",  "smb3"};
    for (gsize i = 0; filesystem != NULL && i < G_N_ELEMENTS(known); i++)
        if (g_str_equal(filesystem, known[i]))
            return TRUE;
    return FALSE;
}
