/* SPDX-License-Identifier: MIT */
/* Joining by landmarks. A landmark tells how far the second piece is shifted against the first;
 * what is left to find is the block where the one ends and the other begins. Where the ground of a
 * piece ends because another file holds what is behind it, that is the likely one. */
#include "carve/landmarks.h"

#define LOOKS 4u  /* blocks of ground that are looked at for one that may be tried */
#define LIKELY 8u /* cuts that are tried before those next to where it breaks */
#define CUTS_MOST 16384u
#define PLACES_MOST 16u /* that look like the landmark and are tried */

typedef struct {
    EkJoining *joining;
    const EkFollowed *broken;
    const GArray *before;
    guint8 *shown;
    guint places;
    EkByte lowest;   /* the first place where it may be cut, in bytes of the file */
    EkByte highest;  /* the last one: where the block with the landmark begins */
    EkByte unproved; /* the first that comes to an end, but without proof; 0: none */
    gboolean takes_unproved;
} Search;

/* Does it go over into this block from what lies before it? Then no piece begins here. */
static gboolean is_within(const Search *search, EkByte block)
{
    const EkCarveType *type = search->joining->type;
    guint8 before[EK_CARVE_BEFORE];
    return type->is_rest != NULL && block >= sizeof before &&
           ek_reader_read(search->joining->carve->order.reader, block - sizeof before, before,
                          sizeof before, NULL, NULL) &&
           type->is_rest((EkSpan){before, sizeof before});
}

/* Does what is looked for stand in this block of the drive? */
static gboolean stands_at(const Search *search, EkByte block)
{
    const EkLandmark *landmark = &search->broken->landmark;
    EkReader *reader = search->joining->carve->order.reader;
    EkByte at = block + (landmark->at - search->highest);
    EkByte drive = ek_reader_bytes(reader);
    if (at + EK_LANDMARK_GLANCE > drive)
        return FALSE;
    gsize shown = (gsize)MIN(landmark->shown, drive - at);
    gsize sizes[] = {EK_LANDMARK_GLANCE, shown};
    for (gsize i = 0; i < G_N_ELEMENTS(sizes); i++)
        if (!ek_reader_read(reader, at, search->shown, sizes[i], NULL, NULL) ||
            !landmark->stands(landmark, (EkSpan){search->shown, sizes[i]}))
            return FALSE;
    return !is_within(search, block);
}

/* Where the run of ground ends that the first piece begins in, in bytes of the file. */
static EkByte end_of_run(const Search *search)
{
    EkByte offset = 0;
    EkByte end = 0;
    for (guint i = 0; i < search->before->len; i++) {
        EkRange piece = g_array_index(search->before, EkRange, i);
        if (end != piece.first && offset > search->broken->sure)
            break;
        offset += piece.bytes;
        end = ek_range_end(piece);
    }
    return offset;
}

/* Lays it as if it was cut there, and follows it: TRUE when it goes on behind the landmark. What
 * comes to an end without the proof that it may have counts when no other cut has that. */
static gboolean try_cut(Search *search, EkRange *stretches, guint count, EkByte block, EkByte cut,
                        EkFollowed *followed)
{
    EkJoining *joining = search->joining;
    EkRange kept = *stretches;
    EkByte first = block - (search->highest - cut);
    if (cut > ek_content_bytes(joining->content))
        return FALSE;
    joining->trials++;
    joining->has_tried = TRUE;
    *stretches = (EkRange){first, ek_range_end(kept) - first};
    ek_content_relay(joining->content, cut, stretches, count);
    *followed = ek_joining_follow(joining);
    gboolean goes =
        ek_joining_is_ended(followed) ||
        (followed->end == EK_FOLLOW_BROKE && followed->length > search->broken->landmark.at);
    if (goes && (!followed->is_unproved || search->takes_unproved))
        return TRUE;
    if (goes && search->unproved == 0)
        search->unproved = cut;
    *stretches = kept;
    ek_joining_lay_again(joining->content, search->before, search->lowest);
    return FALSE;
}

/* A place where it may be cut, and what speaks for that. */
typedef struct {
    EkByte cut;
    gint32 score;
} Cut;

/* How often the bytes of a block have each of their upper bits. */
typedef struct {
    guint16 count[64];
} Tally;

static Tally tally(EkSpan span)
{
    Tally tally = {{0}};
    for (gsize i = 0; i < span.length; i++)
        tally.count[span.data[i] >> 2]++;
    return tally;
}

static gint32 distance(const Tally *one, const Tally *other)
{
    gint32 sum = 0;
    for (gsize i = 0; i < G_N_ELEMENTS(one->count); i++)
        sum += ABS((gint32)one->count[i] - (gint32)other->count[i]);
    return sum;
}

static gint by_score(gconstpointer one, gconstpointer other)
{
    const Cut *a = one;
    const Cut *b = other;
    return a->score != b->score ? (a->score < b->score ? 1 : -1) : (a->cut < b->cut ? 1 : -1);
}

/* At the cut the ground of the first piece turns into something else, and so does, as far behind as
 * the second one is shifted, what lies before that. All cuts, the likely ones first. */
static GArray *rank_cuts(Search *search, EkRange stretch, EkByte block, EkByte least)
{
    EkJoining *joining = search->joining;
    EkByte grid = joining->grid;
    EkByte run = end_of_run(search);
    guint count = (guint)((search->highest - least) / grid) + 1;
    g_autofree Tally *tallies = g_new(Tally, 2 * ((gsize)count + 1));
    g_autofree guint8 *buffer = g_malloc((gsize)grid);
    GArray *cuts = g_array_new(FALSE, FALSE, sizeof(Cut));
    for (guint i = 0; i <= count; i++) {
        EkByte at = least - grid + i * grid;
        EkByte place = block - MIN(block, search->highest - at);
        tallies[2 * i] = tally(ek_content_some(joining->content, at, (gsize)grid));
        gboolean fine =
            ek_reader_read(joining->carve->order.reader, place, buffer, (gsize)grid, NULL, NULL);
        tallies[2 * i + 1] = tally((EkSpan){buffer, fine ? (gsize)grid : 0});
    }
    for (guint i = 1; i <= count; i++) {
        Cut cut = {least + (i - 1) * grid, 0};
        const Tally *before = &tallies[2 * (i - 1)];
        const Tally *at = &tallies[2 * i];
        gboolean is_start = block - stretch.first == search->highest - cut.cut;
        cut.score = cut.cut == run ? 4 * (gint32)grid : distance(&before[0], &at[0]);
        cut.score += is_start ? 4 * (gint32)grid : distance(&before[1], &at[1]);
        cut.score -= distance(&before[0], &at[1]);
        g_array_append_val(cuts, cut);
    }
    g_array_sort(cuts, by_score);
    return cuts;
}

/* Those from `top` back, a block at a time. */
static gboolean try_back(Search *search, EkRange *stretches, guint count, EkByte block,
                         EkByte least, EkByte top)
{
    EkJoining *joining = search->joining;
    EkFollowed followed;
    for (guint back = 0; back < EK_JOINING_BACK && !ek_joining_is_spent(joining); back++) {
        EkByte cut = top - MIN(top, back * joining->grid);
        if (cut < least)
            return FALSE;
        if (try_cut(search, stretches, count, block, cut, &followed))
            return TRUE;
    }
    return FALSE;
}

/* What is wrong before it was cut is none of it: the last place where it may be cut then. */
static EkByte lower_top(const Search *search, const EkFollowed *followed, EkByte cut, EkByte top)
{
    EkByte grid = search->joining->grid;
    EkByte wrong = followed->broken.first + followed->broken.bytes;
    if (!followed->is_wrong)
        wrong = MAX(followed->length, wrong);
    gboolean is_right = followed->end == EK_FOLLOW_ENDED && !followed->is_wrong;
    return !is_right && wrong < cut ? MIN(top, ek_divide_up(wrong, grid) * grid) : top;
}

/* The landmark stands in this block of the first stretch. */
static gboolean try_block(Search *search, EkRange *stretches, guint count, EkByte block)
{
    EkJoining *joining = search->joining;
    EkByte grid = joining->grid;
    EkByte room = block - stretches->first; /* of its stretch, before it */
    EkByte least = MAX(search->lowest, search->highest - MIN(search->highest, room));
    least = MAX(least, search->highest - MIN(search->highest, CUTS_MOST * grid));
    EkByte top = search->highest;
    g_autoptr(GArray) cuts = rank_cuts(search, *stretches, block, least);
    search->unproved = 0;
    search->takes_unproved = FALSE;
    for (guint i = 0, tried = 0; i < cuts->len && !ek_joining_is_spent(joining); i++) {
        EkByte cut = g_array_index(cuts, Cut, i).cut;
        EkFollowed followed = {0};
        if (cut > top)
            continue;
        if (try_cut(search, stretches, count, block, cut, &followed))
            return TRUE;
        top = lower_top(search, &followed, cut, top);
        if (++tried == LIKELY && try_back(search, stretches, count, block, least, top))
            return TRUE;
    }
    EkFollowed followed;
    search->takes_unproved = TRUE;
    return search->unproved > 0 &&
           try_cut(search, stretches, count, block, search->unproved, &followed);
}

/* In the stretches [from, to), at the byte `least` of the drive or behind it. */
static gboolean try_stretches(Search *search, GArray *stretches, guint from, guint to, EkByte least)
{
    EkJoining *joining = search->joining;
    EkByte far = (EkByte)joining->tries * LOOKS * joining->grid;
    EkByte seen = 0;
    for (guint i = from; i < to; i++) {
        EkRange range = g_array_index(stretches, EkRange, i);
        for (EkByte at = MAX(range.first, least); at < ek_range_end(range) && seen < far;
             at += joining->grid, seen += joining->grid) {
            if (!stands_at(search, at))
                continue;
            if (try_block(search, &g_array_index(stretches, EkRange, i), stretches->len - i, at))
                return TRUE;
            if (++search->places >= PLACES_MOST || ek_joining_is_spent(joining))
                return FALSE;
        }
        if (g_atomic_int_get(joining->cancel) != 0)
            return FALSE;
    }
    return FALSE;
}

gboolean ek_join_by_landmark(EkJoining *joining, const EkFollowed *broken, const GArray *before)
{
    const EkLandmark *landmark = &broken->landmark;
    EkByte grid = joining->grid;
    EkByte sure = MAX(broken->sure, 1);
    guint count = 0;
    if (landmark->stands == NULL || landmark->shown < EK_LANDMARK_GLANCE ||
        landmark->shown > EK_LANDMARK_SHOWN || landmark->at < grid || landmark->at > G_MAXINT64 / 2)
        return FALSE;
    g_autofree guint8 *shown = g_malloc(landmark->shown);
    Search search = {.joining = joining,
                     .broken = broken,
                     .before = before,
                     .shown = shown,
                     .lowest = MAX(ek_divide_up(sure, grid) * grid, grid),
                     .highest = landmark->at / grid * grid};
    if (search.highest < search.lowest || search.lowest > ek_content_bytes(joining->content))
        return FALSE;
    g_autoptr(GArray) stretches = ek_joining_stretches_before(joining, sure, &count);
    /* What lies behind the first piece is shifted to higher places, if at all. */
    EkByte least = ek_joining_on_grid(joining, joining->first + search.highest);
    return try_stretches(&search, stretches, count, stretches->len, least) ||
           try_stretches(&search, stretches, 0, count, 0);
}
