/* SPDX-License-Identifier: MIT */
/* What a running imaging shows. */
#ifndef EK_CLI_IMAGEVIEW_H
#define EK_CLI_IMAGEVIEW_H

#include "cli.h"
#include "show.h"
#include "work/imaging.h"

typedef struct EkImageView EkImageView;

/* Shows it on stderr until it is closed. */
EkImageView *ek_image_view_open(const EkCli *cli, EkImaging *imaging);
void ek_image_view_close(EkImageView *view);

/* One line of JSON on stderr (docs/json.md); the `report` of EkImagingChoices. `data` is an
 * EkImageJson. */
typedef struct {
    gint64 clock; /* ns, at the last line */
    EkByte bytes;
} EkImageJson;
void ek_image_view_json(void *data, const EkCaptureProgress *progress);

#endif
