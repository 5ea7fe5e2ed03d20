/* SPDX-License-Identifier: MIT */
/* The content of one file, to a descriptor or to a digest. */
#ifndef EK_FILES_WRITING_H
#define EK_FILES_WRITING_H

#include "files/files.h"

/* What is declared beyond what is stored is so much that it is not hashed: days would go by over
 * zeros. Such a file has no digest. */
gboolean ek_writing_is_vast(const EkFile *file, const GArray *extents);

/* Writes the content at the beginning of `fd`, an empty file; zeros and what is not known become
 * holes. `where` is for messages. *sha256 is for the caller to free; NULL for a vast file. */
gboolean ek_writing_content(EkFiles *files, const EkFile *file, const GArray *extents, int fd,
                            const char *where, const gint *cancel, char **sha256, GError **error);

/* The digest of the content, without writing it. NULL with *error when it was interrupted. */
char *ek_writing_digest(EkFiles *files, const EkFile *file, const GArray *extents,
                        const gint *cancel, GError **error);

/* The digest of a file that is there; NULL when it does not read, or with *error when interrupted.
 */
char *ek_writing_digest_of(int folder, const char *name, const gint *cancel, GError **error);

/* Gives the file its times, where the target keeps such. */
void ek_writing_set_times(int fd, const EkFile *file);

#endif
