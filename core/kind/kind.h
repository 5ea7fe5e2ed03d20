/* SPDX-License-Identifier: MIT */
/* What a file is for people, as far as its name or its media type tells. */
#ifndef EK_KIND_KIND_H
#define EK_KIND_KIND_H

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

/* A type of content, as far as its name and its first bytes say. */
typedef struct {
    const char *name; /* "jpeg" */
    EkKind kind;
    const char *ends;  /* of file names, each between spaces: " jpg jpeg " */
    const char *media; /* what its media type begins with (RFC 6838); NULL: it has none */
    guint8 offset;     /* where `start` stands */
    guint8 length;     /* of it; 0: it has no fixed beginning */
    const char *start;
} EkContentType;

/* The type of a file by the part of its name behind the last dot; NULL: none that is known. */
const EkContentType *ek_content_type_of(const char *file_name);

/* "pictures", "video" … */
const char *ek_kind_name(EkKind kind);

/* The kind of this name; FALSE when there is none. */
gboolean ek_kind_from_name(const char *name, EkKind *kind);

/* By the part of a file's name behind its last dot. */
EkKind ek_kind_of(const char *file_name);

/* By the media type of its content (RFC 6838), as "image/png". */
EkKind ek_kind_of_mime(const char *mime);

#endif
