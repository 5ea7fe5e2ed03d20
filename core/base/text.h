/* SPDX-License-Identifier: MIT */
/* Numbers and names as people read them. Every function returns a new string for the caller to
 * g_free. */
#ifndef EK_BASE_TEXT_H
#define EK_BASE_TEXT_H

#include <glib.h>

/* Bytes in binary units: "0 B", "512 B", "149.1 GiB". */
char *ek_text_size(guint64 bytes);

/* Bytes in decimal units, as printed on a drive's label: "160 GB", "2 TB". */
char *ek_text_label_size(guint64 bytes);

/* Seconds as "300 ms", "8 s", "4 min 10 s", "1 h 12 min", "3 d 4 h". */
char *ek_text_duration(double seconds);

/* A share in percent that never says 100 for less than all, nor 0 for more than nothing:
 * "100 %", "99.98 %", "0 %", "<0.01 %". */
char *ek_text_share(guint64 part, guint64 whole);

/* A name from a disk, safe for a terminal: control characters, the C1 range, bidirectional
 * overrides and bytes that are not UTF-8 become \xNN (or \uNNNN), a backslash becomes \\. */
char *ek_text_escape(const char *name);

/* A text that can be shown on a terminal as it is: control characters, marks of direction and bytes
 * that are no UTF-8 become \xNN or \uNNNN, all else (backslashes too) stays; line ends only with
 * `keeps_lines`. Texts that were escaped before come through unchanged. The caller frees. */
char *ek_text_printable(const char *text, gboolean keeps_lines);

/* "1 file", "2 files". */
char *ek_text_count(guint64 count, const char *one, const char *many);

/* Lower-case hex, two digits a byte, with `separator` between bytes (0 for none). */
char *ek_text_hex(const guint8 *data, gsize length, char separator);

/* Bytes from hex digits, two a byte. NULL when there is anything else in it. */
GBytes *ek_text_from_hex(const char *hex);

/* Unix time as local "2026-03-01 14:05". */
char *ek_text_time(gint64 unix_seconds);

/* Bytes that should be UTF-8; what is none is written as \xNN. */
char *ek_text_utf8(const guint8 *data, gsize length);

/* UTF-16 up to its end or the first zero; lone surrogates are written as U+FFFD. */
char *ek_text_utf16(const guint8 *data, gsize length, gboolean big_endian);

/* Reads a whole decimal number with nothing after it. */
gboolean ek_text_parse_u64(const char *text, guint64 *value);

#endif
