/* SPDX-License-Identifier: MIT */
/* An ext volume without any superblock. The root folder's first block says by its own entries what
 * it is and how large a block is; the root folder's inode, at the head of the first inode table,
 * says in which block that folder is. Together they tell where the volume begins; the table of
 * groups, in its place or a copy of it, must name that inode table, and tells how many groups there
 * are. Offsets as in the Linux kernel's Documentation/filesystems/ext4. */
#include "volume/ext/inode.h"
#include "volume/formats.h"
#include "volume/headers.h"

#include <string.h>

#define TRIED_MOST 64u /* root folders, and inode tables */
#define BLOCK_LEAST 1024u
#define BLOCK_MOST 65536u
#define JOURNAL_INODE 8u
#define FRAGMENT 112u          /* in an inode: its address, which no version ever used */
#define GROUPS_MOST (1u << 18) /* 32 TiB in groups of 128 MiB */
#define FIRST_INODES 11u       /* in use on every volume */

/* The same of an inode as it stands. */
static guint64 folder_block_of(EkSpan span)
{
    EkExtInode inode = ek_ext_inode_read(span);
    return ek_ext_folder_block(&inode);
}

/* The head of the first inode table: inode 1 holds nothing, inode 2 is the root folder's. */
static gboolean are_first_inodes(EkSpan span, gsize inode_bytes)
{
    EkExtInode first = ek_ext_inode_read(ek_span_part(span, 0, inode_bytes));
    return first.mode == 0 && first.size == 0 && first.links == 0 &&
           folder_block_of(ek_span_part(span, inode_bytes, EK_EXT_INODE_LEAST)) != 0;
}

static gboolean is_root_folder(EkSpan span)
{
    return ek_span_le32(span, 0) == 2 && ek_span_le16(span, 4) == 12 && ek_span_u8(span, 6) == 1 &&
           ek_span_le32(span, 8) == '.' && ek_span_le32(span, 12) == 2 &&
           ek_span_u8(span, 18) == 2 && ek_span_le16(span, 20) == 0x2e2e;
}

/* The first block of any folder: itself, and the one that it is in. */
static gboolean begins_folder(EkSpan span)
{
    guint8 type = ek_span_u8(span, 7);
    return ek_span_le32(span, 0) > 2 && ek_span_le16(span, 4) == 12 && ek_span_u8(span, 6) == 1 &&
           (type == 2 || type == 0) && ek_span_le32(span, 8) == '.' &&
           ek_span_le32(span, 12) >= 2 && ek_span_le16(span, 16) >= 12 &&
           ek_span_u8(span, 18) == 2 && ek_span_u8(span, 19) == type &&
           ek_span_le32(span, 20) == 0x2e2e;
}

/* The inode of a folder anywhere in the step. */
static gboolean holds_folder_inode(EkSpan span)
{
    for (gsize at = 0; at < EK_STEP; at += EK_EXT_INODE_LEAST) {
        EkSpan inode = ek_span_part(span, at, EK_EXT_INODE_LEAST);
        if (inode.length == EK_EXT_INODE_LEAST && folder_block_of(inode) != 0 &&
            ek_span_le32(inode, FRAGMENT) == 0 &&
            ek_timestamp_utc((gint32)ek_span_le32(inode, 16)).is_set)
            return TRUE;
    }
    return FALSE;
}

gboolean ek_ext_record_seen(EkSpan span, EkRecord *record)
{
    *record = (EkRecord){0, 0};
    if (is_root_folder(span))
        record->bytes = EK_EXT_SEEN_ROOT;
    else if (are_first_inodes(span, 256))
        record->bytes = EK_EXT_SEEN_INODES;
    else if (are_first_inodes(span, 128))
        record->bytes = EK_EXT_SEEN_SMALL_INODES;
    else if (begins_folder(span))
        *record = (EkRecord){ek_span_le32(span, 0), EK_EXT_SEEN_FOLDER};
    else if (holds_folder_inode(span))
        *record = (EkRecord){1, EK_EXT_SEEN_INODE};
    return record->bytes != 0;
}

/* The entries of a folder's block end where it ends. */
static gboolean entries_end(EkSpan block)
{
    gsize at = 0;
    while (at + 8 <= block.length) {
        guint16 length = ek_span_le16(block, at + 4);
        if (length < 8 || length % 4 != 0)
            return FALSE;
        at += length;
    }
    return at == block.length;
}

/* --- the table of groups --------------------------------------------------------------------- */

typedef struct {
    EkByte start;
    EkByte inodes;      /* where the first inode table stands */
    guint64 root_block; /* of the volume */
    EkByte groups_at;   /* where the table of groups was read */
    EkExtSuper super;
    gboolean is_least;
} Volume;

static gboolean group_read(EkReader *reader, const Volume *volume, guint64 number,
                           EkExtDescriptor *group)
{
    guint8 data[64] = {0};
    guint32 bytes = volume->super.descriptor_bytes;
    EkSpan span = {data, bytes};
    if (ek_presence_read(reader, volume->groups_at + number * bytes, data, bytes) != EK_PRESENT)
        return FALSE;
    *group = ek_ext_descriptor_read(span);
    EkExtSuper bounds = volume->super;
    bounds.blocks = (ek_reader_bytes(reader) - volume->start) / volume->super.block_bytes;
    return ek_ext_descriptor_is_possible(group, &bounds);
}

/* Does a lone descriptor go on? The later half of a larger one has the later half of two sums. */
static gboolean is_wide(EkReader *reader, const Volume *volume)
{
    guint8 half[32];
    return ek_presence_read(reader, volume->groups_at + sizeof half, half, sizeof half) ==
               EK_PRESENT &&
           !ek_bytes_are_zero(half, sizeof half);
}

/* Descriptors of either size: those of the right one go on for longer. */
static guint64 count_groups(EkReader *reader, Volume *volume)
{
    guint64 best = 0;
    guint32 bytes = 0;
    for (guint32 size = 32; size <= 64; size *= 2) {
        guint64 count = 0;
        EkExtDescriptor group;
        volume->super.descriptor_bytes = size;
        while (count < GROUPS_MOST && group_read(reader, volume, count, &group))
            count++;
        if (count > best || (count == 1 && best == 1 && is_wide(reader, volume))) {
            best = count;
            bytes = size;
        }
    }
    volume->super.descriptor_bytes = bytes;
    return best;
}

/* In its place, or behind the superblocks of the groups that keep a copy. */
static gboolean find_groups(EkReader *reader, Volume *volume)
{
    static const guint copies[] = {0, 1, 3, 5, 7, 9, 25};
    EkExtSuper *super = &volume->super;
    guint64 table = (volume->inodes - volume->start) / super->block_bytes;
    for (gsize i = 0; i < G_N_ELEMENTS(copies); i++) {
        EkExtDescriptor first;
        guint64 block = ek_ext_behind_super(super, copies[i]);
        volume->groups_at = volume->start + block * super->block_bytes;
        super->groups = count_groups(reader, volume);
        if (super->groups > copies[i] && group_read(reader, volume, 0, &first) &&
            first.inode_table == table)
            return TRUE;
    }
    return FALSE;
}

/* In the bitmap of a group's inodes all that is behind the last one is marked as used. 0: that does
 * not agree with how many are free. */
static guint64 inodes_by_bitmap(EkReader *reader, const Volume *volume,
                                const EkExtDescriptor *group)
{
    const EkExtSuper *super = &volume->super;
    guint64 bits = (guint64)super->block_bytes * 8;
    guint64 a_block = super->block_bytes / super->inode_bytes;
    guint64 free = 0;
    guint64 last = 0;
    g_autofree guint8 *bitmap = g_malloc(super->block_bytes);
    if (ek_presence_read(reader, volume->start + group->inodes_bitmap * super->block_bytes, bitmap,
                         super->block_bytes) != EK_PRESENT)
        return 0;
    for (guint64 bit = 0; bit < bits; bit++)
        if ((bitmap[bit / 8] >> bit % 8 & 1) == 0) {
            free++;
            last = bit;
        }
    return free == group->free_inodes && free > 0
               ? MIN(ek_divide_up(last + 1, MAX(a_block, 8)) * MAX(a_block, 8), bits)
               : 0;
}

/* An empty group has all inodes free; where tables stand one behind the other their distance
 * tells, else the bitmap. */
static void find_inodes(EkReader *reader, Volume *volume)
{
    EkExtSuper *super = &volume->super;
    guint64 per_group = 0;
    EkExtDescriptor first = {0};
    EkExtDescriptor group;
    group_read(reader, volume, 0, &first);
    guint64 by_bitmap = inodes_by_bitmap(reader, volume, &first);
    for (guint64 i = 1; i < super->groups; i++)
        if (group_read(reader, volume, i, &group))
            per_group = MAX(per_group, group.free_inodes);
    if (super->groups > 1 && group_read(reader, volume, 1, &group) &&
        group.inode_table > first.inode_table &&
        group.inode_table - first.inode_table < super->blocks_per_group / 2)
        per_group =
            (group.inode_table - first.inode_table) * super->block_bytes / super->inode_bytes;
    else if (by_bitmap >= per_group && by_bitmap > 0)
        per_group = by_bitmap;
    else if (super->groups == 1)
        per_group = ek_divide_up(first.free_inodes + (guint64)FIRST_INODES, 8) * 8;
    super->inodes_per_group = (guint32)CLAMP(per_group, 1, (guint64)super->block_bytes * 8);
    super->inodes = (guint32)MIN(super->inodes_per_group * super->groups, G_MAXUINT32);
}

/* Blocks of the last group, as its bitmap tells: what is behind the end of the volume is marked as
 * used in it. */
static guint64 last_blocks(EkReader *reader, const Volume *volume)
{
    const EkExtSuper *super = &volume->super;
    EkExtDescriptor last;
    if (!group_read(reader, volume, super->groups - 1, &last))
        return 1;
    if ((last.flags & EK_EXT_BLOCKS_UNWRITTEN) != 0)
        return CLAMP(last.free_blocks, 1, super->blocks_per_group);
    g_autofree guint8 *bitmap = g_malloc(super->block_bytes);
    if (ek_presence_read(reader, volume->start + last.blocks_bitmap * super->block_bytes, bitmap,
                         super->block_bytes) != EK_PRESENT)
        return CLAMP(last.free_blocks, 1, super->blocks_per_group);
    guint64 bit = super->blocks_per_group;
    while (bit > 1 && (bitmap[(bit - 1) / 8] >> (bit - 1) % 8 & 1) != 0)
        bit--;
    return bit;
}

static void find_length(EkReader *reader, const GArray *places, Volume *volume)
{
    EkExtSuper *super = &volume->super;
    guint64 before = super->first_data_block + (super->groups - 1) * super->blocks_per_group;
    super->blocks = before + last_blocks(reader, volume);
    volume->is_least = TRUE;
    for (guint i = 0; i < places->len; i++) {
        EkRange place = g_array_index(places, EkRange, i);
        guint64 blocks = place.bytes / super->block_bytes;
        if (place.first == volume->start && blocks >= super->blocks &&
            blocks <= before + super->blocks_per_group) {
            super->blocks = blocks;
            volume->is_least = FALSE;
            return;
        }
    }
}

/* --- the volume ------------------------------------------------------------------------------ */

/* By what only the later ones have: files in extents, a journal. */
static const char *name_of(EkReader *reader, const Volume *volume)
{
    guint8 inode[128];
    EkSpan span = {inode, sizeof inode};
    EkByte bytes = volume->super.inode_bytes;
    if (ek_presence_read(reader, volume->inodes + bytes, inode, sizeof inode) == EK_PRESENT &&
        (ek_span_le32(span, 32) & EK_EXT_EXTENTS) != 0)
        return "ext4";
    if (ek_presence_read(reader, volume->inodes + (JOURNAL_INODE - 1) * bytes, inode,
                         sizeof inode) == EK_PRESENT &&
        ek_span_le16(span, 26) > 0)
        return "ext3";
    return "ext2";
}

static EkVolume *compose(EkReader *reader, const GArray *places, Volume *found)
{
    EkExtSuper *super = &found->super;
    find_inodes(reader, found);
    find_length(reader, places, found);
    EkVolume *volume = ek_volume_new(NULL, name_of(reader, found));
    ek_ext_super_compose(super, volume->header);
    volume->composed = volume->by_backup = TRUE;
    volume->first_byte = found->start;
    volume->header_byte = found->inodes;
    volume->metadata_byte = found->inodes;
    volume->own_sector_size = EK_STEP;
    volume->bytes = super->blocks * super->block_bytes;
    volume->length_is_least = found->is_least;
    ek_ext_properties(volume, super);
    ek_volume_reason(
        volume, 30,
        "no superblock found; the root folder (sector %" G_GUINT64_FORMAT
        ") and its inode (sector %" G_GUINT64_FORMAT ") agree on the start of the volume",
        (found->start + found->root_block * super->block_bytes) / EK_STEP, found->inodes / EK_STEP);
    ek_volume_reason(volume, 30,
                     "the table of %" G_GUINT64_FORMAT " groups at sector %" G_GUINT64_FORMAT
                     " names that inode table",
                     super->groups, found->groups_at / EK_STEP);
    ek_volume_reason(volume, 0, "its length is known from %s",
                     found->is_least ? "the bitmap of its last group" : "a partition table");
    ek_volume_reason(volume, 0, "UUID and label lost (stored only in the superblock)");
    ek_header_end(volume, TRUE);
    return volume;
}

/* Do this root folder and this inode table belong to one volume of such blocks? */
static gboolean fits(EkReader *reader, EkByte folder, const EkRecordRun *inodes,
                     guint32 block_bytes, Volume *volume)
{
    guint8 sector[EK_STEP];
    guint32 inode_bytes = inodes->stride == EK_EXT_SEEN_INODES ? 256 : 128;
    *volume = (Volume){.inodes = inodes->first_byte};
    if (ek_presence_read(reader, inodes->first_byte, sector, sizeof sector) != EK_PRESENT)
        return FALSE;
    volume->root_block =
        folder_block_of(ek_span_part((EkSpan){sector, sizeof sector}, inode_bytes, 128));
    if (volume->root_block == 0 || volume->root_block > folder / block_bytes)
        return FALSE;
    volume->start = folder - volume->root_block * block_bytes;
    volume->super = (EkExtSuper){
        .block_bytes = block_bytes,
        .first_data_block = block_bytes == BLOCK_LEAST ? 1 : 0,
        .blocks_per_group = block_bytes * 8,
        .inode_bytes = inode_bytes,
    };
    if (inodes->first_byte <= volume->start ||
        (inodes->first_byte - volume->start) % block_bytes != 0)
        return FALSE;
    g_autofree guint8 *block = g_malloc(block_bytes);
    return ek_presence_read(reader, folder, block, block_bytes) == EK_PRESENT &&
           entries_end((EkSpan){block, block_bytes}) && find_groups(reader, volume);
}

gboolean ek_ext_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink, void *data,
                      GError **error)
{
    const GArray *runs = sightings->runs;
    guint folders = 0;
    (void)error;
    for (guint i = 0; i < runs->len && folders < TRIED_MOST; i++) {
        const EkRecordRun *folder = &g_array_index(runs, EkRecordRun, i);
        guint tables = 0;
        gboolean found = FALSE;
        if (folder->stride != EK_EXT_SEEN_ROOT)
            continue;
        folders++;
        for (guint k = 0; k < runs->len && tables < TRIED_MOST && !found; k++) {
            const EkRecordRun *inodes = &g_array_index(runs, EkRecordRun, k);
            if (inodes->stride != EK_EXT_SEEN_INODES && inodes->stride != EK_EXT_SEEN_SMALL_INODES)
                continue;
            tables++;
            for (guint32 size = BLOCK_LEAST; size <= BLOCK_MOST && !found; size *= 2) {
                Volume volume;
                found = fits(reader, folder->first_byte, inodes, size, &volume);
                if (found)
                    sink(data, compose(reader, sightings->places, &volume));
            }
        }
    }
    return TRUE;
}
