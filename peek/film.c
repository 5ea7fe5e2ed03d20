/* SPDX-License-Identifier: MIT */
/* Films and recordings: do their frames decode, and how the first one looks. */
#include "peek.h"

#ifdef EK_PEEK_FILMS

#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/display.h>
#include <libswscale/swscale.h>
#include <string.h>
#include <time.h>

#define BUFFER (64 << 10)
#define BEGINNING (5 << 20)                    /* bytes that may tell what streams there are */
#define PIXELS_MOST ((int64_t)36 << 20)        /* of a frame */
#define SIDE_MOST 1024                         /* pixels of a frame that is shown */
#define TRIED 250u                             /* frames, until one is no mere colour */
#define LEAST_CONTRAST 24                      /* between the darkest and the lightest of it */
#define JUDGING (12 * (clock_t)CLOCKS_PER_SEC) /* of the processor, for one film */
#define LOOKING (4 * (clock_t)CLOCKS_PER_SEC)
#define EARLY_MOST (2 * (int64_t)AV_TIME_BASE) /* that a film may end before it says */
#define EARLY_SHARE 20                         /* or one in so many */
#define STREAMS_MOST 16u
#define WIPED_LEAST 480 /* zeros: nearly a sector */

/* One film while it is decoded. */
typedef struct {
    const Content *content;
    const Canvas *canvas;
    Finding *finding;
    guint64 at; /* where the reader is */
    AVFormatContext *format;
    AVCodecContext *decoders[STREAMS_MOST]; /* by stream; NULL: not decoded */
    guint64 frames;                         /* of pictures */
    guint64 sounds;                         /* blocks of sound */
    gboolean has_begun[STREAMS_MOST];       /* something of it was decoded */
    int64_t end;                            /* of what was decoded, in AV_TIME_BASE */
    int64_t fault_at;                       /* where the first one is; AV_NOPTS_VALUE: nowhere */
    const char *fault;                      /* of the first one; NULL: none */
    gboolean is_shown;
    gboolean leaves_alone; /* its pictures are not asked one by one */
    AVFrame *plain;        /* the first frame, where it is a mere colour */
    guint plain_number;    /* of its stream */
    int width;             /* of the first frame */
    int height;
    clock_t begun;
} Film;

/* What decoders find wrong and make up for they only log. */
static gboolean has_complained;

static void take_complaint(void *from, int level, const char *format, va_list arguments)
{
    (void)from;
    (void)format;
    (void)arguments;
    has_complained = has_complained || level <= AV_LOG_ERROR;
}

gboolean film_prepare(void)
{
    av_log_set_callback(take_complaint);
    return TRUE;
}

static gboolean is_film(const Finding *finding)
{
    return g_str_has_prefix(finding->mime, "video/") ||
           g_str_equal(finding->mime, "application/ogg") ||
           (g_str_has_prefix(finding->mime, "audio/") && !g_str_equal(finding->mime, "audio/midi"));
}

/* --- content ---------------------------------------------------------------------------------- */

/* What of it is here from `at` on. Returns how many bytes; 0: none. */
static guint64 content_at(const Content *content, guint64 at, const guint8 **from)
{
    guint64 end_begins = content->size - content->end_length;
    if (at < content->length) {
        *from = content->bytes + at;
        return content->length - at;
    }
    if (at < end_begins || at >= content->size)
        return 0;
    *from = content->bytes + content->length + (at - end_begins);
    return content->size - at;
}

static int read_content(void *data, uint8_t *buffer, int length)
{
    Film *film = data;
    const guint8 *from = NULL;
    guint64 there = content_at(film->content, film->at, &from);
    if (film->at >= film->content->size)
        return AVERROR_EOF;
    if (there == 0)
        return AVERROR(EIO);
    gsize take = (gsize)MIN(there, (guint64)MAX(length, 0));
    memcpy(buffer, from, take);
    film->at += take;
    return (int)take;
}

static int64_t seek_content(void *data, int64_t offset, int whence)
{
    Film *film = data;
    int64_t size = (int64_t)film->content->size;
    if (whence == AVSEEK_SIZE)
        return size;
    int64_t base = whence == SEEK_CUR ? (int64_t)film->at : whence == SEEK_END ? size : 0;
    if (offset < -base || offset > size - base)
        return AVERROR(EINVAL);
    film->at = (guint64)(base + offset);
    return base + offset;
}

static void close_film(Film *film)
{
    for (guint i = 0; i < STREAMS_MOST; i++)
        avcodec_free_context(&film->decoders[i]);
    av_frame_free(&film->plain);
    AVIOContext *source = film->format != NULL ? film->format->pb : NULL;
    avformat_close_input(&film->format);
    if (source != NULL)
        av_freep(&source->buffer);
    avio_context_free(&source);
}

static gboolean open_source(Film *film)
{
    film->format = avformat_alloc_context();
    uint8_t *buffer = av_malloc(BUFFER);
    AVIOContext *source = buffer != NULL ? avio_alloc_context(buffer, BUFFER, 0, film, read_content,
                                                              NULL, seek_content)
                                         : NULL;
    if (film->format == NULL || source == NULL) {
        av_free(buffer);
        return FALSE;
    }
    film->format->pb = source;
    film->format->flags |= AVFMT_FLAG_CUSTOM_IO;
    film->format->probesize = BEGINNING;
    film->format->max_streams = STREAMS_MOST;
    film->format->error_recognition = AV_EF_CRCCHECK;
    AVFormatContext *format = film->format;
    int opened = avformat_open_input(&format, NULL, NULL, NULL);
    film->format = format;
    if (opened == 0)
        return TRUE;
    av_freep(&source->buffer);
    avio_context_free(&source);
    return FALSE;
}

/* Of each kind one stream is decoded, as a player does. */
static gboolean open_decoder(Film *film, enum AVMediaType kind)
{
    const AVCodec *codec = NULL;
    int best = av_find_best_stream(film->format, kind, -1, -1, &codec, 0);
    if (best < 0 || best >= (int)STREAMS_MOST || codec == NULL)
        return FALSE;
    const AVStream *stream = film->format->streams[best];
    if ((stream->disposition & AV_DISPOSITION_ATTACHED_PIC) != 0)
        return FALSE;
    AVCodecContext *decoder = avcodec_alloc_context3(codec);
    if (decoder == NULL)
        return FALSE;
    film->decoders[best] = decoder;
    gboolean fine = avcodec_parameters_to_context(decoder, stream->codecpar) >= 0;
    decoder->pkt_timebase = stream->time_base;
    decoder->thread_count = 1;
    decoder->max_pixels = PIXELS_MOST;
    decoder->err_recognition = AV_EF_CRCCHECK;
    if (fine && avcodec_open2(decoder, codec, NULL) >= 0)
        return TRUE;
    avcodec_free_context(&film->decoders[best]);
    return FALSE;
}

/* --- showing ---------------------------------------------------------------------------------- */

/* As wide as its pixels are meant, and no larger than it is shown; NULL: it cannot be converted. */
static GdkPixbuf *pixels_of(const AVFrame *frame)
{
    double wide = frame->width;
    double high = frame->height;
    if (frame->sample_aspect_ratio.num > 0 && frame->sample_aspect_ratio.den > 0)
        wide *= CLAMP(av_q2d(frame->sample_aspect_ratio), 0.1, 10);
    double scale = MIN(1, SIDE_MOST / MAX(wide, high));
    int columns = MAX((int)(wide * scale), 1);
    int lines = MAX((int)(high * scale), 1);
    struct SwsContext *scaler =
        sws_getContext(frame->width, frame->height, (enum AVPixelFormat)frame->format, columns,
                       lines, AV_PIX_FMT_RGB24, SWS_BILINEAR, NULL, NULL, NULL);
    GdkPixbuf *picture =
        scaler != NULL ? gdk_pixbuf_new(GDK_COLORSPACE_RGB, FALSE, 8, columns, lines) : NULL;
    if (picture != NULL) {
        uint8_t *const planes[4] = {gdk_pixbuf_get_pixels(picture)};
        const int strides[4] = {gdk_pixbuf_get_rowstride(picture)};
        sws_scale(scaler, (const uint8_t *const *)frame->data, frame->linesize, 0, frame->height,
                  planes, strides);
    }
    sws_freeContext(scaler);
    return picture;
}

/* How the camera was held; NULL: it is not told. */
static const int32_t *matrix_of(const AVStream *stream)
{
#if LIBAVFORMAT_VERSION_MAJOR >= 61
    const AVCodecParameters *parameters = stream->codecpar;
    const AVPacketSideData *side = av_packet_side_data_get(
        parameters->coded_side_data, parameters->nb_coded_side_data, AV_PKT_DATA_DISPLAYMATRIX);
    return side != NULL && side->size >= 9 * sizeof(int32_t) ? (const int32_t *)side->data : NULL;
#else
    size_t length = 0;
    const uint8_t *data = av_stream_get_side_data(stream, AV_PKT_DATA_DISPLAYMATRIX, &length);
    return length >= 9 * sizeof(int32_t) ? (const int32_t *)data : NULL;
#endif
}

static GdkPixbufRotation turn_of(const Film *film, guint number)
{
    const int32_t *matrix = matrix_of(film->format->streams[number]);
    double turn = matrix != NULL ? av_display_rotation_get(matrix) : 0;
    /* Not a number is no turn. */
    if (!(turn >= -360 && turn <= 360))
        return GDK_PIXBUF_ROTATE_NONE;
    return (GdkPixbufRotation)((((int)turn + 360 + 45) / 90 % 4) * 90);
}

static gboolean has_contrast(const GdkPixbuf *picture)
{
    gsize stride = (gsize)gdk_pixbuf_get_rowstride(picture);
    gsize columns = (gsize)gdk_pixbuf_get_width(picture) * 3;
    const guint8 *pixels = gdk_pixbuf_read_pixels(picture);
    guint8 least = 255;
    guint8 most = 0;
    for (gsize line = 0; line < (gsize)gdk_pixbuf_get_height(picture); line++)
        for (gsize i = 0; i < columns; i++) {
            least = MIN(least, pixels[line * stride + i]);
            most = MAX(most, pixels[line * stride + i]);
        }
    return most - least >= LEAST_CONTRAST;
}

/* Many films begin black: the first frame that is no mere colour says more. */
static void show_frame(Film *film, guint number, const AVFrame *frame, gboolean any)
{
    if (film->is_shown || film->canvas->columns == 0 || film->canvas->lines == 0)
        return;
    g_autoptr(GdkPixbuf) picture = pixels_of(frame);
    if (picture == NULL)
        return;
    if (!any && film->frames <= TRIED && !has_contrast(picture)) {
        if (film->plain == NULL)
            film->plain = av_frame_clone(frame);
        film->plain_number = number;
        return;
    }
    g_autoptr(GdkPixbuf) turned = gdk_pixbuf_rotate_simple(picture, turn_of(film, number));
    picture_draw(turned != NULL ? turned : picture, film->canvas, film->finding);
    film->is_shown = TRUE;
}

/* What a recording carries as its cover. */
static void show_cover(Film *film)
{
    for (guint i = 0; i < film->format->nb_streams && !film->is_shown; i++) {
        const AVStream *stream = film->format->streams[i];
        if ((stream->disposition & AV_DISPOSITION_ATTACHED_PIC) == 0 ||
            stream->attached_pic.size <= 0)
            continue;
        picture_show(stream->attached_pic.data, (gsize)stream->attached_pic.size, 1, film->canvas,
                     film->finding);
        film->is_shown = !g_str_equal(film->finding->look, "none");
    }
}

/* --- decoding --------------------------------------------------------------------------------- */

static void note_fault(Film *film, const char *fault, int64_t at)
{
    if (film->fault != NULL)
        return;
    film->fault = fault;
    film->fault_at = at;
}

static int64_t time_of(const Film *film, guint number, int64_t at)
{
    const AVStream *stream = film->format->streams[number];
    if (at == AV_NOPTS_VALUE)
        return AV_NOPTS_VALUE;
    int64_t first = film->format->start_time != AV_NOPTS_VALUE ? film->format->start_time : 0;
    return av_rescale_q(at, stream->time_base, AV_TIME_BASE_Q) - first;
}

/* How long a frame lasts, in AV_TIME_BASE. */
static int64_t length_of(const Film *film, guint number, const AVFrame *frame)
{
    if (frame->nb_samples > 0 && frame->sample_rate > 0)
        return av_rescale(frame->nb_samples, AV_TIME_BASE, frame->sample_rate);
#if LIBAVUTIL_VERSION_MAJOR >= 58
    int64_t length = frame->duration;
#else
    int64_t length = frame->pkt_duration;
#endif
    return av_rescale_q(CLAMP(length, 0, INT32_MAX), film->format->streams[number]->time_base,
                        AV_TIME_BASE_Q);
}

static void take_frame(Film *film, guint number, const AVFrame *frame)
{
    gboolean is_picture = film->decoders[number]->codec_type == AVMEDIA_TYPE_VIDEO;
    int64_t at = time_of(film, number, frame->best_effort_timestamp);
    gboolean is_broken =
        frame->decode_error_flags != 0 || (frame->flags & AV_FRAME_FLAG_CORRUPT) != 0;
    /* What comes before the first whole frame refers to what the film does not have. */
    if (is_broken && film->has_begun[number])
        note_fault(film, is_picture ? "a frame does not decode" : "sound does not decode", at);
    if (at != AV_NOPTS_VALUE)
        film->end = MAX(film->end, at + length_of(film, number, frame));
    if (is_broken)
        return;
    film->has_begun[number] = TRUE;
    film->frames += is_picture ? 1 : 0;
    film->sounds += is_picture ? 0 : 1;
    if (is_picture && film->width == 0) {
        film->width = frame->width;
        film->height = frame->height;
    }
    if (is_picture)
        show_frame(film, number, frame, FALSE);
}

/* What these write never has so many zeros in a row: they were not read, or wiped. */
static gboolean is_wiped(enum AVCodecID codec, const AVPacket *packet)
{
    static const enum AVCodecID dense[] = {
        AV_CODEC_ID_H264, AV_CODEC_ID_HEVC, AV_CODEC_ID_VP8,  AV_CODEC_ID_VP9,    AV_CODEC_ID_AV1,
        AV_CODEC_ID_AAC,  AV_CODEC_ID_MP3,  AV_CODEC_ID_OPUS, AV_CODEC_ID_VORBIS, AV_CODEC_ID_MPEG4,
    };
    gboolean is_dense = FALSE;
    for (gsize i = 0; i < G_N_ELEMENTS(dense); i++)
        is_dense = is_dense || codec == dense[i];
    int run = 0;
    for (int i = 0; is_dense && i < packet->size && run < WIPED_LEAST; i++)
        run = packet->data[i] == 0 ? run + 1 : 0;
    return run >= WIPED_LEAST;
}

/* Films of JPEG pictures: their decoder goes on through damage, the one for pictures tells. Some
 * cameras write pictures that have something wrong, the first one too: those are left alone. */
static gboolean is_torn(Film *film, enum AVCodecID codec, const AVPacket *packet)
{
    Content picture = {.bytes = packet->data,
                       .length = (gsize)MAX(packet->size, 0),
                       .size = (guint64)MAX(packet->size, 0)};
    gboolean starved = FALSE;
    if (codec != AV_CODEC_ID_MJPEG || film->leaves_alone)
        return FALSE;
    g_autofree char *fault = jpeg_fault(&picture, &starved);
    film->leaves_alone = fault != NULL && film->frames == 0;
    return fault != NULL && film->frames > 0;
}

/* Decodes a packet; NULL: what the decoder still holds. */
static void decode(Film *film, guint number, const AVPacket *packet, AVFrame *frame)
{
    AVCodecContext *decoder = film->decoders[number];
    gboolean is_broken = packet != NULL && is_torn(film, decoder->codec_id, packet);
    int sent = avcodec_send_packet(decoder, packet);
    int got = 0;
    has_complained = has_complained && film->has_begun[number];
    while ((got = avcodec_receive_frame(decoder, frame)) == 0) {
        take_frame(film, number, frame);
        av_frame_unref(frame);
    }
    gboolean failed = (sent < 0 && sent != AVERROR_EOF && sent != AVERROR(EAGAIN)) ||
                      (got != AVERROR(EAGAIN) && got != AVERROR_EOF);
    if (packet == NULL)
        return;
    if (is_wiped(decoder->codec_id, packet))
        note_fault(film, "zeros lie where a frame should go on",
                   time_of(film, number, packet->pts));
    if (!film->has_begun[number])
        return;
    if (failed || is_broken || has_complained || (packet->flags & AV_PKT_FLAG_CORRUPT) != 0)
        note_fault(film,
                   decoder->codec_type == AVMEDIA_TYPE_VIDEO ? "a frame does not decode"
                                                             : "sound does not decode",
                   time_of(film, number, packet->pts));
}

/* Each of its pictures stands alone: fewer than its index has, and one is missing. */
static gboolean lacks_pictures(const Film *film)
{
    for (guint i = 0; i < STREAMS_MOST; i++)
        if (film->decoders[i] != NULL && film->decoders[i]->codec_id == AV_CODEC_ID_MJPEG)
            return film->frames <
                   (guint64)MAX(avformat_index_get_entries_count(film->format->streams[i]), 0);
    return FALSE;
}

/* TRUE: to its end. */
static gboolean decode_all(Film *film, clock_t most)
{
    AVPacket *packet = av_packet_alloc();
    AVFrame *frame = av_frame_alloc();
    int got = packet != NULL && frame != NULL ? 0 : AVERROR(ENOMEM);
    gboolean enough = FALSE;
    while (!enough && got >= 0 && (got = av_read_frame(film->format, packet)) >= 0) {
        guint number = (guint)packet->stream_index;
        if (number < STREAMS_MOST && film->decoders[number] != NULL)
            decode(film, number, packet, frame);
        av_packet_unref(packet);
        enough = clock() - film->begun > most || (film->canvas->look_only && film->is_shown);
    }
    for (guint i = 0; i < STREAMS_MOST && !enough && got == AVERROR_EOF; i++)
        if (film->decoders[i] != NULL)
            decode(film, i, NULL, frame);
    if (!enough && got != AVERROR_EOF)
        note_fault(film, "reading ends", film->end);
    if (!enough && lacks_pictures(film))
        note_fault(film, "a frame is missing", AV_NOPTS_VALUE);
    if (film->plain != NULL)
        show_frame(film, film->plain_number, film->plain, TRUE);
    av_packet_free(&packet);
    av_frame_free(&frame);
    return !enough;
}

/* --- judging ---------------------------------------------------------------------------------- */

/* "1:02:03", "0:07". The caller frees. */
static char *clock_text(int64_t time)
{
    int64_t seconds = MAX(time, 0) / AV_TIME_BASE;
    int minutes = (int)(seconds / 60 % 60);
    int hours = (int)MIN(seconds / 3600, 99999);
    return hours > 0 ? g_strdup_printf("%d:%02d:%02d", hours, minutes, (int)(seconds % 60))
                     : g_strdup_printf("%d:%02d", minutes, (int)(seconds % 60));
}

/* Does it say how long it is, and end much earlier? */
static gboolean ends_early(const Film *film)
{
    int64_t told = film->format->duration;
    return film->format->duration_estimation_method == AVFMT_DURATION_FROM_STREAM && told > 0 &&
           film->end < told - MAX(EARLY_MOST, told / EARLY_SHARE);
}

static char *what_it_is(const Film *film)
{
    g_autofree char *pixels = film->width > 0
                                  ? g_strdup_printf("%d x %d pixels, ", film->width, film->height)
                                  : g_strdup("");
    g_autofree char *end = clock_text(film->end);
    return g_strdup_printf("%s%s", pixels, end);
}

/* Samples as they are: any bytes are some. */
static gboolean is_plain_sound(const Film *film)
{
    gboolean plain = TRUE;
    for (guint i = 0; i < STREAMS_MOST; i++)
        plain = plain && (film->decoders[i] == NULL ||
                          av_get_exact_bits_per_sample(film->decoders[i]->codec_id) > 0);
    return plain;
}

static void say(Film *film, gboolean to_end)
{
    g_autofree char *what = what_it_is(film);
    Finding *finding = film->finding;
    gboolean any = film->frames > 0 || film->sounds > 0;
    if (!any && !to_end)
        finding_says(finding, "unchecked", "decoding it took too long");
    else if (!any)
        finding_says(finding, "no", "no frame decodes");
    else if (film->fault != NULL && film->fault_at != AV_NOPTS_VALUE) {
        g_autofree char *at = clock_text(film->fault_at);
        finding_says(finding, "no", "%s, damaged: at %s %s", what, at, film->fault);
    } else if (film->fault != NULL)
        finding_says(finding, "no", "%s, damaged: %s", what, film->fault);
    else if (!to_end)
        finding_says(finding, "unchecked", "%s decoded; the rest was not tried", what);
    else if (ends_early(film)) {
        g_autofree char *told = clock_text(film->format->duration);
        finding_says(finding, "no", "%s, but it should be %s long", what, told);
    } else if (film->frames == 0)
        finding_says(finding, "yes",
                     is_plain_sound(film) ? "%s of plain sound, in which nothing can be checked"
                                          : "%s, all sound decodes",
                     what);
    else
        finding_says(finding, "yes", "%s, %" G_GUINT64_FORMAT " frame%s%s", what, film->frames,
                     film->frames == 1 ? " decodes" : "s decode",
                     film->sounds > 0 ? ", and all sound" : "");
}

gboolean film_judge(const Content *content, const Canvas *canvas, Finding *finding)
{
    if (!is_film(finding))
        return FALSE;
    Film film = {.content = content, .canvas = canvas, .finding = finding, .begun = clock()};
    gboolean is_all = content->length == content->size;
    gboolean opened = open_source(&film) && avformat_find_stream_info(film.format, NULL) >= 0;
    if (opened) {
        gboolean has_sound = !canvas->look_only && open_decoder(&film, AVMEDIA_TYPE_AUDIO);
        gboolean has_picture = open_decoder(&film, AVMEDIA_TYPE_VIDEO);
        show_cover(&film);
        gboolean decoded = has_sound || has_picture;
        gboolean to_end =
            decoded && decode_all(&film, canvas->look_only || !is_all ? LOOKING : JUDGING);
        if (!decoded)
            finding_says(finding, "unchecked", "no decoder for it is installed");
        else if (is_all && !canvas->look_only)
            say(&film, to_end);
    } else if (is_all) {
        finding_says(finding, "no", "nothing in it can be played");
    }
    if (!is_all)
        finding_says(finding, "unchecked", "too large to be decoded here");
    close_film(&film);
    return TRUE;
}

#else

gboolean film_prepare(void)
{
    return TRUE;
}

gboolean film_judge(const Content *content, const Canvas *canvas, Finding *finding)
{
    (void)content;
    (void)canvas;
    (void)finding;
    return FALSE;
}

#endif
