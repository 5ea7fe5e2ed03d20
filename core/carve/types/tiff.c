/* SPDX-License-Identifier: MIT */
/* TIFF 6.0 and the cameras' raw files that are built on it: directories that say where everything
 * is. The file ends behind the last of it. */
#include "carve/exif.h"
#include "carve/types/all.h"

#define DIRECTORIES_MOST 64u
#define ENTRIES_MOST 4096u
#define LEAST 64u

static const EkSignature signatures[] = {
    {0, 4, {'I', 'I', 42, 0}, {0}},    {0, 4, {'M', 'M', 0, 42}, {0}},
    {0, 4, {'I', 'I', 0x55, 0}, {0}},  {0, 4, {'I', 'I', 'R', 'O'}, {0}},
    {0, 4, {'I', 'I', 'R', 'S'}, {0}},
};

typedef struct {
    EkContent *content;
    gboolean big;
    EkByte end;  /* behind all that is known of it */
    EkByte data; /* bytes of pictures */
    guint32 todo[DIRECTORIES_MOST];
    guint count;
    gboolean has_picture;
    gboolean is_wrong;
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

static void reach_strips(Tiff *tiff, const List *offsets, const List *counts)
{
    if (offsets->count == 0 || offsets->count != counts->count || offsets->count > 1u << 22)
        return;
    tiff->has_picture = TRUE;
    for (guint32 i = 0; i < offsets->count && !tiff->is_wrong; i++) {
        guint32 bytes = number_in(tiff, counts, i);
        reach(tiff, number_in(tiff, offsets, i), bytes);
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
    reach_strips(tiff, &strips[0], &strips[1]);
    reach_strips(tiff, &tiles[0], &tiles[1]);
    reach_strips(tiff, &preview[0], &preview[1]);
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

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, EK_CONTENT_SHOWN);
    Tiff tiff = {.content = content, .big = ek_span_u8(head, 0) == 'M', .end = 8};
    guint32 first = get32(&tiff, head, 4);
    ek_exif_take(followed, head);
    take_ending(&tiff, head, followed);
    add_directory(&tiff, first);
    for (guint i = 0; i < tiff.count && !tiff.is_wrong; i++)
        take_directory(&tiff, tiff.todo[i]);
    head = ek_content_some(content, 0, 16);
    take_ending(&tiff, head, followed);
    gboolean is_behind = first > tiff.data / 2;
    if (!tiff.is_wrong && tiff.has_picture)
        ek_followed_end(
            followed, tiff.end, is_behind ? EK_PROOF_TABLES : EK_PROOF_LENGTH,
            is_behind ? "its directories, which lie behind the picture, and all that they name"
                      : "its directories name its end; the picture itself is not checked");
    else if (tiff.has_picture)
        ek_followed_break(followed, MIN(tiff.end, LEAST), MIN(ek_content_bytes(content), tiff.end),
                          LEAST, "what its directory names is not there");
    else if (first >= LEAST)
        ek_followed_break(followed, 8, MIN(first, ek_content_bytes(content)), 8,
                          "its directory is not where it must be");
}

const EkCarveType ek_carve_tiff = {
    .name = "tiff",
    .ending = "tif",
    .kind = EK_KIND_PICTURE,
    .checks = "all directories, and that what they name is there",
    .names = "date and camera",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
};
