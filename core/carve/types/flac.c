/* SPDX-License-Identifier: MIT */
/* FLAC (RFC 9639): metadata blocks, then frames. Each frame is read to its end, sample by sample,
 * and checked by its two checksums. */
#include "base/checksum.h"
#include "carve/bits.h"
#include "carve/cover.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#include <string.h>

#define METADATA_HEAD 64u /* with what tells the sound */
#define METADATA_PADDING 1u
#define METADATA_PICTURE 6u
#define LEAST 64u
#define VARYING 0xfff9 /* the mark of frames of varying length: they count samples */
#define BLOCK_MOST 65535u
#define FRAME_MOST (1u << 20)
#define FRAME_LIKELY (1u << 16)

static const EkSignature signatures[] = {{0, 4, {'f', 'L', 'a', 'C'}, {0}}};

static gboolean begin(EkSpan span)
{
    return (ek_span_u8(span, 4) & 0x7f) == 0 && ek_span_be32(span, 4) << 8 >> 8 == 34;
}

typedef struct {
    EkContent *content;
    EkByte at;
    guint channels;
    guint depth;
    guint64 samples; /* in all; 0: not told */
    guint64 done;
    EkByte reached; /* in the frame that was read last */
    guint64 next;   /* the number of the next frame */
    guint16 mark;   /* that each frame begins with */
} Flac;

static void take_comments(EkFollowed *followed, EkSpan body)
{
    gsize at = 4 + (gsize)ek_span_le32(body, 0);
    guint32 count = MIN(ek_span_le32(body, at), 64);
    EkSpan title = {body.data, 0};
    EkSpan artist = title;
    at += 4;
    for (guint32 i = 0; i < count && at + 4 <= body.length; i++) {
        gsize length = ek_span_le32(body, at);
        EkSpan text = ek_span_part(body, at + 4, length);
        if (text.length > 7 && g_ascii_strncasecmp((const char *)text.data, "TITLE=", 6) == 0)
            title = ek_span_part(text, 6, text.length);
        if (text.length > 8 && g_ascii_strncasecmp((const char *)text.data, "ARTIST=", 7) == 0)
            artist = ek_span_part(text, 7, text.length);
        if (text.length > 8 && g_ascii_strncasecmp((const char *)text.data, "DATE=", 5) == 0)
            ek_followed_date_digits(followed, ek_span_part(text, 5, text.length), TRUE);
        at += 4 + MIN(length, body.length);
    }
    if (artist.length > 0)
        ek_followed_words(followed, artist);
    if (title.length > 0 && artist.length > 0)
        ek_followed_add_words(followed, title);
    else if (title.length > 0)
        ek_followed_words(followed, title);
}

/* A picture, with what it is called and how large it is before it (RFC 9639, 8.8). */
static gboolean is_right_picture(EkContent *content, EkByte first, EkByte end)
{
    EkByte at = first + 4;
    for (guint i = 0; i < 2; i++)
        at += 4 + (EkByte)ek_span_be32(ek_content_some(content, at, 4), 0);
    guint32 length = ek_span_be32(ek_content_some(content, at + 16, 4), 0);
    return at + 20 + length == end && ek_cover_is_right(content, at + 20, end);
}

/* Could a foreign block lie in it unnoticed? */
static gboolean may_hide(EkContent *content, guint kind, EkByte first, EkByte end)
{
    if (!ek_may_hide(first, end))
        return FALSE;
    return kind == METADATA_PADDING   ? !ek_content_is_zero(content, first, end - first)
           : kind == METADATA_PICTURE ? !is_right_picture(content, first, end)
                                      : TRUE;
}

static gboolean take_metadata(Flac *flac, EkFollowed *followed)
{
    flac->at = 4;
    followed->is_doubtful = FALSE;
    for (guint i = 0; i < 1024; i++) {
        EkSpan head = ek_content_some(flac->content, flac->at, METADATA_HEAD);
        guint32 length = ek_span_be32(head, 0) & 0xffffff;
        guint8 kind = ek_span_u8(head, 0);
        if (head.length < 4 || (kind & 0x7f) > 6)
            return FALSE;
        if ((kind & 0x7f) == 0) {
            guint64 packed = ek_span_be64(ek_span_part(head, 4, length), 10);
            flac->channels = (guint)(packed >> 41 & 7) + 1;
            flac->depth = (guint)(packed >> 36 & 31) + 1;
            flac->samples = packed & (((guint64)1 << 36) - 1);
        } else if ((kind & 0x7f) == 4) {
            take_comments(followed, ek_content_some(flac->content, flac->at + 4,
                                                    MIN(length, EK_CONTENT_SHOWN)));
        }
        followed->is_doubtful =
            followed->is_doubtful ||
            may_hide(flac->content, kind & 0x7f, flac->at + 4, flac->at + 4 + length);
        flac->at += 4 + (EkByte)length;
        if ((kind & 0x80) != 0)
            return TRUE;
    }
    return FALSE;
}

/* --- frames ---------------------------------------------------------------------------------- */

static void pass_bits(EkBits *bits, guint64 count)
{
    for (; count > 0 && !bits->is_over; count -= MIN(count, 32))
        ek_bits_take(bits, (guint)MIN(count, 32));
}

/* What a prediction leaves: numbers of about one length a part. */
static gboolean pass_rest(EkBits *bits, guint block, guint order)
{
    guint method = ek_bits_take(bits, 2);
    guint parts = 1u << ek_bits_take(bits, 4);
    guint width = method == 0 ? 4 : 5;
    if (method > 1 || block % parts != 0 || block / parts < order)
        return FALSE;
    for (guint i = 0; i < parts; i++) {
        guint length = ek_bits_take(bits, width);
        guint count = block / parts - (i == 0 ? order : 0);
        if (length == (1u << width) - 1) {
            pass_bits(bits, (guint64)count * ek_bits_take(bits, 5));
            continue;
        }
        for (guint k = 0; k < count; k++) {
            if (ek_bits_unary(bits, FRAME_MOST) >= FRAME_MOST || bits->is_over)
                return FALSE;
            ek_bits_take(bits, length);
        }
    }
    return !bits->is_over;
}

static gboolean pass_channel(EkBits *bits, guint block, guint depth)
{
    guint head = ek_bits_take(bits, 8);
    guint kind = head >> 1 & 63;
    guint order = 0;
    if ((head & 0x80) != 0)
        return FALSE;
    if ((head & 1) != 0) {
        guint wasted = ek_bits_unary(bits, 32) + 1;
        if (wasted >= depth)
            return FALSE;
        depth -= wasted;
    }
    if (kind == 0) {
        pass_bits(bits, depth);
        return !bits->is_over;
    }
    if (kind == 1) {
        pass_bits(bits, (guint64)depth * block);
        return !bits->is_over;
    }
    if (kind >= 8 && kind <= 12)
        order = kind - 8;
    else if (kind >= 32)
        order = kind - 31;
    else
        return FALSE;
    if (order > block)
        return FALSE;
    pass_bits(bits, (guint64)depth * order);
    if (kind >= 32) {
        guint precision = ek_bits_take(bits, 4) + 1;
        ek_bits_take(bits, 5);
        if (precision == 16)
            return FALSE;
        pass_bits(bits, (guint64)precision * order);
    }
    return pass_rest(bits, block, order);
}

static guint8 crc8(EkSpan span)
{
    guint8 sum = 0;
    for (gsize i = 0; i < span.length; i++) {
        sum ^= span.data[i];
        for (guint k = 0; k < 8; k++)
            sum = (guint8)((sum & 0x80) != 0 ? sum << 1 ^ 7 : sum << 1);
    }
    return sum;
}

/* CRC-16 with polynomial 0x8005, the highest bit first. */
static gboolean is_frame_sum(EkContent *content, EkByte at, EkByte end)
{
    static guint16 table[256];
    static gsize is_made = 0;
    if (g_once_init_enter(&is_made)) {
        for (guint i = 0; i < 256; i++) {
            guint16 value = (guint16)(i << 8);
            for (guint k = 0; k < 8; k++)
                value = (guint16)((value & 0x8000) != 0 ? value << 1 ^ 0x8005 : value << 1);
            table[i] = value;
        }
        g_once_init_leave(&is_made, 1);
    }
    guint16 sum = 0;
    while (at < end) {
        EkSpan span = ek_content_some(content, at, (gsize)MIN(end - at, EK_CONTENT_SHOWN));
        if (span.length == 0)
            return FALSE;
        for (gsize i = 0; i < span.length; i++)
            sum = (guint16)(sum << 8 ^ table[(sum >> 8 ^ span.data[i]) & 0xff]);
        at += span.length;
    }
    return sum == 0;
}

/* The number of a frame, or of its first sample, as UTF-8 would write it. */
static guint64 number_of(EkSpan head, guint more)
{
    guint64 number = ek_span_u8(head, 4) & (more == 0 ? 0x7fu : 0x7fu >> more);
    for (guint i = 1; i < more; i++)
        number = number << 6 | (ek_span_u8(head, 4 + i) & 0x3fu);
    return number;
}

/* The block size and the depth that a frame's header tells; its length, 0 where it is none. */
static gsize take_header(guint depth_told, EkSpan head, guint *block, guint *depth,
                         guint *assignment, guint64 *number)
{
    static const guint8 depths[] = {0, 8, 12, 0, 16, 20, 24, 32};
    guint size = ek_span_u8(head, 2) >> 4;
    guint rate = ek_span_u8(head, 2) & 15;
    guint told = ek_span_u8(head, 3) >> 1 & 7;
    gsize at = 4;
    guint8 first = ek_span_u8(head, 4);
    *assignment = ek_span_u8(head, 3) >> 4;
    if ((ek_span_be16(head, 0) & 0xfffe) != 0xfff8 || size == 0 || rate == 15 || told == 3 ||
        *assignment > 10 || (ek_span_u8(head, 3) & 1) != 0)
        return 0;
    guint more = 0;
    while (more < 8 && (first & 0x80 >> more) != 0)
        more++;
    if (more == 1 || more == 8)
        return 0;
    *number = number_of(head, more);
    at += more == 0 ? 1 : more;
    if (size == 1) {
        *block = 192;
    } else if (size <= 5) {
        *block = 576u << (size - 2);
    } else if (size == 6) {
        *block = (guint)ek_span_u8(head, at++) + 1;
    } else if (size == 7) {
        *block = (guint)ek_span_be16(head, at) + 1;
        at += 2;
    } else {
        *block = 256u << (size - 8);
    }
    at += rate == 12 ? 1 : rate == 13 || rate == 14 ? 2 : 0;
    *depth = depths[told] != 0 ? depths[told] : depth_told;
    return crc8(ek_span_part(head, 0, at)) == ek_span_u8(head, at) ? at + 1 : 0;
}

static gboolean take_frame(Flac *flac)
{
    EkSpan head = ek_content_some(flac->content, flac->at, 18);
    guint block = 0;
    guint depth = 0;
    guint assignment = 0;
    guint64 number = 0;
    gsize length = take_header(flac->depth, head, &block, &depth, &assignment, &number);
    if (length == 0)
        return FALSE;
    EkBits bits;
    ek_bits_begin(&bits, flac->content, flac->at + length);
    guint channels = assignment < 8 ? assignment + 1 : 2;
    for (guint i = 0; i < channels; i++) {
        gboolean is_side = (assignment == 8 && i == 1) || (assignment == 9 && i == 0) ||
                           (assignment == 10 && i == 1);
        gboolean is_right = pass_channel(&bits, block, depth + (is_side ? 1 : 0));
        flac->reached = MIN(ek_bits_place(&bits), ek_content_bytes(flac->content));
        if (!is_right)
            return FALSE;
    }
    ek_bits_align(&bits);
    EkByte end = ek_bits_place(&bits) + 2;
    flac->reached = MIN(end, ek_content_bytes(flac->content));
    if (end > ek_content_bytes(flac->content) || !is_frame_sum(flac->content, flac->at, end))
        return FALSE;
    flac->at = end;
    flac->done += block;
    flac->mark = ek_span_be16(head, 0);
    flac->next = flac->mark == VARYING ? number + block : number + 1;
    return TRUE;
}

/* The frame behind the one that breaks, by its number: `told` is that of the latter. Where samples
 * are counted, it is one of the next few thousand. */
static gboolean finds(const EkLandmark *landmark, EkSpan span, gsize *at)
{
    guint16 mark = (guint16)landmark->sum;
    for (; *at + EK_LANDMARK_GLANCE <= span.length; (*at)++) {
        const guint8 *mark_at =
            memchr(span.data + *at, 0xff, span.length - EK_LANDMARK_GLANCE + 1 - *at);
        guint64 number = 0;
        guint unused[3];
        if (mark_at == NULL)
            return FALSE;
        *at = (gsize)(mark_at - span.data);
        EkSpan head = ek_span_part(span, *at, EK_LANDMARK_GLANCE);
        if (ek_span_be16(head, 0) == mark &&
            take_header(0, head, &unused[0], &unused[1], &unused[2], &number) > 0 &&
            number >= landmark->told &&
            number - landmark->told <= (mark == VARYING ? BLOCK_MOST : 2))
            return TRUE;
    }
    return FALSE;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Flac flac = {.content = content};
    guint64 kept[4];
    if (!take_metadata(&flac, followed))
        return;
    if (ek_content_kept(content, kept, sizeof kept)) {
        flac.at = kept[0];
        flac.done = kept[1];
        flac.next = kept[2];
        flac.mark = (guint16)kept[3];
    }
    while ((flac.samples == 0 || flac.done < flac.samples) && take_frame(&flac)) {
        kept[0] = flac.at;
        kept[1] = flac.done;
        kept[2] = flac.next;
        kept[3] = flac.mark;
        ek_content_keep(content, flac.at, kept, sizeof kept, TRUE);
    }
    followed->broken = (EkBroken){flac.at, FRAME_LIKELY, EK_PART_PLAIN, 0};
    if (flac.done > 0)
        followed->landmark = (EkLandmark){.told = flac.next, .sum = flac.mark, .finds = finds};
    if (flac.done > 0 && flac.done == flac.samples)
        ek_followed_end(followed, flac.at, EK_PROOF_FULL, "the checksums of all frames");
    else
        /* While something is tried, how far it can be read counts. */
        ek_followed_break(followed, flac.done > 0 ? flac.at : 0,
                          ek_content_is_fixed(content)
                              ? MAX(flac.reached, flac.at)
                              : MIN(flac.at + 4096, ek_content_bytes(content)),
                          LEAST, "a frame of it breaks");
}

const EkCarveType ek_carve_flac = {
    .name = "flac",
    .ending = "flac",
    .kind = EK_KIND_AUDIO,
    .checks = "each frame to its end, by its checksums",
    .names = "artist, title and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .is_checked = TRUE,
};
