/* SPDX-License-Identifier: MIT */
/* Ogg (RFC 3533): pages, each with a checksum, of one stream or of several side by side. */
#include "base/checksum.h"
#include "carve/followed.h"
#include "carve/types/all.h"

#include <string.h>

#define STREAMS_MOST 32u
#define STREAMS_KEPT 8u
#define LEAST 64u
#define PAGE_MOST 65307u

static const EkSignature signatures[] = {{0, 6, {'O', 'g', 'g', 'S', 0, 2}, {0}}};

/* The first page of a stream ends no frame yet, and has at least one segment. */
static gboolean begin(EkSpan span)
{
    guint64 position = ek_span_le64(span, 6);
    return (position == 0 || position == G_MAXUINT64) && ek_span_u8(span, 26) > 0;
}

typedef struct {
    guint32 serial; /* of its stream */
    guint32 number; /* in that */
} Page;

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    EkByte at;
    guint32 serials[STREAMS_MOST];
    guint count;
    guint ended;    /* bits */
    EkByte reached; /* in the page that was read last */
    Page last[2];   /* of the two streams of which pages came last */
    gboolean has_film;
    gboolean is_opus;
} Ogg;

/* Of a whole page, with zeros where the sum itself stands. */
static guint32 page_sum(EkSpan page)
{
    static const guint8 zeros[4] = {0};
    guint32 sum = ek_crc32_forward(0, ek_span_part(page, 0, 22));
    sum = ek_crc32_forward(sum, (EkSpan){zeros, sizeof zeros});
    return ek_crc32_forward(sum, ek_span_part(page, 26, page.length));
}

static guint stream_of(Ogg *ogg, guint32 serial, gboolean is_first)
{
    guint i = 0;
    while (i < ogg->count && ogg->serials[i] != serial)
        i++;
    if (i == ogg->count && is_first && i < STREAMS_MOST)
        ogg->serials[ogg->count++] = serial;
    return i;
}

/* Texts of the kind NAME=value. */
static void take_comments(Ogg *ogg, EkSpan body)
{
    gsize at = ek_span_equals(body, 0, "\003vorbis", 7) ? 7
               : ek_span_equals(body, 0, "OpusTags", 8) ? 8
                                                        : 0;
    if (at == 0)
        return;
    at += 4 + (gsize)ek_span_le32(body, at);
    guint32 count = MIN(ek_span_le32(body, at), 64);
    at += 4;
    for (guint32 i = 0; i < count && at + 4 <= body.length; i++) {
        gsize length = ek_span_le32(body, at);
        EkSpan text = ek_span_part(body, at + 4, length);
        if (text.length > 7 && g_ascii_strncasecmp((const char *)text.data, "TITLE=", 6) == 0)
            ek_followed_words(ogg->followed, ek_span_part(text, 6, text.length));
        at += 4 + MIN(length, body.length);
    }
}

/* One page. FALSE where none stands. */
static gboolean take_page(Ogg *ogg)
{
    EkSpan page = ek_content_some(ogg->content, ogg->at, EK_CONTENT_SHOWN);
    gsize length = 27 + (gsize)ek_span_u8(page, 26);
    guint8 flags = ek_span_u8(page, 5);
    for (gsize i = 27; i < 27 + (gsize)ek_span_u8(page, 26); i++)
        length += ek_span_u8(page, i);
    guint stream = stream_of(ogg, ek_span_le32(page, 14), (flags & 2) != 0);
    gboolean is_cut = ek_span_equals(page, 0, "OggS\0", MIN(page.length, 5)) &&
                      page.length < length && page.length > 0;
    ogg->reached = is_cut ? ek_content_bytes(ogg->content) : ogg->at;
    if (!ek_span_equals(page, 0, "OggS\0", 5) || page.length < length || stream == ogg->count ||
        page_sum(ek_span_part(page, 0, length)) != ek_span_le32(page, 22))
        return FALSE;
    EkSpan body = ek_span_part(page, 27 + (gsize)ek_span_u8(page, 26), length);
    ogg->has_film = ogg->has_film || ek_span_equals(body, 0, "\200theora", 7);
    ogg->is_opus = ogg->is_opus || ek_span_equals(body, 0, "OpusHead", 8);
    take_comments(ogg, body);
    if ((flags & 4) != 0)
        ogg->ended |= 1u << stream;
    ogg->at += length;
    Page own = {ek_span_le32(page, 14), ek_span_le32(page, 18)};
    if (ogg->last[0].serial != own.serial)
        ogg->last[1] = ogg->last[0];
    ogg->last[0] = own;
    return TRUE;
}

/* The page behind the one that breaks: `told` has the numbers of the last right ones of two
 * streams, `sum` their serial numbers. */
static gboolean finds(const EkLandmark *landmark, EkSpan span, gsize *at)
{
    for (; *at + 27 <= span.length; (*at)++) {
        const guint8 *mark = memchr(span.data + *at, 'O', span.length - 26 - *at);
        if (mark == NULL)
            return FALSE;
        *at = (gsize)(mark - span.data);
        EkSpan head = ek_span_part(span, *at, 27);
        for (guint i = 0; i < 2 && ek_span_equals(head, 0, "OggS\0", 5); i++) {
            guint32 last = (guint32)(landmark->told >> (32 * i));
            guint32 number = ek_span_le32(head, 18);
            if (ek_span_le32(head, 14) == (guint32)(landmark->sum >> (32 * i)) && number > last &&
                number - last <= 2)
                return TRUE;
        }
    }
    return FALSE;
}

/* What is kept where it is followed to: few files have more streams. */
typedef struct {
    EkByte at;
    guint32 serials[STREAMS_KEPT];
    guint32 count;
    guint32 ended;
    Page last[2];
    gboolean has_film;
    gboolean is_opus;
} Kept;
G_STATIC_ASSERT(sizeof(Kept) <= EK_CONTENT_KEPT);

static void keep(Ogg *ogg)
{
    Kept kept = {.at = ogg->at, .count = ogg->count, .ended = ogg->ended};
    if (ogg->count > STREAMS_KEPT)
        return;
    memcpy(kept.serials, ogg->serials, ogg->count * sizeof *ogg->serials);
    memcpy(kept.last, ogg->last, sizeof kept.last);
    kept.has_film = ogg->has_film;
    kept.is_opus = ogg->is_opus;
    ek_content_keep(ogg->content, ogg->at, &kept, sizeof kept, TRUE);
}

static void go_on(Ogg *ogg)
{
    Kept kept;
    if (!ek_content_kept(ogg->content, &kept, sizeof kept))
        return;
    ogg->at = kept.at;
    ogg->count = MIN(kept.count, STREAMS_KEPT);
    ogg->ended = kept.ended;
    memcpy(ogg->serials, kept.serials, ogg->count * sizeof *ogg->serials);
    memcpy(ogg->last, kept.last, sizeof kept.last);
    ogg->has_film = kept.has_film;
    ogg->is_opus = kept.is_opus;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Ogg ogg = {.content = content, .followed = followed};
    gboolean is_done = FALSE;
    go_on(&ogg);
    while (take_page(&ogg)) {
        is_done = ogg.ended == (1u << ogg.count) - 1;
        EkSpan next = is_done ? ek_content_some(content, ogg.at, 6) : (EkSpan){NULL, 0};
        if (is_done &&
            (!ek_span_equals(next, 0, "OggS\0\2", 6) || !ek_followed_has_more(followed, ogg.at, 1)))
            break;
        is_done = FALSE;
        keep(&ogg);
    }
    ek_followed_ending(followed, ogg.has_film ? "ogv" : ogg.is_opus ? "opus" : "ogg");
    followed->broken = (EkBroken){ogg.at, PAGE_MOST, EK_PART_PLAIN, 0};
    if (is_done)
        ek_followed_end(followed, ogg.at, EK_PROOF_FULL, "the checksums of all pages");
    else
        ek_followed_break(followed, ogg.at,
                          ek_content_is_fixed(content)
                              ? MAX(ogg.at, ogg.reached)
                              : MIN(ogg.at + 4096, ek_content_bytes(content)),
                          LEAST, "no page where one must stand");
    if (!is_done && ogg.at > 0)
        followed->landmark =
            (EkLandmark){.told = (guint64)ogg.last[1].number << 32 | ogg.last[0].number,
                         .sum = (guint64)ogg.last[1].serial << 32 | ogg.last[0].serial,
                         .finds = finds};
}

const EkCarveType ek_carve_ogg = {
    .name = "ogg",
    .ending = "ogg",
    .kind = EK_KIND_AUDIO,
    .checks = "the checksum of each page, to the last page of each stream",
    .names = "title",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .is_checked = TRUE,
};
