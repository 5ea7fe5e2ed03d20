/* SPDX-License-Identifier: MIT */
/* Text that says what it is: HTML, XML and SVG, RTF, mail, calendars and address cards. It ends at
 * the mark that ends it, or where text ends. */
#include "carve/followed.h"
#include "carve/types/all.h"

#define LEAST 64u
#define MOST (256u << 20) /* bytes of a text */

/* Bytes that no text has. */
static gboolean is_text(guint8 c)
{
    return c >= 0x20 ? c != 0x7f : c == '\t' || c == '\n' || c == '\r' || c == '\f';
}

/* Where text that begins at the beginning ends. */
static EkByte end_of_text(EkContent *content, EkByte from)
{
    EkByte at = from;
    while (at < MOST) {
        EkSpan span = ek_content_some(content, at, 32768);
        if (span.length == 0)
            return at;
        for (gsize i = 0; i < span.length; i++)
            if (!is_text(span.data[i]))
                return at + i;
        at += span.length;
    }
    return at;
}

/* The last place before `end` where this stands, ASCII letters in either case; FALSE: none. */
static gboolean find_last(EkContent *content, EkByte end, const char *mark, EkByte *found)
{
    gsize length = strlen(mark);
    EkByte stop = end;
    while (stop > 0) {
        EkByte first = stop > 32768 ? stop - 32768 : 0;
        EkSpan span = ek_content_some(content, first, (gsize)(MIN(stop + length, end) - first));
        for (gsize i = span.length; i-- > 0;)
            if (i + length <= span.length &&
                g_ascii_strncasecmp((const char *)span.data + i, mark, length) == 0) {
                *found = first + i + length;
                return TRUE;
            }
        stop = first;
    }
    return FALSE;
}

static void between(EkContent *content, EkFollowed *followed, const char *before, char behind)
{
    EkSpan head = ek_content_some(content, 0, 8192);
    for (gsize i = 0; i + strlen(before) < head.length; i++) {
        if (g_ascii_strncasecmp((const char *)head.data + i, before, strlen(before)) != 0)
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

static void follow_to(EkContent *content, EkFollowed *followed, const char *mark, const char *why)
{
    EkByte end = end_of_text(content, 0);
    EkByte found = 0;
    if (end >= LEAST && find_last(content, end, mark, &found)) {
        followed->is_doubtful = found > EK_FOLLOWED_BLOCK;
        ek_followed_end(followed, ek_followed_line_end(content, followed, found), EK_PROOF_TABLES,
                        why);
        return;
    }
    ek_followed_break(followed, MIN(end, 512), end, LEAST, "the text ends before its last mark");
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

static void follow_xml(EkContent *content, EkFollowed *followed)
{
    char name[64];
    char mark[80];
    if (!root_name(ek_content_some(content, 0, 16384), name, sizeof name))
        return;
    g_snprintf(mark, sizeof mark, "</%s>", name);
    gboolean is_picture = g_str_equal(name, "svg") || g_str_has_suffix(name, ":svg");
    ek_followed_ending(followed, is_picture ? "svg" : g_str_equal(name, "html") ? "html" : "xml");
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
    between(content, followed, "{\\title ", '}');
    while (at < MOST) {
        EkSpan span = ek_content_some(content, at, 32768);
        if (span.length == 0)
            break;
        for (gsize i = 0; i < span.length; i++) {
            guint8 c = span.data[i];
            if (!is_text(c) || c >= 0x80) {
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

const EkCarveType ek_carve_card = {
    .name = "vcard",
    .ending = "vcf",
    .kind = EK_KIND_MAIL,
    .checks = "text, to the line that ends it; calendars too",
    .names = "the first name",
    .signatures = card_signatures,
    .signature_count = G_N_ELEMENTS(card_signatures),
    .follow = follow_card,
};

/* --- mail ------------------------------------------------------------------------------------ */

static const EkSignature mail_signatures[] = {
    {0, 8, {'R', 'e', 't', 'u', 'r', 'n', '-', 'P'}, {0}},
    {0, 8, {'R', 'e', 'c', 'e', 'i', 'v', 'e', 'd'}, {0}},
    {0, 6, {'F', 'r', 'o', 'm', ':', ' '}, {0}},
    {0, 8, {'D', 'e', 'l', 'i', 'v', 'e', 'r', 'e'}, {0}},
    {0, 8, {'M', 'I', 'M', 'E', '-', 'V', 'e', 'r'}, {0}},
    {0, 8, {'M', 'e', 's', 's', 'a', 'g', 'e', '-'}, {0}},
    {0, 6, {'D', 'a', 't', 'e', ':', ' '}, {0}},
    {0, 5, {'F', 'r', 'o', 'm', ' '}, {0}},
};

/* Lines of a header: at least two of those that each mail has. */
static gboolean begin_mail(EkSpan span)
{
    static const char *const lines[] = {
        "\nFrom: ", "\nTo: ", "\nSubject: ", "\nDate: ", "\nMIME-Version: ", "\nMessage-ID: "};
    guint count = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(lines); i++)
        count += memmem(span.data, span.length, lines[i], strlen(lines[i])) != NULL ? 1u : 0u;
    return count >= 3 && memmem(span.data, span.length, "\nFrom: ", 7) != NULL;
}

static void follow_mail(EkContent *content, EkFollowed *followed)
{
    EkByte end = end_of_text(content, 0);
    EkSpan head = ek_content_some(content, 0, 8);
    gboolean is_box = ek_span_equals(head, 0, "From ", 5);
    ek_followed_ending(followed, is_box ? "mbox" : "eml");
    if (!is_box)
        between(content, followed, "\nSubject: ", '\n');
    followed->is_doubtful = TRUE;
    if (end >= LEAST)
        ek_followed_end(followed, end, EK_PROOF_TABLES,
                        "text with the lines of a mail; where it ends is not known");
}

const EkCarveType ek_carve_mail = {
    .name = "mail",
    .ending = "eml",
    .kind = EK_KIND_MAIL,
    .checks = "text with the lines that each mail has; always doubtful",
    .names = "subject",
    .signatures = mail_signatures,
    .signature_count = G_N_ELEMENTS(mail_signatures),
    .begin = begin_mail,
    .follow = follow_mail,
};
