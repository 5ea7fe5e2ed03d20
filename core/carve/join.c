/* SPDX-License-Identifier: MIT */
/* Joining pieces. First as a file system lays a file around others: the ground that nothing holds,
 * one stretch behind the other. Then, for types that notice soon, the block where it broke is
 * looked for from the break back, and where it goes on from there on forward. The work of a break
 * is bounded. */
#include "carve/join.h"

#include "carve/inflate.h"
#include "carve/sums.h"

#include <string.h>

#define GRID 4096u
#define NEAR (64u << 20)       /* how far a piece is looked for behind the one before */
#define TRIAL (32u << 10)      /* bytes that a piece must go on rightly for */
#define BACK_MOST 48u          /* blocks before the break where it may have gone wrong */
#define WORK_MOST (128u << 20) /* bytes read for one file */
#define PIECES_MOST 8u         /* that are looked for */
#define GROUND_MOST 256u
#define SECTOR 512u

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
    followed.broken.bytes = 0;
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
    guint most = joining->known.length < GRID ? joining->tries / 4 : joining->tries;
    return joining->trials > most ||
           ek_content_work(joining->content) > MAX(WORK_MOST, 16 * joining->known.sure) ||
           g_atomic_int_get(joining->carve->cancel) != 0;
}

/* A piece does not begin with a block of nothing but one value. */
static gboolean is_blank(const Joining *joining, EkByte place)
{
    guint8 block[SECTOR];
    return !ek_reader_read(joining->carve->order.reader, place, block, sizeof block, NULL, NULL) ||
           memcmp(block, block + 1, sizeof block - 1) == 0;
}

/* Does it go on rightly where these stretches begin? At first a little is tried; where it has sums,
 * one must be right that was not before. */
static gboolean goes_on(Joining *joining, EkByte offset, const EkRange *stretches, guint count,
                        EkByte beyond)
{
    gboolean is_checked = joining->type->is_checked;
    joining->trials++;
    ek_content_relay(joining->content, offset, stretches, count);
    EkByte limit = is_checked ? offset + TRIAL / 4 : MAX(offset + TRIAL, beyond + TRIAL / 4);
    ek_content_cut(joining->content, limit);
    ek_content_set_fixed(joining->content, TRUE);
    EkFollowed followed = follow(joining);
    EkByte end = MIN(limit, ek_content_bytes(joining->content));
    gboolean goes = is_ended(&followed) ||
                    (followed.end == EK_FOLLOW_BROKE && (is_checked || followed.length > beyond) &&
                     followed.length + 1024 >= end);
    gboolean is_proved = is_ended(&followed) || followed.sure > offset;
    for (EkByte more = TRIAL; is_checked && goes && !is_proved && more <= 512 * TRIAL; more *= 8) {
        ek_content_cut(joining->content, more < 512 * TRIAL ? offset + more : G_MAXUINT64);
        followed = follow(joining);
        is_proved = is_ended(&followed) || followed.sure > offset;
        goes = followed.length + 1024 >= MIN(offset + more, ek_content_bytes(joining->content));
    }
    ek_content_cut(joining->content, G_MAXUINT64);
    ek_content_set_fixed(joining->content, FALSE);
    return is_checked ? is_proved : goes;
}

/* How far a piece is looked for behind the break. */
static const EkByte tiers[] = {0, 128u << 10, 1u << 20, 8u << 20, NEAR};

/* In what order: how many blocks back from the break it went wrong, and how far on it goes on; what
 * is likely first. */
static const struct {
    guint tier;
    guint from; /* blocks back */
    guint to;
    guint stretches; /* tier 0: of free ground, at the beginning of which it may go on */
} steps[] = {{0, 0, BACK_MOST, 3}, {1, 0, 8, 0}, {2, 0, 3, 0}, {0, 0, 3, GROUND_MOST},
             {1, 8, BACK_MOST, 0}, {2, 3, 8, 0}, {3, 0, 1, 0}, {2, 8, BACK_MOST, 0},
             {3, 1, 3, 0},         {4, 0, 1, 0}};

/* Looks for the block that goes on at `offset`, in one tier. */
static gboolean find_next(Joining *joining, EkByte offset, EkByte beyond, guint step)
{
    guint tier = steps[step].tier;
    if (offset > ek_content_bytes(joining->content))
        return FALSE;
    EkByte wrong = ek_content_place(joining->content, offset);
    EkByte from = on_grid(joining, ek_content_place(joining->content, offset - 1) + 1);
    g_autoptr(GArray) stretches = stretches_from(joining, from);
    guint most = tier == 0 ? MIN(stretches->len, steps[step].stretches) : stretches->len;
    for (guint i = 0; i < most; i++) {
        EkRange range = g_array_index(stretches, EkRange, i);
        EkByte end = ek_range_end(range);
        EkByte at = range.first;
        if (tier > 0 && tiers[tier - 1] > 0)
            at = MAX(at, on_grid(joining, from + tiers[tier - 1]));
        else if (tier > 0)
            at += joining->grid;
        EkByte stop = tier == 0 ? at + 1 : MIN(end, from + tiers[tier]);
        for (; at < stop && at - from < NEAR; at += joining->grid) {
            if (at == wrong || at == from || is_blank(joining, at))
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

/* Whole blocks of free ground from a place on, as one content. */
static EkContent *blocks_from(const Joining *joining, EkByte from)
{
    g_autoptr(GArray) stretches = stretches_from(joining, from);
    for (guint i = 0; i < stretches->len; i++) {
        EkRange *range = &g_array_index(stretches, EkRange, i);
        range->bytes -= range->bytes % joining->grid;
    }
    EkContent *ground = ek_content_new(joining->carve->order.reader);
    ek_content_watch(ground, joining->carve->cancel);
    ek_content_lay(ground, (const EkRange *)(gconstpointer)stretches->data, stretches->len);
    return ground;
}

/* Where the part that it broke in has a sum, that tells where it goes on. */
static gboolean add_by_sum(Joining *joining, const EkFollowed *broken)
{
    const EkBroken *part = &broken->broken;
    EkByte offset = 0;
    EkByte in_ground = 0;
    if (part->bytes == 0 || part->first == 0 || part->check == EK_PART_PLAIN)
        return FALSE;
    EkByte from = on_grid(joining, ek_content_place(joining->content, part->first) + 1);
    g_autoptr(EkContent) ground = blocks_from(joining, from);
    guint blocks = (guint)(MIN(NEAR + part->bytes, ek_content_bytes(ground)) / joining->grid);
    if (!ek_sums_find(joining->content, ground, part, (gsize)joining->grid, blocks, &offset,
                      &in_ground))
        return FALSE;
    g_autoptr(GArray) all = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(ground, ek_content_bytes(ground), all);
    EkByte place = ek_content_place(ground, in_ground);
    for (guint i = 0; i < all->len; i++) {
        EkRange range = g_array_index(all, EkRange, i);
        if (ek_range_end(range) <= place)
            continue;
        EkByte skip = place - MIN(place, range.first);
        g_array_index(all, EkRange, i) = (EkRange){range.first + skip, range.bytes - skip};
        return goes_on(joining, offset, &g_array_index(all, EkRange, i), all->len - i, offset);
    }
    return FALSE;
}

/* One more piece: the blocks from the break back, each with all that may go on there. */
static gboolean add_piece(Joining *joining, const EkFollowed *broken)
{
    EkByte grid = joining->grid;
    EkByte lowest = MAX(joining->type->is_checked ? broken->sure : 1, 1);
    /* Some notice at the beginning of the part in which it went wrong. */
    EkByte highest =
        ek_divide_up(MAX(broken->length, broken->broken.first + broken->broken.bytes), grid) * grid;
    g_autoptr(GArray) before = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(joining->content, ek_content_bytes(joining->content), before);
    if (add_by_sum(joining, broken))
        return TRUE;
    for (guint step = 0; step < G_N_ELEMENTS(steps); step++) {
        /* What was kept on the way is made again. */
        if (step > 0) {
            lay_again(joining->content, before, MIN(lowest, grid));
            follow(joining);
        }
        for (guint i = steps[step].from; i < steps[step].to; i++) {
            EkByte offset = highest - MIN(highest, i * (EkByte)grid);
            if (offset < MAX(lowest, grid))
                break;
            if (find_next(joining, offset, broken->length, step))
                return TRUE;
            lay_again(joining->content, before, offset);
            if (is_spent(joining))
                return FALSE;
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
    /* Around what was found in it. */
    if (joining->type->is_solid && broken.end == EK_FOLLOW_ENDED) {
        g_autoptr(GArray) own = stretches_from(joining, joining->first);
        if (own->len == 0 || g_array_index(own, EkRange, 0).first != joining->first)
            return NULL;
        ek_content_lay(joining->content, (const EkRange *)(gconstpointer)own->data, own->len);
        broken = follow(joining);
    }
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
    ek_content_hold_head(joining->content);
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
