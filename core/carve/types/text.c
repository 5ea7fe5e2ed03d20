/* SPDX-License-Identifier: MIT */
/* Text that does not say what it is: UTF-8, UTF-16 with its mark, and the 8-bit code pages, told
 * from other bytes by what letters there are. It ends where text ends. Nothing tells whether all of
 * it belongs together. */
#include "carve/followed.h"
#include "carve/textends.h"
#include "carve/types/all.h"

#define LEAST 64u
#define MOST (64u << 20)
#define LOOKED_AT 2048u
#define PERIOD_MOST 256u
#define LINES_MOST 20u
#define TITLE_MOST 80u

/* Four bytes of ASCII that are no control characters; a bracket on a line of its own, and a
 * comment; marks of UTF-8 and UTF-16. */
#define LETTERS(a, b, c, d)                                                                        \
    {                                                                                              \
        0, 4, {(a) << 5, (b) << 5, (c) << 5, (d) << 5},                                            \
        {                                                                                          \
            0xe0, 0xe0, 0xe0, 0xe0                                                                 \
        }                                                                                          \
    }
#define LAST(a, b, c) LETTERS(a, b, c, 1), LETTERS(a, b, c, 2), LETTERS(a, b, c, 3)
#define THIRD(a, b) LAST(a, b, 1), LAST(a, b, 2), LAST(a, b, 3)
#define SECOND(a) THIRD(a, 1), THIRD(a, 2), THIRD(a, 3)

static const EkSignature signatures[] = {SECOND(1),
                                         SECOND(2),
                                         SECOND(3),
                                         {0, 2, {'{', '\n'}, {0}},
                                         {0, 2, {'[', '\n'}, {0}},
                                         {0, 2, {'#', '\n'}, {0}},
                                         {0, 3, {'{', '\r', '\n'}, {0}},
                                         {0, 3, {'[', '\r', '\n'}, {0}},
                                         {0, 3, {'#', '\r', '\n'}, {0}},
                                         {0, 4, {0xc0, 0x80, 0xc0, 0x80}, {0xe0, 0xc0, 0xe0, 0xc0}},
                                         {0, 4, {0xe0, 0x80, 0x80, 0xe0}, {0xf0, 0xc0, 0xc0, 0xf0}},
                                         {0, 4, {0xc0, 0xc0, 0xc0, 0xc0}, {0xc0, 0xc0, 0xc0, 0xc0}},
                                         {0, 3, {0xef, 0xbb, 0xbf}, {0}},
                                         {0, 2, {0xff, 0xfe}, {0}},
                                         {0, 2, {0xfe, 0xff}, {0}}};

static gboolean is_text(guint8 c)
{
    return c >= 0x20 ? c != 0x7f && (c < 0x80 || c >= 0xa0) : c == '\t' || c == '\n' || c == '\r';
}

/* Bytes of one character of UTF-8 (RFC 3629) that is none of control; 0: none stands there. */
static gsize utf8_length(EkSpan span, gsize at)
{
    gunichar c =
        g_utf8_get_char_validated((const char *)span.data + at, (gssize)MIN(span.length - at, 4));
    if ((c & 0x80000000u) != 0 || (c < 0xa0 && !is_text((guint8)c)))
        return 0;
    return c < 0x80 ? 1 : c < 0x800 ? 2 : c < 0x10000 ? 3 : 4;
}

static gsize utf16_length(EkSpan span, gsize at, gboolean is_big)
{
    guint16 unit = is_big ? ek_span_be16(span, at) : ek_span_le16(span, at);
    gboolean is_control = unit < 0x20 && unit != '\t' && unit != '\n' && unit != '\r';
    return at + 2 > span.length || is_control || unit >= 0xfffe ? 0 : 2;
}

typedef enum { UTF8, UTF16_LITTLE, UTF16_BIG } Coding;

static Coding coding_of(EkSpan span)
{
    return ek_span_be16(span, 0) == 0xfffe   ? UTF16_LITTLE
           : ek_span_be16(span, 0) == 0xfeff ? UTF16_BIG
                                             : UTF8;
}

/* Bytes of text at the beginning of a span; a character that the span cuts is left out. */
static gsize text_length(EkSpan span, Coding coding, gboolean allows_code_page)
{
    gsize at = 0;
    while (at < span.length) {
        gsize length =
            coding != UTF8 ? utf16_length(span, at, coding == UTF16_BIG) : utf8_length(span, at);
        if (length == 0 && coding == UTF8 && allows_code_page && span.data[at] >= 0xa0)
            length = 1;
        if (length == 0)
            break;
        at += length;
    }
    return at;
}

/* --- is it text? ------------------------------------------------------------------------------ */

/* Fillers repeat themselves from the beginning on; by chance some bytes of what follows one pass
 * for text as well. */
static gboolean repeats(EkSpan span)
{
    span.length -= span.length / 4;
    for (gsize period = 1; period <= PERIOD_MOST && 2 * period <= span.length; period++)
        if (memcmp(span.data, span.data + period, span.length - period) == 0)
            return TRUE;
    return FALSE;
}

/* Letters and digits, in words or fields, make up most of it; where most are others than ASCII,
 * these are letters in all code pages. */
static gboolean has_statistic(EkSpan span)
{
    guint plain = 0;
    guint gaps = 0;
    guint wide = 0;
    guint signs = 0; /* of the wide ones, what is no letter in most code pages */
    gboolean was_blank = FALSE;
    guint turns = 0; /* from a small letter to a capital one: names have some, noise has many */
    for (gsize i = 0; i < span.length; i++) {
        guint8 c = span.data[i];
        gboolean is_blank = c == ' ' || c == '\n' || c == '\r' || c == '\t';
        plain += g_ascii_isalnum(c) || is_blank ? 1 : 0;
        /* Lines may be set in: of many blanks one counts. */
        gaps += (is_blank && !was_blank) || c == ',' || c == ';' ? 1 : 0;
        was_blank = is_blank;
        wide += c >= 0x80 ? 1 : 0;
        signs += c >= 0x80 && c < 0xc0 ? 1 : 0;
        turns += i > 0 && g_ascii_isupper(c) && g_ascii_islower(span.data[i - 1]) ? 1 : 0;
    }
    gsize count = span.length;
    return gaps >= count / 25 && gaps < count / 2 && turns <= count / 20 &&
           (plain + wide) * 10 >= count * 7 && (wide * 2 <= count || signs * 8 <= wide);
}

/* Most of it is beyond ASCII, and right as UTF-8, which other bytes are not for long. */
static gboolean is_wide_utf8(EkSpan span)
{
    gsize wide = 0;
    for (gsize i = 0; i < span.length; i++)
        wide += span.data[i] >= 0x80 ? 1 : 0;
    return wide * 2 > span.length && text_length(span, UTF8, FALSE) + 4 > span.length;
}

/* Nearly every pair of bytes is a character of UTF-16: those of a language are in few rows of 256,
 * blanks and marks in two of them. */
static gboolean has_wide_statistic(EkSpan span, gboolean is_big)
{
    gboolean is_seen[256] = {FALSE};
    guint rows = 0;
    guint marks = 0;
    guint count = 0;
    for (gsize i = 2; i + 2 <= span.length; i += 2, count++) {
        guint8 row = span.data[is_big ? i : i + 1];
        marks += row == 0 || row == 0x30 ? 1 : 0;
        rows += is_seen[row] ? 0 : 1;
        is_seen[row] = TRUE;
    }
    return marks * 20 >= count && rows <= MAX(count / 6, 4);
}

static gboolean begin(EkSpan span)
{
    Coding coding = coding_of(span);
    EkSpan part = ek_span_part(span, 0, LOOKED_AT);
    part.length = text_length(part, coding, TRUE);
    /* An archive of ar begins with text, however much of it is left. */
    if (part.length < LEAST || repeats(part) || ek_span_equals(span, 0, "!<arch>\n", 8))
        return FALSE;
    return coding == UTF8 ? has_statistic(part) || is_wide_utf8(part)
                          : has_wide_statistic(part, coding == UTF16_BIG);
}

/* --- what it is ------------------------------------------------------------------------------ */

/* The same number of this in each of the first lines, and no fewer than one. */
static gboolean are_fields(EkSpan span, char delimiter)
{
    guint lines = 0;
    guint expected = 0;
    guint count = 0;
    for (gsize i = 0; i < span.length && lines < LINES_MOST; i++) {
        if (span.data[i] == (guint8)delimiter)
            count++;
        if (span.data[i] != '\n')
            continue;
        if (lines == 0)
            expected = count;
        if (count == 0 || count != expected)
            return FALSE;
        lines++;
        count = 0;
    }
    return lines >= 3;
}

static void take_ending(EkFollowed *followed, EkSpan head)
{
    guint8 first = ek_span_u8(head, 0);
    if (are_fields(head, ',') || are_fields(head, ';'))
        ek_followed_ending(followed, "csv");
    else if (are_fields(head, '\t'))
        ek_followed_ending(followed, "tsv");
    else if ((first == '{' || first == '[') && memchr(head.data, '"', head.length) != NULL)
        ek_followed_ending(followed, "json");
}

/* A first line that is no longer than a title. */
static void take_title(EkFollowed *followed, EkSpan head)
{
    gsize length = 0;
    gsize skip = ek_span_equals(head, 0, "\xef\xbb\xbf", 3) ? 3 : 0;
    while (skip + length < head.length && head.data[skip + length] != '\n' &&
           head.data[skip + length] != '\r')
        length++;
    if (length > 0 && length <= TITLE_MOST && skip + length < head.length &&
        g_ascii_isalpha(head.data[skip]))
        ek_followed_words(followed, ek_span_part(head, skip, length));
}

/* Programs and fonts hold their words one behind the other, each with a zero behind it; behind a
 * file there are zeros up to the next sector, or whatever was there before. */
static gboolean is_in_list(EkContent *content, EkByte end)
{
    EkSpan tail = ek_content_some(content, end, (gsize)((EK_STEP - end % EK_STEP) % EK_STEP));
    return tail.length > 0 && tail.data[0] == 0 && !ek_bytes_are_zero(tail.data, tail.length);
}

static void follow(EkContent *content, EkFollowed *followed)
{
    EkSpan head = ek_content_some(content, 0, LOOKED_AT);
    Coding coding = coding_of(head);
    /* What is no UTF-8 from the beginning on is of a code page all the way. */
    gsize there = MIN(head.length, LOOKED_AT - 4);
    gboolean is_code_page = coding == UTF8 && text_length(head, UTF8, FALSE) <
                                                  MIN(there, text_length(head, UTF8, TRUE));
    if (coding == UTF8) {
        head.length = text_length(head, coding, is_code_page);
        take_ending(followed, head);
        if (*followed->ending == '\0')
            take_title(followed, head);
    }
    EkTextKind kind = is_code_page ? EK_TEXT_CODE_PAGE : EK_TEXT_UTF8;
    EkByte at = coding == UTF8 ? ek_text_known(content, kind) : 0;
    while (at < MOST) {
        EkSpan span = ek_content_some(content, at, 32768);
        gsize length = text_length(span, coding, is_code_page);
        at += length;
        if (length + 4 <= span.length || length == 0)
            break;
    }
    if (coding == UTF8)
        ek_text_note(content, kind, at);
    at = MIN(at, MOST);
    if (at < LEAST || is_in_list(content, at))
        return;
    followed->is_doubtful = followed->is_tail = TRUE;
    ek_followed_end(followed, at, EK_PROOF_LENGTH,
                    "text up to where it ends; nothing else can be checked");
}

const EkCarveType ek_carve_text = {
    .name = "text",
    .ending = "txt",
    .kind = EK_KIND_DOCUMENT,
    .checks = "letters and words; always doubtful",
    .names = "the first line",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .begin = begin,
    .follow = follow,
    .is_plain = TRUE,
    .repeats = TRUE,
};
