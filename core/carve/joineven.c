/* SPDX-License-Identifier: MIT */
/* A recording has no marks in it, but its samples follow one another smoothly: the first blocks
 * that surely do not are another's, and where others begin that do, it goes on. Nothing proves it.
 */
#include "carve/joineven.h"

#define HEAD 4096u
#define BLOCK 4096u     /* looked at of each */
#define LEAST 8u        /* blocks of it that must be like a recording */
#define FOREIGN 2u      /* blocks one behind the other that are not: they are none of it */
#define PLACES_MOST 64u /* that are laid and looked at */
#define NEAR (64u << 20)
#define LOOKS_A_TRY 8u  /* blocks looked at */
#define AROUND 1024u    /* bytes before and behind a seam */
#define REST_LEAST 512u /* behind its end, where they say anything */

typedef struct {
    EkJoining *joining;
    EkSamples samples;
    EkByte length; /* of the file */
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

static EkEvenness evenness(const Search *search, EkByte offset)
{
    EkContent *content = search->joining->content;
    gsize most = (gsize)MIN(BLOCK, search->length - offset);
    return ek_samples_evenness(&search->samples, ek_content_some(content, offset, most), offset);
}

/* The first of some blocks in a row that are none of it, from `offset` on; its length: there are
 * none. *like counts those before that are like it, *known all that say anything. */
static EkByte first_foreign(Search *search, EkByte offset, guint *like, guint *known)
{
    EkByte grid = search->joining->grid;
    EkByte first = 0;
    guint row = 0;
    for (; offset < search->length && !is_spent(search); offset += grid) {
        EkEvenness one = evenness(search, offset);
        search->looks++;
        if (begins_recording(search, offset))
            return offset;
        if (one == EK_UNEVEN && row++ == 0)
            first = offset;
        if (one == EK_UNEVEN && (row == FOREIGN || offset + grid >= search->length)) {
            *known -= row - 1;
            return first;
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
    /* The first block may be what lay before the piece, and like it by chance. */
    return ek_content_bytes(search->joining->content) >= search->length &&
           goes_on_at(search, cut) && goes_on_at(search, cut + grid) && !goes_on_behind(search) &&
           first_foreign(search, cut, &like, &known) == search->length && !is_spent(search) &&
           like > 0 && like * 10 >= known * 9;
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
        gboolean is_like = is_read && ek_samples_evenness(&search->samples, span, cut) == EK_EVEN;
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

gboolean ek_join_by_evenness(EkJoining *joining, EkByte length)
{
    guint like = 0;
    guint known = 0;
    Search search = {.joining = joining, .length = length};
    if (joining->type->samples == NULL ||
        !joining->type->samples(ek_content_some(joining->content, 0, HEAD), &search.samples))
        return FALSE;
    EkByte cut = first_foreign(&search, joining->grid, &like, &known);
    if (cut >= length || like < LEAST || like * 10 < known * 9)
        return FALSE;
    joining->has_tried = TRUE;
    g_autoptr(GArray) before = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(joining->content, ek_content_bytes(joining->content), before);
    EkByte from = ek_joining_on_grid(joining, ek_content_place(joining->content, cut - 1) + 1);
    g_autoptr(GArray) stretches = ek_joining_stretches(joining, from);
    for (guint i = 0; i < stretches->len; i++)
        if (find_in(&search, stretches, i, cut, from + NEAR))
            return TRUE;
    ek_joining_lay_again(joining->content, before, cut);
    return FALSE;
}
