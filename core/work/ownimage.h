/* SPDX-License-Identifier: MIT */
/* The image of a case, before it is written to. Where the image is inside the case folder the
 * folder says whose it is. Anywhere else the case only claims it: a path in a database may lead to
 * anything by now, and was perhaps written there by somebody else. So what is at the path has to
 * prove that it is this case's image, or be blank. */
#ifndef EK_WORK_OWNIMAGE_H
#define EK_WORK_OWNIMAGE_H

#include "work/guard.h"

/* Opens the image for writing, after all checks. `confirmed` is the name of the image file or
 * device, given by the user: a case that came from another machine or user asks for it once, when
 * its image is outside its folder. EK_ERROR_REFUSED when anything speaks against it. */
EkImage *ek_ownimage_open(const EkGuard *guard, const char *confirmed, GError **error);

/* The image of a case was moved: from now on it is the one at `path`. That has to be as long, and
 * to prove that it is it: by the case's id beside it, or by data that was read. An adopted image,
 * of which no data is vouched for, is confirmed by its name. EK_ERROR_REFUSED when it is not. */
gboolean ek_ownimage_move(EkCase *opened, const char *path, const char *confirmed, GError **error);

/* Leaves the case's id beside an image file outside of the case folder, and takes it away again. */
gboolean ek_ownimage_mark(const char *image, const char *id, GError **error);
void ek_ownimage_unmark(const char *image);

#endif
