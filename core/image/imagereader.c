/* SPDX-License-Identifier: MIT */
/* The reader of an image: its bytes, what the read map says of them, and what lies over them. */
#include "image/imagereader.h"

#include <string.h>

typedef struct {
    EkReader reader;
    EkImageReaderParts parts;
    const EkOverlay *repairs; /* of the face; NULL: none */
} ImageReader;

static EkByte image_bytes(const EkReader *reader)
{
    return ek_image_bytes(((const ImageReader *)reader)->parts.image);
}

/* What the image file holds where the map does not vouch for it was on its way when something went
 * wrong: it is not the drive's. */
static void blank_unread(const ImageReader *own, EkByte first, guint8 *buffer, gsize length)
{
    guint32 size = own->parts.sector_size;
    EkByte end = first + length;
    for (EkByte at = first; at < end;) {
        EkStretch stretch = ek_read_map_at(own->parts.map, at / size);
        EkByte stop = MIN(end, (stretch.first + stretch.count) * size);
        if (stretch.mark.state != EK_STATE_GOOD)
            memset(buffer + (at - first), 0, (gsize)(stop - at));
        at = stop;
    }
}

static gboolean image_read(EkReader *reader, EkByte first, guint8 *buffer, gsize length,
                           GError **error)
{
    const ImageReader *own = (const ImageReader *)reader;
    if (!ek_image_read(own->parts.image, first, buffer, length, error))
        return FALSE;
    blank_unread(own, first, buffer, length);
    if (own->parts.kept != NULL)
        ek_overlay_lay(own->parts.kept, first, buffer, length);
    if (own->repairs != NULL)
        ek_overlay_lay(own->repairs, first, buffer, length);
    return TRUE;
}

/* Counts a run of bytes, by the map alone, into `known`. */
static void count_known(const ImageReader *own, EkByte from, EkByte to, EkKnown *known)
{
    guint32 size = own->parts.sector_size;
    while (from < to) {
        EkStretch stretch = ek_read_map_at(own->parts.map, from / size);
        EkByte end = MIN(to, (stretch.first + stretch.count) * size);
        if (stretch.mark.state == EK_STATE_GOOD)
            known->good += end - from;
        else if (stretch.mark.state == EK_STATE_BAD)
            known->bad += end - from;
        else
            known->unread += end - from;
        from = end;
    }
}

static EkKnown image_known(const EkReader *reader, EkByte first, EkByte length)
{
    const ImageReader *own = (const ImageReader *)reader;
    EkKnown known = {0};
    EkByte end = first + length;
    EkRange covered;
    while (own->repairs != NULL && first < end &&
           ek_overlay_next(own->repairs, first, end, &covered)) {
        count_known(own, first, covered.first, &known);
        known.good += covered.bytes;
        first = ek_range_end(covered);
    }
    count_known(own, first, end, &known);
    return known;
}

static gboolean image_next_hole(const EkReader *reader, EkByte from, EkByte limit, EkRange *hole,
                                gboolean *bad)
{
    const ImageReader *own = (const ImageReader *)reader;
    guint32 size = own->parts.sector_size;
    EkStretch stretch;
    while (from < limit &&
           ek_read_map_next(own->parts.map, from / size, EK_STATES_UNREAD, &stretch)) {
        EkByte first = MAX(from, stretch.first * size);
        EkByte end = MIN(limit, (stretch.first + stretch.count) * size);
        EkRange covered;
        if (first >= end)
            return FALSE;
        if (own->repairs != NULL && ek_overlay_next(own->repairs, first, end, &covered)) {
            if (covered.first == first) {
                from = ek_range_end(covered);
                continue;
            }
            end = covered.first;
        }
        *hole = (EkRange){first, end - first};
        *bad = stretch.mark.state == EK_STATE_BAD;
        return TRUE;
    }
    return FALSE;
}

static gboolean image_next_data(EkReader *reader, EkByte from, EkRange *data)
{
    return ek_image_next_data(((ImageReader *)reader)->parts.image, from, data);
}

static void image_free(EkReader *reader)
{
    g_free(reader);
}

EkReader *ek_image_reader_new(const EkImageReaderParts *parts, EkFace face)
{
    static const EkReaderKind kind = {image_bytes,     image_read,      image_known,
                                      image_next_hole, image_next_data, image_free};
    ImageReader *own = g_new0(ImageReader, 1);
    own->reader.kind = &kind;
    own->parts = *parts;
    own->repairs = face == EK_FACE_AS_REPAIRED ? parts->repairs : NULL;
    return &own->reader;
}
