/* SPDX-License-Identifier: MIT */
/* The superblock of ext2, ext3 and ext4: offsets as in the Linux kernel's
 * Documentation/filesystems/ext4/super.rst. What it distrusts: copies stand in the journal and in
 * disk images too, and each says only of itself in which group it is. */
#include "volume/ext/ext.h"

#include "base/checksum.h"

#include <string.h>

#define FIRST_INODE 11u /* that is not the format's own */
#define MAGIC 0xef53
#define MAX_LOG_BLOCK 6u
#define MIN_BLOCK 1024u

#define COMPAT_JOURNAL 0x4u
#define COMPAT_SPARSE2 0x200u
#define INCOMPAT_JOURNAL_DEVICE 0x8u
#define INCOMPAT_META_BG 0x10u
#define INCOMPAT_64BIT 0x80u
#define INCOMPAT_SUM_SEED 0x2000u
#define RO_SPARSE 0x1u
#define RO_BIGALLOC 0x200u
#define RO_CHECKSUM 0x400u
/* What ext2 and ext3 know; anything else makes it an ext4. */
#define INCOMPAT_OLD 0x17u
#define RO_OLD 0x7u

static const char *name_of(guint32 compat, guint32 incompat, guint32 ro)
{
    if ((incompat & ~INCOMPAT_OLD) != 0 || (ro & ~RO_OLD) != 0)
        return "ext4";
    return (compat & COMPAT_JOURNAL) != 0 ? "ext3" : "ext2";
}

static gboolean is_sane(const EkExtSuper *super, gboolean bigalloc)
{
    guint64 bits = (guint64)super->block_bytes * 8;
    return super->blocks > super->first_data_block && super->first_data_block <= 1 &&
           super->blocks < (guint64)G_MAXINT64 / super->block_bytes &&
           super->blocks_per_group >= 8 && (bigalloc || super->blocks_per_group <= bits) &&
           super->inodes_per_group > 0 && super->inodes_per_group <= bits &&
           ek_is_power_of_two(super->inode_bytes) && super->inode_bytes >= 128 &&
           super->inode_bytes <= super->block_bytes &&
           ek_is_power_of_two(super->descriptor_bytes) && super->descriptor_bytes >= 32 &&
           super->descriptor_bytes <= 1024 && super->group < super->groups &&
           super->groups <= G_MAXUINT32 && super->inodes > 0 &&
           super->inodes <= super->groups * super->inodes_per_group;
}

gboolean ek_ext_super_read(EkSpan span, EkExtSuper *super)
{
    if (span.length < EK_EXT_SUPER_BYTES || ek_span_le16(span, 56) != MAGIC ||
        ek_span_le32(span, 24) > MAX_LOG_BLOCK)
        return FALSE;
    gboolean old = ek_span_le32(span, 76) == 0;
    guint32 compat = old ? 0 : ek_span_le32(span, 92);
    guint32 incompat = old ? 0 : ek_span_le32(span, 96);
    guint32 ro = old ? 0 : ek_span_le32(span, 100);
    gboolean wide = (incompat & INCOMPAT_64BIT) != 0;
    if ((incompat & INCOMPAT_JOURNAL_DEVICE) != 0)
        return FALSE;
    *super = (EkExtSuper){
        .name = name_of(compat, incompat, ro),
        .block_bytes = MIN_BLOCK << ek_span_le32(span, 24),
        .blocks = ek_span_le32(span, 4) | (wide ? (guint64)ek_span_le32(span, 336) << 32 : 0),
        .first_data_block = ek_span_le32(span, 20),
        .orphan_file = ek_span_le32(span, 640),
        .seed = (incompat & INCOMPAT_SUM_SEED) != 0
                    ? ek_span_le32(span, 624)
                    : ek_crc32c(G_MAXUINT32, ek_span_part(span, 104, 16)),
        .blocks_per_group = ek_span_le32(span, 32),
        .inodes_per_group = ek_span_le32(span, 40),
        .inode_bytes = old ? 128 : ek_span_le16(span, 88),
        .inodes = ek_span_le32(span, 0),
        .descriptor_bytes = wide ? ek_span_le16(span, 254) : 32,
        .group = ek_span_le16(span, 90),
        .first_meta_bg = ek_span_le32(span, 260),
        .backup_groups = {ek_span_le32(span, 588), ek_span_le32(span, 592)},
        .sparse = (ro & RO_SPARSE) != 0,
        .sparse2 = (compat & COMPAT_SPARSE2) != 0,
        .meta_bg = (incompat & INCOMPAT_META_BG) != 0,
        .has_checksum = (ro & RO_CHECKSUM) != 0,
    };
    if (super->blocks_per_group == 0)
        return FALSE;
    super->groups = ek_divide_up(super->blocks - MIN(super->blocks, super->first_data_block),
                                 super->blocks_per_group);
    super->checksum_fits =
        !super->has_checksum ||
        ek_crc32c(G_MAXUINT32, ek_span_part(span, 0, 1020)) == ek_span_le32(span, 1020);
    return is_sane(super, (ro & RO_BIGALLOC) != 0);
}

guint64 ek_ext_behind_super(const EkExtSuper *super, guint64 group)
{
    /* Where blocks of 1 KiB are counted from 0 the boot block has the first. */
    gboolean is_second =
        group == 0 && super->first_data_block == 0 && super->block_bytes == EK_EXT_SUPER_OFFSET;
    return super->first_data_block + group * (guint64)super->blocks_per_group + (is_second ? 2 : 1);
}

EkByte ek_ext_super_place(const EkExtSuper *super, guint64 group)
{
    if (group == 0)
        return EK_EXT_SUPER_OFFSET;
    return (super->first_data_block + group * super->blocks_per_group) * super->block_bytes;
}

void ek_ext_super_set_group(guint8 *super, guint16 group)
{
    EkSpan span = {super, EK_EXT_SUPER_BYTES};
    ek_put_le16(super + 90, group);
    if (ek_span_le32(span, 76) != 0 && (ek_span_le32(span, 100) & RO_CHECKSUM) != 0)
        ek_put_le32(super + 1020, ek_crc32c(G_MAXUINT32, ek_span_part(span, 0, 1020)));
}

static void add_group(const EkExtSuper *super, guint64 group, guint64 *groups, guint *count,
                      guint most)
{
    if (group < super->groups && *count < most && (*count == 0 || group > groups[*count - 1]))
        groups[(*count)++] = group;
}

guint ek_ext_super_groups(const EkExtSuper *super, guint64 *groups, guint most)
{
    guint count = 0;
    add_group(super, 0, groups, &count, most);
    if (super->sparse2) {
        guint32 one = MIN(super->backup_groups[0], super->backup_groups[1]);
        guint32 other = MAX(super->backup_groups[0], super->backup_groups[1]);
        add_group(super, one, groups, &count, most);
        add_group(super, other, groups, &count, most);
        return count;
    }
    if (!super->sparse) {
        for (guint64 group = 1; group < most; group++)
            add_group(super, group, groups, &count, most);
        return count;
    }
    /* Group 1, and powers of 3, 5 and 7, in order. */
    guint64 three = 1;
    guint64 five = 5;
    guint64 seven = 7;
    while (count < most && MIN(MIN(three, five), seven) < super->groups) {
        guint64 *least =
            three < five ? (three < seven ? &three : &seven) : (five < seven ? &five : &seven);
        add_group(super, *least, groups, &count, most);
        *least *= least == &three ? 3 : least == &five ? 5 : 7;
    }
    return count;
}

GPtrArray *ek_ext_super_explain(EkSpan span)
{
    static const EkFieldRule rules[] = {
        {0, 4, "inodes", EK_FIELD_LE32, NULL},
        {4, 4, "blocks", EK_FIELD_LE32, "(low half)"},
        {8, 4, "reserved blocks", EK_FIELD_LE32, NULL},
        {12, 4, "free blocks", EK_FIELD_LE32, NULL},
        {16, 4, "free inodes", EK_FIELD_LE32, NULL},
        {20, 4, "first data block", EK_FIELD_LE32, NULL},
        {24, 4, "block size", EK_FIELD_LE32, "(1024 times two to the power of it)"},
        {28, 4, "cluster size", EK_FIELD_LE32, NULL},
        {32, 4, "blocks per group", EK_FIELD_LE32, NULL},
        {36, 4, "clusters a group", EK_FIELD_LE32, NULL},
        {40, 4, "inodes per group", EK_FIELD_LE32, NULL},
        {44, 4, "last mounted", EK_FIELD_LE32, NULL},
        {48, 4, "last written", EK_FIELD_LE32, NULL},
        {52, 4, "mounts", EK_FIELD_BYTES, NULL},
        {56, 2, "magic", EK_FIELD_BYTES, NULL},
        {58, 2, "state", EK_FIELD_LE16, NULL},
        {60, 30, "behaviour, revision, first inode, inode size", EK_FIELD_BYTES, NULL},
        {90, 2, "group of this copy", EK_FIELD_LE16, NULL},
        {92, 12, "features", EK_FIELD_BYTES, NULL},
        {104, 16, "UUID", EK_FIELD_BYTES, NULL},
        {120, 16, "label", EK_FIELD_BYTES, NULL},
        {136, 64, "last mounted on", EK_FIELD_BYTES, NULL},
        {200, 136, "further fields", EK_FIELD_BYTES, NULL},
        {336, 4, "blocks", EK_FIELD_LE32, "(high half)"},
        {340, 680, "further fields", EK_FIELD_BYTES, NULL},
        {1020, 4, "checksum", EK_FIELD_BYTES, NULL},
    };
    GPtrArray *fields = ek_fields_new();
    gsize count = G_N_ELEMENTS(rules);
    while (count > 0 && !ek_span_has(span, rules[count - 1].offset, rules[count - 1].length))
        count--;
    ek_fields_add_rules(fields, span, rules, count);
    return fields;
}

/* --- group descriptors ---------------------------------------------------------------------- */

EkExtDescriptor ek_ext_descriptor_read(EkSpan span)
{
    EkExtDescriptor descriptor = {
        .blocks_bitmap = ek_span_le32(span, 0),
        .inodes_bitmap = ek_span_le32(span, 4),
        .inode_table = ek_span_le32(span, 8),
        .free_blocks = ek_span_le16(span, 12),
        .free_inodes = ek_span_le16(span, 14),
        .unused_inodes = ek_span_le16(span, 28),
        .flags = ek_span_le16(span, 18),
        .sum = ek_span_le16(span, 30),
    };
    if (span.length < EK_EXT_DESCRIPTOR_MOST)
        return descriptor;
    descriptor.blocks_bitmap |= (guint64)ek_span_le32(span, 32) << 32;
    descriptor.inodes_bitmap |= (guint64)ek_span_le32(span, 36) << 32;
    descriptor.inode_table |= (guint64)ek_span_le32(span, 40) << 32;
    descriptor.free_blocks |= (guint32)ek_span_le16(span, 44) << 16;
    descriptor.free_inodes |= (guint32)ek_span_le16(span, 46) << 16;
    descriptor.unused_inodes |= (guint32)ek_span_le16(span, 50) << 16;
    return descriptor;
}

gboolean ek_ext_descriptor_is_possible(const EkExtDescriptor *descriptor, const EkExtSuper *super)
{
    guint64 places[] = {descriptor->blocks_bitmap, descriptor->inodes_bitmap,
                        descriptor->inode_table};
    for (gsize i = 0; i < G_N_ELEMENTS(places); i++)
        if (places[i] <= super->first_data_block || places[i] >= super->blocks)
            return FALSE;
    return places[0] != places[1] && places[0] != places[2] && places[1] != places[2];
}

void ek_ext_super_compose(const EkExtSuper *super, guint8 *header)
{
    guint log = 0;
    while (1024u << log < super->block_bytes)
        log++;
    memset(header, 0, EK_HEADER_BYTES);
    ek_put_le32(header, super->inodes);
    ek_put_le32(header + 4, (guint32)super->blocks);
    ek_put_le32(header + 20, super->first_data_block);
    ek_put_le32(header + 24, log);
    ek_put_le32(header + 28, log);
    ek_put_le32(header + 32, super->blocks_per_group);
    ek_put_le32(header + 36, super->blocks_per_group);
    ek_put_le32(header + 40, super->inodes_per_group);
    ek_put_le16(header + 56, 0xef53);
    ek_put_le32(header + 76, 1);
    ek_put_le32(header + 84, FIRST_INODE);
    ek_put_le16(header + 88, (guint16)super->inode_bytes);
    ek_put_le16(header + 254, super->descriptor_bytes > 32 ? (guint16)super->descriptor_bytes : 0);
    ek_put_le32(header + 336, (guint32)(super->blocks >> 32));
}
