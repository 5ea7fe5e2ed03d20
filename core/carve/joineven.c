/* SPDX-License-Identifier: MIT */
/* A recording, or a plain picture, has no marks in it, but its samples follow one another smoothly:
 * the first blocks that surely do not are another's, and where others begin that do, it goes on.
 * Nothing proves it.
 */
#include "carve/joineven.h"

#include "carve/followed.h"

#define HEAD 4096u
#define BLOCK 4096u     /* looked at of each */
#define LEAST 8u        /* blocks of it that must be like a recording */
#define FOREIGN 2u      /* blocks one behind the other that are not: they are none of it */
#define PLACES_MOST 64u /* that are laid and looked at */
#define PIECES_MOST 2u  /* behind the cut: of many some are even by chance */
#define NEAR (64u << 20)
#define LOOKS_A_TRY 8u  /* blocks looked at */
#define AROUND 1024u    /* bytes before and behind a seam */
#define EDGE 16u        /* bytes beside zeros that are not all zero */
#define REST_LEAST 512u /* behind its end, where they say anything */

typedef struct {
    EkJoining *joining;
    EkSamples samples;
    EkByte length;  /* of the file */
    EkByte nothing; /* where zeros begin that lie right before what is foreign; 0: none do */
    guint places;
    guint looks;
} Search;

static gboolean is_spent(const Search *search)
{
    return search->places > PLACES_MOST || search->looks / LOOKS_A_TRY > search->joining->tries ||
           g_atomic_int_get(search->joining->cancel) != 0;
}

/* Another recording that begins here: its length in bytes, as it says; 0: none. */
static EkByte recording_bytes(const Search *search, EkSpan span)
{
    const EkCarveType *const *types = ek_content_types(search->joining->content);
    for (gsize i = 0; types != NULL && types[i] != NULL; i++) {
        EkSamples samples = {0};
        if (types[i]->samples != NULL && types[i]->begin(span) && types[i]->samples(span, &samples))
            return samples.bytes;
    }
    return 0;
}

static gboolean begins_recording(const Search *search, EkByte offset)
{
    return recording_bytes(search, ek_content_some(search->joining->content, offset, HEAD)) > 0;
}

/* Nothing but letters and marks, in lines of words or fields. */
static gboolean are_words(EkSpan block)
{
    gsize gaps = 0;
    gsize lines = 0;
    for (gsize i = 0; i < block.length; i++) {
        guint8 c = block.data[i];
        if (!ek_byte_is_text(c) || c >= 0x80)
            return FALSE;
        gaps += c == ' ' || c == ',' || c == ';' || c == '\t' ? 1 : 0;
        lines += c == '\n' ? 1 : 0;
    }
    return gaps * 50 >= block.length && lines > 0;
}

static EkEvenness evenness_of(const Search *search, EkSpan block, EkByte offset)
{
    return are_words(block) ? EK_UNEVEN : ek_samples_evenness(&search->samples, block, offset);
}

static EkEvenness evenness(const Search *search, EkByte offset)
{
    EkContent *content = search->joining->content;
    gsize most = (gsize)MIN(BLOCK, search->length - offset);
    return evenness_of(search, ek_content_some(content, offset, most), offset);
}

static gboolean is_nothing(const Search *search, EkByte offset)
{
    EkByte bytes = MIN(search->joining->grid, search->length - MIN(offset, search->length));
    return bytes > 0 && ek_content_is_zero(search->joining->content, offset, bytes);
}

/* Silence begins and ends anywhere; what was wiped, or never written, does where blocks do.
 * Returns where the zeros that begin with this block end. */
static EkByte pass_nothing(Search *search, EkByte offset, gboolean *is_foreign)
{
    EkContent *content = search->joining->content;
    EkByte end = offset;
    for (; end < search->length && is_nothing(search, end) && !is_spent(search);
         end += search->joining->grid)
        search->looks++;
    *is_foreign = end > offset && !ek_content_is_zero(content, offset - EDGE, EDGE) &&
                  (end >= search->length || !ek_content_is_zero(content, end, EDGE));
    return end;
}

/* The first of some blocks in a row that are none of it, from `offset` on; its length: there are
 * none. Where only what is `sudden` counts, it was even right before. *like counts those before
 * that are like it, *known all that say anything. */
static EkByte first_foreign(Search *search, EkByte offset, gboolean sudden, guint *like,
                            guint *known)
{
    EkByte grid = search->joining->grid;
    EkByte first = 0;
    guint row = 0;
    gboolean is_abrupt = TRUE; /* what is before the row is even */
    for (; offset < search->length && !is_spent(search); offset += grid) {
        gboolean is_foreign = FALSE;
        EkByte behind = pass_nothing(search, offset, &is_foreign);
        if (is_foreign)
            return offset;
        if (behind > offset && row > 0) {
            *known -= row;
            return is_abrupt || !sudden ? first : search->length;
        }
        if (behind >= search->length)
            break;
        EkByte nothing = behind > offset ? offset : 0;
        offset = behind;
        EkEvenness one = evenness(search, offset);
        search->looks++;
        if (begins_recording(search, offset))
            return offset;
        if (one == EK_UNEVEN && row++ == 0) {
            first = offset;
            is_abrupt = offset < BLOCK || evenness(search, offset - BLOCK) == EK_EVEN;
            search->nothing = nothing;
        }
        if (one == EK_UNEVEN && (row == FOREIGN || offset + grid >= search->length)) {
            *known -= row - 1;
            return is_abrupt || !sudden ? first : search->length;
        }
        row = one == EK_EVEN ? 0 : row;
        *like += one == EK_EVEN ? 1 : 0;
        *known += one != EK_EVEN_UNKNOWN ? 1 : 0;
    }
    return search->length;
}

/* Are the samples before and behind a byte of the file of one recording? */
static gboolean goes_on_at(const Search *search, EkByte offset)
{
    EkByte first = offset - MIN(offset, AROUND);
    EkSpan bytes = ek_content_some(search->joining->content, first, (gsize)2 * AROUND);
    return ek_samples_go_on(&search->samples, bytes, (gsize)(offset - first), first);
}

/* Does its sound go on behind its end, up to the next block? Then it is not its end. */
static gboolean goes_on_behind(const Search *search)
{
    EkByte end = search->length;
    EkByte grid = search->joining->grid;
    gsize rest = (gsize)((grid - end % grid) % grid);
    EkSpan bytes = ek_content_some(search->joining->content, end, MIN(rest, AROUND));
    return rest >= REST_LEAST && bytes.length >= REST_LEAST &&
           ek_samples_evenness(&search->samples, bytes, end) == EK_EVEN && goes_on_at(search, end);
}

/* Is all behind the cut like it, now that other ground is laid there? */
static gboolean fits(Search *search, EkByte cut)
{
    guint like = 0;
    guint known = 0;
    EkByte grid = search->joining->grid;
    g_autoptr(GArray) pieces =
        ek_content_pieces(search->joining->content, cut, search->length - cut);
    if (pieces->len > PIECES_MOST)
        return FALSE;
    /* The first block may be what lay before the piece, and like it by chance. */
    return ek_content_bytes(search->joining->content) >= search->length &&
           ek_content_is_padded(search->joining->content, search->length) &&
           goes_on_at(search, cut) && goes_on_at(search, cut + grid) && !goes_on_behind(search) &&
           first_foreign(search, cut, FALSE, &like, &known) == search->length &&
           !is_spent(search) && like > 0 && like * 10 >= known * 9;
}

/* A piece begins where blocks become like it, and other recordings are passed over. */
static gboolean find_in(Search *search, GArray *stretches, guint i, EkByte cut, EkByte far)
{
    EkJoining *joining = search->joining;
    EkRange *stretch = &g_array_index(stretches, EkRange, i);
    EkRange range = *stretch;
    gboolean was_like = FALSE;  /* two blocks in a row */
    gboolean was_tried = FALSE; /* the block before */
    guint8 block[BLOCK];
    for (EkByte at = range.first; at < MIN(ek_range_end(range), far); at += joining->grid) {
        gsize length = (gsize)MIN(sizeof block, ek_range_end(range) - at);
        if (is_spent(search))
            break;
        search->looks++;
        EkSpan span = {block, length};
        gboolean is_read =
            ek_reader_read(joining->carve->order.reader, at, block, length, NULL, NULL);
        EkByte other = is_read ? recording_bytes(search, span) : 0;
        if (other > 0) {
            at += (ek_divide_up(other, joining->grid) - 1) * joining->grid;
            was_like = was_tried = FALSE;
            continue;
        }
        gboolean is_like = is_read && evenness_of(search, span, cut) == EK_EVEN;
        if (is_like && !was_like) {
            search->places++;
            *stretch = (EkRange){at, ek_range_end(range) - at};
            ek_content_relay(joining->content, cut, stretch, stretches->len - i);
            if (fits(search, cut))
                return TRUE;
        }
        /* What lies before it in its first block may be like it by chance. */
        was_like = is_like && was_tried;
        was_tried = is_like;
    }
    *stretch = range;
    return FALSE;
}

/* A piece that goes on at `cut`. FALSE: it is laid as `before` again. */
static gboolean find_piece(Search *search, const GArray *before, EkByte cut)
{
    EkJoining *joining = search->joining;
    EkByte from = ek_joining_on_grid(joining, ek_content_place(joining->content, cut - 1) + 1);
    g_autoptr(GArray) stretches = ek_joining_stretches(joining, from);
    for (guint i = 0; i < stretches->len; i++)
        if (find_in(search, stretches, i, cut, from + NEAR))
            return TRUE;
    ek_joining_lay_again(joining->content, before, cut);
    return FALSE;
}

gboolean ek_join_by_evenness(EkJoining *joining, EkByte length)
{
    guint like = 0;
    guint known = 0;
    Search search = {.joining = joining, .length = length};
    if (joining->type->samples == NULL ||
        !joining->type->samples(ek_content_some(joining->content, 0, HEAD), &search.samples))
        return FALSE;
    EkByte cut = first_foreign(&search, joining->grid, TRUE, &like, &known);
    EkByte nothing = search.nothing;
    if (cut >= length || like < LEAST || like * 10 < known * 9)
        return FALSE;
    joining->has_tried = TRUE;
    g_autoptr(GArray) before = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(joining->content, ek_content_bytes(joining->content), before);
    /* The zeros may be its own silence, or the beginning of what is not. */
    return (nothing > 0 && find_piece(&search, before, nothing)) ||
           find_piece(&search, before, cut);
}
