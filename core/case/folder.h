/* SPDX-License-Identifier: MIT */
/* The files inside a case folder. A case may come from an enemy: every file is opened beneath the
 * folder, without following a link on the way, and is looked at before anything in it is changed.
 */
#ifndef EK_CASE_FOLDER_H
#define EK_CASE_FOLDER_H

#include "base/error.h"

/* Opens the file called `name` (a path relative to the folder, "locks/imaging"); `flags` as in
 * open(2). The folder itself may be named through links. EK_ERROR_REFUSED when the file, or a
 * folder on the way, is a symbolic link, when it is no regular file, or, where `flags` let it be
 * changed, when it has a second name (a hard link). Returns a descriptor for the caller to close,
 * or -1. */
int ek_folder_open(const char *folder, const char *name, int flags, GError **error);

/* The same check without keeping it open. A file that does not exist passes. */
gboolean ek_folder_check(const char *folder, const char *name, GError **error);

/* Makes a folder inside, where there is none. */
gboolean ek_folder_make(const char *folder, const char *name, GError **error);

/* Removes a file inside; a link is removed, not what it leads to. */
void ek_folder_remove(const char *folder, const char *name);

/* The lines of a small text file inside, without the space around it; NULL when there is none, or
 * it cannot be read. The caller frees. */
char *ek_folder_text(const char *folder, const char *name);

#endif
