/* SPDX-License-Identifier: MIT */
/* What the ways to join pieces share: blocks, free ground, and following it as it is laid. */
#include "carve/joining.h"

#include "carve/followed.h"

#define GRID 4096u
#define LOOKS_A_TRY 32u
#define SECTOR 512u
#define TRIAL (32u << 10)      /* bytes that a piece must go on rightly for */
#define MORE 2048u             /* where it may end: bytes that it must go on rightly for */
#define AHEAD_MOST 64u         /* stretches that a piece may go on through */
#define WORK_MOST (128u << 20) /* bytes read for one file */

EkByte ek_joining_grid(const EkCarve *carve)
{
    return carve->order.grid != 0 ? carve->order.grid : GRID;
}

EkByte ek_joining_on_grid(const EkJoining *joining, EkByte at)
{
    EkByte phase = joining->first % joining->grid;
    EkByte over = (at + joining->grid - phase) % joining->grid;
    return over == 0 ? at : at + joining->grid - over;
}

static void add_stretches(const EkJoining *joining, GArray *stretches, const GArray *ground,
                          EkByte from)
{
    for (guint i = 0; i < ground->len; i++) {
        EkRange range = g_array_index(ground, EkRange, i);
        EkByte begins = range.first == from ? from : ek_joining_on_grid(joining, range.first);
        if (begins < ek_range_end(range)) {
            range = (EkRange){begins, ek_range_end(range) - begins};
            g_array_append_val(stretches, range);
        }
    }
}

GArray *ek_joining_stretches(const EkJoining *joining, EkByte from)
{
    g_autoptr(GArray) ground = ek_carving_free_ground(joining->carve, from, EK_JOINING_STRETCHES);
    GArray *stretches = g_array_new(FALSE, FALSE, sizeof(EkRange));
    add_stretches(joining, stretches, ground, from);
    return stretches;
}

/* Where `own` pieces first end at or behind `at`, or begin: the end of the part from `at` on that
 * is all theirs, or none of theirs. */
static EkByte part_end(const GArray *own, EkRange range, EkByte at, gboolean *is_own)
{
    EkByte end = ek_range_end(range);
    *is_own = FALSE;
    for (guint i = 0; i < own->len; i++) {
        EkRange piece = g_array_index(own, EkRange, i);
        if (ek_range_holds(piece, at)) {
            *is_own = TRUE;
            return MIN(ek_range_end(range), ek_range_end(piece));
        }
        if (piece.first > at)
            end = MIN(end, piece.first);
    }
    return end;
}

static GArray *without(const GArray *ground, const GArray *own)
{
    GArray *rest = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < ground->len; i++) {
        EkRange range = g_array_index(ground, EkRange, i);
        for (EkByte at = range.first; at < ek_range_end(range);) {
            gboolean is_own = FALSE;
            EkByte end = part_end(own, range, at, &is_own);
            EkRange part = {at, end - at};
            if (!is_own)
                g_array_append_val(rest, part);
            at = end;
        }
    }
    return rest;
}

GArray *ek_joining_stretches_before(const EkJoining *joining, EkByte offset, guint *before)
{
    EkByte end = ek_content_place(joining->content, offset - 1) + 1;
    g_autoptr(GArray) own = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(joining->content, offset, own);
    g_autoptr(GArray) lower = ek_carving_free_ground_before(joining->carve, end, EK_JOINING_BEFORE);
    g_autoptr(GArray) ground = without(lower, own);
    EkByte from = ek_joining_on_grid(joining, end);
    g_autoptr(GArray) behind = ek_carving_free_ground(joining->carve, from, EK_JOINING_STRETCHES);
    GArray *stretches = g_array_new(FALSE, FALSE, sizeof(EkRange));
    add_stretches(joining, stretches, ground, G_MAXUINT64);
    *before = stretches->len;
    add_stretches(joining, stretches, behind, from);
    return stretches;
}

EkFollowed ek_joining_follow(EkJoining *joining)
{
    EkFollowed followed = joining->known;
    followed.end = EK_FOLLOW_NOTHING;
    followed.is_wrong = FALSE;
    followed.is_unproved = FALSE;
    followed.may_end = FALSE;
    followed.has_next = FALSE;
    followed.tells_late = FALSE;
    followed.texture = EK_TEXTURE_ANY;
    followed.texture_from = 0;
    followed.broken.bytes = 0;
    followed.landmark = (EkLandmark){0};
    joining->type->follow(joining->content, &followed);
    return followed;
}

gboolean ek_joining_is_ended(const EkFollowed *followed)
{
    return followed->end == EK_FOLLOW_ENDED && !followed->is_wrong &&
           (followed->proof != EK_PROOF_LENGTH || followed->texture == EK_TEXTURE_PACKED);
}

gboolean ek_joining_is_spent(const EkJoining *joining)
{
    /* What is hardly more than a beginning is worth little. */
    guint most = joining->known.length < GRID ? joining->tries / 4 : joining->tries;
    return joining->trials > most || joining->looks / LOOKS_A_TRY > most ||
           ek_content_work(joining->content) > MAX(WORK_MOST, 16 * joining->known.sure) ||
           g_atomic_int_get(joining->cancel) != 0;
}

void ek_joining_lay_again(EkContent *content, const GArray *before, EkByte offset)
{
    g_autoptr(GArray) rest = ek_pieces_from(before, offset);
    ek_content_relay(content, offset, (const EkRange *)(gconstpointer)rest->data, rest->len);
}

static gboolean is_filler_at(const EkJoining *joining, EkByte offset)
{
    EkSpan sector = ek_content_some(joining->content, offset, SECTOR);
    return sector.length == SECTOR && ek_block_is_filler(sector);
}

/* Does this part begin with a block that is not packed, or is one in it nothing but one value?
 * Unpacking passes over these for long. */
static gboolean holds_other(const EkJoining *joining, EkByte first, EkByte end)
{
    gsize shown = (gsize)MIN(joining->grid, EK_CARVE_GLANCE);
    if (joining->type->may_lie_in == NULL &&
        !ek_block_may_be(ek_content_some(joining->content, first, shown), EK_TEXTURE_PACKED))
        return TRUE;
    for (EkByte at = first; at + joining->grid <= end; at += joining->grid) {
        if (is_filler_at(joining, at) || is_filler_at(joining, at + joining->grid - SECTOR))
            return TRUE;
    }
    return FALSE;
}

static gboolean ends_behind(const EkFollowed *followed, EkByte offset)
{
    return ek_joining_is_ended(followed) && followed->length > offset;
}

/* Does it go on rightly where these stretches begin? At first a little is tried; where it has sums,
 * one must be right that was not before. */
gboolean ek_joining_goes_on(EkJoining *joining, EkByte offset, const EkRange *stretches,
                            guint count, EkByte beyond)
{
    gboolean is_checked = joining->type->is_checked;
    joining->trials++;
    joining->has_tried = TRUE;
    ek_content_relay(joining->content, offset, stretches, MIN(count, AHEAD_MOST));
    EkByte limit = is_checked ? offset + TRIAL / 4 : MAX(offset + TRIAL, beyond + TRIAL / 4);
    /* Text is looked through from its beginning on each time. */
    if (joining->texture == EK_TEXTURE_TEXT)
        joining->looks += (guint)MIN(limit / GRID, G_MAXUINT / 4);
    ek_content_cut(joining->content, limit);
    ek_content_set_fixed(joining->content, TRUE);
    EkFollowed followed = ek_joining_follow(joining);
    EkByte end = MIN(limit, ek_content_bytes(joining->content));
    gboolean goes = ends_behind(&followed, offset) ||
                    (followed.may_end && followed.length > beyond + MORE) ||
                    (followed.end == EK_FOLLOW_BROKE && (is_checked || followed.length > beyond) &&
                     followed.length + 1024 >= end);
    gboolean is_proved = ends_behind(&followed, offset) || followed.sure > offset;
    if (goes && joining->texture == EK_TEXTURE_PACKED && !ends_behind(&followed, offset))
        goes = !holds_other(joining, offset, followed.length);
    for (EkByte more = TRIAL; is_checked && goes && !is_proved && more <= 512 * TRIAL; more *= 8) {
        ek_content_cut(joining->content, more < 512 * TRIAL ? offset + more : G_MAXUINT64);
        followed = ek_joining_follow(joining);
        is_proved = ends_behind(&followed, offset) || followed.sure > offset;
        goes = followed.length + 1024 >= MIN(offset + more, ek_content_bytes(joining->content));
    }
    ek_content_cut(joining->content, G_MAXUINT64);
    ek_content_set_fixed(joining->content, FALSE);
    return is_checked ? is_proved : goes;
}
