/* SPDX-License-Identifier: MIT */
/* The reader of an image, in one of its two faces. */
#ifndef EK_IMAGE_IMAGEREADER_H
#define EK_IMAGE_IMAGEREADER_H

#include "image/image.h"
#include "image/overlay.h"
#include "image/reader.h"
#include "image/readmap.h"

typedef enum {
    EK_FACE_AS_READ,    /* what the drive gave */
    EK_FACE_AS_REPAIRED /* with the plan applied */
} EkFace;

typedef struct {
    EkImage *image;
    const EkReadMap *map;
    guint32 sector_size;   /* of the map */
    const EkOverlay *kept; /* the bytes as read, where `apply` changed the image file; NULL: none */
    const EkOverlay *repairs; /* what the plan writes; NULL: none */
} EkImageReaderParts;

/* Takes nothing over: the parts must live as long as the reader. The caller frees. */
EkReader *ek_image_reader_new(const EkImageReaderParts *parts, EkFace face);

#endif
