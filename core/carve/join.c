/* SPDX-License-Identifier: MIT */
/* Joining pieces. First as a file system lays a file around others: the ground that nothing holds,
 * one stretch behind the other. Then, for types that notice soon, the block where it broke is
 * looked for from the break back, and where it goes on from there on forward. The work of a break
 * is bounded. */
#include "carve/join.h"

#include "carve/inflate.h"

#define GRID 4096u
#define NEAR (64u << 20)      /* how far a piece is looked for behind the one before */
#define TRIAL (32u << 10)     /* bytes that a piece must go on rightly for */
#define BACK_MOST 48u         /* blocks before the break where it may have gone wrong */
#define WORK_MOST (64u << 20) /* bytes read for one file */
#define PIECES_MOST 8u        /* that are looked for */
#define GROUND_MOST 256u

typedef struct {
    EkCarve *carve;
    const EkCarveType *type;
    EkContent *content;
    EkByte first;
    EkByte grid;
    guint trials;
    guint tries;      /* at most */
    EkFollowed known; /* what its beginning told */
} Joining;

static EkByte grid_of(const EkCarve *carve)
{
    return carve->order.grid != 0 ? carve->order.grid : GRID;
}

/* The first byte at or behind `at` that is in step with the file's beginning. */
static EkByte on_grid(const Joining *joining, EkByte at)
{
    EkByte phase = joining->first % joining->grid;
    EkByte over = (at + joining->grid - phase) % joining->grid;
    return over == 0 ? at : at + joining->grid - over;
}

/* Free ground from a place on, each stretch from the first block that begins in it. */
static GArray *stretches_from(const Joining *joining, EkByte from)
{
    g_autoptr(GArray) ground = ek_carving_free_ground(joining->carve, from, GROUND_MOST);
    GArray *stretches = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < ground->len; i++) {
        EkRange range = g_array_index(ground, EkRange, i);
        EkByte begins = range.first == from ? from : on_grid(joining, range.first);
        if (begins < ek_range_end(range)) {
            range = (EkRange){begins, ek_range_end(range) - begins};
            g_array_append_val(stretches, range);
        }
    }
    return stretches;
}

static EkFollowed follow(Joining *joining)
{
    EkFollowed followed = joining->known;
    followed.end = EK_FOLLOW_NOTHING;
    joining->type->follow(joining->content, &followed);
    return followed;
}

static gboolean is_ended(const EkFollowed *followed)
{
    return followed->end == EK_FOLLOW_ENDED && followed->proof != EK_PROOF_LENGTH;
}

static gboolean is_spent(const Joining *joining)
{
    /* What is hardly more than a beginning is worth little. */
    guint most = joining->known.sure < GRID ? joining->tries / 16 : joining->tries;
    return joining->trials > most ||
           ek_content_work(joining->content) > MAX(WORK_MOST, 16 * joining->known.sure) ||
           g_atomic_int_get(joining->carve->cancel) != 0;
}

/* Does it go on rightly where these stretches begin? */
static gboolean goes_on(Joining *joining, EkByte offset, const EkRange *stretches, guint count,
                        EkByte beyond)
{
    joining->trials++;
    ek_content_relay(joining->content, offset, stretches, count);
    EkByte limit = MAX(offset + TRIAL, beyond + TRIAL / 4);
    ek_content_cut(joining->content, limit);
    ek_content_set_fixed(joining->content, TRUE);
    EkFollowed followed = follow(joining);
    ek_content_set_fixed(joining->content, FALSE);
    ek_content_cut(joining->content, G_MAXUINT64);
    return is_ended(&followed) ||
           (followed.end == EK_FOLLOW_BROKE && followed.length > beyond &&
            followed.length + 1024 >= MIN(limit, ek_content_bytes(joining->content)));
}

/* How far a piece is looked for: first where free ground begins, then ever wider. */
static const EkByte tiers[] = {0, 1u << 20, 8u << 20, NEAR};

/* Looks for the block that goes on at `offset`, in one tier. */
static gboolean find_next(Joining *joining, EkByte offset, EkByte beyond, guint tier)
{
    EkByte wrong = ek_content_place(joining->content, offset);
    EkByte from = on_grid(joining, ek_content_place(joining->content, offset - 1) + 1);
    g_autoptr(GArray) stretches = stretches_from(joining, from);
    for (guint i = 0; i < stretches->len; i++) {
        EkRange range = g_array_index(stretches, EkRange, i);
        EkByte end = ek_range_end(range);
        EkByte at = range.first;
        if (tier > 0 && tiers[tier - 1] > 0)
            at = MAX(at, on_grid(joining, from + tiers[tier - 1]));
        else if (tier > 0)
            at += joining->grid;
        EkByte stop = tier == 0 ? at + 1 : MIN(end, from + tiers[tier]);
        for (; at < stop && at - from < NEAR; at += joining->grid) {
            if (at == wrong || at == from)
                continue;
            if (is_spent(joining))
                return FALSE;
            g_array_index(stretches, EkRange, i) = (EkRange){at, end - at};
            if (goes_on(joining, offset, &g_array_index(stretches, EkRange, i), stretches->len - i,
                        beyond))
                return TRUE;
        }
        g_array_index(stretches, EkRange, i) = range;
    }
    return FALSE;
}

/* From `offset` on it is what it was before. */
static void lay_again(EkContent *content, const GArray *before, EkByte offset)
{
    g_autoptr(GArray) rest = g_array_new(FALSE, FALSE, sizeof(EkRange));
    EkByte skipped = 0;
    for (guint i = 0; i < before->len; i++) {
        EkRange piece = g_array_index(before, EkRange, i);
        EkByte skip = MIN(piece.bytes, offset - skipped);
        skipped += skip;
        piece = (EkRange){piece.first + skip, piece.bytes - skip};
        if (piece.bytes > 0)
            g_array_append_val(rest, piece);
    }
    ek_content_relay(content, offset, (const EkRange *)(gconstpointer)rest->data, rest->len);
}

/* One more piece: the blocks from the break back, each with all that may go on there. */
static gboolean add_piece(Joining *joining, const EkFollowed *broken)
{
    EkByte grid = joining->grid;
    EkByte lowest = MAX(ek_content_kept_at(joining->content), 1);
    g_autoptr(GArray) before = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(joining->content, ek_content_bytes(joining->content), before);
    for (guint tier = 0; tier < G_N_ELEMENTS(tiers); tier++) {
        EkByte offset = broken->length / grid * grid;
        for (guint i = 0; i < BACK_MOST && offset >= lowest; i++, offset -= grid) {
            if (find_next(joining, offset, broken->length, tier))
                return TRUE;
            lay_again(joining->content, before, offset);
            if (is_spent(joining) || offset < grid)
                break;
        }
    }
    return FALSE;
}

static EkFound *found_of(Joining *joining)
{
    g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(joining->content, ek_content_bytes(joining->content), places);
    ek_content_lay(joining->content, (const EkRange *)(gconstpointer)places->data, places->len);
    EkFound *found = ek_carving_follow(joining->content, joining->type);
    if (found != NULL && found->followed.end == EK_FOLLOW_ENDED) {
        /* Of many pieces that were tried one may decode by chance: only a sum proves it. */
        if (joining->trials > 0 && found->followed.proof < EK_PROOF_FULL &&
            found->state == EK_CONTENT_WHOLE)
            found->state = EK_CONTENT_DOUBTFUL;
        return found;
    }
    ek_found_free(found);
    return NULL;
}

static EkFound *join_with(Joining *joining)
{
    g_autoptr(GArray) laid = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_lay_from(joining->content, joining->carve->order.ground, joining->first);
    EkFollowed broken = follow(joining);
    joining->known = broken;
    /* More may be known of it by now. */
    if (broken.end == EK_FOLLOW_ENDED)
        return found_of(joining);
    if (broken.end != EK_FOLLOW_BROKE)
        return NULL;
    /* What surely is its own, and then what nothing holds. */
    EkByte sure = MAX(broken.sure, 1);
    ek_content_places(joining->content, sure, laid);
    g_autoptr(GArray) rest =
        stretches_from(joining, ek_content_place(joining->content, sure - 1) + 1);
    g_array_append_vals(laid, rest->data, rest->len);
    ek_content_lay(joining->content, (const EkRange *)(gconstpointer)laid->data, laid->len);
    broken = follow(joining);
    for (guint pieces = 0; joining->type->joins && pieces < PIECES_MOST &&
                           broken.end == EK_FOLLOW_BROKE && !is_spent(joining);
         pieces++) {
        if (!add_piece(joining, &broken))
            return NULL;
        broken = follow(joining);
    }
    return is_ended(&broken) ? found_of(joining) : NULL;
}

EkFound *ek_join(EkCarve *carve, const EkCarveType *type, EkByte first, guint tries)
{
    g_autoptr(EkContent) content = ek_content_new(carve->order.reader);
    ek_content_watch(content, carve->cancel);
    ek_content_remember_streams(content);
    Joining joining = {carve, type, content, first, grid_of(carve), 0, tries, {0}};
    return join_with(&joining);
}
