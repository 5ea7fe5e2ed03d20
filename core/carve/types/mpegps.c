/* SPDX-License-Identifier: MIT */
/* MPEG program streams (ISO/IEC 13818-1, 2.5; ISO/IEC 11172-1, 2.4): pack behind pack, each with
 * the time at which it is to be read, so that no foreign block goes unnoticed where no packet is
 * longer than one. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define PACKETS_LEAST 24u
#define LEAST 4096u
#define CLOCK 90000u            /* ticks a second */
#define STEP_MOST CLOCK         /* between two packs */
#define STEP_LIKELY (CLOCK / 4) /* between two pieces */
#define PACK_MOST (32u << 10)
#define MISSING_MOST (64u << 20) /* bytes in a row that were not read */

enum { END = 0xb9, PACK = 0xba, SYSTEM = 0xbb };

static const EkSignature signatures[] = {{0, 4, {0, 0, 1, PACK}, {0}}};

static gboolean is_mpeg2(EkSpan pack)
{
    return (ek_span_u8(pack, 4) & 0xc4) == 0x44;
}

static gboolean begin(EkSpan span)
{
    return is_mpeg2(span) || (ek_span_u8(span, 4) & 0xf1) == 0x21;
}

/* When a pack is to be read, in ticks. */
static guint64 time_of(EkSpan pack)
{
    guint64 first = ek_span_u8(pack, 4);
    if (!is_mpeg2(pack))
        return (first >> 1 & 7) << 30 | (guint64)(ek_span_be16(pack, 5) >> 1) << 15 |
               (guint64)(ek_span_be16(pack, 7) >> 1);
    guint64 bits = first << 32 | ek_span_be32(pack, 5);
    return (bits >> 35 & 7) << 30 | (bits >> 19 & 0x7fff) << 15 | (bits >> 3 & 0x7fff);
}

/* A pack before it, on the sector that most writers give each: it is not the first one. */
static gboolean is_rest(EkSpan before)
{
    for (gsize back = 2048; back <= before.length; back += 2048)
        if (ek_span_equals(before, before.length - back, "\0\0\1\xba", 4))
            return TRUE;
    return FALSE;
}

typedef struct {
    EkByte at;
    EkByte last;      /* where the last packet begins */
    EkByte pack;      /* where the last pack begins */
    EkByte pack_size; /* of all of them, 0: they differ */
    guint64 time;     /* of the last pack */
    guint64 count;
    guint64 step;       /* the longest from pack to pack */
    guint64 step_next;  /* and the one that is next to it */
    gboolean may_hide;  /* a block may lie in a packet */
    gboolean is_steady; /* the times go up slowly */
} Stream;
G_STATIC_ASSERT(sizeof(Stream) <= EK_CONTENT_KEPT);

static void take_time(Stream *stream, EkSpan pack, EkByte at)
{
    guint64 time = time_of(pack);
    EkByte size = at - stream->pack;
    if (stream->count > 0) {
        guint64 step = time - MIN(time, stream->time);
        if (time <= stream->time || step > STEP_MOST)
            stream->is_steady = FALSE;
        stream->step_next = MAX(stream->step_next, MIN(step, stream->step));
        stream->step = MAX(stream->step, step);
        if (stream->pack_size != size)
            stream->pack_size = stream->pack == 0 ? size : 0;
    }
    stream->time = time;
    stream->pack = at;
}

/* Where the packet ends that begins here; 0: it is none. */
static EkByte end_of(EkSpan head, EkByte at)
{
    guint8 kind = ek_span_u8(head, 3);
    if (!ek_span_equals(head, 0, "\0\0\1", 3) || kind < END)
        return 0;
    if (kind == END)
        return at + 4;
    if (kind == PACK)
        return at + (is_mpeg2(head) ? 14 + (ek_span_u8(head, 13) & 7u) : 12);
    return at + 6 + (EkByte)ek_span_be16(head, 4);
}

/* --- where it goes on ------------------------------------------------------------------------ */

/* The next pack, `told` ticks or a little later, and the one behind it, `sum` bytes on, where that
 * is known. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    guint64 last = landmark->told;
    for (gsize at = 0; at + 12 <= span.length; at += (gsize)landmark->sum) {
        EkSpan pack = ek_span_part(span, at, 14);
        guint64 time = time_of(pack);
        if (!ek_span_equals(pack, 0, "\0\0\1\xba", 4) || !begin(pack) || time < last ||
            time - last > STEP_LIKELY)
            return FALSE;
        if (landmark->sum == 0)
            break;
        last = time;
    }
    return TRUE;
}

/* --- following ------------------------------------------------------------------------------- */

/* What was not read is passed over to where the next pack would be. */
static gboolean pass_missing(EkContent *content, Stream *stream)
{
    EkByte size = stream->pack_size;
    EkByte next = stream->pack + size;
    if (size == 0)
        return FALSE;
    while (next + size <= ek_content_bytes(content) && next - stream->at < MISSING_MOST) {
        EkSpan pack = ek_content_some(content, next, 14);
        if (ek_span_equals(pack, 0, "\0\0\1\xba", 4) && time_of(pack) >= stream->time) {
            stream->at = stream->pack = next;
            stream->time = time_of(pack);
            stream->is_steady = FALSE;
            return TRUE;
        }
        if (!ek_content_has_hole(content, next - size, 2 * size))
            return FALSE;
        next += size;
    }
    return FALSE;
}

/* Takes packets as long as they are right: TRUE when the mark at the end was among them. */
static gboolean take_packets(EkContent *content, Stream *stream)
{
    for (;;) {
        EkSpan head = ek_content_some(content, stream->at, 14);
        guint8 kind = ek_span_u8(head, 3);
        EkByte next = end_of(head, stream->at);
        if (next == 0 && pass_missing(content, stream))
            continue;
        if (next == 0 || next > ek_content_bytes(content))
            return FALSE;
        /* Another one begins. */
        if (kind == PACK && stream->count > 0 && time_of(head) == 0)
            return FALSE;
        if (kind == PACK)
            take_time(stream, head, stream->at);
        stream->may_hide = stream->may_hide || ek_may_hide(stream->at + 6, next);
        stream->last = stream->at;
        stream->at = next;
        if (kind == END)
            return TRUE;
        stream->count++;
        ek_content_keep(content, stream->at, stream, sizeof *stream, FALSE);
    }
}

/* Where a block ends in the last packet, or right behind it, it may go on elsewhere; where that is
 * can be told when all packs have one size. */
static void end(EkContent *content, EkFollowed *followed, const Stream *stream, gboolean is_ended)
{
    EkByte cut = stream->at / EK_FOLLOWED_BLOCK * EK_FOLLOWED_BLOCK;
    /* One step that is longer than all others may lead into another film. */
    gboolean is_proved =
        stream->is_steady && !stream->may_hide && stream->step <= 2 * stream->step_next;
    if (is_ended || ek_content_ends_at(content, stream->last, stream->at)) {
        ek_followed_end(followed, stream->at, is_proved ? EK_PROOF_DECODED : EK_PROOF_TABLES,
                        is_ended ? "each pack to the mark at the end"
                                 : "each pack and their times");
        return;
    }
    ek_followed_break(followed, stream->last, stream->at, LEAST,
                      "each pack; whether the last one is the end is not known");
    followed->may_end = TRUE;
    followed->proof = is_proved ? EK_PROOF_DECODED : EK_PROOF_TABLES;
    if (cut == stream->at && stream->pack_size <= PACK_MOST)
        followed->landmark =
            (EkLandmark){.at = cut,
                         .shown = MAX(EK_LANDMARK_GLANCE, 2 * (gsize)stream->pack_size),
                         .told = stream->time,
                         .sum = stream->pack_size,
                         .stands = stands};
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Stream stream = {.is_steady = TRUE};
    EkSpan head = ek_content_some(content, 0, 32);
    /* The clock begins with it, and so does what describes it: nothing is missing before it. */
    followed->is_tail =
        time_of(head) != 0 || !ek_span_equals(head, (gsize)end_of(head, 0), "\0\0\1\xbb", 4);
    ek_content_kept(content, &stream, sizeof stream);
    gboolean is_ended = take_packets(content, &stream);
    guint least = followed->is_tail ? PACKETS_LEAST : PACKETS_LEAST / 4;
    if (stream.count >= least || (stream.at > LEAST && is_ended))
        end(content, followed, &stream, is_ended);
}

const EkCarveType ek_carve_mpegps = {
    .name = "mpeg-ps",
    .ending = "mpg",
    .kind = EK_KIND_VIDEO,
    .checks = "each pack and their times, to the mark at the end where there is one",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .is_rest = is_rest,
    .repeats = TRUE,
    .follow = follow,
    .by_landmark = TRUE,
};
