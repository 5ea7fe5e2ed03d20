/* SPDX-License-Identifier: MIT */
/* A picture that another file carries. */
#include "carve/cover.h"

#include "carve/jpeg.h"

#define CHUNKS_MOST 65536u

static gboolean is_right_jpeg(EkContent *content, EkByte first, EkByte end)
{
    EkJpeg jpeg = {.content = content, .first = first, .frame = {.is_part = TRUE}};
    return ek_jpeg_walk(&jpeg) && !jpeg.is_loose && jpeg.at == end;
}

/* Chunks with their checksums, to the last one (ISO/IEC 15948, 5.3). */
static gboolean is_right_png(EkContent *content, EkByte first, EkByte end)
{
    EkByte at = first + 8;
    for (guint i = 0; i < CHUNKS_MOST && at + 12 <= end; i++) {
        EkSpan head = ek_content_some(content, at, 8);
        guint32 length = ek_span_be32(head, 0);
        gboolean is_last = ek_span_equals(head, 4, "IEND", 4);
        guint32 sum = 0;
        if (head.length < 8 || length > end - at - 12 ||
            !ek_content_crc32(content, at + 4, (EkByte)length + 4, &sum) ||
            ek_span_be32(ek_content_some(content, at + 8 + length, 4), 0) != sum)
            return FALSE;
        at += (EkByte)length + 12;
        if (is_last)
            return at == end;
    }
    return FALSE;
}

gboolean ek_cover_is_right(EkContent *content, EkByte first, EkByte end)
{
    EkSpan head = ek_content_some(content, first, 8);
    if (ek_span_equals(head, 0, "\x89PNG\r\n\x1a\n", 8))
        return is_right_png(content, first, end);
    return ek_span_equals(head, 0, "\xff\xd8\xff", 3) && is_right_jpeg(content, first, end);
}
