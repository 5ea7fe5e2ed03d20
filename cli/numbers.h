/* SPDX-License-Identifier: MIT */
/* Numbers as people type them. */
#ifndef EK_CLI_NUMBERS_H
#define EK_CLI_NUMBERS_H

#include <glib.h>

/* "90" or "90s", "15m", "2h", "1h30m": seconds. */
gboolean ek_numbers_duration(const char *text, gint64 *seconds);

/* "65536", "64K", "1M", "2G": bytes, binary units. */
gboolean ek_numbers_size(const char *text, guint64 *bytes);

/* Decimal, or hexadecimal after 0x. `end` is where it ends. */
gboolean ek_numbers_whole(const char *text, guint64 *value, const char **end);

#endif
