/* SPDX-License-Identifier: MIT */
/* ASF, as WMV and WMA are: objects with their lengths; the header tells the length of the file. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define OBJECTS_MOST 4096u
#define LEAST 512u

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

static void follow(EkContent *content, EkFollowed *followed)
{
    EkByte header = ek_span_le64(ek_content_some(content, 0, 30), 16);
    EkByte told = 0;
    EkByte at = 30;
    gboolean is_film = FALSE;
    if (header < 30 || header > (16u << 20))
        return;
    for (guint i = 0; i < OBJECTS_MOST && at + 24 <= header; i++) {
        EkSpan object = ek_content_some(content, at, 512);
        guint64 size = ek_span_le64(object, 16);
        if (size < 24 || size > header - at)
            break;
        if (ek_span_equals(object, 0, properties, 16)) {
            told = ek_span_le64(object, 40);
            ek_followed_date(followed, ek_timestamp_filetime(ek_span_le64(object, 48)));
        } else if (ek_span_equals(object, 0, description, 16)) {
            ek_followed_words_utf16(followed, ek_span_part(object, 34, ek_span_le16(object, 24)),
                                    FALSE);
        } else if (ek_span_equals(object, 0, stream, 16)) {
            is_film = is_film || ek_span_equals(object, 24, film, 16);
        }
        at += size;
    }
    ek_followed_ending(followed, is_film ? "wmv" : "wma");
    EkByte bytes = ek_content_bytes(content);
    at = header;
    gboolean has_data = FALSE;
    gboolean fine = TRUE;
    guint objects = 0;
    while (fine && objects < OBJECTS_MOST) {
        EkSpan object = ek_content_some(content, at, 24);
        guint64 size = ek_span_le64(object, 16);
        gboolean is_data = ek_span_equals(object, 0, data_object, 16);
        if ((told != 0 && at >= told) || (!is_data && !has_data) ||
            (has_data && at != told && told == 0))
            break;
        fine = size >= 24 && at <= bytes && size <= bytes - at;
        has_data = has_data || is_data;
        at += fine ? size : 0;
        objects++;
    }
    followed->expected = told;
    followed->is_doubtful = objects < 2;
    if (has_data && fine && (told == 0 || at == told))
        ek_followed_end(followed, at, EK_PROOF_TABLES,
                        objects > 1 ? "its objects, to the index behind the data"
                                    : "its objects and its length; the data are not checked");
    else
        ek_followed_break(followed, header, MIN(MAX(header, told), bytes), LEAST,
                          "an object of it breaks");
}

const EkCarveType ek_carve_asf = {
    .name = "asf",
    .ending = "wmv",
    .kind = EK_KIND_VIDEO,
    .checks = "its objects, against the length in the header; always doubtful",
    .names = "title and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
};
