/* SPDX-License-Identifier: MIT */
/* TIFF 6.0 and the cameras' raw files that are built on it: directories that say where everything
 * is. The file ends behind the last of it. */
#include "carve/exif.h"
#include "carve/inflate.h"
#include "carve/lzw.h"
#include "carve/types/all.h"

#define DIRECTORIES_MOST 64u
#define ENTRIES_MOST 4096u
#define LEAST 64u

static const EkSignature signatures[] = {
    {0, 4, {'I', 'I', 42, 0}, {0}},    {0, 4, {'M', 'M', 0, 42}, {0}},
    {0, 4, {'I', 'I', 0x55, 0}, {0}},  {0, 4, {'I', 'I', 'R', 'O'}, {0}},
    {0, 4, {'I', 'I', 'R', 'S'}, {0}},
};

/* Up to here packed data were unpacked. */
typedef struct {
    guint directory;
    guint32 strip;
} Checked;

typedef struct {
    EkContent *content;
    gboolean big;
    EkByte end;  /* behind all that is known of it */
    EkByte data; /* bytes of pictures */
    guint32 todo[DIRECTORIES_MOST];
    guint count;
    guint current; /* of them that is looked at */
    gboolean has_picture;
    gboolean is_wrong;
    EkProof proof; /* of all packed data so far */
    Checked checked;
    EkByte checked_end; /* behind all that was unpacked */
    EkByte broke;       /* the piece of the picture that does not unpack, and how far it does; */
    EkByte broke_bytes; /* 0: all do */
    gboolean is_dng;
    char make[8];
} Tiff;

static guint16 get16(const Tiff *tiff, EkSpan span, gsize at)
{
    return tiff->big ? ek_span_be16(span, at) : ek_span_le16(span, at);
}

static guint32 get32(const Tiff *tiff, EkSpan span, gsize at)
{
    return tiff->big ? ek_span_be32(span, at) : ek_span_le32(span, at);
}

static gboolean begin(EkSpan span)
{
    Tiff tiff = {.big = ek_span_u8(span, 0) == 'M'};
    guint32 first = get32(&tiff, span, 4);
    if (first < 8 || (first & 1) != 0)
        return FALSE;
    guint16 count = get16(&tiff, span, first);
    return (gsize)first + 2 > span.length || (count > 0 && count < ENTRIES_MOST);
}

static void add_directory(Tiff *tiff, guint32 at)
{
    for (guint i = 0; i < tiff->count; i++)
        if (tiff->todo[i] == at)
            return;
    if (at != 0 && tiff->count < DIRECTORIES_MOST)
        tiff->todo[tiff->count++] = at;
}

static void reach(Tiff *tiff, EkByte first, EkByte bytes)
{
    if (first > ek_content_bytes(tiff->content) || bytes > ek_content_bytes(tiff->content) - first)
        tiff->is_wrong = TRUE;
    else
        tiff->end = MAX(tiff->end, first + bytes);
}

/* A list of numbers, in the entry or where it says. */
typedef struct {
    EkByte at;
    guint32 count;
    guint width;
} List;

static guint32 number_in(Tiff *tiff, const List *list, guint32 index)
{
    EkSpan span = ek_content_some(tiff->content, list->at + (EkByte)index * list->width, 4);
    return list->width == 2 ? get16(tiff, span, 0) : get32(tiff, span, 0);
}

/* FALSE where it breaks. `taken`: bytes up to there. */
static gboolean unpack_lzw(Tiff *tiff, EkByte at, EkByte bytes, EkByte *taken)
{
    g_autofree EkLzw *lzw = g_new0(EkLzw, 1);
    ek_lzw_begin(lzw, 8, TRUE);
    *taken = 0;
    while (*taken < bytes && !lzw->is_ended) {
        gsize some = MIN(ek_content_stride(tiff->content), EK_CONTENT_SHOWN);
        EkSpan span = ek_content_some(tiff->content, at + *taken, (gsize)MIN(bytes - *taken, some));
        gboolean fine = span.length > 0 && ek_lzw_take(lzw, span);
        *taken += span.length > 0 ? lzw->taken : 0;
        if (!fine)
            return FALSE;
    }
    return lzw->is_ended && *taken + 1 >= bytes;
}

/* A piece of the picture is unpacked, where it is packed in a way that tells. */
static void check_strip(Tiff *tiff, guint32 index, EkByte at, EkByte bytes, guint compression)
{
    EkByte taken = 0;
    gboolean is_zlib = compression == 8 || compression == 32946;
    gboolean is_lzw = compression == 5 && bytes > 1 &&
                      ek_span_u8(ek_content_some(tiff->content, at, 1), 0) == 0x80;
    tiff->proof = MIN(tiff->proof, is_zlib  ? EK_PROOF_FULL
                                   : is_lzw ? EK_PROOF_DECODED
                                            : EK_PROOF_TABLES);
    gboolean is_past = tiff->current < tiff->checked.directory ||
                       (tiff->current == tiff->checked.directory && index < tiff->checked.strip);
    if ((!is_zlib && !is_lzw) || is_past || tiff->broke_bytes > 0 ||
        ek_content_has_hole(tiff->content, at, bytes))
        return;
    gboolean fine;
    if (is_zlib) {
        EkStream stream = {.offset = at, .most = bytes, .is_zlib = TRUE};
        fine = ek_content_inflate(tiff->content, &stream);
        taken = stream.packed;
    } else {
        fine = unpack_lzw(tiff, at, bytes, &taken);
    }
    if (fine) {
        tiff->checked_end = MAX(tiff->checked_end, at + bytes);
        tiff->checked = (Checked){tiff->current, index + 1};
        ek_content_keep(tiff->content, tiff->checked_end, &tiff->checked, sizeof tiff->checked,
                        TRUE);
    } else {
        tiff->broke = at;
        tiff->broke_bytes = MAX(taken, 1);
    }
}

static void reach_strips(Tiff *tiff, const List *offsets, const List *counts, guint compression)
{
    if (offsets->count == 0 || offsets->count != counts->count || offsets->count > 1u << 22)
        return;
    tiff->has_picture = TRUE;
    for (guint32 i = 0; i < offsets->count && !tiff->is_wrong; i++) {
        guint32 bytes = number_in(tiff, counts, i);
        guint32 at = number_in(tiff, offsets, i);
        reach(tiff, at, bytes);
        if (!tiff->is_wrong)
            check_strip(tiff, i, at, bytes, compression);
        tiff->data += bytes;
    }
}

static void take_directory(Tiff *tiff, EkByte at)
{
    static const guint8 widths[] = {0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8, 4};
    EkSpan head = ek_content_some(tiff->content, at, 2);
    guint16 count = get16(tiff, head, 0);
    List strips[2] = {{0}, {0}};
    List tiles[2] = {{0}, {0}};
    List preview[2] = {{0}, {0}};
    guint compression = 1;
    if (head.length < 2 || count == 0 || count > ENTRIES_MOST) {
        tiff->is_wrong = TRUE;
        return;
    }
    reach(tiff, at, 2 + 12 * (EkByte)count + 4);
    for (guint i = 0; i < count && !tiff->is_wrong; i++) {
        EkSpan entry = ek_content_some(tiff->content, at + 2 + 12 * (EkByte)i, 12);
        guint16 tag = get16(tiff, entry, 0);
        guint16 type = get16(tiff, entry, 2);
        guint32 values = get32(tiff, entry, 4);
        guint width = type < G_N_ELEMENTS(widths) ? widths[type] : 0;
        EkByte bytes = (EkByte)values * width;
        List list = {bytes <= 4 ? at + 2 + 12 * (EkByte)i + 8 : get32(tiff, entry, 8), values,
                     width};
        if (width == 0 || type == 0) {
            tiff->is_wrong = TRUE;
            return;
        }
        if (bytes > 4)
            reach(tiff, list.at, bytes);
        switch (tag) {
        case 0x0103: compression = number_in(tiff, &list, 0); break;
        case 0x010f: {
            EkSpan make = ek_content_some(tiff->content, list.at, (gsize)MIN(bytes, 7));
            memcpy(tiff->make, make.data, make.length);
            break;
        }
        case 0x0111: strips[0] = list; break;
        case 0x0117: strips[1] = list; break;
        case 0x0144: tiles[0] = list; break;
        case 0x0145: tiles[1] = list; break;
        case 0x0201: preview[0] = list; break;
        case 0x0202: preview[1] = list; break;
        case 0xc612: tiff->is_dng = TRUE; break;
        case 0x014a:
        case 0x8769:
        case 0x8825:
        case 0xa005:
            for (guint32 k = 0; k < MIN(values, 16); k++)
                add_directory(tiff, number_in(tiff, &list, k));
            break;
        default: break;
        }
    }
    reach_strips(tiff, &strips[0], &strips[1], compression);
    reach_strips(tiff, &tiles[0], &tiles[1], compression);
    reach_strips(tiff, &preview[0], &preview[1], 1);
    add_directory(tiff,
                  get32(tiff, ek_content_some(tiff->content, at + 2 + 12 * (EkByte)count, 4), 0));
}

static void take_ending(const Tiff *tiff, EkSpan head, EkFollowed *followed)
{
    static const struct {
        const char *make;
        const char *ending;
    } makes[] = {{"NIKON", "nef"}, {"SONY", "arw"}, {"PENTAX", "pef"}, {"SAMSUNG", "srw"}};
    if (tiff->is_dng)
        ek_followed_ending(followed, "dng");
    else if (ek_span_equals(head, 8, "CR", 2))
        ek_followed_ending(followed, "cr2");
    else if (ek_span_equals(head, 0, "IIRO", 4) || ek_span_equals(head, 0, "IIRS", 4))
        ek_followed_ending(followed, "orf");
    else if (ek_span_equals(head, 0, "IIU", 3))
        ek_followed_ending(followed, "rw2");
    for (gsize i = 0; i < G_N_ELEMENTS(makes) && *followed->ending == '\0'; i++)
        if (g_ascii_strncasecmp(tiff->make, makes[i].make, MIN(strlen(makes[i].make), 6)) == 0 &&
            tiff->count > 1)
            ek_followed_ending(followed, makes[i].ending);
}

/* --- where a directory lies ------------------------------------------------------------------ */

#define SHOWN_MOST (2 + 12 * 256 + 4)

static gboolean is_entry(const Tiff *tiff, EkSpan span, gsize at, guint16 *tag)
{
    guint16 type = get16(tiff, span, at + 2);
    gboolean is_later = get16(tiff, span, at) > *tag;
    *tag = get16(tiff, span, at);
    return is_later && type >= 1 && type <= 13 && get32(tiff, span, at + 4) > 0;
}

/* The list of numbers that an entry names ends with this; FALSE where it is not in sight. */
static gboolean last_of(const Tiff *tiff, EkSpan span, gsize entry, EkByte directory, guint64 *last)
{
    guint width = get16(tiff, span, entry + 2) == 3 ? 2 : 4;
    guint32 count = get32(tiff, span, entry + 4);
    guint64 at = entry + 8;
    if ((guint64)count * width > 4) {
        guint64 place = get32(tiff, span, entry + 8);
        if (place < directory)
            return FALSE;
        at = place - directory;
    }
    at += (guint64)(count - 1) * width;
    if (at + width > span.length)
        return FALSE;
    *last = width == 2 ? get16(tiff, span, (gsize)at) : get32(tiff, span, (gsize)at);
    return TRUE;
}

/* A directory in this order of bytes, whose picture lies before it. */
static gboolean stands(const EkLandmark *landmark, EkSpan span)
{
    Tiff tiff = {.big = landmark->told != 0};
    guint16 count = get16(&tiff, span, 0);
    guint16 tag = 0;
    guint seen = 0;
    gsize offsets = 0;
    gsize counts = 0;
    if (count < 4 || count > 250 || !is_entry(&tiff, span, 2, &tag))
        return FALSE;
    if (span.length <= EK_LANDMARK_GLANCE)
        return TRUE;
    tag = 0;
    for (gsize i = 0; i < count; i++) {
        gsize at = 2 + 12 * i;
        if (at + 12 > span.length || !is_entry(&tiff, span, at, &tag))
            return FALSE;
        seen += tag == 0x0100 || tag == 0x0101 || tag == 0x0111 || tag == 0x0144;
        if (tag == 0x0111 || tag == 0x0144)
            offsets = at;
        if (tag == 0x0117 || tag == 0x0145)
            counts = at;
    }
    guint64 first = 0;
    guint64 bytes = 0;
    gboolean is_known = offsets > 0 && counts > 0 &&
                        last_of(&tiff, span, offsets, landmark->at, &first) &&
                        last_of(&tiff, span, counts, landmark->at, &bytes);
    return seen >= 3 && (!is_known || first + bytes <= landmark->at);
}

/* A picture of plain dots behind a directory that is among the first bytes. */
static gboolean take_samples(EkSpan head, EkSamples *samples)
{
    Tiff tiff = {.big = ek_span_u8(head, 0) == 'M'};
    gsize directory = get32(&tiff, head, 4);
    guint16 count = get16(&tiff, head, directory);
    guint64 last = 0;
    guint64 bytes = 0;
    guint depth = 1;
    guint packing = 1;
    gboolean is_planar = FALSE;
    *samples = (EkSamples){.width = 1, .channels = 1, .is_unsigned = TRUE, .is_picture = TRUE};
    for (guint i = 0; i < MIN(count, ENTRIES_MOST) && directory < head.length; i++) {
        gsize at = directory + 2 + 12 * (gsize)i;
        gboolean is_list = get32(&tiff, head, at + 4) > 2;
        switch (get16(&tiff, head, at)) {
        case 0x0102:
            depth = get16(&tiff, head, is_list ? get32(&tiff, head, at + 8) : at + 8);
            break;
        case 0x0103: packing = get16(&tiff, head, at + 8); break;
        case 0x0111:
            samples->first = get32(
                &tiff, head, get32(&tiff, head, at + 4) > 1 ? get32(&tiff, head, at + 8) : at + 8);
            (void)last_of(&tiff, head, at, 0, &last);
            break;
        case 0x0115: samples->channels = get16(&tiff, head, at + 8); break;
        case 0x0117: (void)last_of(&tiff, head, at, 0, &bytes); break;
        case 0x011c: is_planar = get16(&tiff, head, at + 8) == 2; break;
        default: break;
        }
    }
    samples->bytes = last + bytes;
    return depth == 8 && packing == 1 && !is_planar && samples->first > 0 && bytes > 0 &&
           last >= samples->first && ek_samples_are_plain(samples);
}

static void end(const Tiff *tiff, gboolean is_behind, EkFollowed *followed)
{
    if (tiff->proof >= EK_PROOF_DECODED)
        ek_followed_end(followed, tiff->end, tiff->proof,
                        "its directories, and all of its picture is unpacked");
    else if (is_behind) {
        followed->is_doubtful = TRUE;
        ek_followed_end(followed, tiff->end, EK_PROOF_TABLES,
                        "its directories, which lie behind the picture, and all that they name; "
                        "the picture itself is not checked");
    } else
        ek_followed_end(followed, tiff->end, EK_PROOF_LENGTH,
                        "its directories name its end; the picture itself is not checked");
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, EK_CONTENT_SHOWN);
    Tiff tiff = {
        .content = content, .big = ek_span_u8(head, 0) == 'M', .end = 8, .proof = EK_PROOF_FULL};
    guint32 first = get32(&tiff, head, 4);
    ek_exif_take(followed, head);
    take_ending(&tiff, head, followed);
    add_directory(&tiff, first);
    if (ek_content_kept(content, &tiff.checked, sizeof tiff.checked))
        tiff.checked_end = ek_content_kept_at(content);
    for (; tiff.current < tiff.count && !tiff.is_wrong; tiff.current++)
        take_directory(&tiff, tiff.todo[tiff.current]);
    head = ek_content_some(content, 0, 16);
    take_ending(&tiff, head, followed);
    gboolean is_behind = first > tiff.data / 2;
    EkByte bytes = ek_content_bytes(content);
    if (!tiff.is_wrong && tiff.has_picture && tiff.broke_bytes == 0) {
        end(&tiff, is_behind, followed);
    } else if (!tiff.is_wrong && tiff.has_picture) {
        ek_followed_break(followed, MAX(LEAST, MIN(tiff.checked_end, tiff.broke)),
                          MIN(tiff.broke + tiff.broke_bytes, bytes), LEAST,
                          "a part of its picture does not unpack");
        followed->broken = (EkBroken){.first = tiff.broke, .bytes = tiff.broke_bytes};
    } else if (tiff.has_picture) {
        ek_followed_break(followed, MIN(tiff.end, LEAST), MIN(bytes, tiff.end), LEAST,
                          "what its directory names is not there");
    } else if (first >= LEAST) {
        ek_followed_break(followed, 8, MIN(first, bytes), 8,
                          "its directory is not where it must be");
        followed->landmark = (EkLandmark){
            .at = first, .shown = SHOWN_MOST, .told = tiff.big ? 1 : 0, .stands = stands};
    }
}

const EkCarveType ek_carve_tiff = {
    .name = "tiff",
    .ending = "tif",
    .kind = EK_KIND_PICTURE,
    .checks = "all directories; packed pictures are unpacked (deflate, LZW), "
              "others stay doubtful",
    .names = "date and camera",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .samples = take_samples,
    .by_landmark = TRUE,
};
