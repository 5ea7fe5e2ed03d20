/* SPDX-License-Identifier: MIT */
/* Hunting beside imaging, in a thread of its own: image --hunt. */
#ifndef EK_CLI_IMAGEHUNT_H
#define EK_CLI_IMAGEHUNT_H

#include "cli.h"
#include "show.h"

typedef struct EkImageHunt EkImageHunt;

/* Begins to look at what is read, and says each new volume unless it is to be quiet. `cancel` as
 * for imaging. NULL when the case is hunted already. */
EkImageHunt *ek_image_hunt_begin(const EkCli *cli, gboolean quiet, const gint *cancel,
                                 GError **error);

/* The lines go above this progress, until it is NULL again. */
void ek_image_hunt_tell(EkImageHunt *hunt, EkProgress *progress);

/* Volumes known so far; from any thread. */
guint ek_image_hunt_count(EkImageHunt *hunt);

/* Looks at the rest, and ends; returns the volumes known, G_MAXUINT when it failed. */
guint ek_image_hunt_end(EkImageHunt *hunt, GError **error);

#endif
