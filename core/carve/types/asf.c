/* SPDX-License-Identifier: MIT */
/* ASF, as WMV and WMA are (Advanced Systems Format Specification 01.20.03): objects with their
 * lengths; one of them holds packets of one size, each with its time. The header tells the length
 * of the file. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define OBJECTS_MOST 4096u
#define LEAST 512u
#define DATA_HEAD 50u    /* bytes before the first packet */
#define PACKET_HEAD 24u  /* bytes of a packet that are looked at */
#define STEP_MOST 10000u /* ms between two packets */
#define LOOKED_AT 64u    /* packets behind a wrong one, before fewer of them are */

static const EkSignature signatures[] = {
    {0, 8, {0x30, 0x26, 0xb2, 0x75, 0x8e, 0x66, 0xcf, 0x11}, {0}}};

static const guint8 properties[16] = {0xa1, 0xdc, 0xab, 0x8c, 0x47, 0xa9, 0xcf, 0x11,
                                      0x8e, 0xe4, 0x00, 0xc0, 0x0c, 0x20, 0x53, 0x65};
static const guint8 description[16] = {0x33, 0x26, 0xb2, 0x75, 0x8e, 0x66, 0xcf, 0x11,
                                       0xa6, 0xd9, 0x00, 0xaa, 0x00, 0x62, 0xce, 0x6c};
static const guint8 stream[16] = {0x91, 0x07, 0xdc, 0xb7, 0xb7, 0xa9, 0xcf, 0x11,
                                  0x8e, 0xe6, 0x00, 0xc0, 0x0c, 0x20, 0x53, 0x65};
static const guint8 film[16] = {0xc0, 0xef, 0x19, 0xbc, 0x4d, 0x5b, 0xcf, 0x11,
                                0xa8, 0xfd, 0x00, 0x80, 0x5f, 0x5c, 0x44, 0x2b};
static const guint8 data_object[16] = {0x36, 0x26, 0xb2, 0x75, 0x8e, 0x66, 0xcf, 0x11,
                                       0xa6, 0xd9, 0x00, 0xaa, 0x00, 0x62, 0xce, 0x6c};

static const guint8 simple_index[16] = {0x90, 0x08, 0x00, 0x33, 0xb1, 0xe5, 0xcf, 0x11,
                                        0x89, 0xf4, 0x00, 0xa0, 0xc9, 0x03, 0x49, 0xcb};

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    EkByte told;       /* length of the file; 0: it is not told */
    gsize packet;      /* bytes of each; 0: they differ */
    gboolean may_hide; /* a foreign block may lie where nothing is checked */
    gboolean is_film;
    EkByte first; /* of the packets */
    guint64 packets;
    guint64 bad;        /* the first one that is none; as many as there are: none is bad */
    guint64 last_right; /* the last one that is right, counted from 1 */
} Asf;

/* --- packets --------------------------------------------------------------------------------- */

/* A packet tells when it is to be sent, in ms. */
static gboolean is_packet(EkSpan span, guint32 *time)
{
    static const gsize widths[] = {0, 1, 2, 4};
    gsize at = 0;
    guint8 first = ek_span_u8(span, 0);
    if ((first & 0x80) != 0) {
        if (first != 0x82 || ek_span_be16(span, 1) != 0)
            return FALSE;
        at = 3;
    }
    guint8 lengths = ek_span_u8(span, at);
    if ((lengths & 0x80) != 0 || ek_span_u8(span, at + 1) != 0x5d)
        return FALSE;
    at += 2 + widths[lengths >> 5 & 3] + widths[lengths >> 1 & 3] + widths[lengths >> 3 & 3];
    *time = ek_span_le32(span, at);
    return span.length >= at + 4;
}

/* Is it near enough to the one before it? Some writers mix two streams. */
static gboolean is_near(guint32 time, guint32 last)
{
    return (time >= last ? time - last : last - time) <= STEP_MOST;
}

/* `told`: the time of the last packet; `sum`: bytes of each. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    guint32 last = (guint32)landmark->told;
    guint32 time = 0;
    for (gsize at = 0; at + PACKET_HEAD <= span.length; at += (gsize)landmark->sum) {
        if (!is_packet(ek_span_part(span, at, PACKET_HEAD), &time) || !is_near(time, last))
            return FALSE;
        last = time;
    }
    return TRUE;
}

static void take_packets(Asf *asf, EkByte bytes)
{
    struct {
        guint64 next;
        guint32 time;
    } state = {0};
    EkByte end = MIN(asf->first + bytes, ek_content_bytes(asf->content));
    asf->packets = bytes / asf->packet;
    asf->bad = asf->packets;
    ek_content_kept(asf->content, &state, sizeof state);
    asf->last_right = state.next;
    /* Once one is wrong it counts whether any behind it is right. */
    guint64 step = 1;
    for (guint64 i = state.next; i < asf->packets && asf->last_right <= asf->bad; i += step) {
        EkByte at = asf->first + i * asf->packet;
        guint32 time = 0;
        if (at + PACKET_HEAD <= end &&
            is_packet(ek_content_some(asf->content, at, PACKET_HEAD), &time) &&
            (i == 0 || is_near(time, state.time))) {
            asf->last_right = i + 1;
            state.next = i + 1;
            state.time = time;
        } else if (asf->bad == asf->packets) {
            asf->bad = i;
            asf->followed->landmark = (EkLandmark){.at = at,
                                                   .shown = MIN(2 * asf->packet, EK_CONTENT_SHOWN),
                                                   .told = state.time,
                                                   .sum = asf->packet,
                                                   .stands = stands};
        }
        if (at >= end)
            break;
        if (i - MIN(i, asf->bad) > step * LOOKED_AT)
            step *= 2;
        if (asf->bad == asf->packets)
            ek_content_keep(asf->content, at + asf->packet, &state, sizeof state, FALSE);
    }
    asf->may_hide = asf->may_hide || asf->packet > EK_FOLLOWED_BLOCK;
}

/* Where packets are that begin with a time: each one later, and of those that there are. */
static gboolean is_index(const Asf *asf, EkByte at, EkByte bytes)
{
    EkSpan head = ek_content_some(asf->content, at, 56);
    guint32 count = ek_span_le32(head, 52);
    guint32 last = 0;
    if (!ek_span_equals(head, 0, simple_index, 16) || bytes < 56 || count > (bytes - 56) / 6)
        return FALSE;
    for (guint32 i = 0; i < count; i++) {
        EkSpan entry = ek_content_some(asf->content, at + 56 + 6 * (EkByte)i, 6);
        guint32 packet = ek_span_le32(entry, 0);
        if (entry.length < 6 || packet < last || packet > asf->packets)
            return FALSE;
        last = packet;
    }
    return TRUE;
}

/* --- objects --------------------------------------------------------------------------------- */

static void take_header(Asf *asf, EkByte header)
{
    EkByte at = 30;
    for (guint i = 0; i < OBJECTS_MOST && at + 24 <= header; i++) {
        EkSpan object = ek_content_some(asf->content, at, 512);
        guint64 size = ek_span_le64(object, 16);
        if (size < 24 || size > header - at)
            break;
        if (ek_span_equals(object, 0, properties, 16)) {
            guint32 least = ek_span_le32(object, 92);
            asf->told = ek_span_le64(object, 40);
            asf->packet = least == ek_span_le32(object, 96) ? least : 0;
            ek_followed_date(asf->followed, ek_timestamp_filetime(ek_span_le64(object, 48)));
        } else if (ek_span_equals(object, 0, description, 16)) {
            ek_followed_words_utf16(asf->followed,
                                    ek_span_part(object, 34, ek_span_le16(object, 24)), FALSE);
        } else if (ek_span_equals(object, 0, stream, 16)) {
            asf->is_film = asf->is_film || ek_span_equals(object, 24, film, 16);
        }
        asf->may_hide = asf->may_hide || ek_may_hide(at + 24, at + size);
        at += size;
    }
}

/* Those behind the header, one of them with the packets. TRUE: to its end, which is at `*end`. */
static gboolean take_objects(Asf *asf, EkByte *end, guint *objects)
{
    EkByte bytes = ek_content_bytes(asf->content);
    gboolean has_data = FALSE;
    gboolean fine = TRUE;
    while (fine && *objects < OBJECTS_MOST) {
        EkSpan object = ek_content_some(asf->content, *end, 24);
        guint64 size = ek_span_le64(object, 16);
        gboolean is_data = ek_span_equals(object, 0, data_object, 16);
        if ((asf->told != 0 && *end >= asf->told) || (!is_data && !has_data) ||
            (has_data && *end != asf->told && asf->told == 0))
            break;
        fine = size >= 24;
        if (is_data && size > DATA_HEAD && asf->packet >= PACKET_HEAD) {
            asf->first = *end + DATA_HEAD;
            take_packets(asf, MIN(size - DATA_HEAD, (EkByte)1 << 50));
        } else if (fine && size > EK_STEP) {
            asf->may_hide = asf->may_hide || !is_index(asf, *end, size);
        }
        fine = fine && *end <= bytes && size <= bytes - *end;
        has_data = has_data || is_data;
        *end += fine ? size : 0;
        (*objects)++;
    }
    return has_data && fine && (asf->told == 0 || *end == asf->told);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Asf asf = {.content = content, .followed = followed};
    EkByte header = ek_span_le64(ek_content_some(content, 0, 30), 16);
    if (header < 30 || header > (16u << 20))
        return;
    take_header(&asf, header);
    EkByte end = header;
    guint objects = 0;
    gboolean is_ended = take_objects(&asf, &end, &objects);
    gboolean is_right = asf.packets > 0 && asf.bad == asf.packets;
    EkByte broke = asf.first + asf.bad * asf.packet;
    ek_followed_ending(followed, asf.is_film ? "wmv" : "wma");
    followed->expected = asf.told;
    followed->is_doubtful = objects < 2 && !is_right;
    if (is_ended && (asf.packets == 0 || is_right || asf.last_right > asf.bad)) {
        followed->is_wrong = asf.packets > 0 && !is_right;
        if (followed->is_wrong)
            followed->broken = (EkBroken){broke, asf.packet, EK_PART_PLAIN, 0};
        ek_followed_end(followed, end,
                        is_right && !asf.may_hide ? EK_PROOF_DECODED : EK_PROOF_TABLES,
                        followed->is_wrong ? "its objects and its length; some packets are wrong"
                        : is_right         ? "each packet, and its objects"
                                           : "its objects and its length");
        return;
    }
    if (asf.packets == 0 || is_right)
        ek_followed_break(followed, header, MIN(MAX(header, asf.told), ek_content_bytes(content)),
                          LEAST, "an object of it breaks");
    else
        ek_followed_break(followed, MAX(header, broke - MIN(broke, asf.packet)),
                          MIN(broke, ek_content_bytes(content)), LEAST,
                          "no packet where the next one must stand");
}

const EkCarveType ek_carve_asf = {
    .name = "asf",
    .ending = "wmv",
    .kind = EK_KIND_VIDEO,
    .checks = "each packet and its time, and its objects, to the length in the header",
    .names = "title and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
    .by_landmark = TRUE,
};
