/* SPDX-License-Identifier: MIT */
/* XFS volumes: offsets as in "XFS Algorithms & Data Structures", 3rd edition. Found by the
 * superblock of any allocation group, believed when further groups and the root folder are where it
 * says. What it distrusts: all groups hold the same superblock, and only the header behind it says
 * which group it is. The files are not listed by this version. */
#include "volume/formats.h"
#include "volume/headers.h"
#include "volume/xfs/log.h"

#include "base/checksum.h"

#define SUPER_MOST 4096u
#define CRC_OFFSET 224u
#define GROUPS_TRIED 4u
#define STARTS_TRIED 8u
#define FOLDER_MODE 0x4000u
#define SYSTEM_INODES 3u /* the root folder, and two of the real-time part */
#define INODE_BYTES 176u
#define FLAG_WIDE_TIMES 8u
#define NANOSECONDS 1000000000u

typedef struct {
    guint32 block_bytes;
    guint64 blocks;
    guint64 root;
    guint32 group_blocks;
    guint32 groups;
    guint32 sector_size;
    guint32 inode_bytes;
    guint8 block_inodes_log;
    guint8 group_blocks_log;
    gboolean has_checksum;
    gboolean checksum_fits;
} Super;

static const EkSignature signatures[] = {
    {.offset = 0, .length = 4, .bytes = {'X', 'F', 'S', 'B'}},
};

static gboolean checksum_fits(EkSpan span, guint32 sector_size)
{
    static const guint8 none[4] = {0};
    if (span.length < sector_size)
        return FALSE;
    guint32 sum = ek_crc32c(G_MAXUINT32, ek_span_part(span, 0, CRC_OFFSET));
    sum = ek_crc32c(sum, (EkSpan){none, sizeof none});
    sum = ek_crc32c(sum, ek_span_part(span, CRC_OFFSET + 4, sector_size - CRC_OFFSET - 4));
    return ~sum == ek_span_le32(span, CRC_OFFSET);
}

static gboolean super_read(EkSpan span, Super *super)
{
    if (span.length < EK_HEADER_BYTES || !ek_span_equals(span, 0, "XFSB", 4))
        return FALSE;
    guint16 version = ek_span_be16(span, 100) & 15;
    *super = (Super){
        .block_bytes = ek_span_be32(span, 4),
        .blocks = ek_span_be64(span, 8),
        .root = ek_span_be64(span, 56),
        .group_blocks = ek_span_be32(span, 84),
        .groups = ek_span_be32(span, 88),
        .sector_size = ek_span_be16(span, 102),
        .inode_bytes = ek_span_be16(span, 104),
        .block_inodes_log = ek_span_u8(span, 123),
        .group_blocks_log = ek_span_u8(span, 124),
        .has_checksum = version == 5,
    };
    if (!ek_is_power_of_two(super->block_bytes) || super->block_bytes < 512 ||
        super->block_bytes > 65536 || !ek_is_power_of_two(super->sector_size) ||
        super->sector_size < 512 || super->sector_size > super->block_bytes ||
        !ek_is_power_of_two(super->inode_bytes) || super->inode_bytes < 256 ||
        super->inode_bytes > 2048 || version < 1 || version > 5)
        return FALSE;
    if (super->has_checksum)
        super->checksum_fits = checksum_fits(span, super->sector_size);
    return super->group_blocks >= 64 && super->groups > 0 &&
           super->blocks < (guint64)G_MAXINT64 / super->block_bytes &&
           super->blocks > (guint64)super->group_blocks * (super->groups - 1) &&
           super->blocks <= (guint64)super->group_blocks * super->groups &&
           super->group_blocks_log < 32 && super->block_inodes_log < 16 &&
           (guint64)super->group_blocks <= (guint64)1 << super->group_blocks_log;
}

static EkByte group_byte(const Super *super, guint64 group)
{
    return group * super->group_blocks * super->block_bytes;
}

/* The group's number stands in the header behind the superblock; G_MAXUINT32: it is not there. */
static guint32 group_of(EkSpan span, const Super *super)
{
    if (!ek_span_equals(span, super->sector_size, "XAGF", 4))
        return G_MAXUINT32;
    return ek_span_be32(span, (gsize)super->sector_size + 8);
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    Super super;
    if (!super_read(span, &super))
        return 0;
    guint32 group = group_of(span, &super);
    if (group == G_MAXUINT32)
        group = 0;
    if (group >= super.groups || group_byte(&super, group) > at)
        return 0;
    candidates[0] = (EkCandidate){at - group_byte(&super, group), at,
                                  group == 0 ? EK_ROLE_PRIMARY : EK_ROLE_BACKUP};
    return 1;
}

static EkPresence look_at_group(EkReader *reader, const EkVolume *volume, const Super *super,
                                EkSpan own, guint32 group)
{
    guint8 data[2 * SUPER_MOST];
    EkSpan span = {data, (gsize)super->sector_size * 2};
    Super other;
    if (super->sector_size > SUPER_MOST)
        return EK_UNREAD;
    EkPresence part =
        ek_presence_read(reader, volume->first_byte + group_byte(super, group), data, span.length);
    if (part == EK_PRESENT &&
        (!super_read(span, &other) || memcmp(data + 32, own.data + 32, 16) != 0 ||
         group_of(span, super) != group))
        part = EK_ABSENT;
    return part;
}

/* *there and *unread count groups other than the one whose header was found. */
static void weigh_groups(EkReader *reader, EkVolume *volume, const Super *super, EkSpan own,
                         guint *there, guint *unread)
{
    guint tried = 0;
    for (guint32 group = 0; group < super->groups && tried < GROUPS_TRIED; group++) {
        EkByte at = volume->first_byte + group_byte(super, group);
        if (at == volume->header_byte && group == 0)
            ek_presence_reason(volume, EK_PRESENT, "the primary superblock", at, 15);
        if (at == volume->header_byte)
            continue;
        EkPresence part = look_at_group(reader, volume, super, own, group);
        tried++;
        if (group == 0)
            ek_presence_reason(volume, part, "the primary superblock", at, 15);
        *there += part == EK_PRESENT;
        *unread += part == EK_UNREAD;
    }
    if (tried > 0)
        ek_volume_reason(volume,
                         *there > 1    ? 20
                         : *there == 1 ? 15
                                       : 0,
                         "%u of %u further allocation groups looked for are where it says%s",
                         *there, tried, *unread > 0 ? ", some were not read" : "");
}

/* A time of an inode: seconds, or since 2021 nanoseconds from 2^31 s before 1970 on. */
static EkTimestamp timestamp_of(EkSpan inode, gsize offset)
{
    gboolean wide = ek_span_u8(inode, 4) >= 3 && (ek_span_be64(inode, 120) & FLAG_WIDE_TIMES) != 0;
    gint64 seconds = wide ? (gint64)(ek_span_be64(inode, offset) / NANOSECONDS) - ((gint64)1 << 31)
                          : (gint32)ek_span_be32(inode, offset);
    return (EkTimestamp){.seconds = seconds, .is_set = seconds > 0};
}

/* The root folder was made when the volume was; what is done in it dates that. */
static void take_timestamps(EkVolume *volume, EkSpan inode)
{
    if (ek_span_u8(inode, 4) >= 3)
        volume->created = timestamp_of(inode, 144);
    ek_timestamp_advance(&volume->used, timestamp_of(inode, 40));
    ek_timestamp_advance(&volume->used, timestamp_of(inode, 48));
}

static EkPresence look_at_root(EkReader *reader, EkVolume *volume, const Super *super, EkByte *at)
{
    guint8 inode[INODE_BYTES];
    guint64 in_block = super->root & (((guint64)1 << super->block_inodes_log) - 1);
    guint64 block = super->root >> super->block_inodes_log;
    guint64 group = block >> super->group_blocks_log;
    block &= ((guint64)1 << super->group_blocks_log) - 1;
    *at = volume->first_byte;
    if (group >= super->groups || block >= super->group_blocks)
        return EK_ABSENT;
    *at += group_byte(super, group) + block * super->block_bytes + in_block * super->inode_bytes;
    EkPresence part = ek_presence_read(reader, *at, inode, sizeof inode);
    EkSpan span = {inode, sizeof inode};
    if (part == EK_PRESENT &&
        (!ek_span_equals(span, 0, "IN", 2) || (ek_span_be16(span, 2) & 0xf000) != FOLDER_MODE))
        part = EK_ABSENT;
    if (part == EK_PRESENT)
        take_timestamps(volume, span);
    return part;
}

/* Where the volume begins when the header that numbers this group was not read: another group's
 * tells. */
static EkByte find_start(EkReader *reader, EkVolume *volume, const Super *super, EkSpan own)
{
    EkByte header = volume->header_byte;
    for (guint32 group = 0; group < MIN(super->groups, STARTS_TRIED); group++) {
        if (group_byte(super, group) > header)
            break;
        volume->first_byte = header - group_byte(super, group);
        for (guint32 other = 0; other < MIN(super->groups, GROUPS_TRIED); other++)
            if (other != group && look_at_group(reader, volume, super, own, other) == EK_PRESENT)
                return volume->first_byte;
    }
    return header;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[2 * SUPER_MOST];
    EkSpan span = {data, sizeof data};
    Super super;
    g_autoptr(EkVolume) volume =
        ek_header_begin("xfs", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !super_read(span, &super))
        return g_steal_pointer(&volume);
    /* With sectors as large as the recogniser's window only now can be told which group it is. */
    guint32 group = group_of(span, &super);
    gboolean numbered = group != G_MAXUINT32;
    if (numbered && group < super.groups && group_byte(&super, group) <= candidate->header_byte)
        volume->first_byte = candidate->header_byte - group_byte(&super, group);
    else if (!numbered)
        volume->first_byte = find_start(reader, volume, &super, span);
    volume->bytes = super.blocks * super.block_bytes;
    volume->own_sector_size = super.sector_size;
    volume->uuid = ek_volume_uuid(ek_span_part(span, 32, 16));
    volume->label = ek_volume_label(ek_span_part(span, 108, 12));
    guint64 inodes = ek_span_be64(span, 128);
    guint64 free_inodes = ek_span_be64(span, 136);
    /* Only the first copy is kept up to date. */
    if (group == 0 && inodes < G_MAXINT64 && free_inodes + SYSTEM_INODES <= inodes)
        ek_volume_property_number(volume, EK_PROPERTY_FILES, inodes - free_inodes - SYSTEM_INODES);
    ek_volume_property_number(volume, "bytes per block", super.block_bytes);
    ek_volume_property_number(volume, "blocks", super.blocks);
    ek_volume_property_number(volume, "allocation groups", super.groups);
    ek_volume_property_number(volume, "blocks per group", super.group_blocks);
    ek_volume_property_number(volume, "bytes per inode", super.inode_bytes);
    ek_volume_property_number(volume, "root folder's inode", super.root);

    ek_volume_reason(volume, 20, "superblock at sector %" G_GUINT64_FORMAT " is valid",
                     candidate->header_byte / EK_STEP);
    if (super.has_checksum)
        ek_volume_reason(volume, super.checksum_fits ? 15 : 0, "its checksum %s",
                         super.checksum_fits ? "fits" : "does not fit");
    guint there = 0;
    guint unread = 0;
    weigh_groups(reader, volume, &super, span, &there, &unread);
    EkByte at = 0;
    EkPresence root = look_at_root(reader, volume, &super, &at);
    ek_presence_reason(volume, root, "the root folder's inode", at, 35);
    ek_header_end(volume, root == EK_PRESENT || there > 0 ||
                              (numbered && (root == EK_UNREAD || unread > 0)));
    return g_steal_pointer(&volume);
}

#define LOG_START 48u
#define LOG_BLOCKS 96u
#define IN_PROGRESS 126u /* a copy may still say that the volume is being made */
#define ROOT_UNKNOWN G_MAXUINT64

/* A copy that knows the root folder. FALSE: there is none. */
static gboolean find_copy(EkReader *reader, const EkVolume *volume, guint8 *data, gsize length,
                          EkByte *at)
{
    EkSpan span = {data, length};
    Super super;
    *at = volume->header_byte;
    if (ek_presence_read(reader, *at, data, length) != EK_PRESENT || !super_read(span, &super))
        return FALSE;
    if (super.root != ROOT_UNKNOWN)
        return TRUE;
    for (guint32 group = super.groups - 1; group > 0; group--) {
        Super other;
        *at = volume->first_byte + group_byte(&super, group);
        if (ek_presence_read(reader, *at, data, length) == EK_PRESENT && super_read(span, &other) &&
            other.root != ROOT_UNKNOWN && other.blocks == super.blocks)
            return TRUE;
    }
    return FALSE;
}

/* Copies are not kept up to date: what is counted is added up from the groups' headers, where all
 * of them were read; the file system's own checker makes good what remains. */
static void count_again(EkReader *reader, const EkVolume *volume, const Super *super, guint8 *copy)
{
    guint64 inodes = 0;
    guint64 free_inodes = 0;
    guint64 free_blocks = 0;
    for (guint32 group = 0; group < super->groups; group++) {
        guint8 headers[2][64];
        EkSpan space = {headers[0], sizeof headers[0]};
        EkSpan files = {headers[1], sizeof headers[1]};
        EkByte at = volume->first_byte + group_byte(super, group) + super->sector_size;
        if (ek_presence_read(reader, at, headers[0], sizeof headers[0]) != EK_PRESENT ||
            ek_presence_read(reader, at + super->sector_size, headers[1], sizeof headers[1]) !=
                EK_PRESENT ||
            !ek_span_equals(space, 0, "XAGF", 4) || !ek_span_equals(files, 0, "XAGI", 4))
            return;
        free_blocks +=
            (guint64)ek_span_be32(space, 48) + ek_span_be32(space, 52) + ek_span_be32(space, 60);
        inodes += ek_span_be32(files, 16);
        free_inodes += ek_span_be32(files, 28);
    }
    ek_put_be64(copy + 128, inodes);
    ek_put_be64(copy + 136, free_inodes);
    ek_put_be64(copy + 144, free_blocks);
}

/* The primary superblock from a copy. */
static gboolean repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error)
{
    guint8 copy[SUPER_MOST];
    guint8 there[SUPER_MOST];
    gsize length = MIN(volume->own_sector_size, SUPER_MOST);
    EkSpan span = {copy, length};
    Super super;
    EkByte at = 0;
    (void)error;
    if (ek_presence_read(reader, volume->first_byte, there, length) == EK_PRESENT &&
        super_read((EkSpan){there, length}, &super) &&
        (!super.has_checksum || super.checksum_fits) &&
        memcmp(there + 32, volume->header + 32, 16) == 0)
        return TRUE;
    if (!find_copy(reader, volume, copy, length, &at) || !super_read(span, &super))
        return TRUE; /* that it does not open is told by the check */
    copy[IN_PROGRESS] = 0;
    /* The inodes of the real-time part follow the root folder's. */
    if (ek_span_be64(span, 64) == ROOT_UNKNOWN && ek_span_be64(span, 72) == ROOT_UNKNOWN) {
        ek_put_be64(copy + 64, super.root + 1);
        ek_put_be64(copy + 72, super.root + 2);
    }
    count_again(reader, volume, &super, copy);
    if (super.has_checksum) {
        memset(copy + CRC_OFFSET, 0, 4);
        ek_put_le32(copy + CRC_OFFSET, ~ek_crc32c(G_MAXUINT32, span));
    }
    g_autofree char *from =
        g_strdup_printf("the backup copy at sector %" G_GUINT64_FORMAT, at / EK_STEP);
    ek_header_repair_range(reader, "xfs-superblock", volume->first_byte, copy, length,
                           "primary superblock", from, sink, data);
    return TRUE;
}

static EkByte backup(const EkVolume *volume)
{
    Super super;
    if (!super_read(ek_volume_header(volume), &super) || super.groups < 2)
        return EK_UNPLACED;
    return volume->first_byte + group_byte(&super, 1);
}

static char *unclean(EkReader *reader, const EkVolume *volume)
{
    EkSpan header = ek_volume_header(volume);
    Super super;
    guint64 start = ek_span_be64(header, LOG_START);
    if (!super_read(header, &super) || start == 0) /* 0: on a drive of its own */
        return NULL;
    guint64 group = start >> super.group_blocks_log;
    guint64 block = group * super.group_blocks + (start & ((1ull << super.group_blocks_log) - 1));
    EkByte bytes = (EkByte)ek_span_be32(header, LOG_BLOCKS) * super.block_bytes;
    if (block >= super.blocks ||
        !ek_xfs_log_is_due(reader, volume->first_byte + block * super.block_bytes, bytes))
        return NULL;
    return g_strdup("The log holds changes and is not applied. " EK_UNCLEAN_TEXT);
}

const EkFileSystem ek_fs_xfs = {
    .name = "xfs",
    .types = {{.mbr = 0x83, .gpt = "Linux", .apm = "Apple_UNIX_SVR2"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
    .repair = repair,
    .unclean = unclean,
    .backup = backup,
};
