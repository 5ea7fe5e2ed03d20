/* SPDX-License-Identifier: MIT */
/* Where text ends. */
#include "carve/textends.h"

#include "carve/followed.h"

#include <string.h>

#define AT_ONCE 32768u

/* What is known of the drive, whatever begins there. */
typedef struct {
    EkRange text[EK_TEXT_KINDS]; /* nothing but text, on the drive */
    char mark[EK_TEXT_MARK_MOST];
    EkRange marked; /* where the mark was looked for */
    EkByte behind;  /* the last one there, on the drive; 0: none */
} Note;

/* It is of the drive: other pieces change nothing. */
static void keep(void *note, EkByte offset)
{
    (void)note;
    (void)offset;
}

static Note *note_of(EkContent *content)
{
    Note *note = ek_content_aside(content, EK_ASIDE_TEXT);
    if (note == NULL) {
        note = g_new0(Note, 1);
        ek_content_set_aside(content, EK_ASIDE_TEXT, note, g_free, keep);
    }
    return note;
}

EkByte ek_text_known(EkContent *content, EkTextKind kind)
{
    EkRange text = note_of(content)->text[kind];
    EkByte place = ek_content_place(content, 0);
    EkByte there = MIN(ek_content_together(content, 0), ek_content_bytes(content));
    return there > 0 && ek_range_holds(text, place) ? MIN(ek_range_end(text) - place, there) : 0;
}

void ek_text_note(EkContent *content, EkTextKind kind, EkByte bytes)
{
    EkRange *text = &note_of(content)->text[kind];
    EkByte place = ek_content_place(content, 0);
    bytes = MIN(bytes, ek_content_together(content, 0));
    if (bytes > 0 && !ek_range_holds(*text, place))
        *text = (EkRange){place, bytes};
    else if (bytes > 0)
        text->bytes = MAX(ek_range_end(*text), place + bytes) - text->first;
}

EkByte ek_text_end(EkContent *content, EkByte most)
{
    EkByte at = ek_text_known(content, EK_TEXT_BYTES);
    gboolean is_text = TRUE;
    while (is_text && at < most) {
        EkSpan span = ek_content_some(content, at, AT_ONCE);
        gsize length = 0;
        while (length < span.length && ek_byte_is_text(span.data[length]))
            length++;
        is_text = span.length > 0 && length == span.length;
        at += length;
    }
    ek_text_note(content, EK_TEXT_BYTES, at);
    return MIN(at, most);
}

/* Looks for it from the end back. */
static gboolean find_last(EkContent *content, EkByte end, const char *mark, EkByte *found)
{
    gsize length = strlen(mark);
    EkByte stop = end;
    while (stop > 0) {
        EkByte first = stop > AT_ONCE ? stop - AT_ONCE : 0;
        EkSpan span = ek_content_some(content, first, (gsize)(MIN(stop + length, end) - first));
        for (gsize i = span.length; i-- > 0;)
            if (i + length <= span.length && g_ascii_tolower((gchar)span.data[i]) == *mark &&
                g_ascii_strncasecmp((const char *)span.data + i, mark, length) == 0) {
                *found = first + i + length;
                return TRUE;
            }
        stop = first;
    }
    return FALSE;
}

gboolean ek_text_last_mark(EkContent *content, EkByte end, const char *mark, EkByte *found)
{
    Note *note = note_of(content);
    EkByte place = ek_content_place(content, 0);
    g_autofree char *small = g_ascii_strdown(mark, -1);
    if (end > ek_content_together(content, 0))
        return find_last(content, end, small, found);
    /* What lies in it, and it has none. */
    if (ek_range_holds(note->marked, place) && place + end <= ek_range_end(note->marked) &&
        note->behind == 0 && g_str_equal(note->mark, small))
        return FALSE;
    /* What begins in it, and ends where it does. */
    if (!ek_range_holds(note->marked, place) || ek_range_end(note->marked) != place + end ||
        !g_str_equal(note->mark, small)) {
        gboolean is_there = find_last(content, end, small, found);
        if (ek_content_is_shut(content))
            return is_there;
        g_strlcpy(note->mark, small, sizeof note->mark);
        note->marked = (EkRange){place, end};
        note->behind = is_there ? place + *found : 0;
    }
    if (note->behind < place + strlen(small))
        return FALSE;
    *found = note->behind - place;
    return TRUE;
}
