/* SPDX-License-Identifier: MIT */
/* Where the content of an inode lies: in the inode itself, in a tree of extents, or in blocks that
 * list blocks. Offsets as in the Linux kernel's Documentation/filesystems/ext4/ifork.rst. */
#include "image/checkedblock.h"
#include "volume/ext/inode.h"

#define DIRECT_BLOCKS 12u
#define EXTENTS_MAGIC 0xf30au
#define DEPTH_MOST 5u
#define NOT_WRITTEN 32768u /* longer extents hold nothing yet */
#define ATTRIBUTES_MAGIC 0xea020000u
#define SYSTEM_ATTRIBUTE 7u

typedef struct {
    EkExtVolume *volume;
    const EkExtInode *inode;
    EkExtSink sink;
    void *data;
    EkExtent run; /* gathered, not passed on yet */
    guint64 next; /* no block before this one may come again */
} Mapping;

static gboolean pass_run(Mapping *mapping)
{
    gboolean fine = mapping->run.bytes == 0 || mapping->sink(mapping->data, &mapping->run);
    mapping->run.bytes = 0;
    return fine;
}

/* `count` blocks of the file from `at` on stand at `block` of the volume; with `lost` nowhere that
 * is known. */
static gboolean add_blocks(Mapping *mapping, guint64 at, guint64 count, guint64 block,
                           gboolean lost)
{
    const EkExtSuper *super = &mapping->volume->super;
    guint64 size = super->block_bytes;
    if (at < mapping->next || at > mapping->inode->size / size)
        return TRUE;
    EkByte offset = at * size;
    EkByte bytes = MIN(MIN(count, G_MAXUINT32) * size, mapping->inode->size - offset);
    gboolean outside = block >= super->blocks || count > super->blocks - block;
    EkByte place = lost || outside ? EK_UNPLACED : mapping->volume->first_byte + block * size;
    EkExtent *run = &mapping->run;
    if (bytes == 0)
        return TRUE;
    mapping->next = at + count;
    if (run->bytes > 0 && run->offset + run->bytes == offset &&
        (place == EK_UNPLACED
             ? run->first_byte == EK_UNPLACED
             : run->first_byte != EK_UNPLACED && run->first_byte + run->stored == place)) {
        run->bytes += bytes;
        run->stored += place != EK_UNPLACED ? bytes : 0;
        return TRUE;
    }
    if (!pass_run(mapping))
        return FALSE;
    *run = (EkExtent){offset, bytes, place, place != EK_UNPLACED ? bytes : 0, FALSE, FALSE, 0};
    return TRUE;
}

/* A block of a map. NULL when it lies outside, or too many were read; the caller frees. */
static EkCheckedBlock *read_map_block(Mapping *mapping, guint64 block)
{
    EkExtVolume *volume = mapping->volume;
    gsize size = volume->super.block_bytes;
    EkByte at = ek_ext_block_byte(volume, block);
    if (volume->steps == 0 || at == EK_UNPLACED)
        return NULL;
    volume->steps--;
    EkCheckedBlock *piece = g_malloc(sizeof *piece + size);
    if (ek_checked_block_read(piece, volume->reader, at, (guint8 *)(piece + 1), size))
        return piece;
    g_free(piece);
    return NULL;
}

/* Blocks of the file that something not read tells of, up to `end`. */
static gboolean add_lost(Mapping *mapping, guint64 end)
{
    return end <= mapping->next || add_blocks(mapping, mapping->next, end - mapping->next, 0, TRUE);
}

/* --- extents -------------------------------------------------------------------------------- */

static gboolean add_node(Mapping *mapping, const EkCheckedBlock *node, guint depth, guint64 end);

/* An entry of a node that covers the blocks of the file before `end`: an extent, or a node below.
 */
static gboolean add_entry(Mapping *mapping, EkSpan entry, guint depth, guint64 end)
{
    guint64 at = ek_span_le32(entry, 0);
    if (at < mapping->next)
        return TRUE;
    if (depth == 0) {
        guint length = ek_span_le16(entry, 4);
        guint64 block = ek_span_le32(entry, 8) | (guint64)ek_span_le16(entry, 6) << 32;
        return length > NOT_WRITTEN || add_blocks(mapping, at, length, block, FALSE);
    }
    guint64 block = ek_span_le32(entry, 4) | (guint64)ek_span_le16(entry, 8) << 32;
    g_autofree EkCheckedBlock *child = read_map_block(mapping, block);
    if (child != NULL)
        return add_node(mapping, child, depth - 1, end);
    return end <= at || add_blocks(mapping, at, end - at, 0, TRUE);
}

/* A node that covers the blocks of the file before `end`. */
static gboolean add_node(Mapping *mapping, const EkCheckedBlock *node, guint depth, guint64 end)
{
    guint count = ek_span_le16(node->span, 2);
    if (!ek_checked_block_has(node, 0, 12) || ek_span_le16(node->span, 0) != EXTENTS_MAGIC ||
        ek_span_le16(node->span, 6) != depth || !ek_span_has(node->span, 12, count * 12ul))
        return add_lost(mapping, end);
    gboolean is_lost = FALSE;
    for (guint i = 0; i < count; i++) {
        gsize place = 12 + i * 12ul;
        gboolean has_next = i + 1 < count && ek_checked_block_has(node, place + 12, 4);
        guint64 at = ek_span_le32(node->span, place);
        guint64 until = has_next ? ek_span_le32(node->span, place + 12) : end;
        if (!ek_checked_block_has(node, place, 12)) {
            is_lost = TRUE;
            continue;
        }
        if (at >= end)
            continue;
        if ((is_lost && !add_lost(mapping, at)) ||
            !add_entry(mapping, ek_span_part(node->span, place, 12), depth,
                       MIN(MAX(until, at), end)))
            return FALSE;
        is_lost = FALSE;
    }
    return !is_lost || add_lost(mapping, end);
}

static gboolean add_extents(Mapping *mapping, EkSpan map, guint64 blocks)
{
    guint depth = ek_span_le16(map, 6);
    if (ek_span_le16(map, 0) != EXTENTS_MAGIC || depth > DEPTH_MOST)
        return add_blocks(mapping, 0, blocks, 0, TRUE);
    EkCheckedBlock root = {.span = map, .is_good = {TRUE}};
    return add_node(mapping, &root, depth, blocks);
}

/* --- blocks that list blocks ---------------------------------------------------------------- */

/* What one number stands for at a level: a block, or all that the blocks below it list. */
static gboolean add_listed(Mapping *mapping, guint64 at, guint32 block, guint level, guint64 blocks)
{
    guint64 a_block = mapping->volume->super.block_bytes / 4;
    guint64 covers = 1;
    for (guint i = 0; i < level; i++)
        covers *= a_block;
    if (block == 0 || at >= blocks)
        return TRUE;
    if (level == 0)
        return add_blocks(mapping, at, 1, block, FALSE);
    g_autofree EkCheckedBlock *list = read_map_block(mapping, block);
    if (list == NULL)
        return add_blocks(mapping, at, MIN(covers, blocks - at), 0, TRUE);
    guint64 each = covers / a_block;
    for (guint64 i = 0; i < a_block && at + i * each < blocks; i++) {
        guint64 first = at + i * each;
        gboolean fine = ek_checked_block_has(list, (gsize)i * 4, 4)
                            ? add_listed(mapping, first, ek_span_le32(list->span, (gsize)i * 4),
                                         level - 1, blocks)
                            : add_blocks(mapping, first, MIN(each, blocks - first), 0, TRUE);
        if (!fine)
            return FALSE;
    }
    return TRUE;
}

static gboolean add_lists(Mapping *mapping, EkSpan map, guint64 blocks)
{
    guint64 a_block = mapping->volume->super.block_bytes / 4;
    guint64 at = DIRECT_BLOCKS;
    for (guint i = 0; i < DIRECT_BLOCKS; i++)
        if (!add_listed(mapping, i, ek_span_le32(map, i * 4ul), 0, blocks))
            return FALSE;
    guint64 covers = a_block;
    for (guint level = 1; level <= 3; level++, covers *= a_block) {
        if (!add_listed(mapping, at, ek_span_le32(map, (DIRECT_BLOCKS + level - 1) * 4ul), level,
                        blocks))
            return FALSE;
        at += covers;
    }
    return TRUE;
}

/* --- in the inode --------------------------------------------------------------------------- */

/* The attribute that holds what does not fit into the map; its place in the inode, 0: none. */
static gsize find_overflow(EkSpan inode, gsize *length)
{
    gsize base = ek_ext_inode_read(inode).held;
    if (ek_span_le32(inode, base) != ATTRIBUTES_MAGIC)
        return 0;
    gsize first = base + 4;
    for (gsize at = first; at + 16 <= inode.length && ek_span_le32(inode, at) != 0;) {
        guint name = ek_span_u8(inode, at);
        gsize value = first + ek_span_le16(inode, at + 2);
        *length = ek_span_le32(inode, at + 8);
        if (ek_span_u8(inode, at + 1) == SYSTEM_ATTRIBUTE && name == 4 &&
            ek_span_equals(inode, at + 16, "data", 4))
            return ek_span_has(inode, value, *length) ? value : 0;
        at += (16 + (gsize)name + 3) / 4 * 4;
    }
    return 0;
}

static gboolean add_inline(Mapping *mapping, EkSpan inode, EkByte at)
{
    EkByte size = mapping->inode->size;
    EkByte own = MIN(size, EK_EXT_MAP_BYTES);
    EkExtent first = {0, own, at + EK_EXT_MAP, own, FALSE, TRUE, 0};
    gsize length = 0;
    if (first.bytes > 0 && !mapping->sink(mapping->data, &first))
        return FALSE;
    if (size <= EK_EXT_MAP_BYTES)
        return TRUE;
    gsize place = find_overflow(inode, &length);
    EkByte bytes = size - EK_EXT_MAP_BYTES;
    gboolean is_there = place != 0 && length >= bytes;
    EkExtent rest = {EK_EXT_MAP_BYTES,
                     bytes,
                     is_there ? at + place : EK_UNPLACED,
                     is_there ? bytes : 0,
                     FALSE,
                     TRUE,
                     0};
    return mapping->sink(mapping->data, &rest);
}

/* Short targets of links stand where the map would. */
static gboolean is_short_link(EkSpan span, const EkExtInode *inode)
{
    return (inode->mode & EK_EXT_TYPE) == EK_EXT_LINK && inode->size < EK_EXT_MAP_BYTES &&
           (inode->flags & EK_EXT_EXTENTS) == 0 &&
           (ek_span_le32(span, 28) == 0 || ek_span_le32(span, 104) != 0);
}

gboolean ek_ext_extents(EkExtVolume *volume, EkSpan span, const EkExtInode *inode, EkByte at,
                        EkExtSink sink, void *data)
{
    Mapping mapping = {.volume = volume, .inode = inode, .sink = sink, .data = data};
    EkSpan map = ek_span_part(span, EK_EXT_MAP, EK_EXT_MAP_BYTES);
    guint64 blocks = ek_divide_up(inode->size, volume->super.block_bytes);
    if ((inode->flags & EK_EXT_INLINE) != 0 || is_short_link(span, inode))
        return add_inline(&mapping, span, at);
    /* Deleting clears the map: that nothing is mapped does not mean zeros then. */
    if (inode->links == 0 && inode->size > 0 && ek_bytes_are_zero(map.data, map.length)) {
        EkExtent lost = {0, inode->size, EK_UNPLACED, 0, FALSE, FALSE, 0};
        return sink(data, &lost);
    }
    gboolean fine = (inode->flags & EK_EXT_EXTENTS) != 0 ? add_extents(&mapping, map, blocks)
                                                         : add_lists(&mapping, map, blocks);
    return fine && pass_run(&mapping);
}
