/* SPDX-License-Identifier: MIT */
/* A JPEG picture from mark to mark (ITU-T T.81), wherever it stands: in a file of its own, in a
 * document, in a camera's raw file. */
#ifndef EK_CARVE_JPEG_H
#define EK_CARVE_JPEG_H

#include "carve/followed.h"
#include "carve/huffman.h"

typedef struct {
    EkContent *content;
    EkFollowed *followed; /* learns date and camera; NULL: nobody asks */
    EkByte first;         /* of the picture */
    EkJpegFrame frame;    /* .is_part: it is part of another file */
    EkByte at;            /* behind it, or where it breaks */
    EkByte index;         /* end of what its index of further pictures names; 0: none */
    EkByte scan;          /* where the data of the first scan begin */
    gboolean scanned;     /* a scan was decoded */
    gboolean has_exif;    /* what a camera tells of a picture that is a file */
    gboolean is_loose;    /* of a kind that is not decoded */
    const char *why;      /* it breaks; NULL: it does not */
} EkJpeg;

/* Follows a picture of which `content` and `first` are set. FALSE where it breaks. */
gboolean ek_jpeg_walk(EkJpeg *jpeg);

#endif
