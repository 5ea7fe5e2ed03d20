/* SPDX-License-Identifier: MIT */
/* ext2, ext3 and ext4 volumes: found by any copy of their superblock, believed when the root folder
 * or another copy is where it says. */
#include "volume/ext/ext.h"
#include "volume/ext/log.h"

#include "volume/headers.h"

#define COPIES_TRIED 6u /* beside the one that was found */
#define TABLES_TRIED 4u /* copies of the group descriptors */
#define DESCRIPTORS_TRIED 16u
#define ROOT_INODE 2u
#define RESERVED_INODES 10u

guint ek_ext_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    EkExtSuper super;
    if (!ek_ext_super_read(span, &super))
        return 0;
    EkByte before = ek_ext_super_place(&super, super.group);
    if (before > at)
        return 0;
    candidates[0] =
        (EkCandidate){at - before, at, super.group == 0 ? EK_ROLE_PRIMARY : EK_ROLE_BACKUP};
    return 1;
}

gboolean ek_ext_super_agrees(EkSpan copy, EkSpan with, guint64 group)
{
    EkExtSuper super;
    return ek_ext_super_read(copy, &super) && (super.group == group || super.group == 0) &&
           memcmp(copy.data + 104, with.data + 104, 16) == 0 &&
           memcmp(copy.data + 20, with.data + 20, 8) == 0 &&
           ek_span_le32(copy, 32) == ek_span_le32(with, 32) &&
           ek_span_le32(copy, 40) == ek_span_le32(with, 40);
}

/* How many copies besides that of `own` stand where they should; *unread counts those that could
 * not be checked. Says of the primary one how it is. */
static guint weigh_copies(EkReader *reader, EkVolume *volume, const EkExtSuper *super, EkSpan own,
                          guint *unread)
{
    guint8 copy[EK_EXT_SUPER_BYTES];
    guint64 groups[COPIES_TRIED + 1];
    guint count = ek_ext_super_groups(super, groups, G_N_ELEMENTS(groups));
    guint tried = 0;
    guint there = 0;
    for (guint i = 0; i < count; i++) {
        guint64 group = groups[i];
        EkByte at = volume->first_byte + ek_ext_super_place(super, group);
        if (group == 0 && super->group == 0) {
            ek_presence_reason(volume, EK_PRESENT, "the primary superblock", at, 15);
            continue;
        }
        if (group == super->group)
            continue;
        tried++;
        EkPresence part = ek_presence_read(reader, at, copy, sizeof copy);
        if (part == EK_PRESENT && !ek_ext_super_agrees((EkSpan){copy, sizeof copy}, own, group))
            part = EK_ABSENT;
        if (group == 0)
            ek_presence_reason(volume, part, "the primary superblock", at, 15);
        there += part == EK_PRESENT;
        *unread += part == EK_UNREAD;
    }
    if (tried > 0)
        ek_volume_reason(volume,
                         there > 1    ? 20
                         : there == 1 ? 15
                                      : 0,
                         "%u of %u backup superblocks checked are in place%s", there, tried,
                         *unread > 0 ? ", some were not read" : "");
    return there;
}

/* What of a descriptor is known. */
static guint32 descriptor_read_bytes(const EkExtSuper *super)
{
    return super->descriptor_bytes >= EK_EXT_DESCRIPTOR_MOST ? EK_EXT_DESCRIPTOR_MOST : 32;
}

/* The block of the inode table of group 0 as a copy of the descriptors tells; 0: it does not. */
static guint64 inode_table_of(EkReader *reader, const EkVolume *volume, const EkExtSuper *super,
                              guint64 group, gboolean *unread)
{
    guint8 first[EK_EXT_DESCRIPTOR_MOST];
    guint32 bytes = descriptor_read_bytes(super);
    /* Right behind the block of the superblock; with meta groups those of group 0 do as well. */
    guint64 block = ek_ext_behind_super(super, group);
    EkPresence part =
        ek_presence_read(reader, volume->first_byte + block * super->block_bytes, first, bytes);
    *unread |= part == EK_UNREAD;
    if (part != EK_PRESENT)
        return 0;
    guint64 table = ek_ext_descriptor_read((EkSpan){first, bytes}).inode_table;
    return table < super->blocks ? table : 0;
}

static EkPresence look_at_root(EkReader *reader, const EkVolume *volume, const EkExtSuper *super,
                               EkByte *place)
{
    guint8 inode[128];
    guint64 groups[TABLES_TRIED];
    guint count = ek_ext_super_groups(super, groups, G_N_ELEMENTS(groups));
    gboolean unread = FALSE;
    for (guint i = 0; i < count; i++) {
        guint64 group = groups[i];
        if (super->meta_bg && group > 1)
            continue;
        guint64 table = inode_table_of(reader, volume, super, group, &unread);
        if (table == 0)
            continue;
        *place = volume->first_byte + table * super->block_bytes +
                 (EkByte)(ROOT_INODE - 1) * super->inode_bytes;
        EkPresence part = ek_presence_read(reader, *place, inode, sizeof inode);
        EkExtInode root = ek_ext_inode_read((EkSpan){inode, sizeof inode});
        unread |= part == EK_UNREAD;
        if (part == EK_PRESENT && (root.mode & EK_EXT_TYPE) == EK_EXT_FOLDER && root.links >= 2)
            return EK_PRESENT;
    }
    return unread ? EK_UNREAD : EK_ABSENT;
}

/* The group descriptors behind the superblock that was found: whoever copies the one, a journal or
 * a file, seldom has the others behind it. */
static EkPresence look_at_descriptors(EkReader *reader, const EkVolume *volume,
                                      const EkExtSuper *super, EkByte *at)
{
    guint8 table[DESCRIPTORS_TRIED * 64];
    guint32 bytes = MAX(super->descriptor_bytes, descriptor_read_bytes(super));
    guint count = (guint)MIN(super->groups, DESCRIPTORS_TRIED);
    guint64 block = ek_ext_behind_super(super, super->group);
    *at = volume->first_byte + block * super->block_bytes;
    if (super->meta_bg || bytes > 64)
        return EK_UNREAD;
    EkPresence part = ek_presence_read(reader, *at, table, (gsize)count * bytes);
    for (guint i = 0; part == EK_PRESENT && i < count; i++) {
        EkExtDescriptor descriptor =
            ek_ext_descriptor_read((EkSpan){table + (gsize)i * bytes, bytes});
        if (!ek_ext_descriptor_is_possible(&descriptor, super))
            part = EK_ABSENT;
    }
    return part;
}

static gboolean is_copy_in_journal(EkReader *reader, const EkVolume *volume,
                                   const EkExtSuper *super)
{
    guint64 block = super->first_data_block;
    return ek_ext_log_names(reader, volume->first_byte + block * super->block_bytes,
                            super->block_bytes, block);
}

void ek_ext_properties(EkVolume *volume, const EkExtSuper *super)
{
    ek_volume_property_number(volume, "bytes per block", super->block_bytes);
    ek_volume_property_number(volume, "blocks", super->blocks);
    ek_volume_property_number(volume, "blocks per group", super->blocks_per_group);
    ek_volume_property_number(volume, "block groups", super->groups);
    ek_volume_property_number(volume, "inodes", super->inodes);
    ek_volume_property_number(volume, "inodes per group", super->inodes_per_group);
    ek_volume_property_number(volume, "bytes per inode", super->inode_bytes);
    ek_volume_property_number(volume, "bytes per group descriptor", super->descriptor_bytes);
}

static void take_properties(EkVolume *volume, const EkExtSuper *super, EkSpan span)
{
    volume->created = ek_timestamp_utc(ek_span_le32(span, 264));
    guint32 used = MAX(ek_span_le32(span, 44), ek_span_le32(span, 48));
    volume->used = ek_timestamp_utc(used);
    volume->used_is_exact = super->group == 0;
    guint32 free_inodes = ek_span_le32(span, 16);
    /* Copies are written when the volume is made, and seldom after that. */
    if (super->group == 0 && free_inodes + RESERVED_INODES <= super->inodes)
        ek_volume_property_number(volume, EK_PROPERTY_FILES,
                                  super->inodes - free_inodes - RESERVED_INODES);
    ek_ext_properties(volume, super);
}

EkVolume *ek_ext_measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_EXT_SUPER_BYTES];
    EkSpan span = {data, sizeof data};
    EkExtSuper super;
    g_autoptr(EkVolume) volume =
        ek_header_begin("ext2", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !ek_ext_super_read(span, &super))
        return g_steal_pointer(&volume);
    volume->filesystem = super.name;
    volume->bytes = super.blocks * super.block_bytes;
    volume->uuid = ek_volume_uuid(ek_span_part(span, 104, 16));
    volume->label = ek_volume_label(ek_span_part(span, 120, 16));
    take_properties(volume, &super, span);

    ek_volume_reason(volume, 20, "superblock of group %u at sector %" G_GUINT64_FORMAT " is valid",
                     super.group, candidate->header_byte / EK_STEP);
    if (super.has_checksum)
        ek_volume_reason(volume, super.checksum_fits ? 15 : 0, "its checksum %s",
                         super.checksum_fits ? "fits" : "does not fit");
    guint unread = 0;
    guint copies = weigh_copies(reader, volume, &super, span, &unread);
    EkByte place = 0;
    EkPresence root = look_at_root(reader, volume, &super, &place);
    if (root == EK_PRESENT)
        ek_presence_reason(volume, root, "the root folder's inode", place, 35);
    else
        ek_volume_reason(volume, 0, "the root folder's inode %s",
                         root == EK_UNREAD ? "could not be checked: not read" : "is not there");
    EkPresence descriptors = look_at_descriptors(reader, volume, &super, &place);
    if (descriptors != EK_UNREAD)
        ek_presence_reason(volume, descriptors, "the group descriptor table", place, 10);
    /* The superblock is journalled as other blocks are. A copy in a journal has nothing around it
     * of what it describes; the journal's own record of it may not have been read. */
    gboolean is_alone = super.group == 0 && root != EK_PRESENT && copies == 0;
    gboolean is_logged = is_alone && is_copy_in_journal(reader, volume, &super);
    /* The descriptors may have been logged with it. */
    gboolean is_contradicted = is_alone && unread == 0 && super.groups > 1 &&
                               (descriptors != EK_PRESENT || root == EK_ABSENT);
    if (is_logged || is_contradicted)
        ek_volume_reason(volume, is_logged ? 0 : -30,
                         is_logged ? "it is a copy of the superblock in a journal"
                                   : "nothing of what it describes is at its place");
    ek_header_end(volume, !is_logged && !is_contradicted &&
                              (root != EK_ABSENT || copies > 0 || descriptors == EK_PRESENT ||
                               (unread > 0 && super.group != 0)));
    return g_steal_pointer(&volume);
}

#define HOLDERS_MOST 64u
#define LOG_GROUPS_A_FLEX 372u /* in a superblock */
#define FLEX_MOST 8u
#define RO_SUMS 0x410u /* descriptors tell what was never written, and have sums */

gboolean ek_ext_holds_copy(const EkExtSuper *super, guint64 group)
{
    guint64 holders[HOLDERS_MOST];
    guint count = ek_ext_super_groups(super, holders, HOLDERS_MOST);
    for (guint i = 0; i < count; i++)
        if (holders[i] == group)
            return TRUE;
    return !super->sparse && !super->sparse2;
}

/* In a group whose bitmap was never written: a copy of the superblock and of the descriptors, room
 * for more of them, the group's own bitmaps and inodes. */
static EkUsage use_by_itself(const EkExtSuper *super, EkSpan data, const EkExtDescriptor *group_is,
                             guint64 group, guint64 block, guint64 *alike)
{
    guint64 start = super->first_data_block + group * super->blocks_per_group;
    guint64 inodes =
        ek_divide_up((guint64)super->inodes_per_group * super->inode_bytes, super->block_bytes);
    guint64 descriptors = ek_divide_up(super->groups * super->descriptor_bytes, super->block_bytes);
    guint64 table = group_is->inode_table;
    guint64 bitmaps[] = {group_is->blocks_bitmap, group_is->inodes_bitmap};
    guint64 copy = ek_ext_holds_copy(super, group) ? 1 + descriptors + ek_span_le16(data, 206) : 0;
    guint64 borders[] = {start + copy, start + super->blocks_per_group,
                         bitmaps[0],   bitmaps[0] + 1,
                         bitmaps[1],   bitmaps[1] + 1,
                         table,        table + inodes};
    gboolean is_own =
        block == bitmaps[0] || block == bitmaps[1] || (block >= table && block - table < inodes);
    *alike = G_MAXUINT32;
    for (gsize i = 0; i < G_N_ELEMENTS(borders); i++)
        if (borders[i] > block)
            *alike = MIN(*alike, borders[i] - block);
    return is_own || block - start < copy ? EK_USAGE_USED : EK_USAGE_FREE;
}

/* Of a block that is in use: a table of inodes is, as a whole, while a quick format leaves that
 * part of it as it was in which no inode was ever written. The kernel clears that later, and says
 * so. *same is how far the block's bit says the same, and may become less. */
static EkUsage use_of_tables(EkReader *reader, const EkVolume *volume, EkSpan data,
                             const EkExtSuper *super, guint64 block, EkByte of_block, EkByte *same)
{
    guint64 inodes = (guint64)super->inodes_per_group * super->inode_bytes;
    guint64 blocks = ek_divide_up(inodes, super->block_bytes);
    guint64 end = block + 1 + (*same - of_block) / super->block_bytes;
    EkByte table = volume->first_byte + ek_ext_behind_super(super, 0) * super->block_bytes;
    guint64 flexible = ek_span_u8(data, LOG_GROUPS_A_FLEX) < FLEX_MOST
                           ? (guint64)1 << ek_span_u8(data, LOG_GROUPS_A_FLEX)
                           : 1;
    guint64 first = (block - super->first_data_block) / super->blocks_per_group;
    if ((ek_span_le32(data, 100) & RO_SUMS) == 0)
        return EK_USAGE_USED;
    /* The tables of all groups of a flexible one lie in the first of them. */
    first -= first % flexible;
    for (guint64 i = first; i < MIN(first + flexible, super->groups); i++) {
        guint8 bytes[EK_EXT_DESCRIPTOR_MOST];
        EkSpan span = {bytes, descriptor_read_bytes(super)};
        if (ek_presence_read(reader, table + i * super->descriptor_bytes, bytes, span.length) !=
            EK_PRESENT)
            return EK_USAGE_USED;
        EkExtDescriptor group = ek_ext_descriptor_read(span);
        guint64 unused = (group.flags & EK_EXT_INODES_UNWRITTEN) != 0
                             ? super->inodes_per_group
                             : MIN(group.unused_inodes, super->inodes_per_group);
        guint64 written = ek_divide_up((super->inodes_per_group - unused) * super->inode_bytes,
                                       super->block_bytes);
        guint64 from = group.inode_table + written;
        guint64 to = group.inode_table + blocks;
        if ((block == group.blocks_bitmap && (group.flags & EK_EXT_BLOCKS_UNWRITTEN) != 0) ||
            (block == group.inodes_bitmap && (group.flags & EK_EXT_INODES_UNWRITTEN) != 0)) {
            *same = of_block;
            return EK_USAGE_FREE;
        }
        end = group.blocks_bitmap > block ? MIN(end, group.blocks_bitmap) : end;
        end = group.inodes_bitmap > block ? MIN(end, group.inodes_bitmap) : end;
        if ((group.flags & EK_EXT_INODES_CLEARED) != 0)
            continue;
        if (block >= from && block < to) {
            *same = of_block + (MIN(to, end) - block - 1) * super->block_bytes;
            return EK_USAGE_FREE;
        }
        if (from > block && from < to)
            end = MIN(end, from);
    }
    *same = of_block + (end - block - 1) * super->block_bytes;
    return EK_USAGE_USED;
}

EkUsage ek_ext_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same)
{
    guint8 data[EK_EXT_SUPER_BYTES];
    guint8 descriptor[64];
    EkExtSuper super;
    if (ek_presence_read(reader, volume->header_byte, data, sizeof data) != EK_PRESENT ||
        !ek_ext_super_read((EkSpan){data, sizeof data}, &super) || super.meta_bg)
        return EK_USAGE_UNKNOWN;
    guint64 block = (range.first - volume->first_byte) / super.block_bytes;
    guint64 alike = 0;
    EkByte of_block = super.block_bytes - (range.first - volume->first_byte) % super.block_bytes;
    *same = of_block;
    if (block < super.first_data_block || block >= super.blocks)
        return EK_USAGE_USED;
    guint64 group = (block - super.first_data_block) / super.blocks_per_group;
    guint64 bit = (block - super.first_data_block) % super.blocks_per_group;
    guint64 group_start = block - bit;
    /* A cluster of blocks has one bit. */
    guint32 blocks_a_bit =
        MAX(super.blocks_per_group / MAX(ek_span_le32((EkSpan){data, sizeof data}, 36), 1), 1);
    EkByte table = volume->first_byte + ek_ext_behind_super(&super, 0) * super.block_bytes;
    /* What is free may be used by what only the journal holds. */
    gboolean is_due =
        (ek_span_le32((EkSpan){data, sizeof data}, 96) & EK_EXT_INCOMPAT_RECOVER) != 0;
    EkSpan span = {descriptor, descriptor_read_bytes(&super)};
    if (ek_presence_read(reader, table + group * super.descriptor_bytes, descriptor, span.length) !=
        EK_PRESENT)
        return EK_USAGE_UNKNOWN;
    EkExtDescriptor of_group = ek_ext_descriptor_read(span);
    guint64 bitmap = of_group.blocks_bitmap;
    if ((of_group.flags & EK_EXT_BLOCKS_UNWRITTEN) != 0) {
        EkUsage own =
            use_by_itself(&super, (EkSpan){data, sizeof data}, &of_group, group, block, &alike);
        *same = of_block + (alike - 1) * super.block_bytes;
        if (own == EK_USAGE_USED && !is_due)
            own = use_of_tables(reader, volume, (EkSpan){data, sizeof data}, &super, block,
                                of_block, same);
        return own;
    }
    if (bitmap == 0 || bitmap >= super.blocks)
        return EK_USAGE_UNKNOWN;
    guint64 bits =
        ek_divide_up(MIN(super.blocks_per_group, super.blocks - group_start), blocks_a_bit);
    EkUsage usage = ek_usage_bits(reader, volume->first_byte + bitmap * super.block_bytes,
                                  bit / blocks_a_bit, bits - bit / blocks_a_bit, &alike);
    /* To the end of the last block whose bit says the same. */
    *same = of_block + ((bit / blocks_a_bit + alike) * blocks_a_bit - bit - 1) * super.block_bytes;
    if (usage == EK_USAGE_USED && !is_due)
        usage = use_of_tables(reader, volume, (EkSpan){data, sizeof data}, &super, block, of_block,
                              same);
    return usage == EK_USAGE_FREE && is_due ? EK_USAGE_UNKNOWN : usage;
}

/* The kept header is the first half of the superblock: what it takes to find the others is in it.
 */
EkByte ek_ext_backup(const EkVolume *volume)
{
    guint8 data[EK_EXT_SUPER_BYTES] = {0};
    EkExtSuper super;
    memcpy(data, volume->header, EK_HEADER_BYTES);
    if (!ek_ext_super_read((EkSpan){data, sizeof data}, &super))
        return EK_UNPLACED;
    /* With sparse_super2 the groups are named in the other half: mke2fs takes group 1 for the
     * first. */
    return super.groups > 1 ? volume->first_byte + ek_ext_super_place(&super, 1) : EK_UNPLACED;
}
