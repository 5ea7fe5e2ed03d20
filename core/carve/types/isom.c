/* SPDX-License-Identifier: MIT */
/* The ISO base media file format (ISO/IEC 14496-12) and what is made of it: MP4, QuickTime, M4A,
 * 3GP, HEIF, AVIF. Boxes one behind the other; the tables in `moov` say where each piece of a track
 * is, and films in H.264 and H.265 are looked at unit by unit. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define BOXES_MOST 1000000u
#define TRACKS_MOST 64u
#define CHUNKS_MOST (1u << 22)
#define BEHIND_MOST 1000u /* pieces that are looked at behind a wrong one */
#define LEAST 32u

static const EkSignature signatures[] = {{4, 4, {'f', 't', 'y', 'p'}, {0}},
                                         {4, 4, {'m', 'o', 'o', 'v'}, {0}},
                                         {4, 4, {'w', 'i', 'd', 'e'}, {0}},
                                         {4, 4, {'m', 'd', 'a', 't'}, {0}}};

static const char *const top_boxes =
    " ftyp moov mdat free skip wide pnot udta uuid moof mfra sidx styp meta ssix prft emsg junk "
    "pdin bloc ";

typedef struct {
    EkByte first;
    EkByte end;
} Part;

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    GArray *media; /* Part: what mdat boxes hold */
    gboolean has_movie;
    gboolean has_items; /* of a picture */
    gboolean has_list;  /* of fragments: at the end */
    gboolean is_right;  /* the tables lead into the media */
    gboolean has_film;
    EkByte wrong; /* where a piece of a track is none */
    EkByte wrong_bytes;
    guint32 film;     /* number of the track with a film in units */
    guint film_width; /* of the lengths before them */
    EkByte behind;    /* where media end that there are not all of */
    guint pieces;     /* that were looked at */
    guint boxes;
} Movie;

static gboolean begin(EkSpan span)
{
    guint32 size = ek_span_be32(span, 0);
    if (ek_span_equals(span, 4, "ftyp", 4))
        return size >= 16 && size <= 4096 && size % 4 == 0;
    /* Old QuickTime has no type at its beginning: another box must follow. */
    if (ek_span_equals(span, 4, "wide", 4))
        return size == 8 && ek_span_equals(span, 12, "mdat", 4);
    if (ek_span_equals(span, 4, "moov", 4))
        return size > 100 && ek_span_equals(span, 12, "mvhd", 4);
    return FALSE;
}

/* --- boxes ----------------------------------------------------------------------------------- */

/* The box at a place: where its body begins and where it ends. FALSE where there is none. */
static gboolean box_at(Movie *movie, EkByte at, EkByte limit, EkByte *body, EkByte *end)
{
    EkSpan head = ek_content_some(movie->content, at, 16);
    EkByte size = ek_span_be32(head, 0);
    *body = at + 8;
    if (size == 1) {
        size = ek_span_be64(head, 8);
        *body = at + 16;
    } else if (size == 0) {
        size = limit - at;
    }
    *end = at + size;
    return head.length >= 8 && size >= *body - at && size <= G_MAXINT64 / 2 && *end <= limit &&
           movie->boxes++ < BOXES_MOST;
}

/* The box of this name inside another. */
static gboolean find_box(Movie *movie, EkByte at, EkByte limit, const char *name, Part *found)
{
    EkByte body = 0;
    EkByte end = 0;
    while (at + 8 <= limit && box_at(movie, at, limit, &body, &end)) {
        if (ek_span_equals(ek_content_some(movie->content, at, 8), 4, name, 4)) {
            *found = (Part){body, end};
            return TRUE;
        }
        at = end;
    }
    return FALSE;
}

static gboolean find_path(Movie *movie, Part inside, const char *path, Part *found)
{
    *found = inside;
    for (const char *p = path; *p != '\0'; p += p[4] == '/' ? 5 : 4)
        if (!find_box(movie, found->first, found->end, p, found))
            return FALSE;
    return TRUE;
}

static guint32 word_at(Movie *movie, EkByte at)
{
    return ek_span_be32(ek_content_some(movie->content, at, 4), 0);
}

/* --- tracks ---------------------------------------------------------------------------------- */

static gboolean is_in_media(const Movie *movie, EkByte first, EkByte bytes)
{
    for (guint i = 0; i < movie->media->len; i++) {
        const Part *part = &g_array_index(movie->media, Part, i);
        if (first >= part->first && first <= part->end && bytes <= part->end - first)
            return TRUE;
    }
    return FALSE;
}

/* A picture of a film: units, each behind its length. */
static gboolean is_units(Movie *movie, EkByte at, EkByte bytes, guint width)
{
    EkByte end = at + bytes;
    for (guint i = 0; at + width < end && i < 4096; i++) {
        EkSpan head = ek_content_some(movie->content, at, width + 1u);
        guint32 length = 0;
        for (guint k = 0; k < width; k++)
            length = length << 8 | ek_span_u8(head, k);
        if (head.length < width + 1u || length == 0 || length > end - at - width ||
            (ek_span_u8(head, width) & 0x80) != 0)
            return FALSE;
        at += width + (EkByte)length;
    }
    return at == end || at + width >= end;
}

/* What samples of some kinds begin with: JPEG, ProRes (SMPTE RDD 36), VC-3 (SMPTE ST 2019-1),
 * MPEG-4 Part 2. */
typedef struct {
    char kind[5]; /* of the track, or how that begins */
    guint8 at;
    guint8 length;
    guint8 bytes[4];
} Mark;
static const Mark marks[] = {
    {"jpeg", 0, 3, {0xff, 0xd8, 0xff}},  {"mjpa", 0, 3, {0xff, 0xd8, 0xff}},
    {"apc", 4, 4, {'i', 'c', 'p', 'f'}}, {"ap4", 4, 4, {'i', 'c', 'p', 'f'}},
    {"AVd", 0, 4, {0, 0, 2, 0x80}},      {"mp4v", 0, 3, {0, 0, 1}},
};

static const Mark *mark_of(EkSpan entry)
{
    for (gsize i = 0; i < G_N_ELEMENTS(marks); i++)
        if (ek_span_equals(entry, 4, marks[i].kind, strlen(marks[i].kind)))
            return &marks[i];
    return NULL;
}

static gboolean is_marked(Movie *movie, const Mark *mark, EkByte at, EkByte bytes)
{
    return mark == NULL || bytes < 8 ||
           ek_span_equals(ek_content_some(movie->content, at, 8), mark->at, mark->bytes,
                          mark->length);
}

typedef struct {
    Part offsets;
    guint64 offset_count;
    guint offset_width;
    Part sizes;
    guint32 one_size;
    guint64 samples;
    Part runs;
    guint32 run_count;
    guint unit_width; /* of the length before a unit; 0: it has none */
    const Mark *mark; /* that each sample begins with; NULL: none is known */
} Track;

static gboolean open_track(Movie *movie, Part trak, Track *track)
{
    Part table;
    Part part;
    *track = (Track){.offset_width = 4};
    if (!find_path(movie, trak, "mdia/minf/stbl", &table))
        return FALSE;
    if (!find_box(movie, table.first, table.end, "stco", &track->offsets)) {
        track->offset_width = 8;
        if (!find_box(movie, table.first, table.end, "co64", &track->offsets))
            return FALSE;
    }
    if (!find_box(movie, table.first, table.end, "stsz", &track->sizes) ||
        !find_box(movie, table.first, table.end, "stsc", &track->runs))
        return FALSE;
    track->offset_count = word_at(movie, track->offsets.first + 4);
    track->one_size = word_at(movie, track->sizes.first + 4);
    track->samples = word_at(movie, track->sizes.first + 8);
    track->run_count = word_at(movie, track->runs.first + 4);
    if (track->offset_count > CHUNKS_MOST ||
        track->offset_count * track->offset_width > track->offsets.end - track->offsets.first ||
        track->run_count * (guint64)12 > track->runs.end - track->runs.first ||
        (track->one_size == 0 && track->samples * 4 > track->sizes.end - track->sizes.first))
        return FALSE;
    if (find_box(movie, table.first, table.end, "stsd", &part)) {
        EkSpan entry = ek_content_some(movie->content, part.first + 8, 8);
        Part inner;
        gboolean is_avc = ek_span_equals(entry, 4, "avc", 3);
        gboolean is_hevc =
            ek_span_equals(entry, 4, "hev1", 4) || ek_span_equals(entry, 4, "hvc1", 4);
        movie->has_film = movie->has_film || is_avc || is_hevc;
        track->mark = mark_of(entry);
        if ((is_avc || is_hevc) &&
            find_box(movie, part.first + 8 + 86, part.end, is_avc ? "avcC" : "hvcC", &inner)) {
            EkSpan record = ek_content_some(movie->content, inner.first, 23);
            track->unit_width = (ek_span_u8(record, is_avc ? 4 : 21) & 3u) + 1;
            if (find_box(movie, trak.first, trak.end, "tkhd", &part)) {
                gboolean is_wide = ek_span_u8(ek_content_some(movie->content, part.first, 1), 0);
                movie->film = word_at(movie, part.first + (is_wide ? 20 : 12));
                movie->film_width = track->unit_width;
            }
        }
    }
    return TRUE;
}

/* A picture of a film, unit by unit: `told` bytes in all, and their lengths `sum` bytes wide. */
static gboolean stands_picture(const EkLandmark *landmark, EkSpan span)
{
    guint64 at = 0;
    gsize width = (gsize)landmark->sum;
    while (at + width < landmark->told) {
        guint64 length = 0;
        if (at + width >= span.length)
            return span.length < landmark->told;
        for (gsize k = 0; k < width; k++)
            length = length << 8 | ek_span_u8(span, (gsize)at + k);
        if (length == 0 || length > landmark->told - at - width ||
            (ek_span_u8(span, (gsize)at + width) & 0x80) != 0)
            return FALSE;
        at += width + length;
    }
    return at == landmark->told;
}

/* The boxes that come behind the media. */
static gboolean stands_box(const EkLandmark *landmark, EkSpan span)
{
    static const char *const names[] = {"free", "uuid", "udta", "mfra", "styp", "sidx", "prft"};
    guint32 size = ek_span_be32(span, 0);
    (void)landmark;
    if (ek_span_equals(span, 4, "moov", 4))
        return size > 100 && ek_span_equals(span, 12, "mvhd", 4);
    if (ek_span_equals(span, 4, "moof", 4))
        return size >= 24 && size < 1u << 24 && ek_span_equals(span, 12, "mfhd", 4);
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++)
        if (ek_span_equals(span, 4, names[i], 4))
            return size >= 8 && size < 1u << 24;
    return FALSE;
}

static void note_wrong(Movie *movie, EkByte at, EkByte bytes)
{
    if (movie->wrong > 0 && movie->wrong <= at)
        return;
    movie->wrong = MIN(at, ek_content_bytes(movie->content));
    movie->wrong_bytes = bytes;
}

/* Of the pieces that come behind the one that is wrong, is this one that can be told apart? */
static void note_landmark(Movie *movie, const Track *track, EkByte at, EkByte bytes)
{
    EkLandmark *landmark = &movie->followed->landmark;
    if (landmark->stands == NULL && track->unit_width > 0 &&
        at >= movie->wrong + movie->wrong_bytes && bytes >= 4 * EK_LANDMARK_GLANCE &&
        bytes <= EK_CONTENT_SHOWN)
        *landmark = (EkLandmark){.at = at,
                                 .shown = (gsize)bytes,
                                 .told = bytes,
                                 .sum = track->unit_width,
                                 .stands = stands_picture};
}

/* Each piece of a track must lie in the media, and begin with what it must begin with. */
static gboolean check_track(Movie *movie, const Track *track)
{
    guint behind = 0; /* pieces behind a wrong one */
    guint64 sample = 0;
    guint32 run = 0;
    guint32 each = 0;
    for (guint64 chunk = 0; chunk < track->offset_count; chunk++) {
        EkByte entry = track->offsets.first + 8 + chunk * track->offset_width;
        EkSpan text = ek_content_at(movie->content, entry, track->offset_width);
        EkByte at = track->offset_width == 4 ? ek_span_be32(text, 0) : ek_span_be64(text, 0);
        while (run < track->run_count &&
               word_at(movie, track->runs.first + 8 + 12 * (EkByte)run) <= chunk + 1) {
            each = word_at(movie, track->runs.first + 12 + 12 * (EkByte)run);
            run++;
        }
        for (guint32 i = 0; i < each && sample < track->samples; i++, sample++) {
            EkByte bytes = track->one_size != 0
                               ? track->one_size
                               : word_at(movie, track->sizes.first + 12 + 4 * sample);
            if (behind > 0) {
                note_landmark(movie, track, at, bytes);
                if (behind++ > BEHIND_MOST)
                    return FALSE;
            } else if (!is_in_media(movie, at, bytes) ||
                       (track->unit_width > 0 && !is_units(movie, at, bytes, track->unit_width)) ||
                       !is_marked(movie, track->mark, at, bytes)) {
                note_wrong(movie, at, bytes);
                behind = 1;
            }
            movie->pieces += track->unit_width > 0 ? 1 : 0;
            at += bytes;
        }
    }
    return behind == 0;
}

/* --- fragments ------------------------------------------------------------------------------- */

/* A run of samples of the film from `at` on. Returns where it ends; 0: one of them is none. */
static EkByte check_run(Movie *movie, Part trun, guint32 flags, guint32 size, EkByte at)
{
    guint32 samples = word_at(movie, trun.first + 4);
    guint each = 0;
    guint before = (flags & 0x100) != 0 ? 4 : 0; /* the size, in an entry */
    EkByte entry = trun.first + 8 + ((flags & 1) != 0 ? 4 : 0) + ((flags & 4) != 0 ? 4 : 0);
    for (guint bit = 0x100; bit <= 0x800; bit <<= 1)
        each += (flags & bit) != 0 ? 4 : 0;
    for (guint32 i = 0; i < samples && entry + each <= trun.end; i++, entry += each) {
        guint32 bytes = (flags & 0x200) != 0 ? word_at(movie, entry + before) : size;
        if (at + bytes > ek_content_bytes(movie->content) ||
            !is_units(movie, at, bytes, movie->film_width)) {
            note_wrong(movie, at, bytes);
            return 0;
        }
        movie->pieces++;
        at += bytes;
    }
    return at;
}

/* What a fragment says of the film's samples; `first` is where its box begins. */
static gboolean check_fragment(Movie *movie, Part moof, EkByte first)
{
    EkByte at = moof.first;
    EkByte body = 0;
    EkByte end = 0;
    while (at + 8 <= moof.end && box_at(movie, at, moof.end, &body, &end)) {
        Part head;
        Part trun;
        at = end;
        if (!find_box(movie, body, end, "tfhd", &head) ||
            word_at(movie, head.first + 4) != movie->film || movie->film_width == 0)
            continue;
        guint32 flags = word_at(movie, head.first) & 0xffffff;
        EkByte field = head.first + 8 + ((flags & 2) != 0 ? 4 : 0) + ((flags & 8) != 0 ? 4 : 0);
        EkByte base = first;
        if ((flags & 1) != 0) {
            base = ek_span_be64(ek_content_some(movie->content, head.first + 8, 8), 0);
            field += 8;
        }
        guint32 size = (flags & 0x10) != 0 ? word_at(movie, field) : 0;
        for (EkByte next = body; next != 0 && find_box(movie, next, end, "trun", &trun);
             next = trun.end) {
            guint32 kind = word_at(movie, trun.first) & 0xffffff;
            if ((kind & 1) != 0)
                base += word_at(movie, trun.first + 8);
            if (base > G_MAXINT64 / 2 || (base = check_run(movie, trun, kind, size, base)) == 0)
                return FALSE;
            if ((kind & 1) != 0)
                break; /* further runs count from elsewhere */
        }
    }
    return TRUE;
}

static void check_fragments(Movie *movie, const GArray *fragments)
{
    for (guint i = 0; i < fragments->len && movie->is_right; i++) {
        Part moof = g_array_index(fragments, Part, i);
        movie->is_right = check_fragment(movie, (Part){moof.first + 8, moof.end}, moof.first);
    }
}

static void take_date(Movie *movie, Part moov)
{
    Part head;
    if (!find_box(movie, moov.first, moov.end, "mvhd", &head))
        return;
    EkSpan body = ek_content_some(movie->content, head.first, 16);
    guint64 seconds = ek_span_u8(body, 0) == 1 ? ek_span_be64(body, 4) : ek_span_be32(body, 4);
    /* Counted from 1904. */
    if (seconds > 2082844800u && seconds < G_MAXUINT32)
        ek_followed_date(movie->followed,
                         (EkTimestamp){(gint64)seconds - 2082844800, 0, FALSE, TRUE});
}

static void take_title(Movie *movie, Part moov)
{
    Part meta;
    Part list;
    Part item;
    if (!find_path(movie, moov, "udta/meta", &meta))
        return;
    meta.first += 4;
    if (find_box(movie, meta.first, meta.end, "ilst", &list) &&
        find_box(movie, list.first, list.end, "\251nam", &item) &&
        find_box(movie, item.first, item.end, "data", &item))
        ek_followed_words(movie->followed,
                          ek_content_some(movie->content, item.first + 8,
                                          (gsize)MIN(item.end - item.first, 1024) - 8));
}

/* Boxes to the last byte, and in those that hold boxes too. */
static gboolean are_boxes(Movie *movie, Part part, guint depth)
{
    static const char holders[] = " trak mdia minf stbl edts dinf ";
    EkByte at = part.first;
    EkByte body = 0;
    EkByte end = 0;
    while (at + 8 <= part.end) {
        EkSpan head = ek_content_some(movie->content, at, 8);
        char name[8];
        g_snprintf(name, sizeof name, " %.4s ", (const char *)ek_span_part(head, 4, 4).data);
        for (gsize i = 4; i < 8; i++)
            if (ek_span_u8(head, i) < ' ' || ek_span_u8(head, i) == 0x7f)
                return FALSE;
        if (!box_at(movie, at, part.end, &body, &end) ||
            (depth < 4 && strstr(holders, name) != NULL && *name == ' ' &&
             !are_boxes(movie, (Part){body, end}, depth + 1)))
            return FALSE;
        at = end;
    }
    /* QuickTime may end a list with four zeros. */
    return at == part.end || at + 4 == part.end;
}

static void take_movie(Movie *movie, Part moov)
{
    EkByte at = moov.first;
    EkByte body = 0;
    EkByte end = 0;
    movie->has_movie = TRUE;
    movie->is_right = are_boxes(movie, moov, 0);
    guint tracks = 0;
    take_date(movie, moov);
    take_title(movie, moov);
    for (guint i = 0;
         i < TRACKS_MOST && at + 8 <= moov.end && box_at(movie, at, moov.end, &body, &end); i++) {
        Track track;
        gboolean is_track = ek_span_equals(ek_content_some(movie->content, at, 8), 4, "trak", 4);
        tracks += is_track ? 1 : 0;
        if (is_track &&
            (!open_track(movie, (Part){body, end}, &track) || !check_track(movie, &track)))
            movie->is_right = FALSE;
        at = end;
    }
    movie->is_right = movie->is_right && tracks > 0;
}

/* --- the file -------------------------------------------------------------------------------- */

static void take_brand(EkContent *content, EkFollowed *followed)
{
    static const struct {
        const char *brand;
        const char *ending;
    } brands[] = {{"qt  ", "mov"},  {"M4A ", "m4a"},  {"M4B ", "m4b"},  {"M4V ", "m4v"},
                  {"3gp", "3gp"},   {"3g2", "3g2"},   {"heic", "heic"}, {"heix", "heic"},
                  {"mif1", "heif"}, {"avif", "avif"}, {"crx ", "cr3"}};
    EkSpan head = ek_content_some(content, 0, 16);
    if (!ek_span_equals(head, 4, "ftyp", 4))
        ek_followed_ending(followed, "mov");
    for (gsize i = 0; i < G_N_ELEMENTS(brands); i++)
        if (ek_span_equals(head, 8, brands[i].brand, strlen(brands[i].brand)))
            ek_followed_ending(followed, brands[i].ending);
}

static gboolean is_top(EkSpan head)
{
    char name[8];
    g_snprintf(name, sizeof name, " %c%c%c%c ", ek_span_u8(head, 4), ek_span_u8(head, 5),
               ek_span_u8(head, 6), ek_span_u8(head, 7));
    return head.length >= 8 && strlen(name) == 6 && strstr(top_boxes, name) != NULL;
}

/* Without a list of its fragments a film may end behind any of them, or be cut in the last one. */
static void end_fragments(const Movie *movie, const GArray *fragments, EkByte at)
{
    EkFollowed *followed = movie->followed;
    EkByte last = g_array_index(fragments, Part, fragments->len - 1).first;
    followed->may_end = TRUE;
    followed->proof = EK_PROOF_TABLES;
    followed->broken = (EkBroken){.first = last, .bytes = at - last};
    followed->landmark = (EkLandmark){.at = at, .shown = EK_LANDMARK_GLANCE, .stands = stands_box};
    ek_followed_break(followed, last, at, LEAST,
                      movie->pieces > 0
                          ? "its tables, and each unit of its film; whether the last fragment "
                            "is the end is not known"
                          : "its boxes; whether the last fragment is the end is not known");
}

static void follow(EkContent *content, EkFollowed *followed)
{
    g_autoptr(GArray) media = g_array_new(FALSE, FALSE, sizeof(Part));
    Movie movie = {.content = content, .followed = followed, .media = media};
    EkByte limit = ek_content_bytes(content);
    Part moov = {0, 0};
    EkByte at = 0;
    EkByte body = 0;
    EkByte end = 0;
    gboolean is_cut = FALSE;
    g_autoptr(GArray) fragments = g_array_new(FALSE, FALSE, sizeof(Part));
    while (movie.boxes < BOXES_MOST) {
        EkSpan head = ek_content_some(content, at, 16);
        if (!is_top(head))
            break;
        gboolean is_media = ek_span_equals(head, 4, "mdat", 4);
        /* A length of 0 would reach to the end of the ground. */
        if (ek_span_be32(head, 0) == 0 || !box_at(&movie, at, limit, &body, &end)) {
            is_cut = TRUE;
            movie.behind = is_media && end > limit ? end : 0;
            break;
        }
        Part part = {body, end};
        if (is_media)
            g_array_append_val(media, part);
        else if (ek_span_equals(head, 4, "moov", 4))
            moov = part;
        else if (ek_span_equals(head, 4, "moof", 4))
            g_array_append_vals(fragments, &(Part){at, end}, 1);
        else if (ek_span_equals(head, 4, "mfra", 4))
            movie.has_list = TRUE;
        else if (ek_span_equals(head, 4, "meta", 4))
            movie.has_items = TRUE;
        at = end;
    }
    take_brand(content, followed);
    if (moov.end > 0)
        take_movie(&movie, moov);
    check_fragments(&movie, fragments);
    gboolean is_film = movie.has_movie && (media->len > 0 || fragments->len > 0);
    gboolean is_picture = movie.has_items && media->len > 0;
    /* Of media that come last nothing tells whether their end is right. */
    gboolean is_last =
        media->len > 0 && g_array_index(media, Part, media->len - 1).first > moov.first;
    followed->is_doubtful = fragments->len > 0 ? !movie.has_list : is_last;
    /* Of media that are no film in units, nothing tells a foreign block. */
    followed->is_doubtful = followed->is_doubtful || movie.pieces == 0;
    if (!is_cut && is_film && movie.is_right && fragments->len > 0 && !movie.has_list) {
        end_fragments(&movie, fragments, at);
        return;
    }
    if (!is_cut && ((is_film && movie.is_right) || is_picture)) {
        ek_followed_end(followed, at, EK_PROOF_TABLES,
                        movie.pieces > 0 ? "its tables, and each unit of its film"
                                         : "its boxes, and its tables lead into its media, which "
                                           "are not decoded");
        return;
    }
    EkByte sure = moov.end > 0 && media->len == 0
                      ? moov.end
                      : MIN(at, media->len > 0 ? g_array_index(media, Part, 0).first : at);
    EkByte broke = movie.wrong > 0 ? movie.wrong : is_cut ? MIN(limit, at + 8) : at;
    if (at == 0 || (media->len == 0 && moov.end == 0 && !is_cut))
        return;
    if ((!movie.has_movie || fragments->len > 0) && (media->len > 0 || movie.behind > 0))
        followed->landmark = (EkLandmark){
            .at = MAX(at, movie.behind), .shown = EK_LANDMARK_GLANCE, .stands = stands_box};
    if (movie.wrong > 0)
        followed->broken = (EkBroken){.first = movie.wrong, .bytes = movie.wrong_bytes};
    ek_followed_break(followed, MIN(sure, broke), broke, LEAST,
                      movie.wrong > 0    ? "a piece of a track is not where its table says"
                      : !movie.has_movie ? "the table of its tracks is missing"
                                         : "no box where one must stand");
}

const EkCarveType ek_carve_isom = {
    .name = "mp4",
    .ending = "mp4",
    .kind = EK_KIND_VIDEO,
    .checks = "all boxes; tables against the media; each unit of films in H.264 "
              "and H.265; always doubtful",
    .names = "title and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .by_landmark = TRUE,
};
