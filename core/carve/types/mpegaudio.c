/* SPDX-License-Identifier: MIT */
/* MPEG audio (ISO/IEC 11172-3 and 13818-3, layers 1 to 3) and ADTS (ISO/IEC 13818-7): frame behind
 * frame, each with a header that says where the next one begins. */
#include "carve/cover.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#include <string.h>

#define KEEP_EVERY 4096u
#define TAG_FRAMES_MOST 4096u
#define PICTURE_NAME_MOST 1024u /* bytes before a picture in a tag */
#define HEAD 8u                 /* bytes that tell a frame, at most */
#define FRAMES_LEAST 24u
#define TOLD_LEAST 3u /* where a tag or a first frame says that they come */
#define FRAMES_MOST 50000000u

static const EkSignature mp3_signatures[] = {
    {0, 2, {0xff, 0xe2}, {0xff, 0xe6}}, /* layer 3 */
    {0, 2, {0xff, 0xfc}, {0xff, 0xfe}}, /* layer 2 */
    {0, 3, {'I', 'D', '3'}, {0}},
};

typedef struct {
    gsize length;
    guint32 samples;
    guint32 rate;
    guint32 alike; /* the bits of a header that stay as they are within a file */
} Frame;

static gboolean mp3_frame(EkSpan head, Frame *frame)
{
    static const guint16 rates[2][3][15] = {
        {{0, 32, 64, 96, 128, 160, 192, 224, 256, 288, 320, 352, 384, 416, 448},
         {0, 32, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320, 384},
         {0, 32, 40, 48, 56, 64, 80, 96, 112, 128, 160, 192, 224, 256, 320}},
        {{0, 32, 48, 56, 64, 80, 96, 112, 128, 144, 160, 176, 192, 224, 256},
         {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160},
         {0, 8, 16, 24, 32, 40, 48, 56, 64, 80, 96, 112, 128, 144, 160}}};
    static const guint32 samplings[] = {44100, 48000, 32000};
    guint32 word = ek_span_be32(head, 0);
    guint version = word >> 19 & 3;
    guint layer = 4 - (word >> 17 & 3);
    guint rate = word >> 12 & 15;
    guint sampling = word >> 10 & 3;
    if (head.length < 4 || word >> 21 != 0x7ff || version == 1 || layer == 4 || rate == 0 ||
        rate == 15 || sampling == 3 || (word & 3) == 2)
        return FALSE;
    gboolean is_low = version != 3;
    guint32 hertz = samplings[sampling] >> (version == 3 ? 0 : version == 2 ? 1 : 2);
    guint32 bits = rates[is_low ? 1 : 0][layer - 1][rate] * 1000u;
    guint padding = word >> 9 & 1;
    frame->samples = layer == 1 ? 384 : layer == 3 && is_low ? 576 : 1152;
    frame->length = layer == 1 ? (12 * bits / hertz + padding) * 4
                               : frame->samples / 8 * bits / hertz + padding;
    frame->rate = hertz;
    frame->alike = word & 0xfffe0c00u;
    return frame->length >= 24;
}

/* Of four bytes, of which seven bits each count where it is safe. */
static EkByte tag_number(EkSpan span, gsize at, gboolean is_safe)
{
    EkByte value = 0;
    for (gsize i = 0; i < 4; i++)
        value = is_safe ? value << 7 | (ek_span_u8(span, at + i) & 0x7f)
                        : value << 8 | ek_span_u8(span, at + i);
    return value;
}

/* Bytes of the tag before the frames; 0: there is none. */
static EkByte tag_bytes(EkContent *content)
{
    EkSpan head = ek_content_some(content, 0, 10);
    EkByte size = 0;
    if (!ek_span_equals(head, 0, "ID3", 3) || ek_span_u8(head, 3) > 4)
        return 0;
    for (gsize i = 6; i < 10; i++) {
        if ((ek_span_u8(head, i) & 0x80) != 0)
            return 0;
        size = size << 7 | ek_span_u8(head, i);
    }
    return 10 + size;
}

static void take_tag(EkContent *content, EkFollowed *followed, EkByte length)
{
    EkSpan head = ek_content_some(content, 0, (gsize)MIN(length, EK_CONTENT_SHOWN));
    guint version = ek_span_u8(head, 3);
    EkSpan artist = {head.data, 0};
    EkSpan title = {head.data, 0};
    gsize at = 10;
    while (version >= 3 && at + 10 <= head.length && ek_span_u8(head, at) >= 'A') {
        gsize bytes = (gsize)tag_number(head, at + 4, version == 4);
        EkSpan text = ek_span_part(head, at + 10, bytes);
        if (ek_span_equals(head, at, "TIT2", 4))
            title = text;
        else if (ek_span_equals(head, at, "TPE1", 4))
            artist = text;
        at += 10 + MIN(bytes, head.length);
    }
    EkSpan texts[] = {artist, title};
    for (gsize i = 0; i < 2; i++) {
        guint8 coding = ek_span_u8(texts[i], 0);
        EkSpan text = ek_span_part(texts[i], 1, texts[i].length);
        if (text.length > 2 && (coding == 0 || coding == 3) && *followed->words != '\0')
            ek_followed_add_words(followed, text);
        else if (text.length > 2 && (coding == 0 || coding == 3))
            ek_followed_words(followed, text);
        else if (text.length > 4 && coding == 1)
            ek_followed_words_utf16(followed, ek_span_part(text, 2, text.length),
                                    ek_span_be16(text, 0) == 0xfeff);
    }
}

static gboolean is_right_frame(EkContent *content, EkSpan id, EkByte first, EkByte end)
{
    if (!ek_may_hide(first, end))
        return TRUE;
    if (!ek_span_equals(id, 0, "APIC", 4))
        return FALSE;
    /* Behind what it is called, in letters of one byte or two. */
    EkSpan head = ek_content_some(content, first, PICTURE_NAME_MOST);
    gsize at = 0;
    while (at + 4 <= head.length && !ek_span_equals(head, at, "\xff\xd8\xff", 3) &&
           !ek_span_equals(head, at, "\x89PNG", 4))
        at++;
    return at + 4 <= head.length && ek_cover_is_right(content, first + at, end);
}

/* Is all of a tag of so many bytes checked, that a foreign block could lie in? */
static gboolean tag_is_right(EkContent *content, EkByte bytes)
{
    EkSpan head = ek_content_some(content, 0, 10);
    guint version = ek_span_u8(head, 3);
    EkByte at = 10;
    if (!ek_may_hide(0, bytes))
        return TRUE;
    if (version < 3 || (ek_span_u8(head, 5) & 0xc0) != 0)
        return FALSE;
    for (guint i = 0; i < TAG_FRAMES_MOST && at + 10 <= bytes; i++) {
        guint8 frame[10];
        EkSpan shown = ek_content_some(content, at, sizeof frame);
        if (shown.length < sizeof frame || shown.data[0] < 'A')
            break;
        memcpy(frame, shown.data, sizeof frame);
        EkSpan id = {frame, sizeof frame};
        EkByte end = at + 10 + tag_number(id, 4, version == 4);
        if (end > bytes || !is_right_frame(content, id, at + 10, end))
            return FALSE;
        at = end;
    }
    return !ek_may_hide(at, bytes) || ek_content_is_zero(content, at, bytes - at);
}

static gboolean begin_mp3(EkSpan span)
{
    Frame first;
    Frame next;
    if (ek_span_equals(span, 0, "ID3", 3))
        return ek_span_u8(span, 3) >= 2 && ek_span_u8(span, 3) <= 4 && ek_span_u8(span, 4) != 0xff;
    return mp3_frame(span, &first) && mp3_frame(ek_span_part(span, first.length, 4), &next) &&
           next.alike == first.alike;
}

/* How many frames and bytes the first frame says there are; 0: it does not. */
static guint32 told_frames(EkContent *content, EkByte at, guint32 *bytes)
{
    EkSpan frame = ek_content_some(content, at, 256);
    *bytes = 0;
    for (gsize i = 4; i < 64; i++)
        if (ek_span_equals(frame, i, "Xing", 4) || ek_span_equals(frame, i, "Info", 4)) {
            guint32 flags = ek_span_be32(frame, i + 4);
            *bytes = (flags & 3) == 3 ? ek_span_be32(frame, i + 12) : 0;
            return (flags & 1) != 0 ? ek_span_be32(frame, i + 8) : 0;
        }
    return 0;
}

/* Where frames are followed on from. */
typedef struct {
    EkByte at;
    Frame first;
    guint count;
    EkByte last; /* where the last one begins */
} Frames;

/* Frame by frame as far as they are of one kind. */
static void pass_frames(EkContent *content, Frames *frames,
                        gboolean (*read)(EkSpan head, Frame *frame))
{
    Frame frame;
    (void)ek_content_kept(content, frames, sizeof *frames);
    EkByte kept = frames->at;
    while (frames->count < FRAMES_MOST &&
           read(ek_content_some(content, frames->at, HEAD), &frame) &&
           (frames->count == 0 || frame.alike == frames->first.alike) &&
           frames->at + frame.length <= ek_content_bytes(content)) {
        if (frames->count == 0)
            frames->first = frame;
        frames->last = frames->at;
        frames->at += frame.length;
        frames->count++;
        if (frames->at >= kept + KEEP_EVERY) {
            ek_content_keep(content, frames->at, frames, sizeof *frames, FALSE);
            kept = frames->at;
        }
    }
}

/* Is the last frame all there, and nothing behind it? Cut off, what is another's would be in it or
 * right behind it; FALSE where it may as well have been. */
static gboolean is_last(EkContent *content, const Frames *frames)
{
    /* Where the next one would begin right before a sector, that may be another's. */
    gboolean is_seen = frames->at % EK_STEP + HEAD <= EK_STEP;
    return is_seen && (ek_content_ends_at(content, frames->last, frames->at) ||
                       ek_content_is_padded(content, frames->at));
}

/* Frames one behind the other that lead right to the end of these bytes. */
static gboolean leads_to_end(EkSpan before, gboolean (*read)(EkSpan head, Frame *frame))
{
    for (gsize first = 0; first < before.length; first++) {
        Frame one;
        Frame next;
        guint count = 0;
        gsize at = first;
        if (before.data[first] != 0xff)
            continue;
        while (at < before.length && read(ek_span_part(before, at, HEAD), &next) &&
               (count == 0 || next.alike == one.alike)) {
            one = next;
            at += next.length;
            count++;
        }
        if (at == before.length && count >= TOLD_LEAST)
            return TRUE;
    }
    return FALSE;
}

static void break_behind(EkContent *content, const Frames *frames, EkFollowed *followed)
{
    /* How long the last one is was read in its head: nothing says that the rest is its own. */
    ek_followed_break(followed, frames->last + 4, MIN(frames->at + 4, ek_content_bytes(content)), 1,
                      "no frame where one must stand");
}

/* Nothing says how many there are: it ends there, or breaks. */
static void end_or_break(EkContent *content, const Frames *frames, EkFollowed *followed,
                         EkProof proof)
{
    static const char why[] = "each frame; whether the last one is the end is not known";
    if (is_last(content, frames)) {
        ek_followed_end(followed, frames->at, proof, why);
        return;
    }
    break_behind(content, frames, followed);
    followed->length = MIN(frames->at, ek_content_bytes(content));
    followed->may_end = TRUE;
    followed->proof = proof;
    followed->why = why;
}

static void follow_mp3(EkContent *content, EkFollowed *followed)
{
    EkByte start = tag_bytes(content);
    EkByte tag = start;
    EkByte at = start;
    guint32 bytes = 0;
    /* Some writers fill the space behind the tag. */
    for (guint i = 0; i < 4096 && start > 0 && ek_span_u8(ek_content_some(content, at, 1), 0) == 0;
         i++)
        start = ++at;
    guint32 told = told_frames(content, at, &bytes);
    Frames frames = {.at = at};
    pass_frames(content, &frames, mp3_frame);
    at = frames.at;
    guint count = frames.count;
    gboolean has_start = start > 0 || told > 0;
    if (count < (has_start ? TOLD_LEAST : FRAMES_LEAST))
        return;
    take_tag(content, followed, tag);
    guint layer = 4 - (frames.first.alike >> 17 & 3);
    ek_followed_ending(followed, layer == 3 ? "mp3" : layer == 2 ? "mp2" : "mp1");
    gboolean has_all = told > 0 && (count == told || count == told + 1);
    EkSpan tail = ek_content_some(content, at, 128);
    gboolean has_tag = ek_span_equals(tail, 0, "TAG", 3) && tail.length == 128;
    if (has_tag) {
        ek_followed_words(followed, ek_span_part(tail, 3, 30));
        at += 128;
    }
    followed->is_doubtful = !has_start || (!has_all && !has_tag) || !tag_is_right(content, tag);
    if (has_all || has_tag)
        ek_followed_end(followed, at, EK_PROOF_DECODED,
                        has_all ? "as many frames as the first one says"
                                : "each frame, to the tag at the end");
    else if (told > count)
        break_behind(content, &frames, followed);
    else
        end_or_break(content, &frames, followed, EK_PROOF_DECODED);
}

static gboolean is_rest_of_mp3(EkSpan before)
{
    return leads_to_end(before, mp3_frame);
}

const EkCarveType ek_carve_mp3 = {
    .name = "mp3",
    .ending = "mp3",
    .kind = EK_KIND_AUDIO,
    .checks = "each frame, and how many there must be where that is said",
    .names = "artist and title",
    .signatures = mp3_signatures,
    .signature_count = G_N_ELEMENTS(mp3_signatures),
    .begin = begin_mp3,
    .is_rest = is_rest_of_mp3,
    .repeats = TRUE,
    .follow = follow_mp3,
    .joins = TRUE,
};

/* --- ADTS ------------------------------------------------------------------------------------ */

static const EkSignature aac_signatures[] = {{0, 2, {0xff, 0xf0}, {0xff, 0xf6}}};

static gboolean aac_frame(EkSpan head, Frame *frame)
{
    guint64 word = ek_span_be64(head, 0);
    frame->length = (gsize)(word >> 21 & 0x1fff);
    frame->alike = (guint32)(word >> 32) & 0xfffefdc0u;
    return head.length >= 8 && word >> 52 == 0xfff && (word >> 49 & 3) == 0 &&
           (word >> 42 & 15) < 13 && frame->length >= 8;
}

static gboolean begin_aac(EkSpan span)
{
    Frame frame;
    Frame first;
    gsize at = 0;
    for (guint i = 0; i < 4 && at + 8 <= span.length; i++) {
        if (!aac_frame(ek_span_part(span, at, 8), &frame) || (i > 0 && frame.alike != first.alike))
            return FALSE;
        if (i == 0)
            first = frame;
        at += frame.length;
    }
    return TRUE;
}

static void follow_aac(EkContent *content, EkFollowed *followed)
{
    Frames frames = {0};
    pass_frames(content, &frames, aac_frame);
    followed->is_doubtful = TRUE;
    if (frames.count >= FRAMES_LEAST)
        end_or_break(content, &frames, followed, EK_PROOF_TABLES);
}

static gboolean is_rest_of_aac(EkSpan before)
{
    return leads_to_end(before, aac_frame);
}

const EkCarveType ek_carve_aac = {
    .name = "aac",
    .ending = "aac",
    .kind = EK_KIND_AUDIO,
    .checks = "each frame; always doubtful",
    .signatures = aac_signatures,
    .signature_count = G_N_ELEMENTS(aac_signatures),
    .begin = begin_aac,
    .is_rest = is_rest_of_aac,
    .repeats = TRUE,
    .follow = follow_aac,
    .joins = TRUE,
};
