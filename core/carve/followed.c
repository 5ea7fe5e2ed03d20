/* SPDX-License-Identifier: MIT */
/* What many types do while they follow. */
#include "carve/followed.h"

#include "base/text.h"

#include <libdeflate.h>
#include <string.h>

void ek_followed_end(EkFollowed *followed, EkByte length, EkProof proof, const char *why)
{
    followed->end = EK_FOLLOW_ENDED;
    followed->length = length;
    followed->sure = length;
    followed->proof = proof;
    followed->why = why;
}

void ek_followed_break(EkFollowed *followed, EkByte sure, EkByte at, EkByte least, const char *why)
{
    followed->end = sure >= least ? EK_FOLLOW_BROKE : EK_FOLLOW_NOTHING;
    followed->sure = sure;
    followed->length = MAX(sure, at);
    followed->why = why;
}

#define TAIL 16u /* last bytes of a file that are not all zero */
#define BLANKS_MOST 64u
#define VALUES_MOST 128u /* that a sparse block has */
#define BLOCK_LEAST 512u
#define TEXT_LEAST 64u /* bytes of text at the beginning of a block */

void ek_followed_end_within(EkContent *content, EkFollowed *followed, EkByte end, EkByte sure,
                            EkProof proof, const char *why)
{
    EkByte there = ek_content_bytes(content);
    followed->expected = end;
    if (end > there)
        ek_followed_break(followed, sure, there, sure, EK_GROUND_ENDS);
    else
        ek_followed_end(followed, end, proof, why);
}

/* --- words ----------------------------------------------------------------------------------- */

/* Cut to a whole character, with blanks where there are control characters. */
static void take_words(EkFollowed *followed, const char *text)
{
    gsize held = strlen(followed->words);
    for (const char *p = text; *p != '\0'; p = g_utf8_next_char(p)) {
        gunichar c = g_utf8_get_char(p);
        gsize length = (gsize)(g_utf8_next_char(p) - p);
        gboolean is_blank = c < 0x20 || c == 0x7f || c == '/' || g_unichar_isspace(c);
        if (is_blank && (held == 0 || followed->words[held - 1] == ' '))
            continue;
        if (held + length + 1 > sizeof followed->words || !g_unichar_isdefined(c))
            break;
        if (is_blank)
            followed->words[held++] = ' ';
        else {
            memcpy(followed->words + held, p, length);
            held += length;
        }
    }
    while (held > 0 && followed->words[held - 1] == ' ')
        held--;
    followed->words[held] = '\0';
}

void ek_followed_add_words(EkFollowed *followed, EkSpan text)
{
    gsize length = 0;
    while (length < MIN(text.length, 1024) && text.data[length] != '\0')
        length++;
    g_autofree char *words = g_utf8_validate((const char *)text.data, (gssize)length, NULL)
                                 ? g_strndup((const char *)text.data, length)
                                 : g_convert((const char *)text.data, (gssize)length, "UTF-8",
                                             "ISO-8859-1", NULL, NULL, NULL);
    gsize held = strlen(followed->words);
    if (words == NULL || length == 0)
        return;
    if (held > 0 && held + 2 < sizeof followed->words)
        memcpy(followed->words + held, " ", 2);
    take_words(followed, words);
}

void ek_followed_words(EkFollowed *followed, EkSpan text)
{
    if (*followed->words == '\0')
        ek_followed_add_words(followed, text);
}

void ek_followed_words_utf16(EkFollowed *followed, EkSpan units, gboolean big_endian)
{
    g_autoptr(GString) text = g_string_new(NULL);
    gsize length = 0;
    units.length = MIN(units.length, 1024) & ~(gsize)1;
    while (length < units.length && ek_span_le16(units, length) != 0)
        length += 2;
    if (!ek_name_utf16(text, ek_span_part(units, 0, length), big_endian))
        ek_followed_words(followed, (EkSpan){(const guint8 *)text->str, text->len});
}

void ek_followed_ending(EkFollowed *followed, const char *ending)
{
    g_strlcpy(followed->ending, ending, sizeof followed->ending);
}

/* --- dates ----------------------------------------------------------------------------------- */

#define LIKELY_FIRST 315532800   /* 1980 */
#define LIKELY_LAST 4102444800LL /* 2100 */

void ek_followed_date(EkFollowed *followed, EkTimestamp date)
{
    if (date.is_set && date.seconds > LIKELY_FIRST && date.seconds < LIKELY_LAST &&
        !followed->date.is_set)
        followed->date = date;
}

void ek_followed_date_digits(EkFollowed *followed, EkSpan text, gboolean is_local)
{
    gint digits[14];
    guint count = 0;
    for (gsize i = 0; i < MIN(text.length, 32) && count < 14; i++) {
        if (g_ascii_isdigit(text.data[i]))
            digits[count++] = text.data[i] - '0';
        else if (g_ascii_isalpha(text.data[i]) && text.data[i] != 'T')
            break;
    }
    if (count < 8)
        return;
    for (guint i = count; i < 14; i++)
        digits[i] = 0;
    gint values[5];
    for (guint i = 0; i < 5; i++)
        values[i] = digits[4 + 2 * i] * 10 + digits[5 + 2 * i];
    gint year = digits[0] * 1000 + digits[1] * 100 + digits[2] * 10 + digits[3];
    g_autoptr(GDateTime) moment =
        year >= 1980 && year < 2100
            ? g_date_time_new_utc(year, values[0], values[1], values[2], values[3], values[4])
            : NULL;
    if (moment == NULL)
        return;
    EkTimestamp date = {g_date_time_to_unix(moment), 0, is_local, TRUE};
    ek_followed_date(followed, date);
}

/* --- content --------------------------------------------------------------------------------- */

gboolean ek_content_each(EkContent *content, EkByte offset, EkByte bytes, EkContentTake take,
                         void *data)
{
    while (bytes > 0) {
        gsize length = (gsize)MIN(bytes, EK_CONTENT_SHOWN);
        EkSpan span = ek_content_at(content, offset, length);
        if (span.length < length || !take(data, span))
            return FALSE;
        offset += length;
        bytes -= length;
    }
    return TRUE;
}

static gboolean add_crc32(void *data, EkSpan span)
{
    guint32 *crc = data;
    *crc = (guint32)libdeflate_crc32(*crc, span.data, span.length);
    return TRUE;
}

gboolean ek_content_crc32(EkContent *content, EkByte offset, EkByte bytes, guint32 *sum)
{
    *sum = 0;
    return ek_content_each(content, offset, bytes, add_crc32, sum);
}

static gboolean is_zero(void *data, EkSpan span)
{
    (void)data;
    return ek_bytes_are_zero(span.data, span.length);
}

gboolean ek_content_is_zero(EkContent *content, EkByte offset, EkByte bytes)
{
    return ek_content_each(content, offset, bytes, is_zero, NULL);
}

gboolean ek_content_seek(EkContent *content, EkByte offset, EkByte limit, const void *bytes,
                         gsize length, EkByte *found)
{
    while (offset < limit) {
        EkSpan span =
            ek_content_some(content, offset, (gsize)MIN(EK_CONTENT_SHOWN, limit - offset));
        if (span.length < length)
            return FALSE;
        const guint8 *at = memmem(span.data, span.length, bytes, length);
        if (at != NULL) {
            *found = offset + (EkByte)(at - span.data);
            return TRUE;
        }
        offset += span.length - length + 1;
    }
    return FALSE;
}

/* Are many of these bytes zero, as they are in tables, and not in what is packed? */
static gboolean is_hollow(EkContent *content, EkByte first, EkByte end)
{
    EkSpan part = ek_content_some(content, first, (gsize)(end - first));
    gsize zeros = 0;
    for (gsize i = 0; i < part.length; i++)
        zeros += part.data[i] == 0 ? 1 : 0;
    return zeros * 4 > part.length;
}

gboolean ek_content_ends_at(EkContent *content, EkByte last, EkByte end)
{
    EkByte sector = end / EK_STEP * EK_STEP;
    EkByte block = end / EK_FOLLOWED_BLOCK * EK_FOLLOWED_BLOCK;
    EkByte slack = block + EK_FOLLOWED_BLOCK - end;
    if (end >= ek_content_bytes(content) || block > last)
        return FALSE;
    if (sector <= last)
        return TRUE;
    /* What was wiped from that sector on would hardly end with the block. */
    EkByte tail = MIN(sector < end ? end - sector : EK_STEP, TAIL);
    return ek_content_is_zero(content, end, slack) &&
           !ek_content_is_zero(content, end - tail, tail) && !is_hollow(content, sector, end) &&
           (sector < end || (end + slack + EK_STEP <= ek_content_bytes(content) &&
                             !ek_content_is_zero(content, end + slack, EK_STEP)));
}

gboolean ek_content_is_padded(EkContent *content, EkByte end)
{
    EkByte rest = (EK_STEP - end % EK_STEP) % EK_STEP;
    return end >= TAIL && rest > 0 && ek_content_is_zero(content, end, rest) &&
           !ek_content_is_zero(content, end - TAIL, TAIL);
}

gboolean ek_followed_has_more(EkFollowed *followed, EkByte at, guint count)
{
    if (at % EK_STEP != 0 || count > 1)
        return TRUE;
    followed->has_next = TRUE;
    return at % EK_FOLLOWED_BLOCK != 0;
}

EkByte ek_followed_line_end(EkContent *content, EkFollowed *followed, EkByte at)
{
    EkSpan tail = ek_content_some(content, at, BLANKS_MOST);
    gsize length = 0;
    while (length < tail.length && strchr(" \t\r\n", tail.data[length]) != NULL &&
           tail.data[length] != 0)
        length++;
    EkByte end = at + length;
    if (length > 0 && length < tail.length && tail.data[length] != 0 && end % 512 != 0)
        followed->is_doubtful = TRUE;
    /* There may be more of them. */
    if (length == BLANKS_MOST)
        followed->is_doubtful = TRUE;
    return end;
}

/* Packed data have nearly all values of a byte in each block; texts, tables and fillers have few of
 * them. */
static gboolean is_sparse(EkSpan block)
{
    guint8 seen[256] = {0};
    guint count = 0;
    for (gsize i = 0; i < block.length; i++)
        seen[block.data[i]] = 1;
    for (gsize i = 0; i < sizeof seen; i++)
        count += seen[i];
    return block.length >= BLOCK_LEAST && count <= VALUES_MOST;
}

gboolean ek_block_is_filler(EkSpan block)
{
    return block.length > 0 && memcmp(block.data, block.data + 1, block.length - 1) == 0;
}

/* Nothing but one value, or letters and marks. */
static gboolean is_plain(EkSpan block)
{
    gsize letters = 0;
    while (letters < block.length && ek_byte_is_text(block.data[letters]) &&
           block.data[letters] < 0x80)
        letters++;
    return block.length >= BLOCK_LEAST && (letters == block.length || ek_block_is_filler(block));
}

static gboolean begins_as_text(EkSpan block)
{
    gsize length = 0;
    while (length < block.length && length < TEXT_LEAST && ek_byte_is_text(block.data[length]))
        length++;
    return length == MIN(block.length, TEXT_LEAST) && length > 0;
}

gboolean ek_block_may_be(EkSpan block, EkTexture texture)
{
    switch (texture) {
    case EK_TEXTURE_PACKED: return !is_sparse(block);
    case EK_TEXTURE_CODED: return !is_plain(block);
    case EK_TEXTURE_TEXT: return begins_as_text(block);
    default: return TRUE;
    }
}

EkByte ek_content_first_unlike(EkContent *content, EkByte at, EkByte end, EkByte bytes,
                               EkTexture texture)
{
    for (; at + bytes <= end; at += bytes) {
        EkSpan block = ek_content_some(content, at, (gsize)MIN(bytes, EK_FOLLOWED_BLOCK));
        if (block.length == 0)
            break;
        if (!ek_block_may_be(block, texture))
            return at;
    }
    return end;
}
