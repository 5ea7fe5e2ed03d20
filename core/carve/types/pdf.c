/* SPDX-License-Identifier: MIT */
/* PDF (ISO 32000): object behind object, each to its end; streams by their length, those of flate
 * by decoding them. A file that was changed has further objects behind its end mark. */
#include "carve/followed.h"
#include "carve/inflate.h"
#include "carve/jpeg.h"
#include "carve/types/all.h"

#define TOKENS_MOST 20000000u
#define DEPTH_MOST 200
#define LEAST 128u
#define STRING_MOST (1u << 20)
#define STREAM_MOST (256u << 20) /* bytes of a stream whose length is not known before */

static const EkSignature signatures[] = {{0, 5, {'%', 'P', 'D', 'F', '-'}, {0}}};

/* A stream whose length another object tells, behind it. */
typedef struct {
    guint64 number; /* of that object; 0: none */
    EkByte data;
    EkByte bytes;
} Length;

typedef struct {
    EkContent *content;
    EkFollowed *followed;
    Length lengths[16];
    guint unsure; /* of these */
    EkByte at;
    EkSpan span;
    EkByte span_at;
    guint tokens;
    EkByte objects;
    EkByte begun;  /* where the data of the first stream begin, before an object is complete */
    EkByte linear; /* the length that a file for the web says it has; 0: it is none */
    gboolean is_linear;
    gboolean is_loose; /* a stream was not unpacked */
} Pdf;

/* --- bytes and tokens ------------------------------------------------------------------------ */

static int byte_at(Pdf *pdf, EkByte at)
{
    if (at < pdf->span_at || at - pdf->span_at >= pdf->span.length) {
        pdf->span = ek_content_some(pdf->content, at, 16384);
        pdf->span_at = at;
        if (pdf->span.length == 0)
            return -1;
    }
    return pdf->span.data[at - pdf->span_at];
}

static gboolean is_blank(int c)
{
    return c == ' ' || c == '\r' || c == '\n' || c == '\t' || c == '\f' || c == 0;
}

static gboolean is_delimiter(int c)
{
    return c >= 0 && strchr("()<>[]{}/%", c) != NULL && c != 0;
}

static gboolean stands(Pdf *pdf, EkByte at, const char *word)
{
    for (; *word != '\0'; word++, at++)
        if (byte_at(pdf, at) != (guint8)*word)
            return FALSE;
    return TRUE;
}

/* Blanks and comments; an end mark is no comment. Blocks of zeros are no blanks: files end there.
 */
static void pass_blanks(Pdf *pdf)
{
    guint zeros = 0;
    for (;;) {
        int c = byte_at(pdf, pdf->at);
        zeros = c == 0 ? zeros + 1 : 0;
        if (is_blank(c) && zeros < 64) {
            pdf->at++;
        } else if (c == '%' && !stands(pdf, pdf->at, "%%EOF") && !stands(pdf, pdf->at, "%PDF-")) {
            for (guint i = 0; i < 4096 && c != '\r' && c != '\n' && c >= 0; i++)
                c = byte_at(pdf, ++pdf->at);
        } else {
            return;
        }
    }
}

static gboolean pass_string(Pdf *pdf)
{
    guint depth = 0;
    EkByte limit = pdf->at + STRING_MOST;
    do {
        int c = byte_at(pdf, pdf->at);
        if (c < 0 || pdf->at > limit)
            return FALSE;
        if (c == '\\')
            pdf->at++;
        depth += c == '(' ? 1 : 0;
        depth -= c == ')' ? 1 : 0;
        pdf->at++;
    } while (depth > 0);
    return TRUE;
}

static gboolean pass_hex(Pdf *pdf)
{
    EkByte limit = pdf->at + STRING_MOST;
    pdf->at++;
    for (;;) {
        int c = byte_at(pdf, pdf->at++);
        if (c == '>')
            return TRUE;
        if (pdf->at > limit || (!is_blank(c) && (c < 0 || !g_ascii_isxdigit(c))))
            return FALSE;
    }
}

/* A name, a number, a word; into `word` as far as it fits. FALSE where there is none, or a byte in
 * it that no file has outside of strings. */
static gboolean take_word(Pdf *pdf, char *word, gsize size)
{
    gsize length = 0;
    int c = byte_at(pdf, pdf->at);
    if (c == '/') {
        word[length++] = '/';
        c = byte_at(pdf, ++pdf->at);
    }
    while (c > 0 && !is_blank(c) && !is_delimiter(c)) {
        if (c < 0x20 || length > 4096)
            return FALSE;
        if (length + 1 < size)
            word[length] = (char)c;
        length++;
        c = byte_at(pdf, ++pdf->at);
    }
    word[MIN(length, size - 1)] = '\0';
    return length > 0;
}

/* --- objects --------------------------------------------------------------------------------- */

/* What an object says of its stream. */
typedef struct {
    gboolean is_length; /* the number that comes is its length */
    gint64 length;      /* -1: not known, or said elsewhere */
    guint numbers;      /* behind the length: three are a reference */
    guint64 reference;  /* the object that says it; 0: none */
    guint filters;
    gboolean is_flate;   /* by its only filter */
    gboolean is_picture; /* JPEG, by its only filter */
} Stream;

static void note_word(Stream *stream, const char *word, gint depth)
{
    if (stream->is_length && stream->numbers == 0 && g_ascii_isdigit(*word)) {
        stream->length = g_ascii_strtoll(word, NULL, 10);
        stream->numbers = 1;
        return;
    }
    if (stream->is_length && stream->numbers > 0 && stream->numbers < 3) {
        stream->numbers++;
        if (stream->numbers == 3 && g_str_equal(word, "R")) {
            stream->reference = (guint64)stream->length;
            stream->length = -1;
        } else if (*word == '/')
            stream->is_length = FALSE;
    }
    if (depth == 1 && g_str_equal(word, "/Length")) {
        stream->is_length = TRUE;
        stream->numbers = 0;
    }
    if (g_str_has_suffix(word, "Decode")) {
        stream->filters++;
        stream->is_flate = g_str_equal(word, "/FlateDecode") && stream->filters == 1;
        stream->is_picture = g_str_equal(word, "/DCTDecode") && stream->filters == 1;
    }
}

static void note_title(Pdf *pdf, EkByte at)
{
    EkSpan text = ek_content_some(pdf->content, at + 1, 300);
    gsize end = 0;
    while (end < text.length && text.data[end] != ')' && text.data[end] != '\\')
        end++;
    if (ek_span_be16(text, 0) == 0xfeff)
        ek_followed_words_utf16(pdf->followed, ek_span_part(text, 2, end - MIN(end, 2)), TRUE);
    else
        ek_followed_words(pdf->followed, ek_span_part(text, 0, end));
    pdf->span.length = 0;
}

static void note_date(Pdf *pdf, EkByte at)
{
    EkSpan text = ek_content_some(pdf->content, at + 1, 18);
    if (ek_span_equals(text, 0, "D:", 2))
        ek_followed_date_digits(pdf->followed, ek_span_part(text, 2, 14), TRUE);
    pdf->span.length = 0;
}

/* One object, up to `endobj` or to `stream`. */
static gboolean pass_object(Pdf *pdf, Stream *stream, gboolean *has_stream)
{
    gint depth = 0;
    char word[32];
    char before[32] = "";
    *stream = (Stream){.length = -1};
    while (pdf->tokens++ < TOKENS_MOST) {
        pass_blanks(pdf);
        int c = byte_at(pdf, pdf->at);
        EkByte here = pdf->at;
        gboolean fine = TRUE;
        *word = '\0';
        if (c == '(') {
            if (g_str_equal(before, "/Title"))
                note_title(pdf, here);
            else if (g_str_equal(before, "/CreationDate") || g_str_equal(before, "/ModDate"))
                note_date(pdf, here);
            fine = pass_string(pdf);
        } else if (c == '<' && byte_at(pdf, pdf->at + 1) == '<') {
            depth++;
            pdf->at += 2;
        } else if (c == '<') {
            fine = pass_hex(pdf);
        } else if (c == '>' && byte_at(pdf, pdf->at + 1) == '>') {
            depth--;
            pdf->at += 2;
        } else if (c == '[' || c == ']' || c == '{' || c == '}') {
            pdf->at++;
        } else {
            fine = take_word(pdf, word, sizeof word);
        }
        if (!fine || depth < 0 || depth > DEPTH_MOST)
            return FALSE;
        if (depth == 0 && g_str_equal(word, "endobj"))
            return TRUE;
        if (depth == 0 && g_str_equal(word, "stream")) {
            *has_stream = TRUE;
            return TRUE;
        }
        if (g_str_equal(word, "obj"))
            return FALSE;
        if (g_str_equal(word, "/Linearized"))
            pdf->is_linear = TRUE;
        if (pdf->is_linear && pdf->objects == 0 && g_str_equal(before, "/L"))
            pdf->linear = g_ascii_strtoull(word, NULL, 10);
        note_word(stream, word, depth);
        g_strlcpy(before, word, sizeof before);
    }
    return FALSE;
}

static gboolean pass_word(Pdf *pdf, const char *word)
{
    pass_blanks(pdf);
    if (!stands(pdf, pdf->at, word))
        return FALSE;
    pdf->at += strlen(word);
    return TRUE;
}

/* The word behind a stream, with or without a line end before it. */
static gboolean stands_end(const EkLandmark *landmark, EkSpan span)
{
    gsize at = 0;
    (void)landmark;
    while (at < 2 && (ek_span_u8(span, at) == '\r' || ek_span_u8(span, at) == '\n'))
        at++;
    return ek_span_equals(span, at, "endstream", 9);
}

/* The bytes of a stream, to the word behind them. */
static gboolean pass_stream(Pdf *pdf, const Stream *stream)
{
    if (byte_at(pdf, pdf->at) == '\r')
        pdf->at++;
    if (byte_at(pdf, pdf->at) == '\n')
        pdf->at++;
    EkByte data = pdf->at;
    if (pdf->objects == 0)
        pdf->begun = data;
    pdf->followed->landmark = (EkLandmark){0};
    if (stream->length > 0)
        pdf->followed->landmark = (EkLandmark){
            .at = data + (EkByte)stream->length, .shown = EK_LANDMARK_GLANCE, .stands = stands_end};
    if (stream->is_flate) {
        EkByte most = stream->length > 0 ? (EkByte)stream->length : G_MAXINT64;
        EkStream packed = {.offset = data, .most = most, .is_zlib = TRUE};
        gboolean fine = ek_content_inflate(pdf->content, &packed);
        pdf->at = data + packed.packed;
        pdf->span.length = 0;
        if (!fine && packed.unpacked > 0 && stream->length < 0)
            return FALSE;
        if (fine && stream->length < 0)
            return pass_word(pdf, "endstream");
        if (fine && (pdf->at = data + most) <= ek_content_bytes(pdf->content) &&
            pass_word(pdf, "endstream"))
            return TRUE;
        if (!fine && ek_content_hole(pdf->content) > pdf->at)
            return FALSE;
        pdf->at = data;
    }
    gboolean is_decoded = FALSE;
    if (stream->is_picture) {
        EkJpeg jpeg = {.content = pdf->content, .first = data, .frame = {.is_part = TRUE}};
        is_decoded = ek_jpeg_walk(&jpeg);
        pdf->span.length = 0;
        pdf->at = jpeg.at;
        if (is_decoded && stream->length < 0)
            return pass_word(pdf, "endstream");
        if (!is_decoded && jpeg.scanned && ek_content_hole(pdf->content) > jpeg.at)
            return FALSE;
    }
    pdf->is_loose = pdf->is_loose || (!is_decoded && (stream->length < 0 || stream->length > 512));
    if (stream->length >= 0) {
        pdf->at = data + (EkByte)stream->length;
        if (pdf->at <= ek_content_bytes(pdf->content) && pass_word(pdf, "endstream"))
            return TRUE;
        pdf->at = MIN(pdf->at, ek_content_bytes(pdf->content));
        return FALSE;
    }
    pdf->followed->landmark = (EkLandmark){0};
    EkByte found = 0;
    EkByte limit = MIN(ek_content_bytes(pdf->content), data + STREAM_MOST);
    if (!ek_content_seek(pdf->content, data, limit, "endstream", 9, &found)) {
        pdf->at = limit;
        return FALSE;
    }
    pdf->span.length = 0;
    pdf->at = found + 9;
    for (guint i = 0; stream->reference != 0 && i < G_N_ELEMENTS(pdf->lengths); i++)
        if (pdf->lengths[i].number == 0) {
            pdf->lengths[i] = (Length){stream->reference, data, found - data};
            pdf->unsure++;
            break;
        }
    return TRUE;
}

/* A number alone may be the length of a stream that came before. */
static gboolean is_length_right(Pdf *pdf, guint64 number)
{
    char word[32];
    EkByte here = pdf->at;
    pass_blanks(pdf);
    gboolean is_number =
        take_word(pdf, word, sizeof word) && g_ascii_isdigit(*word) && pass_word(pdf, "endobj");
    guint64 told = is_number ? g_ascii_strtoull(word, NULL, 10) : 0;
    pdf->at = here;
    for (guint i = 0; is_number && i < G_N_ELEMENTS(pdf->lengths); i++) {
        Length *length = &pdf->lengths[i];
        if (length->number != number || number == 0)
            continue;
        if (told > length->bytes || length->bytes - told > 2) {
            pdf->at = MIN(length->data + told, ek_content_bytes(pdf->content));
            return FALSE;
        }
        length->number = 0;
        pdf->unsure--;
    }
    return TRUE;
}

static gboolean take_object(Pdf *pdf, guint64 number)
{
    Stream stream;
    gboolean has_stream = FALSE;
    if (!is_length_right(pdf, number))
        return FALSE;
    if (!pass_object(pdf, &stream, &has_stream))
        return FALSE;
    if (has_stream) {
        if (!pass_stream(pdf, &stream))
            return FALSE;
        return pass_word(pdf, "endobj");
    }
    return TRUE;
}

/* A table of where objects are: lines of digits, and a dictionary behind them. */
static gboolean pass_table(Pdf *pdf)
{
    char word[32];
    for (guint i = 0; i < TOKENS_MOST; i++) {
        pass_blanks(pdf);
        if (!take_word(pdf, word, sizeof word))
            return FALSE;
        if (g_str_equal(word, "trailer"))
            return TRUE;
        if (!g_ascii_isdigit(*word) && !g_str_equal(word, "n") && !g_str_equal(word, "f"))
            return FALSE;
    }
    return FALSE;
}

/* The dictionary behind a table. */
static gboolean pass_dictionary(Pdf *pdf)
{
    gint depth = 0;
    char word[32];
    do {
        pass_blanks(pdf);
        int c = byte_at(pdf, pdf->at);
        gboolean fine = TRUE;
        if (c == '(')
            fine = pass_string(pdf);
        else if (c == '<' && byte_at(pdf, pdf->at + 1) == '<')
            depth++, pdf->at += 2;
        else if (c == '>' && byte_at(pdf, pdf->at + 1) == '>')
            depth--, pdf->at += 2;
        else if (c == '<')
            fine = pass_hex(pdf);
        else if (c == '[' || c == ']')
            pdf->at++;
        else
            fine = take_word(pdf, word, sizeof word);
        if (!fine || pdf->tokens++ > TOKENS_MOST)
            return FALSE;
    } while (depth > 0);
    return depth == 0;
}

typedef enum { GOES_ON, ENDS, BREAKS } Step;

/* Does a table begin here, or the object that is one? */
static gboolean is_table(Pdf *pdf, EkByte place)
{
    char word[32];
    EkByte here = pdf->at;
    pdf->at = place;
    pass_blanks(pdf);
    gboolean fine = stands(pdf, pdf->at, "xref");
    if (!fine && take_word(pdf, word, sizeof word) && g_ascii_isdigit(*word)) {
        pass_blanks(pdf);
        fine = take_word(pdf, word, sizeof word) && g_ascii_isdigit(*word) && pass_word(pdf, "obj");
    }
    pdf->at = here;
    return fine;
}

/* "startxref 1234 %%EOF": where the table is must be within the file. */
static Step take_end(Pdf *pdf, EkByte *end)
{
    char word[32];
    pass_blanks(pdf);
    if (!take_word(pdf, word, sizeof word) || !g_ascii_isdigit(*word))
        return BREAKS;
    guint64 place = g_ascii_strtoull(word, NULL, 10);
    pass_blanks(pdf);
    if (!stands(pdf, pdf->at, "%%EOF"))
        return BREAKS;
    pdf->at += 5;
    /* The first part of one that was made for the web names no table. */
    if (place != 0 && !is_table(pdf, place))
        return BREAKS;
    *end = pdf->at;
    return ENDS;
}

static Step take_part(Pdf *pdf, EkByte *end)
{
    char word[32];
    pass_blanks(pdf);
    EkByte here = pdf->at;
    int c = byte_at(pdf, here);
    if (c == '%' || c < 0 || is_delimiter(c) || !take_word(pdf, word, sizeof word)) {
        pdf->at = here;
        return BREAKS;
    }
    if (g_str_equal(word, "xref"))
        return pass_table(pdf) && pass_dictionary(pdf) ? GOES_ON : BREAKS;
    if (g_str_equal(word, "startxref"))
        return take_end(pdf, end);
    gboolean is_object = g_ascii_isdigit(*word);
    guint64 number = is_object ? g_ascii_strtoull(word, NULL, 10) : 0;
    pass_blanks(pdf);
    is_object = is_object && take_word(pdf, word, sizeof word) && g_ascii_isdigit(*word) &&
                pass_word(pdf, "obj");
    if (!is_object) {
        pdf->at = here;
        return BREAKS;
    }
    if (!take_object(pdf, number))
        return BREAKS;
    pdf->objects++;
    pdf->followed->landmark = (EkLandmark){0};
    return GOES_ON;
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Pdf pdf = {.content = content, .followed = followed, .at = 8};
    EkByte end = 0; /* behind the last end mark */
    EkByte sure = 0;
    EkByte kept[2] = {0};
    if (ek_content_kept(content, kept, sizeof kept)) {
        pdf.at = sure = kept[0];
        end = kept[1];
        pdf.objects = 1;
    }
    Step step = GOES_ON;
    while (step != BREAKS) {
        step = take_part(&pdf, &end);
        if (step == BREAKS)
            break;
        if (pdf.unsure > 0)
            continue;
        sure = pdf.at;
        kept[0] = sure;
        kept[1] = end;
        ek_content_keep(content, sure, kept, sizeof kept, TRUE);
    }
    EkByte whole = end != 0 ? ek_followed_line_end(content, followed, end) : 0;
    if (end != 0 && (sure <= end || pdf.unsure > 0) && whole >= pdf.linear) {
        ek_followed_end(followed, whole, pdf.is_loose ? EK_PROOF_TABLES : EK_PROOF_FULL,
                        pdf.is_loose ? "all objects up to the end mark"
                                     : "all objects up to the end mark, their streams unpacked");
        return;
    }
    ek_followed_break(followed,
                      pdf.objects > 0 ? sure
                      : pdf.begun > 0 ? MAX(pdf.begun, LEAST)
                                      : 0,
                      pdf.at, LEAST, "an object of it breaks");
}

const EkCarveType ek_carve_pdf = {
    .name = "pdf",
    .ending = "pdf",
    .kind = EK_KIND_DOCUMENT,
    .checks = "each object to the end mark; packed streams are unpacked",
    .names = "title and date",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .follow = follow,
    .joins = TRUE,
};
