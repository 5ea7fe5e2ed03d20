/* SPDX-License-Identifier: MIT */
/* MPEG transport streams (ISO/IEC 13818-1, 2.4.3): packet behind packet. Each begins with the same
 * byte, and those of one part of the stream are counted, so that no foreign block goes unnoticed.
 * Nothing tells the length: where the last packet ends within a block, no piece was cut off. */
#include "carve/followed.h"
#include "carve/types/all.h"

#include <string.h>

#define PACKET 188u
#define PACKET_TIMED 192u /* on discs and in cameras: four bytes of a clock stand before each */
#define HEAD 12u          /* bytes of it that are looked at */
#define SYNC 0x47
#define EMPTY_ID 0x1fff /* of packets that only fill up */
#define PACKETS_LEAST 24u
#define PIECE_LEAST 8u           /* packets that a piece has */
#define COUNTED_MOST 22u         /* parts whose packets are counted */
#define APART_MOST 90000u        /* ticks between two times that the clock is told */
#define WATCHED 3u               /* that a landmark knows */
#define KEPT_EVERY 16u           /* packets */
#define MISSING_MOST (64u << 20) /* bytes in a row that were not read */

static const EkSignature signatures[] = {
    {0, 5, {SYNC, 0x40, 0, 0x10, 0}, {0xff, 0xe0, 0, 0xd0, 0xff}},
    {4, 4, {SYNC, 0x40, 0, 0x10}, {0xff, 0xe0, 0, 0xd0}},
};

typedef struct {
    guint16 id;
    guint8 number; /* of the last packet of this part: 0 to 15 */
} Counter;

/* As it is kept where it is followed to. */
typedef struct {
    EkByte at;
    EkByte right; /* up to here packets were right: behind, nothing was read */
    guint64 packets;
    guint16 size;
    guint16 counted;
    gboolean is_steady; /* no packet is missing or out of order */
    guint32 clock;      /* the last one that was told, in ticks, cut to 32 bits; 0: none */
    Counter counters[COUNTED_MOST];
} Stream;
G_STATIC_ASSERT(sizeof(Stream) <= EK_CONTENT_KEPT);

static guint16 packet_size(EkSpan span)
{
    static const guint16 sizes[] = {PACKET, PACKET_TIMED};
    for (gsize i = 0; i < G_N_ELEMENTS(sizes); i++) {
        gsize at = sizes[i] - PACKET;
        guint count = 0;
        while (at < span.length && ek_span_u8(span, at) == SYNC) {
            at += sizes[i];
            count++;
        }
        if (at >= span.length && count >= 5)
            return sizes[i];
    }
    return 0;
}

static gboolean begin(EkSpan span)
{
    return packet_size(ek_span_part(span, 0, EK_FOLLOWED_BLOCK)) != 0;
}

/* Does a packet stand right before it, or packets up to where one goes over into it? */
static gboolean is_rest(EkSpan before)
{
    static const gsize sizes[] = {PACKET, PACKET_TIMED};
    for (gsize i = 0; i < G_N_ELEMENTS(sizes); i++)
        for (gsize over = 0; over < sizes[i] && over + PACKET <= before.length; over++) {
            gsize back = over + PACKET;
            while (back <= before.length && ek_span_u8(before, before.length - back) == SYNC)
                back += sizes[i];
            if (back > before.length || (over == 0 && back > PACKET))
                return TRUE;
        }
    return FALSE;
}

/* The four bytes that begin a packet, and the length of what it may be adapted by. */
static gboolean is_packet(EkSpan head)
{
    guint8 parts = ek_span_u8(head, 3) >> 4 & 3;
    guint8 length = ek_span_u8(head, 4);
    return ek_span_u8(head, 0) == SYNC && parts != 0 && (parts != 2 || length == 183) &&
           (parts != 3 || length <= 182);
}

static guint16 id_of(EkSpan head)
{
    return ek_span_be16(head, 1) & EMPTY_ID;
}

/* Is it the next one of its part? One may be sent twice. */
static gboolean is_next(EkSpan head, guint8 last)
{
    guint8 number = ek_span_u8(head, 3) & 15;
    gboolean has_content = (ek_span_u8(head, 3) & 0x10) != 0;
    gboolean breaks_off = (ek_span_u8(head, 3) & 0x20) != 0 && ek_span_u8(head, 4) > 0 &&
                          (ek_span_u8(head, 5) & 0x80) != 0;
    return breaks_off || number == last || (has_content && number == ((last + 1) & 15));
}

/* The clock that some packets tell, in ticks of 1/90000 s, cut to 32 bits; 0: this one does not. */
static guint32 clock_of(EkSpan head)
{
    gboolean tells = (ek_span_u8(head, 3) & 0x20) != 0 && ek_span_u8(head, 4) >= 7 &&
                     (ek_span_u8(head, 5) & 0x10) != 0;
    return tells ? (guint32)((guint64)ek_span_be32(head, 6) << 1 | ek_span_u8(head, 10) >> 7) : 0;
}

/* Those that come often move to the front. */
static void count(Stream *stream, EkSpan head)
{
    guint16 id = id_of(head);
    guint at = 0;
    if (id == EMPTY_ID)
        return;
    if ((ek_span_u8(head, 1) & 0x80) != 0)
        stream->is_steady = FALSE;
    guint32 clock = clock_of(head);
    if (clock != 0)
        stream->clock = clock;
    while (at < stream->counted && stream->counters[at].id != id)
        at++;
    Counter counter = {id, ek_span_u8(head, 3) & 15};
    if (at == stream->counted) {
        if (at < COUNTED_MOST)
            stream->counters[stream->counted++] = counter;
        return;
    }
    if (!is_next(head, stream->counters[at].number))
        stream->is_steady = FALSE;
    stream->counters[at] = stream->counters[at > 0 ? at - 1 : 0];
    stream->counters[at > 0 ? at - 1 : 0] = counter;
}

/* --- where it goes on ------------------------------------------------------------------------ */

/* In `told`: the size of a packet, how far behind the landmark the next one begins, and the clock.
 * In `sum`: parts and the numbers of their last packets. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    gsize size = (gsize)(landmark->told & 0xff);
    gsize clock = size - PACKET;
    Counter watched[WATCHED];
    guint32 last = (guint32)(landmark->told >> 16);
    gboolean is_seen = FALSE;
    guint count = 0;
    for (guint i = 0; i < WATCHED; i++)
        watched[i] = (Counter){(guint16)(landmark->sum >> (20 * i) & EMPTY_ID),
                               (guint8)(landmark->sum >> (20 * i + 16) & 15)};
    for (gsize at = (gsize)(landmark->told >> 8 & 0xff) + clock; at + HEAD <= span.length;
         at += size) {
        EkSpan head = ek_span_part(span, at, HEAD);
        guint32 told = clock_of(head);
        if (!is_packet(head)) /* behind the last one */
            return count >= PIECE_LEAST && is_seen;
        count++;
        if (told != 0 && last != 0 && told - last > APART_MOST)
            return FALSE;
        last = told != 0 ? told : last;
        for (guint i = 0; i < WATCHED; i++) {
            if (watched[i].id != id_of(head) || watched[i].id == EMPTY_ID)
                continue;
            if (!is_next(head, watched[i].number))
                return FALSE;
            watched[i].number = ek_span_u8(head, 3) & 15;
            is_seen = TRUE;
        }
    }
    return is_seen || span.length < landmark->shown;
}

/* Where the block ends in which the first piece does, the second one goes on within a packet. */
static EkLandmark landmark_at(const Stream *stream, EkByte cut, EkByte next)
{
    EkLandmark landmark = {
        .at = cut, .shown = EK_CONTENT_SHOWN, .told = stream->size, .stands = stands};
    landmark.told |= (next - cut) << 8 | (guint64)stream->clock << 16;
    for (guint i = 0; i < WATCHED; i++) {
        Counter none = {EMPTY_ID, 0};
        Counter counter = i < stream->counted ? stream->counters[i] : none;
        landmark.sum |= (guint64)counter.id << (20 * i) | (guint64)counter.number << (20 * i + 16);
    }
    return landmark;
}

/* --- following ------------------------------------------------------------------------------- */

/* Takes packets as long as they are right. Those that were not read are passed over. */
static void take_packets(EkContent *content, Stream *stream)
{
    for (;;) {
        EkSpan packet = ek_content_at(content, stream->at, stream->size);
        EkSpan head = ek_span_part(packet, stream->size - PACKET, HEAD);
        if (head.length < HEAD)
            return;
        if (is_packet(head)) {
            count(stream, head);
            stream->packets++;
            stream->at += stream->size;
            stream->right = stream->at;
            if (stream->packets % KEPT_EVERY == 0)
                ek_content_keep(content, stream->at, stream, sizeof *stream, FALSE);
            continue;
        }
        if (stream->at - stream->right > MISSING_MOST ||
            !ek_content_has_hole(content, stream->at, stream->size))
            return;
        stream->is_steady = FALSE;
        stream->at += stream->size;
    }
}

/* The last packet is right as far as its first bytes tell, and the next one is none. Where a block
 * ends in it, or right behind it, it may go on elsewhere. */
static void end(EkContent *content, EkFollowed *followed, const Stream *stream)
{
    EkByte last = stream->right - stream->size;
    EkByte cut = stream->right / EK_FOLLOWED_BLOCK * EK_FOLLOWED_BLOCK;
    EkSpan next = ek_content_some(content, stream->right, stream->size);
    gboolean goes_on =
        next.length < stream->size && ek_span_u8(next, stream->size - PACKET) == SYNC;
    if (next.length < stream->size) /* the ground ends in it */
        cut = stream->right + next.length;
    if (goes_on)
        last = stream->right;
    if (!goes_on && ek_content_ends_at(content, last, stream->right)) {
        ek_followed_end(
            followed, stream->right, stream->is_steady ? EK_PROOF_DECODED : EK_PROOF_TABLES,
            stream->is_steady ? "each packet, and their numbers" : "each packet; some are missing");
        return;
    }
    ek_followed_break(followed, last, MAX(stream->right, cut), PACKETS_LEAST * PACKET,
                      "each packet; whether the last one is the end is not known");
    followed->may_end = TRUE;
    followed->proof = stream->is_steady ? EK_PROOF_DECODED : EK_PROOF_TABLES;
    if (cut > last)
        followed->landmark = landmark_at(stream, cut, last + stream->size);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Stream stream = {.is_steady = TRUE};
    if (!ek_content_kept(content, &stream, sizeof stream))
        stream.size = packet_size(ek_content_some(content, 0, EK_FOLLOWED_BLOCK));
    if (stream.size == 0)
        return;
    take_packets(content, &stream);
    ek_followed_ending(followed, stream.size == PACKET_TIMED ? "m2ts" : "ts");
    if (stream.packets >= PACKETS_LEAST)
        end(content, followed, &stream);
}

const EkCarveType ek_carve_mpegts = {
    .name = "mpeg-ts",
    .ending = "ts",
    .kind = EK_KIND_VIDEO,
    .checks = "each packet and their numbers; doubtful where a block ends with it",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .is_rest = is_rest,
    .repeats = TRUE,
    .follow = follow,
    .by_landmark = TRUE,
};
