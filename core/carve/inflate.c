/* SPDX-License-Identifier: MIT */
/* Unpacking deflate streams. What fits memory is unpacked at once by libdeflate, after a beginning
 * by zlib has shown that it is one; zlib tells where a stream breaks, and can go on in the middle.
 */
#include "carve/inflate.h"

#include "carve/pairs.h"

#include <libdeflate.h>
#include <string.h>
#include <zlib.h>

#define AT_A_TIME 16384u
#define SMALL (32u << 10) /* packed: is unpacked at once */
#define PACKED_MOST (4u << 20)
#define PACKED_GUESS (1u << 20) /* where its length is not known */
#define UNPACKED_MOST (8u << 20)
#define STATES 64u /* remembered */
#define APART 4096u

/* A stream in its middle. */
typedef struct {
    z_stream zlib;
    EkByte begins; /* of the stream in the content */
    EkByte packed;
    EkByte unpacked;
    guint32 sum;
    EkByte strange;
    EkPairs pairs;
    gboolean is_set;
} Middle;

typedef struct {
    struct libdeflate_decompressor *whole;
    guint8 *packed;   /* PACKED_MOST */
    guint8 *unpacked; /* UNPACKED_MOST; EK_CONTENT_SHOWN of it while it goes step by step */
    Middle middles[STATES];
    guint next;
    EkPairs pairs; /* of the stream that is unpacked */
} Inflater;

/* --- what belongs to a content ---------------------------------------------------------------- */

static void forget_from(void *data, EkByte offset)
{
    Inflater *inflater = data;
    for (guint i = 0; i < STATES; i++) {
        Middle *middle = &inflater->middles[i];
        if (middle->is_set && middle->begins + middle->packed > offset) {
            inflateEnd(&middle->zlib);
            middle->is_set = FALSE;
        }
    }
}

static void inflater_free(void *data)
{
    Inflater *inflater = data;
    for (guint i = 0; i < STATES; i++)
        if (inflater->middles[i].is_set)
            inflateEnd(&inflater->middles[i].zlib);
    libdeflate_free_decompressor(inflater->whole);
    g_free(inflater->packed);
    g_free(inflater->unpacked);
    g_free(inflater);
}

static Inflater *inflater_of(EkContent *content)
{
    Inflater *inflater = ek_content_aside(content, EK_ASIDE_DEFLATE);
    if (inflater != NULL)
        return inflater;
    inflater = g_new0(Inflater, 1);
    inflater->whole = libdeflate_alloc_decompressor();
    inflater->packed = g_malloc(PACKED_MOST);
    inflater->unpacked = g_malloc(UNPACKED_MOST);
    if (inflater->whole == NULL)
        g_error("libdeflate: no memory");
    ek_content_set_aside(content, EK_ASIDE_DEFLATE, inflater, inflater_free, forget_from);
    return inflater;
}

/* --- at once ---------------------------------------------------------------------------------- */

/* All that is there, up to `length`; NULL when it is cut short. */
static const guint8 *gather(EkContent *content, Inflater *inflater, const EkStream *stream,
                            gsize *length)
{
    *length = (gsize)MIN(*length, ek_content_bytes(content) -
                                      MIN(stream->offset, ek_content_bytes(content)));
    if (*length <= EK_CONTENT_SHOWN) {
        EkSpan span = ek_content_some(content, stream->offset, *length);
        return span.length == *length ? span.data : NULL;
    }
    for (gsize at = 0; at < *length;) {
        EkSpan span = ek_content_some(content, stream->offset + at, *length - at);
        if (span.length == 0)
            return NULL;
        memcpy(inflater->packed + at, span.data, span.length);
        at += span.length;
    }
    return inflater->packed;
}

static gboolean inflate_at_once(EkContent *content, Inflater *inflater, EkStream *stream,
                                gsize length)
{
    gsize packed = 0;
    gsize unpacked = 0;
    const guint8 *data = gather(content, inflater, stream, &length);
    if (data == NULL)
        return FALSE;
    enum libdeflate_result result =
        (stream->is_zlib ? libdeflate_zlib_decompress_ex : libdeflate_deflate_decompress_ex)(
            inflater->whole, data, length, inflater->unpacked, UNPACKED_MOST, &packed, &unpacked);
    if (result != LIBDEFLATE_SUCCESS)
        return FALSE;
    stream->packed = packed;
    stream->unpacked = unpacked;
    stream->sum = stream->has_sum ? (guint32)libdeflate_crc32(0, inflater->unpacked, unpacked) : 0;
    return TRUE;
}

/* --- step by step ----------------------------------------------------------------------------- */

static void remember(Inflater *inflater, const EkStream *stream, z_stream *zlib)
{
    const Middle *last = &inflater->middles[(inflater->next + STATES - 1) % STATES];
    if (last->is_set && last->begins == stream->offset && stream->packed < last->packed + APART)
        return;
    Middle *middle = &inflater->middles[inflater->next];
    if (middle->is_set)
        inflateEnd(&middle->zlib);
    middle->is_set = inflateCopy(&middle->zlib, zlib) == Z_OK;
    middle->begins = stream->offset;
    middle->packed = stream->packed;
    middle->unpacked = stream->unpacked;
    middle->sum = stream->sum;
    middle->strange = stream->strange;
    middle->pairs = inflater->pairs;
    inflater->next = (inflater->next + 1) % STATES;
}

/* Begins, or goes on from the farthest that is remembered of it. */
static gboolean begin(Inflater *inflater, EkStream *stream, z_stream *zlib)
{
    Middle *best = NULL;
    for (guint i = 0; i < STATES; i++) {
        Middle *middle = &inflater->middles[i];
        if (middle->is_set && middle->begins == stream->offset && middle->packed <= stream->most &&
            (best == NULL || middle->packed > best->packed))
            best = middle;
    }
    stream->packed = best != NULL ? best->packed : 0;
    stream->unpacked = best != NULL ? best->unpacked : 0;
    stream->sum = best != NULL ? best->sum : 0;
    stream->strange = best != NULL ? best->strange : 0;
    inflater->pairs = best != NULL ? best->pairs : (EkPairs){0};
    return (best != NULL ? inflateCopy(zlib, &best->zlib)
                         : inflateInit2(zlib, stream->is_zlib ? 15 : -15)) == Z_OK;
}

/* One stretch of packed bytes. */
static int step(Inflater *inflater, EkStream *stream, z_stream *zlib, EkSpan span,
                gboolean remembers)
{
    int status;
    zlib->next_in = (z_const Bytef *)span.data;
    zlib->avail_in = (uInt)span.length;
    do {
        zlib->next_out = inflater->unpacked;
        zlib->avail_out = EK_CONTENT_SHOWN;
        status = inflate(zlib, Z_NO_FLUSH);
        gsize got = EK_CONTENT_SHOWN - zlib->avail_out;
        if (stream->has_sum)
            stream->sum = (guint32)libdeflate_crc32(stream->sum, inflater->unpacked, got);
        if (remembers)
            ek_pairs_take(&inflater->pairs, (EkSpan){inflater->unpacked, got});
        stream->unpacked += got;
    } while (status == Z_OK && zlib->avail_out == 0);
    if (remembers && ek_pairs_end(&inflater->pairs) && stream->strange == 0)
        stream->strange = MAX(stream->packed, 1);
    stream->packed += span.length - zlib->avail_in;
    return status == Z_BUF_ERROR && zlib->avail_in == 0 ? Z_OK : status;
}

gboolean ek_content_inflate(EkContent *content, EkStream *stream)
{
    Inflater *inflater = inflater_of(content);
    gboolean is_known = stream->most <= PACKED_MOST;
    gboolean remembers = ek_content_remembers(content);
    gboolean may_fit = !remembers && (is_known || stream->most > (EkByte)1 << 40);
    if (may_fit && (stream->most <= SMALL || !is_known) &&
        inflate_at_once(content, inflater, stream, (gsize)MIN(stream->most, SMALL)))
        return TRUE;
    z_stream zlib = {0};
    gboolean keeps = remembers && !ek_content_is_fixed(content);
    int status = begin(inflater, stream, &zlib) ? Z_OK : Z_MEM_ERROR;
    may_fit = may_fit && stream->most > SMALL;
    while (status == Z_OK && stream->packed < stream->most) {
        /* Blocks of the file, so that it shows in which one what comes out changes. */
        gsize wanted =
            remembers ? APART - (gsize)((stream->offset + stream->packed) % APART) : AT_A_TIME;
        EkSpan span = ek_content_some(content, stream->offset + stream->packed,
                                      (gsize)MIN(stream->most - stream->packed, wanted));
        if (span.length == 0)
            break;
        status = step(inflater, stream, &zlib, span, remembers);
        if (status == Z_OK && keeps)
            remember(inflater, stream, &zlib);
        /* It seems to be one. */
        if (status == Z_OK && may_fit && stream->packed >= SMALL) {
            may_fit = FALSE;
            if (inflate_at_once(content, inflater, stream,
                                is_known ? (gsize)stream->most : PACKED_GUESS))
                status = Z_STREAM_END;
        }
    }
    inflateEnd(&zlib);
    return status == Z_STREAM_END;
}
