/* SPDX-License-Identifier: MIT */
/* Numbers as people type them. */
#ifndef EK_CLI_NUMBERS_H
#define EK_CLI_NUMBERS_H

#include "capture/scheduler.h"

#include <glib.h>

/* "90" or "90s", "15m", "2h", "1h30m": seconds. */
gboolean ek_numbers_duration(const char *text, gint64 *seconds);

/* "65536", "64K", "1M", "2G": bytes, binary units. */
gboolean ek_numbers_size(const char *text, guint64 *bytes);

/* Decimal, or hexadecimal after 0x. `end` is where it ends. */
gboolean ek_numbers_whole(const char *text, guint64 *value, const char **end);

/* A file of lines `first count`, decimal or hexadecimal; # begins a comment: EkSectorRange, in
 * whatever unit the file has. The caller unrefs. NULL with *error, which names file and line. */
GArray *ek_numbers_ranges(const char *path, GError **error);

#endif
