/* SPDX-License-Identifier: MIT */
/* Reading the inodes of an ext volume. */
#include "volume/ext/inode.h"

#include "base/checksum.h"
#include "volume/beneath.h"

#include <string.h>

#define INCOMPAT_TYPES 0x2u
#define RO_GROUP_SUMS 0x10u
#define RO_CHECKSUM 0x400u
#define COPIES_MOST 16u
#define OLD_FIRST_INODE 11u
#define FRAGMENT 112u /* in an inode */
#define FLAGS_KNOWN 0xf27fffffu
#define LINKS_MOST 65000u
#define LINK_MOST 4096u /* bytes of where a link leads */
#define EXTENTS_MAGIC 0xf30au
#define BLOCK_LEAST 1024u
#define EXTENTS_DEPTH_MOST 5u

/* The superblock, whole where it stands; of a composed one only the kept part was made. */
static gboolean load_super(EkExtVolume *volume, const EkVolume *of)
{
    guint8 data[EK_EXT_SUPER_BYTES] = {0};
    EkSpan span = {data, sizeof data};
    EkKnown known;
    if (of->composed ||
        !ek_reader_read(volume->reader, of->header_byte, data, sizeof data, &known, NULL))
        memset(data, 0, sizeof data);
    memcpy(data, of->header, EK_HEADER_BYTES);
    if (!ek_ext_super_read(span, &volume->super))
        return FALSE;
    volume->has_types = of->composed || (ek_span_le32(span, 96) & INCOMPAT_TYPES) != 0;
    volume->has_unused =
        of->composed || (ek_span_le32(span, 100) & (RO_GROUP_SUMS | RO_CHECKSUM)) != 0;
    volume->first_inode = ek_span_le32(span, 76) == 0 ? OLD_FIRST_INODE : ek_span_le32(span, 84);
    guint32 bits = ek_span_le32(span, 36) != 0 ? ek_span_le32(span, 36) : G_MAXUINT32;
    volume->blocks_a_bit = MAX(volume->super.blocks_per_group / bits, 1);
    /* Descriptors of a composed one are as large as they were found. */
    if (of->composed && ek_span_le16(span, 254) > 32)
        volume->super.descriptor_bytes = 64;
    return TRUE;
}

EkByte ek_ext_block_byte(const EkExtVolume *volume, guint64 block)
{
    return block < volume->super.blocks ? volume->first_byte + block * volume->super.block_bytes
                                        : EK_UNPLACED;
}

/* --- groups --------------------------------------------------------------------------------- */

/* The block with the descriptor of a group, in the copy that group `copy` keeps. */
static guint64 descriptor_block(const EkExtVolume *volume, guint64 number, guint64 copy)
{
    const EkExtSuper *super = &volume->super;
    guint64 a_block = super->block_bytes / super->descriptor_bytes;
    guint64 meta = number / a_block;
    guint64 group_blocks = super->blocks_per_group;
    guint64 holders[COPIES_MOST];
    guint count = ek_ext_super_groups(super, holders, COPIES_MOST);
    if (!super->meta_bg || meta < super->first_meta_bg)
        return ek_ext_behind_super(super, copy) + meta;
    /* In the first group of the meta group, behind its superblock if it has one. */
    gboolean has_super = FALSE;
    for (guint i = 0; i < count; i++)
        has_super |= holders[i] == meta * a_block;
    return super->first_data_block + meta * a_block * group_blocks + (has_super ? 1 : 0);
}

static gboolean read_descriptor(const EkExtVolume *volume, guint64 number, guint64 copy,
                                EkExtGroup *group)
{
    const EkExtSuper *super = &volume->super;
    guint8 data[EK_EXT_DESCRIPTOR_MOST] = {0};
    guint32 bytes = MIN(super->descriptor_bytes, sizeof data);
    guint64 a_block = super->block_bytes / super->descriptor_bytes;
    EkByte at = ek_ext_block_byte(volume, descriptor_block(volume, number, copy));
    EkReader *reader = volume->groups != NULL ? volume->groups : volume->reader;
    EkKnown known;
    if (at == EK_UNPLACED ||
        !ek_reader_read(reader, at + number % a_block * super->descriptor_bytes, data, bytes,
                        &known, NULL) ||
        known.good < bytes)
        return FALSE;
    EkExtDescriptor descriptor = ek_ext_descriptor_read((EkSpan){data, bytes});
    group->table = descriptor.inode_table;
    group->bitmap =
        (descriptor.flags & EK_EXT_BLOCKS_UNWRITTEN) == 0 ? descriptor.blocks_bitmap : 0;
    group->used = super->inodes_per_group;
    /* Copies are as old as the volume: what was unused then may not be now. */
    if (volume->has_unused && copy == 0)
        group->used =
            (descriptor.flags & EK_EXT_INODES_UNWRITTEN) != 0
                ? 0
                : super->inodes_per_group - MIN(descriptor.unused_inodes, super->inodes_per_group);
    return group->table > super->first_data_block && group->table < super->blocks;
}

EkExtGroup ek_ext_group(const EkExtVolume *volume, guint64 number)
{
    guint64 holders[COPIES_MOST];
    EkExtGroup group = {0, 0, 0};
    if (read_descriptor(volume, number, 0, &group))
        return group;
    guint count = ek_ext_super_groups(&volume->super, holders, COPIES_MOST);
    for (guint i = 0; i < count; i++)
        if (holders[i] != 0 && read_descriptor(volume, number, holders[i], &group))
            return group;
    return (EkExtGroup){0, 0, 0};
}

gboolean ek_ext_volume_open(EkExtVolume *volume, EkReader *reader, const EkVolume *of)
{
    *volume = (EkExtVolume){.reader = reader,
                            .groups = of->is_earlier ? ek_reader_whole(reader) : NULL,
                            .first_byte = of->first_byte,
                            .is_earlier = of->is_earlier};
    if (!load_super(volume, of))
        return FALSE;
    volume->steps = volume->super.blocks;
    return TRUE;
}

/* --- inodes --------------------------------------------------------------------------------- */

/* How much of it its writer knew of. */
static gsize held_bytes(EkSpan inode)
{
    return EK_EXT_INODE_LEAST +
           (inode.length > EK_EXT_INODE_LEAST ? (gsize)ek_span_le16(inode, EK_EXT_INODE_LEAST) : 0);
}

/* Seconds with a sign; two more bits of them and the nanoseconds where the inode has room. */
static EkTimestamp timestamp_at(EkSpan inode, gsize seconds, gsize extra)
{
    guint32 more = extra + 4 <= held_bytes(inode) ? ek_span_le32(inode, extra) : 0;
    gint64 value = (gint32)ek_span_le32(inode, seconds);
    EkTimestamp timestamp = ek_timestamp_utc(value + ((gint64)(more & 3) << 32));
    timestamp.nanoseconds = (more >> 2) % 1000000000;
    return timestamp;
}

EkExtInode ek_ext_inode_read(EkSpan span)
{
    EkExtInode inode = {
        .mode = ek_span_le16(span, 0),
        .links = ek_span_le16(span, 26),
        .size = ek_span_le32(span, 4),
        .flags = ek_span_le32(span, 32),
        .deleted = ek_span_le32(span, 20),
        .generation = ek_span_le32(span, 100),
        .sectors = ek_span_le32(span, 28) | (guint64)ek_span_le16(span, 116) << 32,
        .attributes = ek_span_le32(span, 104),
        .held = held_bytes(span),
        .sum = ek_span_le16(span, EK_EXT_SUM_LOW) | (guint32)ek_span_le16(span, EK_EXT_SUM_HIGH)
                                                        << 16,
        .map = ek_span_part(span, EK_EXT_MAP, EK_EXT_MAP_BYTES),
        .modified = timestamp_at(span, 16, 136),
        .accessed = timestamp_at(span, 8, 140),
    };
    if (inode.held >= 148)
        inode.created = timestamp_at(span, 144, 148);
    if ((inode.mode & EK_EXT_TYPE) == EK_EXT_FILE)
        inode.size |= (guint64)ek_span_le32(span, 108) << 32;
    if (inode.size > G_MAXINT64)
        inode.size = 0;
    return inode;
}

guint64 ek_ext_folder_block(const EkExtInode *inode)
{
    EkSpan map = inode->map;
    if ((inode->mode & EK_EXT_TYPE) != EK_EXT_FOLDER || inode->links < 2 || inode->size == 0 ||
        inode->size % BLOCK_LEAST != 0 || inode->deleted != 0)
        return 0;
    if ((inode->flags & EK_EXT_EXTENTS) == 0)
        return ek_span_le32(map, 0);
    return ek_span_le16(map, 0) == EXTENTS_MAGIC && ek_span_le16(map, 2) > 0 &&
                   ek_span_le16(map, 6) == 0 && ek_span_le32(map, 12) == 0
               ? ek_span_le32(map, 20) | (guint64)ek_span_le16(map, 18) << 32
               : 0;
}

gboolean ek_ext_inode_seed(EkSpan inode, guint32 number, guint32 *seed)
{
    guint8 bytes[4096];
    guint8 head[8];
    EkExtInode is = ek_ext_inode_read(inode);
    if (is.held < EK_EXT_SUM_HIGH + 2 || inode.length < is.held || inode.length > sizeof bytes)
        return FALSE;
    memcpy(bytes, inode.data, inode.length);
    ek_put_le16(bytes + EK_EXT_SUM_LOW, 0);
    ek_put_le16(bytes + EK_EXT_SUM_HIGH, 0);
    ek_put_le32(head, number);
    ek_put_le32(head + 4, is.generation);
    *seed = ek_crc32c_before(ek_crc32c_before(is.sum, (EkSpan){bytes, inode.length}),
                             (EkSpan){head, sizeof head});
    return TRUE;
}

/* A map of blocks: each number names a block of the volume, or none. */
static gboolean is_possible_map(const EkExtVolume *volume, EkSpan map, gboolean has_extents)
{
    if (has_extents)
        return ek_span_le16(map, 0) == EXTENTS_MAGIC &&
               ek_span_le16(map, 2) <= ek_span_le16(map, 4) && ek_span_le16(map, 4) <= 4 &&
               ek_span_le16(map, 6) <= EXTENTS_DEPTH_MOST;
    for (gsize i = 0; i < map.length; i += 4)
        if (ek_span_le32(map, i) >= volume->super.blocks)
            return FALSE;
    return TRUE;
}

gboolean ek_ext_inode_is_possible(const EkExtVolume *volume, EkSpan span)
{
    EkExtInode inode = ek_ext_inode_read(span);
    gboolean has_extents = (inode.flags & EK_EXT_EXTENTS) != 0;
    gboolean is_folder = (inode.mode & EK_EXT_TYPE) == EK_EXT_FOLDER;
    guint32 size = volume->super.block_bytes;
    guint64 most = volume->super.blocks * (size / EK_STEP);
    /* The address of a fragment, which no version ever made: noise has something there. */
    if (ek_span_le32(span, FRAGMENT) != 0 || (inode.flags & ~FLAGS_KNOWN) != 0)
        return FALSE;
    /* Counted in blocks, they are no more than there are. */
    if ((inode.flags & EK_EXT_HUGE) != 0 && inode.sectors > volume->super.blocks)
        return FALSE;
    if (inode.links > LINKS_MOST || ((inode.flags & EK_EXT_HUGE) == 0 && inode.sectors > most))
        return FALSE;
    switch (inode.mode & EK_EXT_TYPE) {
    case EK_EXT_FOLDER:
    case EK_EXT_FILE: break;
    case EK_EXT_LINK: return inode.size > 0 && inode.size <= LINK_MOST;
    case 0x1000:
    case 0x2000:
    case 0x6000:
    case 0xc000: return inode.size == 0 && inode.sectors <= 2 * (size / EK_STEP);
    default: return FALSE;
    }
    if ((inode.flags & EK_EXT_INLINE) != 0)
        return inode.size <= volume->super.inode_bytes;
    if (is_folder && inode.size % size != 0)
        return FALSE;
    /* A deleted one has lost its map. */
    return is_possible_map(volume, inode.map, has_extents) ||
           (inode.links == 0 && ek_bytes_are_zero(inode.map.data, inode.map.length));
}
