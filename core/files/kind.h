/* SPDX-License-Identifier: MIT */
/* What a file is for people, as far as its name tells. */
#ifndef EK_FILES_KIND_H
#define EK_FILES_KIND_H

#include <glib.h>

typedef enum {
    EK_KIND_PICTURE,
    EK_KIND_VIDEO,
    EK_KIND_AUDIO,
    EK_KIND_DOCUMENT,
    EK_KIND_MAIL,
    EK_KIND_DATABASE,
    EK_KIND_ARCHIVE,
    EK_KIND_PROGRAM,
    EK_KIND_OTHER,
    EK_KINDS
} EkKind;

/* "pictures", "video" … */
const char *ek_kind_name(EkKind kind);

/* The kind of this name; FALSE when there is none. */
gboolean ek_kind_from_name(const char *name, EkKind *kind);

/* By the part of a file's name behind its last dot. */
EkKind ek_kind_of(const char *file_name);

#endif
