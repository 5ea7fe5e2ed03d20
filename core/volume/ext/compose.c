/* SPDX-License-Identifier: MIT */
/* A superblock where none is left. */
#include "volume/ext/compose.h"

#include "base/checksum.h"
#include "volume/ext/inode.h"
#include "volume/headers.h"

#include <string.h>

#define COMPAT_JOURNAL 0x4u
#define COMPAT_ATTRIBUTES 0x8u
#define COMPAT_RESIZE 0x10u
#define INCOMPAT_TYPES 0x2u
#define INCOMPAT_EXTENTS 0x40u
#define INCOMPAT_WIDE 0x80u
#define INCOMPAT_FLEX 0x200u
#define INCOMPAT_LARGE_ATTRIBUTES 0x400u
#define INCOMPAT_SUM_SEED 0x2000u
#define INCOMPAT_INLINE 0x8000u
#define INCOMPAT_ENCRYPT 0x10000u
#define RO_SPARSE 0x1u
#define RO_LARGE_FILES 0x2u
#define RO_HUGE_FILES 0x8u
#define RO_GROUP_SUMS 0x10u
#define RO_LINKS 0x20u
#define RO_EXTRA 0x40u
#define RO_CHECKSUM 0x400u
#define RO_VERITY 0x8000u
#define FLAG_VERITY 0x100000u /* of an inode */
#define FLAG_ATTRIBUTES 0x200000u

#define RESIZE_INODE 7u
#define EXTRA_BYTES 32u /* of an inode, as it is usual */
#define SIGNED_NAMES 1u
#define USUAL_FLEX 4u /* 16 groups, as a power of two */
#define SAMPLES 64u   /* inodes that are looked at for the seed of sums */

typedef struct {
    const EkExtRecount *recount;
    guint8 inode[4096]; /* the one at hand */
    guint32 compat;
    guint32 incompat;
    guint32 ro;
    guint32 seed;
    guint fits;   /* inodes with a sum that fits the seed */
    guint misfit; /* and with one that does not */
} Features;

/* --- inodes --------------------------------------------------------------------------------- */

static EkExtDescriptor group_of(const EkExtRecount *recount, guint64 group)
{
    return ek_ext_descriptor_read(
        (EkSpan){recount->descriptors + group * recount->super.descriptor_bytes,
                 recount->super.descriptor_bytes});
}

/* Reads inode `number`, from 1. FALSE when it was not read. */
static gboolean load_inode(Features *features, guint64 number)
{
    const EkExtRecount *recount = features->recount;
    const EkExtSuper *super = &recount->super;
    guint64 group = (number - 1) / super->inodes_per_group;
    guint64 index = (number - 1) % super->inodes_per_group;
    EkByte table = recount->first_byte + group_of(recount, group).inode_table * super->block_bytes;
    return super->inode_bytes <= sizeof features->inode && group < super->groups &&
           ek_presence_read(recount->reader, table + index * super->inode_bytes, features->inode,
                            super->inode_bytes) == EK_PRESENT;
}

static EkSpan inode_of(const Features *features)
{
    return (EkSpan){features->inode, features->recount->super.inode_bytes};
}

/* --- the seed of sums ----------------------------------------------------------------------- */

/* Where inodes have sums of 32 bits, the first tells the seed and the others must agree. */
static void note_sum(Features *features, guint64 number)
{
    EkSpan inode = inode_of(features);
    guint32 seed;
    if (features->fits + features->misfit >= SAMPLES ||
        !ek_ext_inode_seed(inode, (guint32)number, &seed))
        return;
    if (features->fits == 0)
        features->seed = seed;
    if (seed == features->seed)
        features->fits++;
    else
        features->misfit++;
}

/* --- features ------------------------------------------------------------------------------- */

static void note_inode(Features *features, guint64 number)
{
    EkExtInode inode = ek_ext_inode_read(inode_of(features));
    guint32 flags = inode.flags;
    if (inode.mode == 0)
        return;
    note_sum(features, number);
    if ((flags & EK_EXT_EXTENTS) != 0)
        features->incompat |= INCOMPAT_EXTENTS;
    if ((flags & EK_EXT_INLINE) != 0)
        features->incompat |= INCOMPAT_INLINE;
    if ((flags & EK_EXT_ENCRYPTED) != 0)
        features->incompat |= INCOMPAT_ENCRYPT;
    if ((flags & FLAG_ATTRIBUTES) != 0)
        features->incompat |= INCOMPAT_LARGE_ATTRIBUTES;
    if ((flags & FLAG_VERITY) != 0)
        features->ro |= RO_VERITY;
    if (inode.attributes != 0)
        features->compat |= COMPAT_ATTRIBUTES;
}

/* All inodes that are in use, as far as they and the bitmaps were read. */
static void look_at_inodes(Features *features)
{
    const EkExtSuper *super = &features->recount->super;
    g_autofree guint8 *bitmap = g_malloc(super->block_bytes);
    for (guint64 group = 0; group < super->groups; group++) {
        EkByte at = features->recount->first_byte +
                    group_of(features->recount, group).inodes_bitmap * super->block_bytes;
        if (ek_presence_read(features->recount->reader, at, bitmap, super->block_bytes) !=
            EK_PRESENT)
            continue;
        for (guint64 i = 0; i < super->inodes_per_group; i++) {
            guint64 number = group * super->inodes_per_group + i + 1;
            if ((bitmap[i / 8] >> i % 8 & 1) != 0 && load_inode(features, number))
                note_inode(features, number);
        }
    }
}

/* Bitmaps of later groups stand in the first one. */
static guint flex_log(const Features *features)
{
    const EkExtRecount *recount = features->recount;
    const EkExtSuper *super = &recount->super;
    guint64 end = super->first_data_block + super->blocks_per_group;
    guint64 count = 0;
    guint log = 0;
    while (count < super->groups && group_of(recount, count).blocks_bitmap < end)
        count++;
    if (count < 2)
        return 0;
    while ((1ull << (log + 1)) <= count)
        log++;
    return count == super->groups ? MAX(log, USUAL_FLEX) : log;
}

/* Blocks between the descriptors and the first bitmap, which the table of groups may grow into. */
static guint64 reserved_blocks(const EkExtRecount *recount)
{
    const EkExtSuper *super = &recount->super;
    guint64 table =
        ek_divide_up(super->groups * super->descriptor_bytes, (guint64)super->block_bytes);
    guint64 behind = super->first_data_block + 1 + table;
    guint64 bitmap = group_of(recount, 0).blocks_bitmap;
    return bitmap > behind ? MIN(bitmap - behind, super->block_bytes / 4) : 0;
}

static gboolean has_sums(const EkExtRecount *recount)
{
    for (guint64 group = 0; group < recount->super.groups; group++)
        if (group_of(recount, group).sum != 0)
            return TRUE;
    return FALSE;
}

static gboolean find_features(Features *features)
{
    const EkExtRecount *recount = features->recount;
    look_at_inodes(features);
    if (!load_inode(features, EK_EXT_ROOT))
        return FALSE;
    features->incompat |= INCOMPAT_TYPES;
    features->ro |= RO_SPARSE | RO_LARGE_FILES;
    gboolean is_new = (features->incompat & INCOMPAT_EXTENTS) != 0;
    if (is_new)
        features->ro |= RO_HUGE_FILES | RO_LINKS;
    if (is_new && recount->super.inode_bytes > 128)
        features->ro |= RO_EXTRA;
    if (recount->super.descriptor_bytes >= 64)
        features->incompat |= INCOMPAT_WIDE;
    if (flex_log(features) > 0)
        features->incompat |= INCOMPAT_FLEX;
    if (features->fits > 1 && features->misfit == 0) {
        features->ro |= RO_CHECKSUM;
        features->incompat |= INCOMPAT_SUM_SEED;
    } else if (has_sums(recount)) {
        features->ro |= RO_GROUP_SUMS;
    }
    if (load_inode(features, RESIZE_INODE) && ek_ext_inode_read(inode_of(features)).mode != 0)
        features->compat |= COMPAT_RESIZE;
    if (load_inode(features, EK_EXT_JOURNAL) && ek_ext_inode_read(inode_of(features)).links != 0)
        features->compat |= COMPAT_JOURNAL;
    return TRUE;
}

gboolean ek_ext_compose_super(EkExtRecount *recount, const EkVolume *volume)
{
    g_autofree Features *features = g_new0(Features, 1);
    guint8 *raw = recount->raw;
    features->recount = recount;
    memset(raw, 0, EK_EXT_SUPER_BYTES);
    memcpy(raw, volume->header, EK_HEADER_BYTES);
    ek_put_le32(raw + 4, (guint32)(recount->super.blocks & 0xffffffff));
    ek_put_le32(raw + 336, (guint32)(recount->super.blocks >> 32));
    if (!find_features(features))
        return FALSE;
    ek_put_le16(raw + 54, G_MAXUINT16); /* mounts before a check: no matter */
    ek_put_le16(raw + 58, 1);           /* clean */
    ek_put_le16(raw + 60, 1);           /* go on after errors */
    ek_put_le32(raw + 92, features->compat);
    ek_put_le32(raw + 96, features->incompat);
    ek_put_le32(raw + 100, features->ro);
    /* Its identity stood nowhere else: one that is made of what is known of it. */
    guint8 mode[4] = {'e', 'x', 't', 0};
    for (guint i = 0; i < 4; i++) {
        mode[3] = (guint8)i;
        guint32 part = ek_crc32c(ek_crc32c(features->seed, (EkSpan){mode, sizeof mode}),
                                 ek_volume_header(volume));
        ek_put_le32(raw + 104 + 4ul * i, part);
    }
    raw[110] = (guint8)((raw[110] & 0x0f) | 0x40);
    raw[112] = (guint8)((raw[112] & 0x3f) | 0x80);
    if ((features->compat & COMPAT_RESIZE) != 0)
        ek_put_le16(raw + 206, (guint16)reserved_blocks(recount));
    if ((features->compat & COMPAT_JOURNAL) != 0)
        ek_put_le32(raw + 224, EK_EXT_JOURNAL);
    if ((features->ro & RO_EXTRA) != 0) {
        ek_put_le16(raw + 348, EXTRA_BYTES);
        ek_put_le16(raw + 350, EXTRA_BYTES);
    }
    ek_put_le32(raw + 352, SIGNED_NAMES);
    raw[372] = (guint8)flex_log(features);
    if ((features->ro & RO_CHECKSUM) != 0) {
        raw[373] = 1; /* CRC-32C */
        ek_put_le32(raw + 624, features->seed);
    }
    return ek_ext_super_read((EkSpan){raw, EK_EXT_SUPER_BYTES}, &recount->super);
}
