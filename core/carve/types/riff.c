/* SPDX-License-Identifier: MIT */
/* RIFF (the Multimedia Programming Interface of 1991, OpenDML, WebP container; RF64 of EBU Tech
 * 3306 and BW64 of ITU-R BS.2088, with lengths of 64 bits): chunks within the length that stands at
 * the beginning. Films have an index that names each frame. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define CHUNKS_MOST 4000000u
#define LEAST 64u
#define ELSEWHERE G_MAXUINT32 /* a length that stands in the chunk of long ones */
#define LENGTH_MOST ((EkByte)1 << 56)

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    EkByte at;
    guint chunks;
    guint behind; /* chunks behind the one that holds the bulk */
    EkByte last;  /* the last chunk that was entered or passed */
    EkByte bulk;  /* the largest chunk that nothing checks */
    EkByte data;  /* the length of the data, where it stands elsewhere */
    gboolean is_film;
    gboolean has_index;
} Riff;

static gboolean is_name(EkSpan head, gsize offset)
{
    for (gsize i = 0; i < 4; i++) {
        guint8 c = ek_span_u8(head, offset + i);
        if (c < 0x20 || c > 0x7e)
            return FALSE;
    }
    return head.length >= offset + 4;
}

static void take_words(Riff *riff, EkByte at, EkByte end)
{
    while (at + 8 <= end) {
        EkSpan head = ek_content_some(riff->content, at, 300);
        guint32 length = ek_span_le32(head, 4);
        if (ek_span_equals(head, 0, "INAM", 4))
            ek_followed_words(riff->followed, ek_span_part(head, 8, length));
        else if (ek_span_equals(head, 0, "ICRD", 4) || ek_span_equals(head, 0, "IDIT", 4))
            ek_followed_date_digits(riff->followed, ek_span_part(head, 8, length), TRUE);
        at += 8 + (EkByte)length + (length & 1);
    }
}

/* A chunk that comes behind the bulk; names that are common only. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    static const char names[] = " idx1 LIST JUNK id3  cue  smpl fact bext iXML RIFF ix00 PEAK ";
    char name[8];
    (void)landmark;
    if (!is_name(span, 0) || ek_span_le32(span, 4) > 1u << 28)
        return FALSE;
    g_snprintf(name, sizeof name, " %.4s ", (const char *)span.data);
    return strstr(names, name) != NULL;
}

/* Chunks up to `end`; lists of frames are entered. FALSE where one does not fit. */
static gboolean take_chunks(Riff *riff, EkByte end, guint depth)
{
    while (riff->at + 8 <= end) {
        EkSpan head = ek_content_some(riff->content, riff->at, 16);
        EkByte length = ek_span_le32(head, 4);
        if (length == ELSEWHERE && ek_span_equals(head, 0, "data", 4) && riff->data > 0)
            length = riff->data;
        EkByte next = riff->at + 8 + length + (length & 1);
        if (!is_name(head, 0) || riff->chunks++ > CHUNKS_MOST || next > end + 1 ||
            riff->at + 8 + length > ek_content_bytes(riff->content))
            return FALSE;
        gboolean is_list = ek_span_equals(head, 0, "LIST", 4);
        riff->last = riff->at;
        if (is_list && ek_span_equals(head, 8, "INFO", 4))
            take_words(riff, riff->at + 12, MIN(next, riff->at + 65536));
        if (ek_span_equals(head, 0, "idx1", 4))
            riff->has_index = TRUE;
        if (depth == 0 && next < end)
            riff->followed->landmark =
                (EkLandmark){.at = next, .shown = EK_LANDMARK_GLANCE, .stands = stands};
        if (is_list && depth < 3 && riff->is_film) {
            riff->at += 12;
            if (length < 4 || !take_chunks(riff, next - (length & 1), depth + 1))
                return FALSE;
        } else if (length > riff->bulk && depth == 0) {
            riff->bulk = length;
            riff->behind = 0;
        } else if (depth == 0) {
            riff->behind++;
        }
        riff->at = next;
    }
    return TRUE;
}

static void follow(EkContent *content, EkFollowed *followed, gboolean is_film, EkByte head)
{
    Riff riff = {.content = content, .followed = followed, .is_film = is_film};
    EkSpan first = ek_content_some(content, 0, 36);
    EkByte length = ek_span_le32(first, 4);
    if (length == ELSEWHERE && ek_span_equals(first, 12, "ds64", 4)) {
        length = MIN(ek_span_le64(first, 20), LENGTH_MOST);
        riff.data = MIN(ek_span_le64(first, 28), LENGTH_MOST);
    }
    EkByte end = 8 + length;
    end += end & 1;
    followed->expected = end;
    riff.at = 12;
    gboolean fine = end > head && take_chunks(&riff, end, 0);
    /* What is longer than 1 GiB goes on in further lists. */
    for (guint i = 0; fine && is_film && i < 4096; i++) {
        EkSpan further = ek_content_some(content, end, 12);
        length = 8 + (EkByte)ek_span_le32(further, 4);
        if (!ek_span_equals(further, 0, "RIFF", 4) || !ek_span_equals(further, 8, "AVIX", 4))
            break;
        riff.at = end + 12;
        end += length + (length & 1);
        fine = take_chunks(&riff, end, 0);
    }
    EkByte bytes = ek_content_bytes(content);
    EkByte least = MAX(LEAST, head);
    /* Where a chunk ends was read in its head: nothing says that its content is its own. */
    EkByte sure = MIN(riff.at, MAX(riff.last + 8, least));
    if (fine && end <= bytes + 1)
        ek_followed_end(
            followed, MIN(end, bytes),
            (is_film && riff.has_index) || riff.behind > 0 ? EK_PROOF_TABLES : EK_PROOF_LENGTH,
            is_film           ? "each of its chunks, to the end that it names"
            : riff.behind > 0 ? "its chunks, also those behind the data"
                              : "ends where its length says; nothing else can be checked");
    else
        ek_followed_break(followed, sure, MIN(riff.at, bytes), least,
                          "no chunk where one must stand");
}

/* --- WAV ------------------------------------------------------------------------------------- */

static const EkSignature wav_signatures[] = {{8, 8, {'W', 'A', 'V', 'E', 'f', 'm', 't', ' '}, {0}},
                                             {8, 8, {'W', 'A', 'V', 'E', 'b', 'e', 'x', 't'}, {0}},
                                             {8, 8, {'W', 'A', 'V', 'E', 'J', 'U', 'N', 'K'}, {0}},
                                             {8, 8, {'W', 'A', 'V', 'E', 'L', 'I', 'S', 'T'}, {0}},
                                             {8, 8, {'W', 'A', 'V', 'E', 'd', 's', '6', '4'}, {0}}};

static gboolean begin(EkSpan span)
{
    return ek_span_equals(span, 0, "RIFF", 4) ||
           (ek_span_equals(span, 12, "ds64", 4) &&
            (ek_span_equals(span, 0, "RF64", 4) || ek_span_equals(span, 0, "BW64", 4)));
}

/* Formats 1 and 65534 are plain samples, up to eight channels of them. */
static gboolean take_samples(EkSpan head, EkSamples *samples)
{
    gsize form = ek_samples_chunk(head, "fmt ", FALSE);
    gsize data = ek_samples_chunk(head, "data", FALSE);
    guint16 format = ek_span_le16(head, form + 8);
    *samples = (EkSamples){.first = data + 8,
                           .bytes = 8 + (EkByte)ek_span_le32(head, 4),
                           .width = ek_span_le16(head, form + 22) / 8,
                           .channels = ek_span_le16(head, form + 10)};
    samples->is_unsigned = samples->width == 1;
    return form > 0 && data > 0 && (format == 1 || format == 0xfffe) &&
           ek_samples_are_plain(samples) &&
           ek_span_le16(head, form + 20) == samples->width * samples->channels;
}

static void follow_wav(EkContent *content, EkFollowed *followed)
{
    follow(content, followed, FALSE, 44);
}

const EkCarveType ek_carve_wav = {
    .name = "wav",
    .ending = "wav",
    .kind = EK_KIND_AUDIO,
    .checks = "its chunks and its length; always doubtful",
    .names = "title and date",
    .signatures = wav_signatures,
    .signature_count = G_N_ELEMENTS(wav_signatures),
    .begin = begin,
    .follow = follow_wav,
    .samples = take_samples,
    .by_landmark = TRUE,
    .is_solid = TRUE,
};

/* --- AVI ------------------------------------------------------------------------------------- */

static const EkSignature avi_signatures[] = {{8, 8, {'A', 'V', 'I', ' ', 'L', 'I', 'S', 'T'}, {0}}};

static void follow_avi(EkContent *content, EkFollowed *followed)
{
    follow(content, followed, TRUE, 256);
}

const EkCarveType ek_carve_avi = {
    .name = "avi",
    .ending = "avi",
    .kind = EK_KIND_VIDEO,
    .checks = "each chunk of each list, and the index; always doubtful",
    .names = "title and date",
    .signatures = avi_signatures,
    .signature_count = G_N_ELEMENTS(avi_signatures),
    .begin = begin,
    .follow = follow_avi,
    .by_landmark = TRUE,
    .joins = TRUE,
};

/* --- WebP ------------------------------------------------------------------------------------ */

static const EkSignature webp_signatures[] = {{8, 7, {'W', 'E', 'B', 'P', 'V', 'P', '8'}, {0}}};

/* Where nothing but one packed picture is in it, all of it is dense. */
static void follow_webp(EkContent *content, EkFollowed *followed)
{
    gboolean is_simple = !ek_span_equals(ek_content_some(content, 0, 16), 12, "VP8X", 4);
    follow(content, followed, FALSE, 28);
    followed->texture = is_simple ? EK_TEXTURE_PACKED : EK_TEXTURE_ANY;
    if (followed->end != EK_FOLLOW_ENDED || !is_simple)
        return;
    EkByte other = ek_content_first_unlike(content, EK_FOLLOWED_BLOCK, followed->length,
                                           EK_FOLLOWED_BLOCK, EK_TEXTURE_PACKED);
    if (other < followed->length)
        ek_followed_break(followed, LEAST, other, LEAST, "no packed picture where it must go on");
}

const EkCarveType ek_carve_webp = {
    .name = "webp",
    .ending = "webp",
    .kind = EK_KIND_PICTURE,
    .checks = "its chunks and its length; longer than 4 KiB it stays doubtful",
    .signatures = webp_signatures,
    .signature_count = G_N_ELEMENTS(webp_signatures),
    .begin = begin,
    .follow = follow_webp,
};
