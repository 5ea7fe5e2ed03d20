/* SPDX-License-Identifier: MIT */
/* What a hunt saw, and what of that belongs to no volume. */
#ifndef EK_WORK_SEEN_H
#define EK_WORK_SEEN_H

#include "case/volumestore.h"

/* Records of a format, of its table of files or of its folders, that no volume explains. */
typedef struct {
    const char *format; /* "ntfs" */
    guint64 count;
    EkRange where; /* from the first to the last */
    guint volume;  /* that lists what is left of them among its deleted files; 0: none does */
} EkStray;

typedef struct {
    guint64 headers; /* boot sectors and superblocks */
    guint64 tables;
    guint64 records;
    GArray *strays; /* EkStray */
} EkSeen;

/* `volumes` are those of the case (EkCaseVolume*). What lies in one of the same format belongs to
 * it, unless that calls the place free; with `reader` NULL that is not asked. */
gboolean ek_seen_gather(EkSeen *seen, EkCase *opened, EkReader *reader, const GPtrArray *volumes,
                        GError **error);
void ek_seen_clear(EkSeen *seen);
G_DEFINE_AUTO_CLEANUP_CLEAR_FUNC(EkSeen, ek_seen_clear)

#endif
