/* SPDX-License-Identifier: MIT */
/* What unpacks may go wrong long behind the block that is not its own, what is only as long as it
 * says never does, and text goes on in any text; but a block of text in packed data is another's at
 * a glance, and so is one of packed data in text. */
#include "carve/joinblocks.h"

#include "carve/followed.h"

#include <string.h>

#define PLACES_MOST 64u /* that are tried */
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
    if (!ek_reader_read(joining->carve->order.reader, at, block, length, NULL, NULL) ||
        memcmp(block, block + 1, length - 1) == 0)
        return FILLER;
    return ek_block_may_be((EkSpan){block, length}, joining->texture) ? LIKE : UNLIKE;
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

gboolean ek_join_by_blocks(EkJoining *joining, const EkFollowed *broken, const GArray *before)
{
    EkByte grid = joining->grid;
    guint places = 0;
    if (broken->texture == EK_TEXTURE_ANY)
        return FALSE;
    EkByte sure = joining->type->is_checked ? broken->sure : 0;
    EkByte lowest = MAX(ek_divide_up(MAX(sure, broken->texture_from), grid) * grid, grid);
    EkByte highest = MAX(broken->length, broken->broken.first + broken->broken.bytes);
    EkByte cut =
        ek_content_first_unlike(joining->content, lowest, highest + grid, grid, broken->texture);
    if (cut > highest)
        return FALSE;
    /* Codes of pictures go on in anything for a while. */
    EkByte beyond = joining->texture == EK_TEXTURE_CODED ? broken->length : cut;
    EkByte from = ek_joining_on_grid(joining, ek_content_place(joining->content, cut - 1) + 1);
    g_autoptr(GArray) stretches = ek_joining_stretches(joining, from);
    for (guint i = 0; i < stretches->len && places < PLACES_MOST; i++) {
        EkRange range = g_array_index(stretches, EkRange, i);
        EkByte end = MIN(ek_range_end(range), from + NEAR);
        EkRange blocks = {range.first, end - MIN(range.first, end)};
        if (find_in(joining, stretches, i, blocks, cut, beyond, &places))
            return TRUE;
    }
    ek_joining_lay_again(joining->content, before, cut);
    ek_joining_follow(joining);
    return FALSE;
}
