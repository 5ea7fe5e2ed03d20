/* SPDX-License-Identifier: MIT */
/* A JPEG picture from mark to mark (ITU-T T.81), wherever it stands. */
#include "carve/jpeg.h"

#include "carve/exif.h"

#define MARKERS_MOST 4096u
#define PICTURES_MOST 16u

static void take_index(EkJpeg *jpeg, EkSpan body, EkByte at)
{
    gboolean big = ek_span_u8(body, 4) == 'M';
    EkSpan index = ek_span_part(body, 4, body.length);
    gsize ifd = big ? ek_span_be32(index, 4) : ek_span_le32(index, 4);
    guint count = big ? ek_span_be16(index, ifd) : ek_span_le16(index, ifd);
    for (guint i = 0; i < MIN(count, 32); i++) {
        gsize entry = ifd + 2 + 12 * (gsize)i;
        guint tag = big ? ek_span_be16(index, entry) : ek_span_le16(index, entry);
        guint32 bytes = big ? ek_span_be32(index, entry + 4) : ek_span_le32(index, entry + 4);
        gsize list = big ? ek_span_be32(index, entry + 8) : ek_span_le32(index, entry + 8);
        for (gsize k = 0; tag == 0xb002 && k < MIN(bytes / 16, PICTURES_MOST); k++) {
            gsize row = list + 16 * k;
            guint32 size = big ? ek_span_be32(index, row + 4) : ek_span_le32(index, row + 4);
            guint32 offset = big ? ek_span_be32(index, row + 8) : ek_span_le32(index, row + 8);
            if (offset != 0)
                jpeg->index = MAX(jpeg->index, at + 4 + (EkByte)offset + size);
        }
    }
}

static void take_segment(EkJpeg *jpeg, guint8 marker, EkSpan body, EkByte at)
{
    gboolean is_exif = marker == 0xe1 && ek_span_equals(body, 0, "Exif\0", 6);
    jpeg->has_exif = jpeg->has_exif || is_exif;
    if (jpeg->followed != NULL && is_exif)
        ek_exif_take(jpeg->followed, ek_span_part(body, 6, body.length));
    else if (marker == 0xe2 && ek_span_equals(body, 0, "MPF", 4) && jpeg->first == 0)
        take_index(jpeg, body, at);
}

/* One marker with its segment. FALSE at the end, or where it breaks: `why` tells. */
static gboolean take_marker(EkJpeg *jpeg)
{
    EkSpan head = ek_content_some(jpeg->content, jpeg->at, 4);
    if (ek_span_u8(head, 0) != 0xff) {
        jpeg->why = "no marker where one must stand";
        return FALSE;
    }
    guint8 marker = ek_span_u8(head, 1);
    if (marker == 0xff) {
        jpeg->at++;
        return TRUE;
    }
    if (marker == 0xd9) {
        jpeg->at += 2;
        return FALSE;
    }
    guint16 length = ek_span_be16(head, 2);
    EkSpan segment = ek_content_at(jpeg->content, jpeg->at, (gsize)length + 2);
    if (marker < 0xc0 || (marker >= 0xd0 && marker <= 0xd8) || length < 2 || segment.length == 0) {
        jpeg->why = "no marker where one must stand";
        return FALSE;
    }
    EkSpan body = ek_span_part(segment, 4, length - 2u);
    gboolean fine = TRUE;
    if (marker >= 0xc0 && marker <= 0xcf && marker != 0xc4 && marker != 0xc8 && marker != 0xcc) {
        fine = ek_jpeg_frame(&jpeg->frame, marker, body);
        jpeg->is_loose = marker > 0xc2;
    } else if (marker == 0xc4) {
        fine = ek_jpeg_tables(&jpeg->frame, body);
    } else if (marker == 0xdd) {
        jpeg->frame.interval = ek_span_be16(body, 0);
    } else if (marker != 0xda) {
        take_segment(jpeg, marker, body, jpeg->at + 4);
    }
    EkByte scan = jpeg->at + 2 + length;
    if (!fine) {
        jpeg->why = "a table in it is impossible";
        return FALSE;
    }
    jpeg->at = scan;
    if (marker != 0xda)
        return TRUE;
    jpeg->scan = jpeg->scanned ? jpeg->scan : scan;
    jpeg->scanned = TRUE;
    fine = jpeg->is_loose ? ek_jpeg_pass_scan(jpeg->content, &jpeg->at)
                          : ek_jpeg_scan(jpeg->content, &jpeg->frame, body, &jpeg->at);
    if (!fine)
        jpeg->why = "its picture data break";
    return fine;
}

gboolean ek_jpeg_walk(EkJpeg *jpeg)
{
    jpeg->at = jpeg->first + 2;
    for (guint i = 0; i < MARKERS_MOST && take_marker(jpeg); i++)
        ;
    if (jpeg->why == NULL && !(jpeg->scanned && (jpeg->is_loose || ek_jpeg_is_done(&jpeg->frame))))
        jpeg->why = "its picture data end early";
    ek_jpeg_clear(&jpeg->frame);
    return jpeg->why == NULL;
}
