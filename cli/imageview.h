/* SPDX-License-Identifier: MIT */
/* What a running imaging shows. */
#ifndef EK_CLI_IMAGEVIEW_H
#define EK_CLI_IMAGEVIEW_H

#include "cli.h"
#include "imagehunt.h"
#include "show.h"
#include "work/imaging.h"

typedef struct EkImageView EkImageView;

/* Shows it on stderr until it is closed. `hunt` is NULL unless it hunts as well. */
EkImageView *ek_image_view_open(const EkCli *cli, EkImaging *imaging, EkImageHunt *hunt);
void ek_image_view_close(EkImageView *view);

/* A line above what is shown; any thread may. */
void ek_image_view_note(EkImageView *view, const char *text);

/* One line of JSON on stderr (docs/json.md); the `report` of EkImagingChoices. `data` is an
 * EkImageJson. */
typedef struct {
    gint64 clock; /* ns, at the last line */
    EkByte bytes;
    EkImageHunt *hunt; /* NULL unless it hunts as well */
} EkImageJson;
void ek_image_view_json(void *data, const EkCaptureProgress *progress);

#endif
