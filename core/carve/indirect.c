/* SPDX-License-Identifier: MIT */
/* Block numbers of ext2 and ext3 (the layout that the kernel's documentation of ext4 describes as
 * the classic one): 32 bits, little-endian. The driver puts a block of numbers right before the
 * first of the blocks that it names: that tells where the volume begins, and so where each number
 * leads. */
#include "carve/indirect.h"

#include "base/bytes.h"

#define DIRECT 12u             /* blocks before the first block of numbers */
#define LEAST_NUMBER 14u       /* of a block behind twelve others and what begins a volume */
#define PIECES_MOST (1u << 16) /* that a file is followed through */
#define LISTS_MOST 4096u       /* blocks of numbers that are read for one file */
#define GLANCE 64u

typedef struct {
    EkReader *reader;
    EkByte bytes;  /* of the drive */
    EkByte block;  /* bytes */
    EkByte volume; /* where it begins */
    GArray *pieces;
    EkByte next; /* behind the last block of it, on the drive */
    guint lists; /* that were read */
} Layout;

/* Numbers that go up by one, but for a jump here and there, to the end or up to zeros. */
static gboolean is_list(EkSpan span)
{
    gsize count = 0;
    gsize steps = 0;
    while (4 * count + 4 <= span.length && ek_span_le32(span, 4 * count) >= LEAST_NUMBER) {
        if (count > 0)
            steps += ek_span_le32(span, 4 * count) == ek_span_le32(span, 4 * (count - 1)) + 1;
        count++;
    }
    for (gsize at = 4 * count; at + 4 <= span.length; at += 4)
        if (ek_span_le32(span, at) != 0)
            return FALSE;
    return count > 0 && 10 * steps >= 8 * (count - 1);
}

static gboolean read_block(Layout *layout, EkByte place, guint8 *bytes)
{
    return place <= layout->bytes && layout->block <= layout->bytes - place &&
           layout->lists++ < LISTS_MOST &&
           ek_reader_read(layout->reader, place, bytes, (gsize)layout->block, NULL, NULL);
}

static EkByte place_of(const Layout *layout, guint32 number)
{
    return layout->volume + number * layout->block;
}

static gboolean add_block(Layout *layout, EkByte place)
{
    EkRange piece = {place, layout->block};
    EkRange *last = &g_array_index(layout->pieces, EkRange, layout->pieces->len - 1);
    layout->next = place + layout->block;
    if (place > layout->bytes || layout->block > layout->bytes - place)
        return FALSE;
    if (ek_range_end(*last) == place)
        last->bytes += layout->block;
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
    g_autofree guint8 *bytes = g_malloc((gsize)layout->block);
    if (!read_block(layout, place, bytes))
        return FALSE;
    EkSpan span = {bytes, (gsize)layout->block};
    for (gsize at = 0; at < span.length; at += 4) {
        guint32 number = ek_span_le32(span, at);
        if (number < LEAST_NUMBER)
            return FALSE;
        if (depth > 0 ? !add_list(layout, place_of(layout, number), depth - 1)
                      : !add_block(layout, place_of(layout, number)))
            return FALSE;
    }
    return TRUE;
}

/* The block of numbers that stands behind the last block of it names blocks of numbers, `depth`
 * deep, the first of which stands right behind it. */
static gboolean add_deeper(Layout *layout, guint depth)
{
    guint8 head[GLANCE];
    EkByte place = layout->next;
    if (place > layout->bytes || sizeof head > layout->bytes - place ||
        !ek_reader_read(layout->reader, place, head, sizeof head, NULL, NULL))
        return FALSE;
    guint32 number = ek_span_le32((EkSpan){head, sizeof head}, 0);
    return number >= LEAST_NUMBER && place_of(layout, number) == place + layout->block &&
           add_list(layout, place, depth);
}

static gboolean lay(Layout *layout, EkByte first, guint depths)
{
    g_autofree guint8 *bytes = g_malloc((gsize)layout->block);
    EkByte list = first + DIRECT * layout->block;
    if (list > layout->bytes || GLANCE > layout->bytes - list ||
        !ek_reader_read(layout->reader, list, bytes, GLANCE, NULL, NULL) ||
        !is_list((EkSpan){bytes, GLANCE}) || !read_block(layout, list, bytes) ||
        !is_list((EkSpan){bytes, (gsize)layout->block}))
        return FALSE;
    guint64 number = ek_span_le32((EkSpan){bytes, 4}, 0);
    /* The volume begins before the file, with room for what begins it. */
    if (list + layout->block < number * layout->block ||
        list + layout->block - number * layout->block + 2 * layout->block > first)
        return FALSE;
    layout->volume = list + layout->block - number * layout->block;
    EkRange direct = {first, DIRECT * layout->block};
    g_array_append_val(layout->pieces, direct);
    for (guint depth = 0; depth < depths; depth++)
        if (depth == 0 ? !add_list(layout, list, 0) : !add_deeper(layout, depth))
            break;
    return TRUE;
}

GArray *ek_indirect_layout(EkReader *reader, EkByte first, gboolean is_deep)
{
    for (EkByte block = 1024; block <= 4096; block *= 2) {
        g_autoptr(GArray) pieces = g_array_new(FALSE, FALSE, sizeof(EkRange));
        Layout layout = {
            .reader = reader, .bytes = ek_reader_bytes(reader), .block = block, .pieces = pieces};
        if (lay(&layout, first, is_deep ? 3 : 1))
            return g_steal_pointer(&pieces);
    }
    return NULL;
}
