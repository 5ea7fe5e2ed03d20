/* SPDX-License-Identifier: MIT */
/* WOFF (W3C): the tables of a font, each packed by deflate; and WOFF 2, all of them in one Brotli
 * stream (RFC 7932). */
#include "carve/followed.h"
#include "carve/inflate.h"
#include "carve/types/all.h"

#include <brotli/decode.h>
#include <string.h>

#define TABLES_MOST 256u
#define HEAD 44u
#define HEAD_2 48u
#define UNPACKED_MOST (256u << 20)
#define UNKNOWN_TAG 63u
#define STEP 2048u /* at a time: where in it the stream breaks is not always told */
#define GLYPHS 10u /* as tags are numbered */
#define PLACES 11u

static const EkSignature signatures[] = {{0, 4, {'w', 'O', 'F', 'F'}, {0}},
                                         {0, 4, {'w', 'O', 'F', '2'}, {0}}};

static gboolean begin(EkSpan span)
{
    guint16 count = ek_span_be16(span, 12);
    return count > 0 && count <= TABLES_MOST && ek_span_be16(span, 14) == 0 &&
           ek_span_be32(span, 8) > HEAD;
}

/* --- the first version ------------------------------------------------------------------------ */

static void follow_first(EkContent *content, EkFollowed *followed, guint16 count, EkByte length)
{
    guint8 list[20 * TABLES_MOST];
    EkSpan entries = ek_content_at(content, HEAD, 20 * (gsize)count);
    memcpy(list, entries.data, entries.length);
    entries.data = list;
    gboolean may_hide = FALSE;
    for (guint i = 0; i < count; i++) {
        EkSpan entry = ek_span_part(entries, 20 * (gsize)i, 20);
        EkByte at = ek_span_be32(entry, 4);
        EkByte packed = ek_span_be32(entry, 8);
        EkStream stream = {.offset = at, .most = packed, .is_zlib = TRUE};
        gboolean is_packed = packed < ek_span_be32(entry, 12);
        may_hide = may_hide || (!is_packed && ek_may_hide(at, at + packed));
        if (at > length || packed > length - at ||
            (is_packed && (!ek_content_inflate(content, &stream) ||
                           stream.unpacked != ek_span_be32(entry, 12)))) {
            ek_followed_break(followed, HEAD, MIN(at + stream.packed, length), HEAD,
                              "a table of it breaks");
            return;
        }
    }
    followed->is_doubtful = may_hide;
    ek_followed_end(followed, length, may_hide ? EK_PROOF_TABLES : EK_PROOF_DECODED,
                    may_hide ? "its tables unpacked, but for those that are not packed"
                             : "all tables unpacked");
}

/* --- the second ------------------------------------------------------------------------------- */

/* Seven bits a byte, the highest first. FALSE: it is no such number. */
static gboolean take_number(EkSpan span, gsize *at, guint64 *value)
{
    *value = 0;
    for (guint i = 0; i < 5 && *at < span.length; i++) {
        guint8 byte = ek_span_u8(span, (*at)++);
        *value = *value << 7 | (byte & 0x7f);
        if ((byte & 0x80) == 0)
            return *value <= G_MAXUINT32;
    }
    return FALSE;
}

/* The list of tables: where it ends, and what all of them come to unpacked. FALSE: it is none. */
static gboolean take_list(EkSpan span, guint16 count, gsize *end, guint64 *unpacked)
{
    gsize at = HEAD_2;
    *unpacked = 0;
    for (guint i = 0; i < count; i++) {
        guint64 length = 0;
        guint8 flags = ek_span_u8(span, at++);
        guint tag = flags & 63u;
        gboolean is_outline = tag == GLYPHS || tag == PLACES;
        at += tag == UNKNOWN_TAG ? 4 : 0;
        if (!take_number(span, &at, &length) ||
            ((is_outline ? flags >> 6 != 3 : flags >> 6 != 0) && !take_number(span, &at, &length)))
            return FALSE;
        *unpacked += length;
    }
    *end = at;
    return *unpacked > 0 && *unpacked <= UNPACKED_MOST;
}

/* Unpacks what lies in [*at, end), which must come to so many bytes; *at is how far it came. */
static gboolean unpack(EkContent *content, EkByte *at, EkByte end, guint64 unpacked)
{
    BrotliDecoderState *state = BrotliDecoderCreateInstance(NULL, NULL, NULL);
    BrotliDecoderResult result =
        state != NULL ? BROTLI_DECODER_RESULT_NEEDS_MORE_INPUT : BROTLI_DECODER_RESULT_ERROR;
    guint64 total = 0;
    while (result == BROTLI_DECODER_RESULT_NEEDS_MORE_INPUT && *at < end) {
        EkSpan span = ek_content_some(content, *at, (gsize)MIN(end - *at, STEP));
        size_t left = span.length;
        const guint8 *next = span.data;
        if (span.length == 0)
            break;
        do {
            size_t none = 0;
            size_t got = 0;
            result = BrotliDecoderDecompressStream(state, &left, &next, &none, NULL, NULL);
            BrotliDecoderTakeOutput(state, &got);
            total += got;
        } while (result == BROTLI_DECODER_RESULT_NEEDS_MORE_OUTPUT && total <= unpacked);
        *at += span.length - left;
    }
    BrotliDecoderDestroyInstance(state);
    return result == BROTLI_DECODER_RESULT_SUCCESS && *at == end && total == unpacked;
}

static void follow_second(EkContent *content, EkFollowed *followed, guint16 count, EkByte length)
{
    EkSpan head = ek_content_some(content, 0, EK_CONTENT_SHOWN);
    gboolean is_collection = ek_span_equals(head, 4, "ttcf", 4);
    EkByte packed = ek_span_be32(head, 20);
    gsize list_end = 0;
    guint64 unpacked = 0;
    if (is_collection) {
        ek_followed_end(followed, length, EK_PROOF_LENGTH,
                        "ends where its length says; nothing else is checked in a collection");
        return;
    }
    if (!take_list(head, count, &list_end, &unpacked) || packed > length - MIN(list_end, length))
        return;
    EkByte at = list_end;
    EkByte end = list_end + packed;
    if (end > length || !unpack(content, &at, end, unpacked)) {
        ek_followed_break(followed, at > 4096 ? list_end : 0, at, HEAD_2,
                          "its tables do not unpack");
        return;
    }
    /* What may stand behind them describes it. */
    gboolean may_hide = ek_may_hide(end, length);
    followed->is_doubtful = may_hide;
    ek_followed_end(followed, length, may_hide ? EK_PROOF_TABLES : EK_PROOF_DECODED,
                    may_hide ? "all tables unpacked; the bytes behind them are not checked"
                             : "all tables unpacked, to the length of each");
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, HEAD);
    gboolean is_second = ek_span_equals(head, 0, "wOF2", 4);
    guint16 count = MIN(ek_span_be16(head, 12), TABLES_MOST);
    EkByte length = ek_span_be32(head, 8);
    EkByte there = ek_content_bytes(content);
    followed->expected = length;
    ek_followed_ending(followed, is_second ? "woff2" : "woff");
    if (is_second)
        follow_second(content, followed, count, length);
    else if (length > there)
        ek_followed_break(followed, HEAD, there, HEAD, EK_GROUND_ENDS);
    else
        follow_first(content, followed, count, length);
    if (followed->end == EK_FOLLOW_ENDED && length > there)
        ek_followed_break(followed, HEAD, there, HEAD, EK_GROUND_ENDS);
}

const EkCarveType ek_carve_woff = {
    .name = "woff",
    .ending = "woff",
    .kind = EK_KIND_OTHER,
    .checks = "its tables are unpacked, to the length of each",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .joins = TRUE,
    .is_solid = TRUE,
};
