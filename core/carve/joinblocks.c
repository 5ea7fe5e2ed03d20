/* SPDX-License-Identifier: MIT */
/* What unpacks may go wrong long behind the block that is not its own, what is only as long as it
 * says never does, and text goes on in any text; but a block of text in packed data is another's at
 * a glance, and so is one of packed data in text. */
#include "carve/joinblocks.h"

#include "carve/followed.h"

#include <string.h>

#define PLACES_MOST 32u /* that are tried for a cut */
#define CUTS_MOST 4u
#define NEAR (64u << 20)

/* What nothing in it checks goes on where it comes to its end. */
static gboolean goes_on(EkJoining *joining, EkByte cut, const EkRange *stretches, guint count,
                        EkByte beyond)
{
    gboolean is_text = joining->texture == EK_TEXTURE_TEXT;
    if (!is_text && (joining->type->is_checked || joining->type->joins))
        return ek_joining_goes_on(joining, cut, stretches, count, beyond);
    joining->trials++;
    joining->has_tried = TRUE;
    ek_content_relay(joining->content, cut, stretches, count);
    EkFollowed followed = ek_joining_follow(joining);
    /* A length alone, or one mark, may be anybody's. */
    gboolean is_known = (followed.proof != EK_PROOF_LENGTH && !is_text) ||
                        ek_content_is_padded(joining->content, followed.length);
    return followed.length > cut && ek_joining_is_ended(&followed) && is_known;
}

/* Nothing, something that cannot be its own, what may be. */
typedef enum { FILLER, UNLIKE, LIKE } Likeness;

static Likeness likeness_at(EkJoining *joining, EkByte at, EkByte end)
{
    guint8 block[EK_CARVE_GLANCE];
    gsize length = (gsize)MIN(MIN(joining->grid, sizeof block), end - at);
    joining->looks++;
    EkSpan span = {block, length};
    if (!ek_reader_read(joining->carve->order.reader, at, block, length, NULL, NULL) ||
        ek_block_is_filler(span))
        return FILLER;
    return ek_block_may_be(span, joining->texture) ? LIKE : UNLIKE;
}

/* It may go on where blocks become more like it in a stretch, or at its beginning. */
static gboolean find_in(EkJoining *joining, GArray *stretches, guint i, EkRange blocks, EkByte cut,
                        EkByte beyond, guint *places)
{
    EkRange *stretch = &g_array_index(stretches, EkRange, i);
    EkRange range = *stretch;
    Likeness before = FILLER;
    for (EkByte at = blocks.first; at < ek_range_end(blocks) && *places < PLACES_MOST;
         at += joining->grid) {
        Likeness own = likeness_at(joining, at, ek_range_end(range));
        if (ek_joining_is_spent(joining))
            break;
        if (own > before && (own == LIKE || joining->texture == EK_TEXTURE_PACKED)) {
            (*places)++;
            *stretch = (EkRange){at, ek_range_end(range) - at};
            if (goes_on(joining, cut, stretch, stretches->len - i, beyond))
                return TRUE;
        }
        before = own;
    }
    *stretch = range;
    return FALSE;
}

/* Cut there, does it go on somewhere behind that? */
static gboolean try_cut(EkJoining *joining, const EkFollowed *broken, EkByte cut, guint *places)
{
    /* Codes of pictures go on in anything for a while. */
    EkByte beyond = joining->texture == EK_TEXTURE_CODED ? broken->length : cut;
    EkByte from = ek_joining_on_grid(joining, ek_content_place(joining->content, cut - 1) + 1);
    g_autoptr(GArray) stretches = ek_joining_stretches(joining, from);
    for (guint i = 0; i < stretches->len && *places < PLACES_MOST; i++) {
        EkRange range = g_array_index(stretches, EkRange, i);
        EkByte end = MIN(ek_range_end(range), from + NEAR);
        EkRange blocks = {range.first, end - MIN(range.first, end)};
        if (find_in(joining, stretches, i, blocks, cut, beyond, places))
            return TRUE;
    }
    return FALSE;
}

/* Where blocks that cannot be its own begin, the last places first: what is flat, or was not worth
 * packing, looks like another's too, and behind another's it breaks. */
static guint find_cuts(EkJoining *joining, const EkFollowed *broken, EkByte *cuts)
{
    EkByte grid = joining->grid;
    EkByte sure = joining->type->is_checked ? broken->sure : 0;
    EkByte highest = MAX(broken->length, broken->broken.first + broken->broken.bytes);
    EkByte at = MAX(ek_divide_up(MAX(sure, broken->texture_from), grid) * grid, grid);
    guint count = 0;
    gboolean was_like = TRUE;
    for (; at <= highest && g_atomic_int_get(joining->cancel) == 0; at += grid) {
        EkSpan block = ek_content_some(joining->content, at, (gsize)MIN(grid, EK_CARVE_GLANCE));
        gboolean is_like = ek_block_may_be(block, broken->texture);
        if (block.length == 0)
            break;
        if (was_like && !is_like) {
            memmove(cuts + 1, cuts, sizeof *cuts * MIN(count, CUTS_MOST - 1));
            cuts[0] = at;
            count = MIN(count + 1, CUTS_MOST);
        }
        was_like = is_like;
        /* Text ends where it does. */
        if (count > 0 && broken->texture == EK_TEXTURE_TEXT)
            break;
    }
    return count;
}

gboolean ek_join_by_blocks(EkJoining *joining, const EkFollowed *broken, const GArray *before)
{
    EkByte cuts[CUTS_MOST];
    if (broken->texture == EK_TEXTURE_ANY)
        return FALSE;
    guint count = find_cuts(joining, broken, cuts);
    for (guint i = 0; i < count; i++) {
        guint places = 0;
        if (try_cut(joining, broken, cuts[i], &places))
            return TRUE;
        ek_joining_lay_again(joining->content, before, cuts[i]);
        ek_joining_follow(joining);
    }
    return FALSE;
}
