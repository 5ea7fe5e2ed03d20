/* SPDX-License-Identifier: MIT */
/* PDF (ISO 32000): object behind object, each to its end; streams by their length, those of flate
 * by decoding them. A file that was changed has further objects behind its end mark. */
#include "carve/followed.h"
#include "carve/inflate.h"
#include "carve/jpeg.h"
#include "carve/pdfwords.h"
#include "carve/types/all.h"

#define TOKENS_MOST 20000000u
#define DEPTH_MOST 200
#define LEAST 128u
#define SEEN_MOST 768u           /* numbers of objects that are looked out for */
#define STREAM_MOST (256u << 20) /* bytes of a stream whose length is not known before */

static const EkSignature signatures[] = {{0, 5, {'%', 'P', 'D', 'F', '-'}, {0}}};

/* A stream whose length another object tells, behind it. */
typedef struct {
    guint64 number; /* of that object; 0: none */
    EkByte data;
    EkByte bytes;
} Length;

typedef struct {
    EkPdfCursor cursor;
    EkFollowed *followed;
    Length lengths[16];
    guint unsure;               /* of these */
    guint8 seen[SEEN_MOST / 8]; /* numbers of objects, since the last end mark */
    EkPdfTable table;           /* the first one that is wrong */
    guint tokens;
    EkByte objects;
    EkByte begun;  /* where the data of the first stream begin, before an object is complete */
    EkByte linear; /* the length that a file for the web says it has; 0: it is none */
    gboolean is_linear;
    gboolean is_loose; /* a stream was not unpacked */
} Pdf;

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
    EkSpan text = ek_content_some(pdf->cursor.content, at + 1, 300);
    gsize end = 0;
    while (end < text.length && text.data[end] != ')' && text.data[end] != '\\')
        end++;
    if (ek_span_be16(text, 0) == 0xfeff)
        ek_followed_words_utf16(pdf->followed, ek_span_part(text, 2, end - MIN(end, 2)), TRUE);
    else
        ek_followed_words(pdf->followed, ek_span_part(text, 0, end));
    pdf->cursor.span.length = 0;
}

static void note_date(Pdf *pdf, EkByte at)
{
    EkSpan text = ek_content_some(pdf->cursor.content, at + 1, 18);
    if (ek_span_equals(text, 0, "D:", 2))
        ek_followed_date_digits(pdf->followed, ek_span_part(text, 2, 14), TRUE);
    pdf->cursor.span.length = 0;
}

/* In an object there are names, numbers, references, and three words. */
static gboolean may_be_value(const char *word)
{
    static const char *const words[] = {"", "R", "true", "false", "null"};
    for (gsize i = 0; i < G_N_ELEMENTS(words); i++)
        if (g_str_equal(word, words[i]))
            return TRUE;
    return *word == '/' || *word == '+' || *word == '-' || *word == '.' || g_ascii_isdigit(*word);
}

/* One object, up to `endobj` or to `stream`. */
static gboolean pass_object(Pdf *pdf, Stream *stream, gboolean *has_stream)
{
    gint depth = 0;
    char word[32];
    char before[32] = "";
    *stream = (Stream){.length = -1};
    while (pdf->tokens++ < TOKENS_MOST) {
        ek_pdf_pass_blanks(&pdf->cursor);
        int c = ek_pdf_byte_at(&pdf->cursor, pdf->cursor.at);
        EkByte here = pdf->cursor.at;
        gboolean fine = TRUE;
        *word = '\0';
        if (c == '(') {
            if (g_str_equal(before, "/Title"))
                note_title(pdf, here);
            else if (g_str_equal(before, "/CreationDate") || g_str_equal(before, "/ModDate"))
                note_date(pdf, here);
            fine = ek_pdf_pass_string(&pdf->cursor);
        } else if (c == '<' && ek_pdf_byte_at(&pdf->cursor, pdf->cursor.at + 1) == '<') {
            depth++;
            pdf->cursor.at += 2;
        } else if (c == '<') {
            fine = ek_pdf_pass_hex(&pdf->cursor);
        } else if (c == '>' && ek_pdf_byte_at(&pdf->cursor, pdf->cursor.at + 1) == '>') {
            depth--;
            pdf->cursor.at += 2;
        } else if (c == '[' || c == ']' || c == '{' || c == '}') {
            pdf->cursor.at++;
        } else {
            fine = ek_pdf_take_word(&pdf->cursor, word, sizeof word);
        }
        if (!fine || depth < 0 || depth > DEPTH_MOST)
            return FALSE;
        if (depth == 0 && g_str_equal(word, "endobj"))
            return TRUE;
        if (depth == 0 && g_str_equal(word, "stream")) {
            *has_stream = TRUE;
            return TRUE;
        }
        if (!may_be_value(word))
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
    ek_pdf_pass_blanks(&pdf->cursor);
    if (!ek_pdf_stands(&pdf->cursor, pdf->cursor.at, word))
        return FALSE;
    pdf->cursor.at += strlen(word);
    return TRUE;
}

static gboolean stands_object(const EkLandmark *landmark, EkSpan span)
{
    return ek_pdf_is_object(span, landmark->told);
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
    if (ek_pdf_byte_at(&pdf->cursor, pdf->cursor.at) == '\r')
        pdf->cursor.at++;
    if (ek_pdf_byte_at(&pdf->cursor, pdf->cursor.at) == '\n')
        pdf->cursor.at++;
    EkByte data = pdf->cursor.at;
    if (pdf->objects == 0)
        pdf->begun = data;
    pdf->followed->landmark = (EkLandmark){0};
    if (stream->length > 0)
        pdf->followed->landmark = (EkLandmark){
            .at = data + (EkByte)stream->length, .shown = EK_LANDMARK_GLANCE, .stands = stands_end};
    if (stream->is_flate) {
        EkByte most = stream->length > 0 ? (EkByte)stream->length : G_MAXINT64;
        EkStream packed = {.offset = data, .most = most, .is_zlib = TRUE};
        gboolean fine = ek_content_inflate(pdf->cursor.content, &packed);
        pdf->cursor.at = data + (fine ? packed.packed : ek_stream_broke(&packed));
        pdf->cursor.span.length = 0;
        pdf->followed->texture = fine ? EK_TEXTURE_ANY : EK_TEXTURE_PACKED;
        if (!fine && packed.unpacked > 0 && stream->length < 0)
            return FALSE;
        if (fine && stream->length < 0)
            return pass_word(pdf, "endstream");
        if (fine && (pdf->cursor.at = data + most) <= ek_content_bytes(pdf->cursor.content) &&
            pass_word(pdf, "endstream"))
            return TRUE;
        if (!fine && ek_content_hole(pdf->cursor.content) > pdf->cursor.at)
            return FALSE;
        pdf->followed->texture = EK_TEXTURE_ANY;
        pdf->cursor.at = data;
    }
    gboolean is_decoded = FALSE;
    if (stream->is_picture) {
        EkJpeg jpeg = {.content = pdf->cursor.content, .first = data, .frame = {.is_part = TRUE}};
        is_decoded = ek_jpeg_walk(&jpeg);
        pdf->cursor.span.length = 0;
        pdf->cursor.at = jpeg.at;
        if (is_decoded && stream->length < 0)
            return pass_word(pdf, "endstream");
        if (!is_decoded && jpeg.scanned && ek_content_hole(pdf->cursor.content) > jpeg.at)
            return FALSE;
    }
    pdf->is_loose = pdf->is_loose || (!is_decoded && (stream->length < 0 || stream->length > 512));
    if (stream->length >= 0) {
        pdf->cursor.at = data + (EkByte)stream->length;
        if (pdf->cursor.at <= ek_content_bytes(pdf->cursor.content) && pass_word(pdf, "endstream"))
            return TRUE;
        pdf->cursor.at = MIN(pdf->cursor.at, ek_content_bytes(pdf->cursor.content));
        return FALSE;
    }
    pdf->followed->landmark = (EkLandmark){0};
    EkByte found = 0;
    EkByte limit = MIN(ek_content_bytes(pdf->cursor.content), data + STREAM_MOST);
    if (!ek_content_seek(pdf->cursor.content, data, limit, "endstream", 9, &found)) {
        pdf->cursor.at = limit;
        return FALSE;
    }
    pdf->cursor.span.length = 0;
    pdf->cursor.at = found + 9;
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
    EkByte here = pdf->cursor.at;
    ek_pdf_pass_blanks(&pdf->cursor);
    gboolean is_number = ek_pdf_take_word(&pdf->cursor, word, sizeof word) &&
                         g_ascii_isdigit(*word) && pass_word(pdf, "endobj");
    guint64 told = is_number ? g_ascii_strtoull(word, NULL, 10) : 0;
    pdf->cursor.at = here;
    for (guint i = 0; is_number && i < G_N_ELEMENTS(pdf->lengths); i++) {
        Length *length = &pdf->lengths[i];
        if (length->number != number || number == 0)
            continue;
        if (told > length->bytes || length->bytes - told > 2) {
            pdf->cursor.at = MIN(length->data + told, ek_content_bytes(pdf->cursor.content));
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

/* The dictionary behind a table. */
static gboolean pass_dictionary(Pdf *pdf)
{
    gint depth = 0;
    char word[32];
    do {
        ek_pdf_pass_blanks(&pdf->cursor);
        int c = ek_pdf_byte_at(&pdf->cursor, pdf->cursor.at);
        gboolean fine = TRUE;
        if (c == '(')
            fine = ek_pdf_pass_string(&pdf->cursor);
        else if (c == '<' && ek_pdf_byte_at(&pdf->cursor, pdf->cursor.at + 1) == '<')
            depth++, pdf->cursor.at += 2;
        else if (c == '>' && ek_pdf_byte_at(&pdf->cursor, pdf->cursor.at + 1) == '>')
            depth--, pdf->cursor.at += 2;
        else if (c == '<')
            fine = ek_pdf_pass_hex(&pdf->cursor);
        else if (c == '[' || c == ']')
            pdf->cursor.at++;
        else
            fine = ek_pdf_take_word(&pdf->cursor, word, sizeof word);
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
    EkByte here = pdf->cursor.at;
    pdf->cursor.at = place;
    ek_pdf_pass_blanks(&pdf->cursor);
    gboolean fine = ek_pdf_stands(&pdf->cursor, pdf->cursor.at, "xref");
    if (!fine && ek_pdf_take_word(&pdf->cursor, word, sizeof word) && g_ascii_isdigit(*word)) {
        ek_pdf_pass_blanks(&pdf->cursor);
        fine = ek_pdf_take_word(&pdf->cursor, word, sizeof word) && g_ascii_isdigit(*word) &&
               pass_word(pdf, "obj");
    }
    pdf->cursor.at = here;
    return fine;
}

/* "startxref 1234 %%EOF": where the table is must be within the file. */
static Step take_end(Pdf *pdf, EkByte *end)
{
    char word[32];
    ek_pdf_pass_blanks(&pdf->cursor);
    if (!ek_pdf_take_word(&pdf->cursor, word, sizeof word) || !g_ascii_isdigit(*word))
        return BREAKS;
    guint64 place = g_ascii_strtoull(word, NULL, 10);
    ek_pdf_pass_blanks(&pdf->cursor);
    if (!ek_pdf_stands(&pdf->cursor, pdf->cursor.at, "%%EOF"))
        return BREAKS;
    pdf->cursor.at += 5;
    /* The first part of one that was made for the web names no table. */
    if (place != 0 && !is_table(pdf, place))
        return BREAKS;
    *end = pdf->cursor.at;
    memset(pdf->seen, 0, sizeof pdf->seen);
    return ENDS;
}

/* A table may name objects that come behind it: that it was wrong shows then. */
static gboolean pass_table(Pdf *pdf)
{
    EkPdfTable table;
    if (!ek_pdf_pass_table(&pdf->cursor, &table))
        return FALSE;
    if (pdf->table.wrong == 0)
        pdf->table = table;
    return TRUE;
}

/* An object of a number comes once before an end mark: a second one is another file's. */
static gboolean is_again(Pdf *pdf, guint64 number)
{
    if (number >= SEEN_MOST)
        return FALSE;
    guint8 bit = (guint8)(1u << number % 8);
    gboolean was_seen = (pdf->seen[number / 8] & bit) != 0;
    pdf->seen[number / 8] |= bit;
    return was_seen;
}

static Step take_part(Pdf *pdf, EkByte *end)
{
    char word[32];
    ek_pdf_pass_blanks(&pdf->cursor);
    EkByte here = pdf->cursor.at;
    int c = ek_pdf_byte_at(&pdf->cursor, here);
    if (c == '%' || c < 0 || ek_pdf_is_delimiter(c) ||
        !ek_pdf_take_word(&pdf->cursor, word, sizeof word)) {
        pdf->cursor.at = here;
        return BREAKS;
    }
    if (g_str_equal(word, "xref"))
        return pass_table(pdf) && pass_dictionary(pdf) ? GOES_ON : BREAKS;
    if (g_str_equal(word, "startxref"))
        return take_end(pdf, end);
    gboolean is_object = g_ascii_isdigit(*word);
    guint64 number = is_object ? g_ascii_strtoull(word, NULL, 10) : 0;
    ek_pdf_pass_blanks(&pdf->cursor);
    is_object = is_object && ek_pdf_take_word(&pdf->cursor, word, sizeof word) &&
                g_ascii_isdigit(*word) && pass_word(pdf, "obj");
    if (!is_object || is_again(pdf, number)) {
        pdf->cursor.at = here;
        return BREAKS;
    }
    if (!take_object(pdf, number))
        return BREAKS;
    pdf->objects++;
    pdf->followed->landmark = (EkLandmark){0};
    return GOES_ON;
}

/* What is known at a place up to which all is right. */
typedef struct {
    EkByte at;
    EkByte end; /* behind the last end mark; 0: none yet */
    guint8 seen[SEEN_MOST / 8];
} Kept;

/* Its table names an object where none is: before that another's lies in it, or some is missing. */
static void break_by_table(const Pdf *pdf, EkByte sure, EkFollowed *followed)
{
    const EkPdfTable *table = &pdf->table;
    ek_followed_break(followed, MAX(MIN(sure, table->right), LEAST), table->wrong, LEAST,
                      "an object is not where its table says");
    followed->landmark = (EkLandmark){.at = table->wrong,
                                      .shown = EK_PDF_OBJECT_SHOWN,
                                      .told = table->number,
                                      .stands = stands_object};
}

static void follow(EkContent *content, EkFollowed *followed)
{
    Pdf pdf = {.cursor = {.content = content, .at = 8}, .followed = followed};
    EkByte sure = 0;
    Kept kept = {0};
    if (ek_content_kept(content, &kept, sizeof kept)) {
        pdf.cursor.at = sure = kept.at;
        memcpy(pdf.seen, kept.seen, sizeof pdf.seen);
        pdf.objects = 1;
    }
    while (take_part(&pdf, &kept.end) != BREAKS) {
        if (pdf.unsure > 0)
            continue;
        kept.at = sure = pdf.cursor.at;
        memcpy(kept.seen, pdf.seen, sizeof kept.seen);
        ek_content_keep(content, sure, &kept, sizeof kept, TRUE);
    }
    if (pdf.table.wrong > LEAST && pdf.table.wrong < pdf.cursor.at) {
        break_by_table(&pdf, sure, followed);
        return;
    }
    EkByte end = kept.end;
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
                      pdf.cursor.at, LEAST, "an object of it breaks");
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
    .is_checked = TRUE,
};
