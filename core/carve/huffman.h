/* SPDX-License-Identifier: MIT */
/* Huffman-coded data of JPEG (ITU-T T.81): decoded as far as needed to know whether they are right,
 * no picture is made of them. */
#ifndef EK_CARVE_HUFFMAN_H
#define EK_CARVE_HUFFMAN_H

#include "carve/content.h"

#define EK_JPEG_COMPONENTS 4u
#define EK_JPEG_STEP_BITS 11u

typedef struct {
    guint16 quick[512];                     /* by the next 9 bits: length << 8 | value; 0: longer */
    guint16 steps[1u << EK_JPEG_STEP_BITS]; /* see make_steps in huffman.c */
    guint16 pairs[1u << EK_JPEG_STEP_BITS]; /* two at once, where both can be seen */
    gint32 last[18];                        /* the last code of a length; -1: none */
    gint32 shift[17];                       /* of a code to its value's place */
    guint8 values[256];
    gboolean is_set;
} EkJpegTable;

typedef struct {
    guint8 id;
    guint8 across; /* blocks of it in a unit */
    guint8 down;
    guint32 width; /* in blocks, without what fills the last unit */
    guint32 height;
    guint32 stride; /* in blocks, with it */
    guint32 first;  /* of its blocks among all */
} EkJpegComponent;

typedef struct {
    guint8 kind; /* the marker: 0xc0, 0xc1 or 0xc2; 0: none yet */
    guint16 width;
    guint16 height; /* 0: a later marker tells */
    guint16 interval;
    gboolean is_part; /* of another file: nothing is kept to go on from */
    guint count;
    guint most_across;
    guint most_down;
    EkJpegComponent components[EK_JPEG_COMPONENTS];
    EkJpegTable tables[8]; /* of differences, then of coefficients */
    guint64 *seen;         /* progressive: a bit a coefficient of each block that is not zero */
    guint32 blocks;
    guint scanned; /* bits: components of which a scan was decoded to its end */
    guint scans;
} EkJpegFrame;

/* Takes a frame header, tables. FALSE where they are impossible. */
gboolean ek_jpeg_frame(EkJpegFrame *frame, guint8 marker, EkSpan body);
gboolean ek_jpeg_tables(EkJpegFrame *frame, EkSpan body);

/* Decodes a scan whose header is `body`, from *at to the marker behind it. FALSE where it breaks:
 * *at is then where that was noticed. */
gboolean ek_jpeg_scan(EkContent *content, EkJpegFrame *frame, EkSpan body, EkByte *at);

/* Passes over a scan without decoding it, to the next marker that is none of its own. */
gboolean ek_jpeg_pass_scan(EkContent *content, EkByte *at);

/* Was each component decoded? */
gboolean ek_jpeg_is_done(const EkJpegFrame *frame);

void ek_jpeg_clear(EkJpegFrame *frame);

#endif
