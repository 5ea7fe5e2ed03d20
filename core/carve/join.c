/* SPDX-License-Identifier: MIT */
/* Joining pieces. First as a file system lays a file around others: the ground that nothing holds,
 * one stretch behind the other. Then, for types that notice soon, the block where it broke is
 * looked for from the break back, and where it goes on from there on forward. The work of a break
 * is bounded. */
#include "carve/join.h"

#include "carve/followed.h"
#include "carve/indirect.h"
#include "carve/joinblocks.h"
#include "carve/joineven.h"
#include "carve/joining.h"
#include "carve/joinnext.h"
#include "carve/landmarks.h"
#include "carve/sums.h"

#define NEAR (64u << 20) /* how far a piece is looked for behind the one before */
#define PIECES_MOST 8u   /* that are looked for */
#define SECTOR 512u
#define AROUND_MOST 3u /* pieces of what nothing checks */

/* A piece does not begin with a block of nothing but one value, nor with one that cannot lie in the
 * middle of its type. */
static gboolean may_go_on_at(EkJoining *joining, EkByte place)
{
    guint8 block[EK_CARVE_GLANCE];
    EkReader *reader = joining->carve->order.reader;
    gboolean (*may_lie_in)(EkSpan block) = joining->type->may_lie_in;
    gsize length = may_lie_in != NULL ? (gsize)MIN(joining->grid, sizeof block) : SECTOR;
    length = (gsize)MIN(length, ek_reader_bytes(reader) - place);
    gboolean may = length > 1 && ek_reader_read(reader, place, block, length, NULL, NULL) &&
                   !ek_block_is_filler((EkSpan){block, MIN(length, SECTOR)}) &&
                   (may_lie_in == NULL || may_lie_in((EkSpan){block, length}));
    joining->looks += may ? 0 : 1;
    return may;
}

/* How far a piece is looked for behind the break. */
static const EkByte tiers[] = {0, 128u << 10, 1u << 20, 8u << 20, NEAR};

/* In what order: at which of the cuts (cut_at) it went wrong, and how far on it goes on; what is
 * likely first. */
typedef struct {
    guint tier;
    guint from; /* cuts */
    guint to;
    guint stretches; /* tier 0: of free ground, at the beginning of which it may go on */
    gboolean before; /* the ground before it */
} Step;

static const Step all_behind = {0, 0, 3, EK_JOINING_STRETCHES, FALSE};
static const Step all_before = {0, 0, 3, EK_JOINING_BEFORE, TRUE};

static const Step steps[] = {{0, 0, EK_JOINING_BACK, 3, FALSE},
                             {1, 0, 8, 0, FALSE},
                             {2, 0, 3, 0, FALSE},
                             {0, 0, 3, EK_JOINING_STRETCHES, FALSE},
                             {0, 0, 3, EK_JOINING_BEFORE, TRUE},
                             {1, 8, EK_JOINING_BACK, 0, FALSE},
                             {2, 3, 8, 0, FALSE},
                             {3, 0, 1, 0, FALSE},
                             {2, 8, EK_JOINING_BACK, 0, FALSE},
                             {3, 1, 3, 0, FALSE},
                             {0, 3, EK_JOINING_BACK, 16, TRUE},
                             {4, 0, 1, 0, FALSE},
                             {4, 0, 1, 0, TRUE},
                             {4, 1, 3, 0, FALSE}};

/* What tells soon breaks in the block that is wrong, and most others are passed over at a glance:
 * far ones come before other cuts. */
static const Step soon_steps[] = {{0, 0, EK_JOINING_BACK, 3, FALSE},
                                  {1, 0, 3, 0, FALSE},
                                  {2, 0, 1, 0, FALSE},
                                  {0, 0, 3, EK_JOINING_STRETCHES, FALSE},
                                  {0, 0, 3, EK_JOINING_BEFORE, TRUE},
                                  {3, 0, 1, 0, FALSE},
                                  {2, 1, 3, 0, FALSE},
                                  {4, 0, 1, 0, FALSE},
                                  {4, 0, 1, 0, TRUE},
                                  {1, 3, EK_JOINING_BACK, 0, FALSE},
                                  {2, 3, 8, 0, FALSE},
                                  {2, 8, EK_JOINING_BACK, 0, FALSE},
                                  {3, 1, 3, 0, FALSE},
                                  {0, 3, EK_JOINING_BACK, 16, TRUE},
                                  {4, 1, 3, 0, FALSE}};

/* Does it go on at `offset` in one of the blocks [at, stop) of a stretch? */
static gboolean find_in(EkJoining *joining, GArray *stretches, guint i, EkRange blocks,
                        EkByte offset, EkByte beyond)
{
    EkRange *stretch = &g_array_index(stretches, EkRange, i);
    EkRange range = *stretch;
    EkByte wrong = ek_content_place(joining->content, offset);
    EkByte next = ek_content_place(joining->content, offset - 1) + 1;
    for (EkByte at = blocks.first; at < ek_range_end(blocks); at += joining->grid) {
        if (at == wrong || at == next || !may_go_on_at(joining, at))
            continue;
        if (ek_joining_is_spent(joining))
            return FALSE;
        *stretch = (EkRange){at, ek_range_end(range) - at};
        if (ek_joining_goes_on(joining, offset, stretch, stretches->len - i, beyond))
            return TRUE;
    }
    *stretch = range;
    return FALSE;
}

/* Looks for the block that goes on at `offset` in the ground before it, the nearest first. */
static gboolean find_before(EkJoining *joining, EkByte offset, EkByte beyond, Step step)
{
    guint before = 0;
    EkByte from = ek_content_place(joining->content, offset - 1);
    g_autoptr(GArray) stretches = ek_joining_stretches_before(joining, offset, &before);
    gboolean is_tier = step.tier > 0;
    guint most = is_tier ? before : MIN(before, step.stretches);
    for (guint i = before; i > before - most && !ek_joining_is_spent(joining); i--) {
        EkRange range = g_array_index(stretches, EkRange, i - 1);
        if (from - range.first > NEAR && is_tier)
            break;
        EkRange blocks = {range.first, is_tier ? range.bytes : 1};
        if (find_in(joining, stretches, i - 1, blocks, offset, beyond))
            return TRUE;
    }
    return FALSE;
}

/* The same behind it, in one tier. */
static gboolean find_next(EkJoining *joining, EkByte offset, EkByte beyond, Step step)
{
    guint tier = step.tier;
    if (offset > ek_content_bytes(joining->content))
        return FALSE;
    if (step.before)
        return find_before(joining, offset, beyond, step);
    EkByte from = ek_joining_on_grid(joining, ek_content_place(joining->content, offset - 1) + 1);
    g_autoptr(GArray) stretches = ek_joining_stretches(joining, from);
    guint most = tier == 0 ? MIN(stretches->len, step.stretches) : stretches->len;
    for (guint i = 0; i < most && !ek_joining_is_spent(joining); i++) {
        EkRange range = g_array_index(stretches, EkRange, i);
        EkByte at = range.first;
        if (tier > 0 && tiers[tier - 1] > 0)
            at = MAX(at, ek_joining_on_grid(joining, from + tiers[tier - 1]));
        else if (tier > 0)
            at += joining->grid;
        EkByte stop =
            MIN(tier == 0 ? at + 1 : MIN(ek_range_end(range), from + tiers[tier]), from + NEAR);
        EkRange blocks = {at, stop - MIN(at, stop)};
        if (find_in(joining, stretches, i, blocks, offset, beyond))
            return TRUE;
    }
    return FALSE;
}

/* The whole blocks of some stretches as one content. */
static EkContent *blocks_of(const EkJoining *joining, const GArray *stretches, guint count)
{
    g_autoptr(GArray) blocks = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < count; i++) {
        EkRange range = g_array_index(stretches, EkRange, i);
        range.bytes -= range.bytes % joining->grid;
        if (range.bytes > 0)
            g_array_append_val(blocks, range);
    }
    EkContent *ground = ek_content_new(joining->carve->order.reader);
    ek_content_watch(ground, joining->cancel);
    ek_content_lay(ground, (const EkRange *)(gconstpointer)blocks->data, blocks->len);
    return ground;
}

/* Where the part that it broke in has a sum, that tells where it goes on: in the first `count` of
 * these stretches. */
static gboolean find_by_sum(EkJoining *joining, const EkBroken *part, GArray *stretches,
                            guint count)
{
    EkByte offset = 0;
    EkByte in_ground = 0;
    g_autoptr(EkContent) ground = blocks_of(joining, stretches, count);
    guint blocks = (guint)(MIN(NEAR + part->bytes, ek_content_bytes(ground)) / joining->grid);
    if (!ek_sums_find(joining->content, ground, part, (gsize)joining->grid, blocks, &offset,
                      &in_ground))
        return FALSE;
    EkByte place = ek_content_place(ground, in_ground);
    for (guint i = 0; i < count; i++) {
        EkRange *range = &g_array_index(stretches, EkRange, i);
        if (!ek_range_holds(*range, place))
            continue;
        *range = (EkRange){place, ek_range_end(*range) - place};
        return ek_joining_goes_on(joining, offset, range, stretches->len - i, offset);
    }
    return FALSE;
}

static gboolean add_by_sum(EkJoining *joining, const EkFollowed *broken)
{
    const EkBroken *part = &broken->broken;
    guint before = 0;
    if (part->bytes == 0 || part->first == 0 || part->check == EK_PART_PLAIN)
        return FALSE;
    EkByte from = ek_joining_on_grid(joining, ek_content_place(joining->content, part->first) + 1);
    g_autoptr(GArray) behind = ek_joining_stretches(joining, from);
    if (find_by_sum(joining, part, behind, behind->len))
        return TRUE;
    g_autoptr(GArray) all = ek_joining_stretches_before(joining, part->first + 1, &before);
    return find_by_sum(joining, part, all, before);
}

/* Where the ground of a piece ends because another file holds what is behind it, it was likely cut:
 * there all free ground is tried, the break being as far behind as it may. */
#define ENDS_MOST 3u

static gboolean add_at_end(EkJoining *joining, const EkFollowed *broken, const GArray *before,
                           EkByte lowest, EkByte highest)
{
    EkByte ends[ENDS_MOST];
    guint count = 0;
    EkByte offset = 0;
    for (guint i = 0; i < before->len && offset <= highest; i++) {
        if (i > 0 && offset >= lowest && offset % joining->grid == 0 &&
            highest - offset <= EK_JOINING_BACK * joining->grid)
            ends[count++ % ENDS_MOST] = offset;
        offset += g_array_index(before, EkRange, i).bytes;
    }
    for (guint i = 0; i < MIN(count, ENDS_MOST); i++) {
        EkByte end = ends[(count - 1 - i) % ENDS_MOST];
        if (find_next(joining, end, broken->length, all_behind) ||
            find_next(joining, end, broken->length, all_before))
            return TRUE;
        ek_joining_lay_again(joining->content, before, MIN(lowest, joining->grid));
        ek_joining_follow(joining);
    }
    return FALSE;
}

/* Where it may be cut, the likeliest first: where the block begins in which it breaks, then from
 * the end of the part that breaks back. */
static EkByte cut_at(EkByte likely, EkByte highest, EkByte grid, guint i)
{
    if (i == 0)
        return likely;
    EkByte back = (i - 1) * grid;
    if (highest >= likely + back + grid)
        return highest - back;
    return highest - MIN(highest, back + grid);
}

/* One more piece: the blocks from the break back, each with all that may go on there. */
static gboolean add_piece(EkJoining *joining, const EkFollowed *broken)
{
    EkByte grid = joining->grid;
    EkByte lowest = MAX(joining->type->is_checked ? broken->sure : 1, 1);
    /* Some notice at the beginning of the part in which it went wrong. */
    EkByte highest =
        ek_divide_up(MAX(broken->length, broken->broken.first + broken->broken.bytes), grid) * grid;
    EkByte likely = broken->length / grid * grid;
    g_autoptr(GArray) before = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(joining->content, ek_content_bytes(joining->content), before);
    if (ek_join_by_blocks(joining, broken, before) || add_by_sum(joining, broken) ||
        ek_join_by_landmark(joining, broken, before) || ek_join_by_next(joining, broken, before))
        return TRUE;
    gboolean tells = joining->type->joins && !broken->tells_late;
    if (tells && add_at_end(joining, broken, before, MAX(lowest, grid), highest))
        return TRUE;
    gboolean is_soon = joining->type->may_lie_in != NULL;
    gsize turns = is_soon ? G_N_ELEMENTS(soon_steps) : G_N_ELEMENTS(steps);
    for (gsize turn = 0; tells && turn < turns; turn++) {
        Step step = is_soon ? soon_steps[turn] : steps[turn];
        /* What was kept on the way is made again. */
        if (turn > 0) {
            ek_joining_lay_again(joining->content, before, MIN(lowest, grid));
            ek_joining_follow(joining);
        }
        for (guint i = step.from; i < step.to; i++) {
            EkByte offset = cut_at(likely, highest, grid, i);
            if (offset < MAX(lowest, grid))
                continue;
            if (find_next(joining, offset, broken->length, step))
                return TRUE;
            ek_joining_lay_again(joining->content, before, offset);
            if (ek_joining_is_spent(joining))
                return FALSE;
        }
    }
    return FALSE;
}

static EkFound *found_of(EkJoining *joining)
{
    g_autoptr(GArray) places = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_places(joining->content, ek_content_bytes(joining->content), places);
    ek_content_lay(joining->content, (const EkRange *)(gconstpointer)places->data, places->len);
    EkFound *found = ek_carving_follow(joining->content, joining->type, FALSE);
    if (found != NULL && (found->followed.end == EK_FOLLOW_ENDED || found->followed.may_end)) {
        /* Of many pieces that were tried one may decode by chance: only a sum proves it. */
        if (joining->has_tried && found->followed.proof < EK_PROOF_FULL &&
            found->state == EK_CONTENT_WHOLE)
            found->state = EK_CONTENT_DOUBTFUL;
        return found;
    }
    ek_found_free(found);
    return NULL;
}

/* What is only as long as it says, around what was found in it: in few pieces, and with an end that
 * looks like one. */
static gboolean may_end_there(const EkJoining *joining, const EkFollowed *followed)
{
    g_autoptr(GArray) pieces = ek_content_pieces(joining->content, 0, followed->length);
    return followed->proof != EK_PROOF_LENGTH ||
           (pieces->len <= AROUND_MOST && ek_content_is_padded(joining->content, followed->length));
}

static EkFound *join_with(EkJoining *joining)
{
    g_autoptr(GArray) laid = g_array_new(FALSE, FALSE, sizeof(EkRange));
    ek_content_lay_from(joining->content, joining->carve->order.ground, joining->first);
    EkFollowed broken = ek_joining_follow(joining);
    /* Around what was found in it. */
    if ((joining->type->is_solid || joining->type->samples != NULL) &&
        broken.end == EK_FOLLOW_ENDED) {
        g_autoptr(GArray) own = ek_joining_stretches(joining, joining->first);
        if (own->len == 0 || g_array_index(own, EkRange, 0).first != joining->first)
            return NULL;
        ek_content_lay(joining->content, (const EkRange *)(gconstpointer)own->data, own->len);
        broken = ek_joining_follow(joining);
        gboolean is_around =
            g_array_index(own, EkRange, 0).bytes < broken.length && may_end_there(joining, &broken);
        if (broken.end == EK_FOLLOW_ENDED && !ek_join_by_evenness(joining, broken.length) &&
            !is_around)
            return NULL;
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
        ek_joining_stretches(joining, ek_content_place(joining->content, sure - 1) + 1);
    g_array_append_vals(laid, rest->data, rest->len);
    ek_content_lay(joining->content, (const EkRange *)(gconstpointer)laid->data, laid->len);
    ek_content_hold_head(joining->content);
    broken = ek_joining_follow(joining);
    /* What nothing holds may be too little of it to be one. */
    if (broken.end == EK_FOLLOW_NOTHING) {
        broken = joining->known;
        broken.length = MIN(broken.length, ek_content_bytes(joining->content));
        broken.broken.bytes = 0;
        broken.landmark = (EkLandmark){0};
    }
    gboolean is_more = broken.length > joining->known.length;
    for (guint pieces = 0;
         (joining->type->joins || joining->type->by_landmark || broken.texture != EK_TEXTURE_ANY) &&
         pieces < PIECES_MOST && broken.end == EK_FOLLOW_BROKE && !ek_joining_is_spent(joining);
         pieces++) {
        joining->texture = broken.texture;
        if (!add_piece(joining, &broken))
            return is_more && broken.may_end ? found_of(joining) : NULL;
        is_more = TRUE;
        broken = ek_joining_follow(joining);
        /* Each break has its own tries: what went on is a file. */
        joining->trials = joining->looks = 0;
    }
    return ek_joining_is_ended(&broken) || broken.may_end ? found_of(joining) : NULL;
}

static gboolean is_complete(const EkFound *found)
{
    return found != NULL && found->state != EK_CONTENT_CUT;
}

EkFound *ek_join(const EkCarve *carve, const EkCarveType *type, EkByte first, guint tries,
                 const gint *cancel)
{
    g_autoptr(EkContent) content = ek_content_new(carve->order.reader);
    ek_content_set_types(content, ek_content_types(carve->content));
    ek_content_watch(content, cancel);
    EkFound *listed = ek_indirect_follow_listed(content, carve, type, first);
    if (is_complete(listed))
        return listed;
    ek_content_remember(content);
    EkJoining joining = {.carve = carve,
                         .type = type,
                         .content = content,
                         .first = first,
                         .grid = ek_joining_grid(carve),
                         .tries = tries * (guint)CLAMP(4096 / ek_joining_grid(carve), 1, 4),
                         .cancel = cancel};
    EkFound *joined = join_with(&joining);
    if (joined != NULL || (listed != NULL && listed->followed.length <= joining.known.length)) {
        ek_found_free(listed);
        return joined;
    }
    return listed;
}

EkFound *ek_join_listed(const EkCarve *carve, const EkCarveType *type, EkByte first,
                        const gint *cancel)
{
    g_autoptr(EkContent) content = ek_content_new(carve->order.reader);
    ek_content_set_types(content, ek_content_types(carve->content));
    ek_content_watch(content, cancel);
    EkFound *listed = ek_indirect_follow_listed(content, carve, type, first);
    if (is_complete(listed) && listed->places->len > 1)
        return listed;
    ek_found_free(listed);
    return NULL;
}
