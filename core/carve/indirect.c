/* SPDX-License-Identifier: MIT */
/* Block numbers of ext2 and ext3 (the layout that the kernel's documentation of ext4 describes as
 * the classic one): 32 bits, little-endian. mke2fs and older drivers put a block of numbers right
 * before the first of the blocks that it names: that tells where the volume begins, and so where
 * each number leads. Today's driver puts them together elsewhere, those of one file side by side,
 * and the data on both sides of one in one run. */
#include "carve/indirect.h"

#include "base/bytes.h"

#define PIECES_MOST (1u << 16) /* that a file is followed through */
#define LISTS_MOST 4096u       /* blocks of numbers that are read for one file */
#define SAME_MOST 4u           /* that begin with the same number */
#define GLANCE 64u
#define BLOCK_MOST 4096u

typedef struct {
    EkReader *reader;
    const EkLists *found; /* NULL: none are known */
    EkByte bytes;         /* of the drive */
    EkBlocks blocks;
    GArray *pieces;
    EkByte next;   /* behind the last block of it, on the drive */
    guint numbers; /* blocks of them that were read */
} Layout;

static gboolean read_block(Layout *layout, EkByte place, guint8 *bytes)
{
    return place <= layout->bytes && layout->blocks.block <= layout->bytes - place &&
           layout->numbers++ < LISTS_MOST &&
           ek_reader_read(layout->reader, place, bytes, (gsize)layout->blocks.block, NULL, NULL);
}

static EkByte place_of(const Layout *layout, guint32 number)
{
    return layout->blocks.volume + number * layout->blocks.block;
}

static EkByte number_of(const Layout *layout, EkByte place)
{
    return (place - layout->blocks.volume) / layout->blocks.block;
}

static gboolean add_block(Layout *layout, EkByte place)
{
    EkByte block = layout->blocks.block;
    EkRange piece = {place, block};
    EkRange *last = &g_array_index(layout->pieces, EkRange, layout->pieces->len - 1);
    if (place > layout->bytes || block > layout->bytes - place)
        return FALSE;
    layout->next = place + block;
    if (ek_range_end(*last) == place)
        last->bytes += block;
    else if (layout->pieces->len < PIECES_MOST)
        g_array_append_val(layout->pieces, piece);
    else
        return FALSE;
    return TRUE;
}

/* All that the numbers in this block lead to, through `depth` further blocks of numbers. FALSE at
 * the last one. */
static gboolean add_list(Layout *layout, EkByte place, guint depth)
{
    guint8 bytes[BLOCK_MOST];
    if (!read_block(layout, place, bytes))
        return FALSE;
    EkSpan span = {bytes, (gsize)layout->blocks.block};
    for (gsize at = 0; at < span.length; at += 4) {
        guint32 number = ek_span_le32(span, at);
        if (number < EK_INDIRECT_LEAST)
            return FALSE;
        if (depth > 0 ? !add_list(layout, place_of(layout, number), depth - 1)
                      : !add_block(layout, place_of(layout, number)))
            return FALSE;
    }
    return TRUE;
}

/* The first number in the block at a place; 0: it cannot be read. */
static guint32 first_number(const Layout *layout, EkByte place)
{
    guint8 head[4];
    if (place > layout->bytes || sizeof head > layout->bytes - place ||
        !ek_reader_read(layout->reader, place, head, sizeof head, NULL, NULL))
        return 0;
    return ek_span_le32((EkSpan){head, sizeof head}, 0);
}

/* The block of numbers that stands behind the last block of it names blocks of numbers, `depth`
 * deep, the first of which stands right behind it. */
static gboolean add_deeper(Layout *layout, guint depth)
{
    EkByte place = layout->next;
    guint32 number = first_number(layout, place);
    return number >= EK_INDIRECT_LEAST &&
           place_of(layout, number) == place + layout->blocks.block &&
           add_list(layout, place, depth);
}

/* The block of numbers that begins with this one; of several the nearest to the one before. FALSE:
 * none. */
static gboolean find_list(const Layout *layout, EkByte number, EkByte near, EkByte *place)
{
    EkByte places[SAME_MOST];
    guint count = number <= G_MAXUINT32
                      ? ek_lists_find(layout->found, (guint32)number, places, SAME_MOST)
                      : 0;
    EkByte away = G_MAXUINT64;
    for (guint i = 0; i < count; i++) {
        EkByte far = places[i] > near ? places[i] - near : near - places[i];
        if (places[i] < layout->blocks.volume ||
            (places[i] - layout->blocks.volume) % layout->blocks.block != 0 || far >= away)
            continue;
        away = far;
        *place = places[i];
    }
    return away != G_MAXUINT64;
}

/* Data go on in one run from one block of numbers to the next: that one is found by its first
 * number, and what names it by its own. */
static void add_found(Layout *layout, EkByte list)
{
    EkByte block = layout->blocks.block;
    gboolean goes_on = TRUE;
    while (goes_on && find_list(layout, number_of(layout, layout->next), list, &list)) {
        EkByte node = list - block;
        EkByte number = number_of(layout, list);
        if (list >= layout->blocks.volume + block && first_number(layout, node) == number)
            goes_on = add_list(layout, node, 1);
        else if (find_list(layout, number, list, &node))
            goes_on = add_list(layout, node, 1);
        else
            goes_on = add_list(layout, list, 0);
    }
}

GArray *ek_indirect_layout(EkReader *reader, const EkLists *lists, EkBlocks blocks, EkByte first,
                           EkByte list, gboolean is_deep)
{
    GArray *pieces = g_array_new(FALSE, FALSE, sizeof(EkRange));
    Layout layout = {.reader = reader,
                     .found = lists,
                     .bytes = ek_reader_bytes(reader),
                     .blocks = blocks,
                     .pieces = pieces};
    EkRange direct = {first, EK_INDIRECT_DIRECT * blocks.block};
    g_array_append_val(pieces, direct);
    if (!add_list(&layout, list, 0) || !is_deep)
        return pieces;
    if (lists != NULL)
        add_found(&layout, list);
    else if (add_deeper(&layout, 1))
        add_deeper(&layout, 2);
    return pieces;
}

/* --- following ------------------------------------------------------------------------------- */

/* Is there more of it behind these bytes? */
static gboolean reaches_on(const EkFollowed *followed, EkByte bytes)
{
    return followed->end == EK_FOLLOW_BROKE &&
           (followed->length + EK_STEP >= bytes || followed->expected > bytes ||
            followed->landmark.at >= bytes);
}

/* Further blocks of numbers are read only for what fits those of the first one. */
static EkFound *follow_by(EkContent *content, EkReader *reader, const EkLists *lists,
                          const EkCarveType *type, EkBlocks blocks, EkByte first, EkByte list)
{
    EkFound *found = NULL;
    gboolean goes_on = TRUE;
    for (guint deep = 0; deep < 2 && goes_on; deep++) {
        g_autoptr(GArray) laid = ek_indirect_layout(reader, lists, blocks, first, list, deep > 0);
        ek_content_lay(content, (const EkRange *)(gconstpointer)laid->data, laid->len);
        ek_found_free(found);
        found = ek_carving_follow(content, type, TRUE);
        goes_on = found == NULL || reaches_on(&found->followed, ek_content_bytes(content));
    }
    return found;
}

/* The volume begins before the file, with room for what begins it. */
gboolean ek_indirect_in_run(EkReader *reader, EkByte first, EkByte block, EkBlocks *blocks)
{
    guint8 bytes[BLOCK_MOST];
    EkByte list = first + EK_INDIRECT_DIRECT * block;
    EkByte end = ek_reader_bytes(reader);
    if (list > end || block > end - list ||
        !ek_reader_read(reader, list, bytes, GLANCE, NULL, NULL) ||
        !ek_lists_is_one((EkSpan){bytes, GLANCE}) ||
        !ek_reader_read(reader, list, bytes, (gsize)block, NULL, NULL) ||
        !ek_lists_is_one((EkSpan){bytes, (gsize)block}))
        return FALSE;
    EkByte counted = ek_span_le32((EkSpan){bytes, 4}, 0) * block;
    if (list + block < counted || list + block - counted + 2 * block > first)
        return FALSE;
    *blocks = (EkBlocks){list + block - counted, block};
    return TRUE;
}

EkFound *ek_indirect_follow(EkContent *content, EkReader *reader, const EkCarveType *type,
                            EkByte first)
{
    EkBlocks blocks;
    for (EkByte block = 1024; block <= BLOCK_MOST; block *= 2)
        if (ek_indirect_in_run(reader, first, block, &blocks))
            return follow_by(content, reader, NULL, type, blocks, first,
                             first + EK_INDIRECT_DIRECT * block);
    return NULL;
}

/* Does this one go further than another? */
static gboolean is_further(const EkFound *one, const EkFound *other)
{
    if (one == NULL || other == NULL)
        return one != NULL;
    gboolean ends = one->followed.end == EK_FOLLOW_ENDED;
    gboolean other_ends = other->followed.end == EK_FOLLOW_ENDED;
    return ends != other_ends ? ends : one->followed.length > other->followed.length;
}

EkFound *ek_indirect_follow_listed(EkContent *content, const EkCarve *carve,
                                   const EkCarveType *type, EkByte first)
{
    const GArray *ways = ek_lists_blocks(carve->lists);
    EkFound *best = NULL;
    for (guint i = 0; i < ways->len && best == NULL; i++) {
        EkBlocks blocks = g_array_index(ways, EkBlocks, i);
        EkByte places[SAME_MOST];
        if (first < blocks.volume || (first - blocks.volume) % blocks.block != 0)
            continue;
        EkByte number = (first - blocks.volume) / blocks.block + EK_INDIRECT_DIRECT;
        guint count = number <= G_MAXUINT32
                          ? ek_lists_find(carve->lists, (guint32)number, places, SAME_MOST)
                          : 0;
        for (guint k = 0; k < count; k++) {
            EkFound *found = follow_by(content, carve->order.reader, carve->lists, type, blocks,
                                       first, places[k]);
            if (is_further(found, best)) {
                ek_found_free(best);
                best = found;
            } else {
                ek_found_free(found);
            }
        }
    }
    return best;
}
