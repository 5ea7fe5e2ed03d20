/* SPDX-License-Identifier: MIT */
/* Matroska and WebM (RFC 9559): elements within elements; clusters are followed block by block, and
 * many have a checksum. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define ELEMENTS_MOST 50000000u
#define LEAST 128u
#define SUMMED_MOST (64u << 20) /* bytes of an element: its length may be forged */
#define SEGMENT 0x18538067u
#define CLUSTER 0x1f43b675u
#define INFO 0x1549a966u
#define UNKNOWN G_MAXUINT64

static const EkSignature signatures[] = {{0, 4, {0x1a, 0x45, 0xdf, 0xa3}, {0}}};

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    guint elements;
} Film;

typedef struct {
    guint32 id;
    EkByte body;
    guint64 bytes; /* UNKNOWN: up to the next of its rank */
} Element;

static gboolean element_at(Film *film, EkByte at, Element *element)
{
    EkSpan head = ek_content_some(film->content, at, 12);
    guint8 first = ek_span_u8(head, 0);
    guint length = 1;
    while (length <= 4 && (first & 0x80 >> (length - 1)) == 0)
        length++;
    if (length > 4 || head.length < length + 1u || film->elements++ > ELEMENTS_MOST)
        return FALSE;
    element->id = 0;
    for (guint i = 0; i < length; i++)
        element->id = element->id << 8 | head.data[i];
    guint8 size = ek_span_u8(head, length);
    guint width = 1;
    while (width <= 8 && (size & 0x80 >> (width - 1)) == 0)
        width++;
    if (width > 8 || head.length < length + (gsize)width)
        return FALSE;
    guint64 value = size & (0xffu >> width);
    gboolean is_unknown = value == 0xffu >> width;
    for (guint i = 1; i < width; i++) {
        value = value << 8 | head.data[length + i];
        is_unknown = is_unknown && head.data[length + i] == 0xff;
    }
    element->body = at + length + width;
    element->bytes = is_unknown ? UNKNOWN : value;
    return is_unknown || value < G_MAXINT64 / 2;
}

static gboolean is_top(guint32 id)
{
    static const guint32 ids[] = {0x114d9b74, INFO,       CLUSTER,    0x1654ae6b, 0x1c53bb6b,
                                  0x1941a469, 0x1043a770, 0x1254c367, 0xec,       0xbf};
    for (gsize i = 0; i < G_N_ELEMENTS(ids); i++)
        if (ids[i] == id)
            return TRUE;
    return FALSE;
}

static gboolean is_in_cluster(guint32 id)
{
    static const guint32 ids[] = {0xe7, 0x5854, 0xa7, 0xab, 0xa3, 0xa0, 0xaf, 0xec, 0xbf};
    for (gsize i = 0; i < G_N_ELEMENTS(ids); i++)
        if (ids[i] == id)
            return TRUE;
    return FALSE;
}

/* The blocks of a cluster up to its end, or to the next element of its rank. */
static gboolean take_cluster(Film *film, EkByte *at, EkByte end)
{
    EkByte there = ek_content_bytes(film->content);
    while (*at < end) {
        Element element;
        if (!element_at(film, *at, &element))
            return end == UNKNOWN && *at == ek_content_bytes(film->content);
        if (end == UNKNOWN && is_top(element.id) && element.id > 0xff)
            return TRUE;
        if (!is_in_cluster(element.id) || element.bytes == UNKNOWN ||
            (end != UNKNOWN && element.bytes > end - element.body))
            return end == UNKNOWN && !is_in_cluster(element.id);
        if (element.bytes > there - MIN(element.body, there)) {
            *at = there;
            return FALSE;
        }
        *at = element.body + element.bytes;
    }
    return *at == end;
}

static void take_info(Film *film, const Element *info)
{
    for (EkByte at = info->body; at < info->body + MIN(info->bytes, 65536);) {
        Element element;
        if (!element_at(film, at, &element) || element.bytes > 65536)
            return;
        EkSpan body = ek_content_some(film->content, element.body, (gsize)MIN(element.bytes, 512));
        if (element.id == 0x7ba9)
            ek_followed_words(film->followed, body);
        /* Nanoseconds since 2001. */
        if (element.id == 0x4461 && body.length == 8)
            ek_followed_date(
                film->followed,
                (EkTimestamp){(gint64)(ek_span_be64(body, 0) / 1000000000u) + 978307200, 0, FALSE,
                              TRUE});
        at = element.body + element.bytes;
    }
}

/* An element behind a cluster, of its rank. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    guint32 id = ek_span_be32(span, 0);
    (void)landmark;
    if (id == CLUSTER)
        return ek_span_u8(span, 4) != 0 && memchr(span.data + 5, 0xe7, MIN(span.length, 14) - 5);
    return id == 0x1c53bb6b || id == 0x1254c367;
}

/* The part of an element that has a sum: all behind that. FALSE: it has none. */
static gboolean summed_part(Film *film, const Element *element, EkBroken *part)
{
    EkSpan head = ek_content_some(film->content, element->body, 6);
    if (element->bytes <= 6 || element->bytes > SUMMED_MOST || head.length < 6 ||
        !ek_span_equals(head, 0, "\xbf\x84", 2))
        return FALSE;
    *part =
        (EkBroken){element->body + 6, element->bytes - 6, EK_PART_SUMMED, ek_span_le32(head, 2)};
    return TRUE;
}

/* What is known where one element ends and the next begins. */
typedef struct {
    EkByte at;
    EkByte bare; /* from here on nothing was summed */
    guint clusters;
    gboolean may_hide; /* something foreign, before that */
} Place;

/* All of an element is there. FALSE: its sum is wrong. */
static gboolean sum_agrees(Film *film, const Element *element, Place *place)
{
    EkBroken part;
    guint32 sum = 0;
    if (!summed_part(film, element, &part))
        return TRUE;
    if (!ek_content_crc32(film->content, part.first, part.bytes, &sum) || sum != part.sum) {
        film->followed->broken = part;
        return FALSE;
    }
    place->may_hide = place->may_hide || ek_may_hide(place->bare, part.first);
    place->bare = part.first + part.bytes;
    return TRUE;
}

/* One element of a segment, which ends at `end`. FALSE: not all of it is there; place->at is how
 * far it is right. */
static gboolean pass_element(Film *film, const Element *element, EkByte end, Place *place)
{
    EkByte there = ek_content_bytes(film->content);
    EkByte stop = element->bytes == UNKNOWN ? UNKNOWN : element->body + element->bytes;
    if (element->id == INFO)
        take_info(film, element);
    if (element->id != CLUSTER) {
        gboolean is_there = stop != UNKNOWN && stop <= there;
        place->at = is_there ? stop : there;
        return is_there;
    }
    place->at = element->body;
    place->clusters++;
    film->followed->landmark = (EkLandmark){0};
    if (stop != UNKNOWN && stop < end)
        film->followed->landmark =
            (EkLandmark){.at = stop, .shown = EK_LANDMARK_GLANCE, .stands = stands};
    if (take_cluster(film, &place->at, stop))
        return TRUE;
    summed_part(film, element, &film->followed->broken);
    return FALSE;
}

/* The elements of a segment, from a place on. *sure is where what is right ends, *wrong where the
 * first one with a wrong sum does, which is what `followed` is told then; 0: there is none. */
static void pass_segment(Film *film, EkByte end, Place *place, EkByte *sure, EkByte *wrong)
{
    EkFollowed *followed = film->followed;
    EkFollowed first_wrong = {0};
    Element element;
    *sure = place->at;
    while (place->at < end && element_at(film, place->at, &element) && is_top(element.id) &&
           pass_element(film, &element, end, place)) {
        if (*wrong > 0)
            continue;
        if (sum_agrees(film, &element, place)) {
            *sure = place->at;
            ek_content_keep(film->content, place->at, place, sizeof *place, TRUE);
        } else {
            *wrong = place->at;
            first_wrong = *followed;
        }
    }
    if (*wrong > 0) {
        followed->broken = first_wrong.broken;
        followed->landmark = first_wrong.landmark;
    }
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Film film = {.content = content, .followed = followed};
    Element element;
    if (!element_at(&film, 0, &element) || element.bytes > 4096)
        return;
    EkSpan head = ek_content_some(content, element.body, (gsize)element.bytes);
    gboolean is_web = memmem(head.data, head.length, "webm", 4) != NULL;
    if (!is_web && memmem(head.data, head.length, "matroska", 8) == NULL)
        return;
    ek_followed_ending(followed, is_web ? "webm" : "mkv");
    EkByte at = element.body + element.bytes;
    if (!element_at(&film, at, &element) || element.id != SEGMENT)
        return;
    EkByte end = element.bytes == UNKNOWN ? UNKNOWN : element.body + element.bytes;
    followed->expected = end == UNKNOWN ? 0 : end;
    Place place = {.at = element.body};
    EkByte sure = 0;
    EkByte wrong = 0;
    ek_content_kept(content, &place, sizeof place);
    pass_segment(&film, end, &place, &sure, &wrong);
    at = place.at;
    if (place.clusters > 0 && (at == end || (end == UNKNOWN && sure == at))) {
        gboolean is_summed =
            wrong == 0 && place.bare > 0 && !place.may_hide && !ek_may_hide(place.bare, at);
        followed->is_wrong = wrong > 0;
        ek_followed_end(followed, at,
                        end == UNKNOWN ? EK_PROOF_LENGTH
                        : is_summed    ? EK_PROOF_FULL
                                       : EK_PROOF_TABLES,
                        wrong > 0   ? "each block of each cluster; a checksum is wrong"
                        : is_summed ? "each block and the checksum of each cluster"
                                    : "each block of each cluster");
    } else {
        at = wrong > 0 ? wrong : MIN(at, ek_content_bytes(content));
        ek_followed_break(followed, MAX(sure, MIN(at, LEAST)), at, LEAST,
                          wrong > 0 ? "the checksum of a cluster is wrong"
                                    : "no element where one must stand");
    }
}

const EkCarveType ek_carve_matroska = {
    .name = "matroska",
    .ending = "mkv",
    .kind = EK_KIND_VIDEO,
    .checks = "each block of each cluster, and its CRC-32 where it has one; without them doubtful",
    .names = "title and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
    .joins = TRUE,
};
