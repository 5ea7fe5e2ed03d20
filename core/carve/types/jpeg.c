/* SPDX-License-Identifier: MIT */
/* JPEG files (ITU-T T.81). Behind the picture may come others that its multi-picture index names
 * (CIPA DC-007). */
#include "carve/jpeg.h"

#include "carve/types/all.h"

#include <string.h>

#define PICTURES_MOST 16u
#define LEAST 1024u /* bytes of a picture that breaks, to be told */

static const EkSignature signatures[] = {{0, 3, {0xff, 0xd8, 0xff}, {0}}};

static gboolean begin(EkSpan span)
{
    guint8 marker = ek_span_u8(span, 3);
    guint16 length = ek_span_be16(span, 4);
    gboolean is_segment = (marker >= 0xe0 && marker <= 0xef) || marker == 0xdb || marker == 0xc4 ||
                          marker == 0xfe || (marker >= 0xc0 && marker <= 0xc2) || marker == 0xdd;
    return is_segment && length >= 2 &&
           ((gsize)length + 4 >= span.length || ek_span_u8(span, (gsize)length + 4) == 0xff);
}

/* Past what was not read, to the mark at the end. */
static gboolean find_end(const EkJpeg *jpeg, EkByte *end)
{
    EkByte hole = ek_content_hole(jpeg->content);
    EkByte at = jpeg->at;
    if (!jpeg->scanned || hole > jpeg->at)
        return FALSE;
    if (!ek_jpeg_pass_scan(jpeg->content, &at))
        return FALSE;
    EkSpan mark = ek_content_some(jpeg->content, at, 2);
    *end = at + 2;
    return ek_span_be16(mark, 0) == 0xffd9;
}

/* Films of pictures, each by itself, have another one right before or behind each, or their sound,
 * or the head of a chunk of AVI before it; between files there is the rest of a sector, which is
 * empty but where a camera wrote it, which tells of itself in the picture. */
static gboolean may_be_frame(const EkJpeg *jpeg)
{
    EkContent *content = jpeg->content;
    guint8 bytes[8] = {0};
    gsize length = ek_content_before(content, bytes, sizeof bytes);
    EkSpan before = {bytes, length};
    EkSpan behind = ek_content_some(content, jpeg->at, 3);
    EkByte rest = (EK_STEP - jpeg->at % EK_STEP) % EK_STEP;
    rest = MIN(rest, ek_content_bytes(content) - jpeg->at);
    gboolean is_chunk = length == 8 && g_ascii_isdigit(bytes[0]) && g_ascii_isdigit(bytes[1]) &&
                        bytes[2] == 'd' && (bytes[3] == 'c' || bytes[3] == 'b');
    return is_chunk || (length == 8 && ek_span_be16(before, 6) == 0xffd9) ||
           (rest > 0 && ek_span_equals(behind, 0, "\xff\xd8\xff", 3)) ||
           (rest > 0 && !jpeg->has_exif && !ek_content_is_zero(content, jpeg->at, rest));
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkJpeg jpeg = {.content = content, .followed = followed};
    EkByte end = 0;
    ek_jpeg_walk(&jpeg);
    EkByte first_end = jpeg.at;
    gboolean is_loose = jpeg.is_loose;
    if (jpeg.why != NULL && find_end(&jpeg, &end)) {
        ek_followed_end(followed, end, EK_PROOF_TABLES, "the end was found past what was not read");
        return;
    }
    if (jpeg.why != NULL) {
        followed->texture = jpeg.scanned ? EK_TEXTURE_CODED : EK_TEXTURE_ANY;
        followed->texture_from = jpeg.scan;
        EkByte sure = jpeg.scanned ? MAX(ek_content_kept_at(content), LEAST) : 0;
        /* Zeros and text decode for long: they do not hold their ground. */
        if (jpeg.scanned && !ek_content_remembers(content))
            sure = MIN(sure,
                       ek_content_first_unlike(
                           content, ek_divide_up(jpeg.scan, EK_FOLLOWED_BLOCK) * EK_FOLLOWED_BLOCK,
                           jpeg.at, EK_FOLLOWED_BLOCK, EK_TEXTURE_CODED));
        ek_followed_break(followed, MIN(sure, jpeg.at), jpeg.at, LEAST, jpeg.why);
        return;
    }
    /* Further pictures that the first one names: the last ends the file. */
    for (guint i = 0; i < PICTURES_MOST && jpeg.index > jpeg.at; i++) {
        EkByte next = 0;
        if (!ek_content_seek(content, jpeg.at, MIN(jpeg.index, jpeg.at + EK_CONTENT_SHOWN),
                             "\xff\xd8\xff", 3, &next))
            break;
        EkJpeg further = {.content = content, .first = next, .frame = {.is_part = TRUE}};
        if (!ek_jpeg_walk(&further)) {
            ek_followed_break(followed, first_end, further.at, LEAST,
                              "a further picture of it breaks");
            return;
        }
        jpeg.at = further.at;
    }
    followed->is_doubtful = may_be_frame(&jpeg);
    ek_followed_end(followed, jpeg.at, is_loose ? EK_PROOF_TABLES : EK_PROOF_DECODED,
                    followed->is_doubtful ? "its picture data were decoded to the end; something "
                                            "lies right beside it, as in films"
                    : is_loose            ? "all markers up to its end"
                                          : "its picture data were decoded to the end");
}

/* In picture data a byte of all ones is followed by few others, and there are some of it. */
static gboolean may_lie_in(EkSpan block)
{
    const guint8 *at = block.data;
    const guint8 *end = block.data + block.length - 1;
    guint count = 0;
    while (at < end && (at = memchr(at, 0xff, (gsize)(end - at))) != NULL) {
        if (at[1] == 0xd9) /* behind its end may be anything */
            return TRUE;
        if (at[1] != 0 && at[1] != 0xc4 && at[1] != 0xda && (at[1] & 0xf8) != 0xd0)
            return FALSE;
        count++;
        at += 2;
    }
    return count > 0 || ek_block_may_be(block, EK_TEXTURE_PACKED);
}

const EkCarveType ek_carve_jpeg = {
    .name = "jpeg",
    .ending = "jpg",
    .kind = EK_KIND_PICTURE,
    .checks = "all picture data are decoded, each block counted",
    .names = "date and camera",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .may_lie_in = may_lie_in,
};
