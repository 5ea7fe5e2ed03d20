/* SPDX-License-Identifier: MIT */
/* Text that says what it is: HTML, XML and SVG, RTF, mail, calendars and address cards. It ends at
 * the mark that ends it, or where text ends. */
#include "carve/followed.h"
#include "carve/textends.h"
#include "carve/types/all.h"

#define LEAST 64u
#define MOST (256u << 20) /* bytes of a text */
#define BOUNDARY_MOST 70u /* characters */
#define HEADER_MOST 65536u
#define BY_CHANCE 64u /* bytes behind it that are text by chance */

static void between(EkContent *content, EkFollowed *followed, const char *before, char behind)
{
    EkSpan head = ek_content_some(content, 0, 8192);
    for (gsize i = 0; i + strlen(before) < head.length; i++) {
        if (g_ascii_tolower((gchar)head.data[i]) != g_ascii_tolower(*before) ||
            g_ascii_strncasecmp((const char *)head.data + i, before, strlen(before)) != 0)
            continue;
        EkSpan text = ek_span_part(head, i + strlen(before), 200);
        gsize length = 0;
        while (length < text.length && text.data[length] != (guint8)behind)
            length++;
        if (length < text.length)
            ek_followed_words(followed, ek_span_part(text, 0, length));
        return;
    }
}

/* Where text that ends at `end` may have been cut off: where a sector begins, or a few bytes before
 * its end, which are text by chance. 0: nowhere. */
static EkByte cut_before(EkContent *content, EkByte end)
{
    if (end >= ek_content_bytes(content))
        return end;
    return end % EK_STEP <= BY_CHANCE ? end - end % EK_STEP : 0;
}

/* To the last mark that ends it; text behind that, up to where it may have been cut off, speaks for
 * more of it. */
static void follow_to(EkContent *content, EkFollowed *followed, const char *mark, const char *why)
{
    EkByte end = ek_text_end(content, MOST);
    EkByte found = 0;
    gboolean is_there = end >= LEAST && ek_text_last_mark(content, end, mark, &found);
    followed->texture = EK_TEXTURE_TEXT;
    if (!is_there) {
        ek_followed_break(followed, MIN(end, 512), end, LEAST,
                          "the text ends before its last mark");
        return;
    }
    EkByte last = ek_followed_line_end(content, followed, found);
    if (last < cut_before(content, end)) {
        ek_followed_break(followed, found, last, LEAST, why);
        followed->broken = (EkBroken){.first = found, .bytes = end - found};
        followed->may_end = TRUE;
        followed->proof = EK_PROOF_TABLES;
        return;
    }
    followed->is_doubtful = found > EK_FOLLOWED_BLOCK;
    ek_followed_end(followed, last, EK_PROOF_TABLES, why);
}

/* --- HTML ------------------------------------------------------------------------------------ */

static const EkSignature html_signatures[] = {
    {0, 6, {'<', '!', 'D', 'O', 'C', 'T'}, {0xff, 0xff, 0xdf, 0xdf, 0xdf, 0xdf}},
    {0, 5, {'<', 'H', 'T', 'M', 'L'}, {0xff, 0xdf, 0xdf, 0xdf, 0xdf}},
};

static gboolean begin_html(EkSpan span)
{
    for (gsize i = 0; i + 5 < MIN(span.length, 512); i++)
        if (g_ascii_strncasecmp((const char *)span.data + i, "<html", 5) == 0)
            return TRUE;
    return g_ascii_strncasecmp((const char *)span.data, "<!doctype html", 14) == 0;
}

static void follow_html(EkContent *content, EkFollowed *followed)
{
    between(content, followed, "<title>", '<');
    follow_to(content, followed, "</html>", "text, to the tag that ends it");
}

const EkCarveType ek_carve_html = {
    .name = "html",
    .ending = "html",
    .kind = EK_KIND_DOCUMENT,
    .checks = "text, to the tag that ends it",
    .names = "title",
    .signatures = html_signatures,
    .signature_count = G_N_ELEMENTS(html_signatures),
    .begin = begin_html,
    .follow = follow_html,
};

/* --- XML and SVG ----------------------------------------------------------------------------- */

static const EkSignature xml_signatures[] = {{0, 6, {'<', '?', 'x', 'm', 'l', ' '}, {0}},
                                             {0, 5, {'<', 's', 'v', 'g', ' '}, {0}},
                                             {0, 6, {0xef, 0xbb, 0xbf, '<', '?', 'x'}, {0}}};

/* The name of the element that holds all others. */
static gboolean root_name(EkSpan head, char *name, gsize size)
{
    gsize at = 0;
    while (at + 1 < head.length) {
        if (head.data[at] != '<') {
            at++;
            continue;
        }
        guint8 next = head.data[at + 1];
        if (g_ascii_isalpha(next) || next == '_') {
            gsize length = 0;
            while (at + 1 + length < head.length && length + 1 < size &&
                   (g_ascii_isalnum(head.data[at + 1 + length]) ||
                    strchr("_:.-", head.data[at + 1 + length]) != NULL) &&
                   head.data[at + 1 + length] != 0) {
                name[length] = (char)head.data[at + 1 + length];
                length++;
            }
            name[length] = '\0';
            return TRUE;
        }
        if (ek_span_equals(head, at, "<!--", 4)) {
            const guint8 *end = memmem(head.data + at, head.length - at, "-->", 3);
            if (end == NULL)
                return FALSE;
            at = (gsize)(end - head.data);
        }
        at++;
    }
    return FALSE;
}

/* What is known by the name of its root. */
static const char *ending_of(const char *root)
{
    static const char *const known[] = {"html", "gpx", "kml", "rss", "plist"};
    for (gsize i = 0; i < G_N_ELEMENTS(known); i++)
        if (g_str_equal(root, known[i]))
            return known[i];
    return "xml";
}

static void follow_xml(EkContent *content, EkFollowed *followed)
{
    char name[64];
    char mark[80];
    if (!root_name(ek_content_some(content, 0, 16384), name, sizeof name))
        return;
    g_snprintf(mark, sizeof mark, "</%s>", name);
    gboolean is_picture = g_str_equal(name, "svg") || g_str_has_suffix(name, ":svg");
    ek_followed_ending(followed, is_picture ? "svg" : ending_of(name));
    if (is_picture)
        between(content, followed, "<title>", '<');
    follow_to(content, followed, mark, "text, to the tag that ends it");
}

const EkCarveType ek_carve_xml = {
    .name = "xml",
    .ending = "xml",
    .kind = EK_KIND_DOCUMENT,
    .checks = "text, to the tag that ends it; SVG too",
    .names = "title of a picture",
    .signatures = xml_signatures,
    .signature_count = G_N_ELEMENTS(xml_signatures),
    .follow = follow_xml,
};

/* --- RTF ------------------------------------------------------------------------------------- */

static const EkSignature rtf_signatures[] = {{0, 5, {'{', '\\', 'r', 't', 'f'}, {0}}};

/* Braces within braces, to the one that closes the first. */
static void follow_rtf(EkContent *content, EkFollowed *followed)
{
    guint depth = 0;
    EkByte at = 0;
    gboolean is_escaped = FALSE;
    followed->texture = EK_TEXTURE_TEXT;
    between(content, followed, "{\\title ", '}');
    while (at < MOST) {
        EkSpan span = ek_content_some(content, at, 32768);
        if (span.length == 0)
            break;
        for (gsize i = 0; i < span.length; i++) {
            guint8 c = span.data[i];
            if (!ek_byte_is_text(c) || c >= 0x80) {
                ek_followed_break(followed, MIN(at + i, 512), at + i, LEAST,
                                  "the text ends within braces");
                return;
            }
            if (is_escaped)
                is_escaped = FALSE;
            else if (c == '\\')
                is_escaped = TRUE;
            else if (c == '{')
                depth++;
            else if (c == '}' && --depth == 0) {
                /* One brace is little: what is left of the sector must be empty. */
                EkByte end = ek_followed_line_end(content, followed, at + i + 1);
                if (at + i > EK_FOLLOWED_BLOCK ||
                    !ek_content_is_zero(content, end, (512 - end % 512) % 512))
                    followed->is_doubtful = TRUE;
                ek_followed_end(followed, end, EK_PROOF_TABLES,
                                "each brace to the one that closes the first");
                return;
            }
        }
        at += span.length;
    }
    ek_followed_break(followed, MIN(at, 512), at, LEAST, EK_GROUND_ENDS);
}

const EkCarveType ek_carve_rtf = {
    .name = "rtf",
    .ending = "rtf",
    .kind = EK_KIND_DOCUMENT,
    .checks = "each brace, to the one that closes the first",
    .names = "title",
    .signatures = rtf_signatures,
    .signature_count = G_N_ELEMENTS(rtf_signatures),
    .follow = follow_rtf,
};

/* --- calendars and address cards ------------------------------------------------------------- */

static const EkSignature card_signatures[] = {
    {0, 8, {'B', 'E', 'G', 'I', 'N', ':', 'V', 'C'}, {0}}};

static void follow_card(EkContent *content, EkFollowed *followed)
{
    gboolean is_calendar = ek_span_equals(ek_content_some(content, 0, 15), 6, "VCALENDAR", 9);
    ek_followed_ending(followed, is_calendar ? "ics" : "vcf");
    if (!is_calendar)
        between(content, followed, "\nFN:", '\n');
    follow_to(content, followed, is_calendar ? "END:VCALENDAR" : "END:VCARD",
              "text, to the line that ends it");
}

/* Cards stand one behind the other in a file. */
static gboolean is_rest_of_cards(EkSpan before)
{
    static const char mark[] = "END:VCARD";
    gsize end = before.length;
    while (end > 0 && before.length - end < 4 && strchr("\r\n", before.data[end - 1]) != NULL &&
           before.data[end - 1] != 0)
        end--;
    return end < before.length && end >= strlen(mark) &&
           ek_span_equals(before, end - strlen(mark), mark, strlen(mark));
}

const EkCarveType ek_carve_card = {
    .name = "vcard",
    .ending = "vcf",
    .kind = EK_KIND_MAIL,
    .checks = "text, to the line that ends it; calendars too",
    .names = "the first name",
    .signatures = card_signatures,
    .signature_count = G_N_ELEMENTS(card_signatures),
    .follow = follow_card,
    .is_rest = is_rest_of_cards,
};

/* --- mail ------------------------------------------------------------------------------------ */

static const EkSignature mail_signatures[] = {
    {0, 8, {'R', 'e', 't', 'u', 'r', 'n', '-', 'P'}, {0}},
    {0, 8, {'R', 'e', 'c', 'e', 'i', 'v', 'e', 'd'}, {0}},
    {0, 6, {'F', 'r', 'o', 'm', ':', ' '}, {0}},
    {0, 4, {'T', 'o', ':', ' '}, {0}},
    {0, 8, {'S', 'u', 'b', 'j', 'e', 'c', 't', ':'}, {0}},
    {0, 8, {'D', 'e', 'l', 'i', 'v', 'e', 'r', 'e'}, {0}},
    {0, 8, {'E', 'n', 'v', 'e', 'l', 'o', 'p', 'e'}, {0}},
    {0, 8, {'M', 'I', 'M', 'E', '-', 'V', 'e', 'r'}, {0}},
    {0, 8, {'C', 'o', 'n', 't', 'e', 'n', 't', '-'}, {0}},
    {0, 8, {'M', 'e', 's', 's', 'a', 'g', 'e', '-'}, {0}},
    {0, 8, {'A', 'u', 't', 'h', 'e', 'n', 't', 'i'}, {0}},
    {0, 8, {'D', 'K', 'I', 'M', '-', 'S', 'i', 'g'}, {0}},
    {0, 4, {'A', 'R', 'C', '-'}, {0}},
    {0, 2, {'X', '-'}, {0}},
    {0, 6, {'D', 'a', 't', 'e', ':', ' '}, {0}},
    {0, 5, {'F', 'r', 'o', 'm', ' '}, {0}},
};

/* Up to the empty line behind it. */
static EkSpan header_of(EkSpan span)
{
    const guint8 *plain = memmem(span.data, span.length, "\n\n", 2);
    const guint8 *other = memmem(span.data, span.length, "\r\n\r\n", 4);
    if (plain != NULL)
        span.length = MIN(span.length, (gsize)(plain - span.data));
    if (other != NULL)
        span.length = MIN(span.length, (gsize)(other - span.data));
    return span;
}

/* Does a line of the header begin so? Names of fields are in either case (RFC 5322). */
static gboolean has_field(EkSpan head, const char *name)
{
    gsize length = strlen(name);
    for (gsize at = 0; at + length <= head.length; at++) {
        if (g_ascii_strncasecmp((const char *)head.data + at, name, length) == 0)
            return TRUE;
        const guint8 *line = memchr(head.data + at, '\n', head.length - at);
        if (line == NULL)
            break;
        at = (gsize)(line - head.data);
    }
    return FALSE;
}

/* Lines of a header: whom it is from, and two more of those that each mail has. */
static gboolean begin_mail(EkSpan span)
{
    static const char *const fields[] = {
        "To: ", "Subject: ", "Date: ", "MIME-Version: ", "Message-ID: ", "Received: "};
    EkSpan head = header_of(span);
    guint count = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(fields); i++)
        count += has_field(head, fields[i]) ? 1u : 0u;
    return count >= 2 && has_field(head, "From: ");
}

/* The line that ends a mail of several parts (RFC 2046, 5.1.1). FALSE: it has none. */
static gboolean last_line(EkSpan head, char *mark, gsize size)
{
    static const char name[] = "boundary=";
    gsize at = 0;
    while (at + strlen(name) < head.length &&
           g_ascii_strncasecmp((const char *)head.data + at, name, strlen(name)) != 0)
        at++;
    at += strlen(name);
    gboolean is_quoted = ek_span_u8(head, at) == '"';
    at += is_quoted ? 1 : 0;
    gsize length = 0;
    while (at + length < head.length && length <= BOUNDARY_MOST && head.data[at + length] >= ' ' &&
           (is_quoted ? head.data[at + length] != '"'
                      : head.data[at + length] != ';' && head.data[at + length] != ' '))
        length++;
    if (length == 0 || length > BOUNDARY_MOST || (is_quoted && at + length >= head.length))
        return FALSE;
    g_snprintf(mark, size, "\n--%.*s--", (int)length, (const char *)head.data + at);
    return TRUE;
}

static void follow_mail(EkContent *content, EkFollowed *followed)
{
    char mark[BOUNDARY_MOST + 8];
    EkSpan head = ek_content_some(content, 0, 8);
    gboolean is_box = ek_span_equals(head, 0, "From ", 5);
    ek_followed_ending(followed, is_box ? "mbox" : "eml");
    if (!is_box) {
        between(content, followed, "\nSubject: ", '\n');
        if (last_line(header_of(ek_content_some(content, 0, HEADER_MOST)), mark, sizeof mark)) {
            follow_to(content, followed, mark, "text, to the line that ends its last part");
            return;
        }
    }
    EkByte end = ek_text_end(content, MOST);
    followed->is_doubtful = TRUE;
    if (end >= LEAST)
        ek_followed_end(followed, end, EK_PROOF_TABLES,
                        "text with the lines of a mail; where it ends is not known");
}

const EkCarveType ek_carve_mail = {
    .name = "mail",
    .ending = "eml",
    .kind = EK_KIND_MAIL,
    .checks = "text, to the line that ends its last part; of one part it stays doubtful",
    .names = "subject",
    .signatures = mail_signatures,
    .signature_count = G_N_ELEMENTS(mail_signatures),
    .begin = begin_mail,
    .follow = follow_mail,
};
