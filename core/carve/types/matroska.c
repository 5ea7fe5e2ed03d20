/* SPDX-License-Identifier: MIT */
/* Matroska and WebM (RFC 9559): elements within elements; clusters are followed block by block. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define ELEMENTS_MOST 50000000u
#define LEAST 128u
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
    while (*at < end) {
        Element element;
        if (!element_at(film, *at, &element))
            return end == UNKNOWN && *at == ek_content_bytes(film->content);
        if (end == UNKNOWN && is_top(element.id) && element.id > 0xff)
            return TRUE;
        if (!is_in_cluster(element.id) || element.bytes == UNKNOWN ||
            (end != UNKNOWN && element.bytes > end - element.body) ||
            element.bytes > ek_content_bytes(film->content) -
                                MIN(element.body, ek_content_bytes(film->content)))
            return end == UNKNOWN && !is_in_cluster(element.id);
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
    at = element.body;
    ek_content_kept(content, &at, sizeof at);
    EkByte sure = at;
    guint clusters = 0;
    while (at < end) {
        sure = at;
        ek_content_keep(content, at, &at, sizeof at, TRUE);
        if (!element_at(&film, at, &element) || !is_top(element.id))
            break;
        if (element.id == INFO)
            take_info(&film, &element);
        EkByte stop = element.bytes == UNKNOWN ? UNKNOWN : element.body + element.bytes;
        if (element.id == CLUSTER) {
            at = element.body;
            clusters++;
            followed->landmark = (EkLandmark){0};
            if (stop != UNKNOWN && stop < end)
                followed->landmark =
                    (EkLandmark){.at = stop, .shown = EK_LANDMARK_GLANCE, .stands = stands};
            if (!take_cluster(&film, &at, stop))
                break;
        } else if (stop == UNKNOWN || stop > ek_content_bytes(content)) {
            at = ek_content_bytes(content);
            break;
        } else {
            at = stop;
        }
        sure = at;
    }
    if (clusters > 0 && (at == end || (end == UNKNOWN && sure == at)))
        ek_followed_end(followed, at, end == UNKNOWN ? EK_PROOF_LENGTH : EK_PROOF_TABLES,
                        "each block of each cluster");
    else
        ek_followed_break(followed, sure, MIN(at, ek_content_bytes(content)), LEAST,
                          "no element where one must stand");
}

const EkCarveType ek_carve_matroska = {
    .name = "matroska",
    .ending = "mkv",
    .kind = EK_KIND_VIDEO,
    .checks = "each block of each cluster, to the length of the segment; always doubtful",
    .names = "title and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
    .joins = TRUE,
};
