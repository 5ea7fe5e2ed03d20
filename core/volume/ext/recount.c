/* SPDX-License-Identifier: MIT */
/* The counts of a group descriptor, from the bitmaps and the inodes. */
#include "volume/ext/recount.h"

#include "base/checksum.h"
#include "volume/ext/journal.h"
#include "volume/headers.h"

#include <string.h>

#define COMPAT_JOURNAL 0x4u
#define RO_GROUP_SUMS 0x10u
#define RO_BIGALLOC 0x200u
#define RO_CHECKSUM 0x400u
#define SUM_AT 30u /* in a descriptor */
#define WIDE_BYTES 64u
#define PIECE_BYTES 65536u
#define OWN_INODES 10u
#define NOISE_LEAST 64u /* bits */

static EkSpan raw_of(const EkExtRecount *recount)
{
    return (EkSpan){recount->raw, EK_EXT_SUPER_BYTES};
}

static gboolean has_ro(const EkExtRecount *recount, guint32 feature)
{
    EkSpan raw = raw_of(recount);
    return ek_span_le32(raw, 76) != 0 && (ek_span_le32(raw, 100) & feature) != 0;
}

/* --- sums ----------------------------------------------------------------------------------- */

void ek_ext_sum_group(const EkExtRecount *recount, guint64 group)
{
    guint32 bytes = recount->super.descriptor_bytes;
    guint8 *descriptor = recount->descriptors + group * bytes;
    EkSpan span = {descriptor, bytes};
    EkSpan behind = ek_span_part(span, SUM_AT + 2, bytes - SUM_AT - 2);
    guint8 number[4];
    EkSpan own = {number, sizeof number};
    ek_put_le32(number, (guint32)group);
    if (has_ro(recount, RO_CHECKSUM)) {
        static const guint8 zeros[2];
        guint32 sum = ek_crc32c(recount->super.seed, own);
        sum = ek_crc32c(sum, ek_span_part(span, 0, SUM_AT));
        sum = ek_crc32c(sum, (EkSpan){zeros, sizeof zeros});
        ek_put_le16(descriptor + SUM_AT, (guint16)(ek_crc32c(sum, behind) & 0xffff));
    } else if (has_ro(recount, RO_GROUP_SUMS)) {
        guint16 sum = ek_crc16_from(0xffff, ek_span_part(raw_of(recount), 104, 16));
        sum = ek_crc16_from(sum, own);
        sum = ek_crc16_from(sum, ek_span_part(span, 0, SUM_AT));
        ek_put_le16(descriptor + SUM_AT, bytes > 32 ? ek_crc16_from(sum, behind) : sum);
    }
}

/* --- a group -------------------------------------------------------------------------------- */

static EkExtDescriptor read_descriptor(const EkExtRecount *recount, const guint8 *descriptor)
{
    return ek_ext_descriptor_read((EkSpan){descriptor, recount->super.descriptor_bytes});
}

/* Fields of a descriptor have a low half, and a high one where there is room. */
static void put_half(const EkExtRecount *recount, guint8 *descriptor, gsize low, gsize high,
                     guint32 value)
{
    ek_put_le16(descriptor + low, (guint16)(value & 0xffff));
    if (recount->super.descriptor_bytes >= WIDE_BYTES)
        ek_put_le16(descriptor + high, (guint16)(value >> 16));
}

/* A bitmap that was read as a whole; NULL otherwise. The caller frees. */
static guint8 *load_bitmap(const EkExtRecount *recount, guint64 block)
{
    guint32 bytes = recount->super.block_bytes;
    g_autofree guint8 *bitmap = g_malloc(bytes);
    if (block >= recount->super.blocks ||
        ek_presence_read(recount->reader, recount->first_byte + block * bytes, bitmap, bytes) !=
            EK_PRESENT)
        return NULL;
    return g_steal_pointer(&bitmap);
}

static gboolean is_used(const guint8 *bitmap, guint64 bit)
{
    return (bitmap[bit / 8] >> bit % 8 & 1) != 0;
}

static guint32 count_free(const guint8 *bitmap, guint64 bits)
{
    guint32 count = 0;
    for (guint64 bit = 0; bit < bits; bit++)
        count += is_used(bitmap, bit) ? 0 : 1;
    return count;
}

static void put_bitmap_sum(const EkExtRecount *recount, guint8 *descriptor, const guint8 *bitmap,
                           guint64 bits, gsize low, gsize high)
{
    if (has_ro(recount, RO_CHECKSUM))
        put_half(recount, descriptor, low, high,
                 ek_crc32c(recount->super.seed, (EkSpan){bitmap, (gsize)(bits / 8)}));
}

/* Blocks, or clusters of them, that one bit stands for. */
static guint32 blocks_a_bit(const EkExtRecount *recount)
{
    EkSpan raw = raw_of(recount);
    guint32 log = ek_span_le32(raw, 28) - ek_span_le32(raw, 24);
    return has_ro(recount, RO_BIGALLOC) && log < 20 ? 1u << log : 1;
}

static guint32 count_turns(const guint8 *bitmap, guint64 bits)
{
    guint32 count = 0;
    for (guint64 bit = 1; bit < bits; bit++)
        count += is_used(bitmap, bit) != is_used(bitmap, bit - 1) ? 1 : 0;
    return count;
}

/* A bitmap that was never written may hold anything: an empty one is ignored where the group is
 * flagged so. In every bitmap the bits behind the last block or inode are set. */
static gboolean was_written(const EkExtRecount *recount, const guint8 *descriptor, guint16 flag,
                            const guint8 *bitmap, guint64 bits)
{
    gboolean is_flagged = (read_descriptor(recount, descriptor).flags & flag) != 0 &&
                          has_ro(recount, RO_GROUP_SUMS | RO_CHECKSUM);
    guint64 end = (guint64)recount->super.block_bytes * 8;
    return (!is_flagged || !ek_bytes_are_zero(bitmap, (gsize)(bits / 8))) &&
           count_free(bitmap + bits / 8, end - bits / 8 * 8) ==
               count_free(bitmap + bits / 8, bits % 8);
}

static void clear_flag(const EkExtRecount *recount, guint8 *descriptor, guint16 flag)
{
    ek_put_le16(descriptor + 18, (guint16)(read_descriptor(recount, descriptor).flags & ~flag));
}

/* Does the bitmap say that a group's own bitmaps and inodes are in use, as far as these are in this
 * group? And blocks in use are neighbours, where in noise every second bit differs from the last.
 */
static gboolean blocks_are_plausible(const EkExtRecount *recount, const guint8 *descriptor,
                                     guint64 before, const guint8 *bitmap, guint64 bits)
{
    guint32 a_bit = blocks_a_bit(recount);
    EkExtDescriptor is = read_descriptor(recount, descriptor);
    guint64 own[] = {is.blocks_bitmap, is.inodes_bitmap, is.inode_table};
    for (gsize i = 0; i < G_N_ELEMENTS(own); i++) {
        guint64 block = own[i];
        if (block >= before && (block - before) / a_bit < bits &&
            !is_used(bitmap, (block - before) / a_bit))
            return FALSE;
    }
    return bits < NOISE_LEAST || count_turns(bitmap, bits) <= bits / 3;
}

static void recount_blocks(const EkExtRecount *recount, guint64 group, guint8 *descriptor)
{
    const EkExtSuper *super = &recount->super;
    g_autofree guint8 *bitmap =
        load_bitmap(recount, read_descriptor(recount, descriptor).blocks_bitmap);
    guint64 before = super->first_data_block + group * super->blocks_per_group;
    guint64 blocks = MIN(super->blocks - before, super->blocks_per_group);
    guint32 a_bit = blocks_a_bit(recount);
    guint64 bits = MIN(ek_divide_up(blocks, a_bit), (guint64)super->block_bytes * 8);
    guint64 all = MIN(super->blocks_per_group / a_bit, (guint64)super->block_bytes * 8);
    if (bitmap == NULL ||
        !was_written(recount, descriptor, EK_EXT_BLOCKS_UNWRITTEN, bitmap, bits) ||
        !blocks_are_plausible(recount, descriptor, before, bitmap, bits))
        return;
    clear_flag(recount, descriptor, EK_EXT_BLOCKS_UNWRITTEN);
    put_half(recount, descriptor, 12, 44, count_free(bitmap, bits));
    put_bitmap_sum(recount, descriptor, bitmap, all, 24, 56);
}

/* The inodes that a bitmap calls used, as far as they were read. */
typedef struct {
    guint32 folders;
    guint32 files; /* of any kind, folders included */
    guint32 empty;
    guint32 impossible;
    guint64 end; /* behind the last one in use */
} Tally;

static void count_inode(const EkExtVolume *volume, EkSpan inode, Tally *tally)
{
    guint16 mode = ek_ext_inode_read(inode).mode;
    if (mode == 0)
        tally->empty++;
    else if (!ek_ext_inode_is_possible(volume, inode))
        tally->impossible++;
    else {
        tally->files++;
        tally->folders += (mode & EK_EXT_TYPE) == EK_EXT_FOLDER ? 1 : 0;
    }
}

static Tally count_inodes(const EkExtRecount *recount, const guint8 *descriptor,
                          const guint8 *bitmap)
{
    const EkExtSuper *super = &recount->super;
    g_autofree guint8 *piece = g_malloc(PIECE_BYTES);
    guint64 from = 0; /* inodes in the piece */
    guint64 behind = 0;
    gboolean is_read = FALSE;
    EkByte table =
        recount->first_byte + read_descriptor(recount, descriptor).inode_table * super->block_bytes;
    EkExtVolume volume = {.reader = recount->reader, .super = *super};
    Tally tally = {0};
    for (guint64 i = 0; i < super->inodes_per_group; i++) {
        if (!is_used(bitmap, i))
            continue;
        tally.end = i + 1;
        if (i >= behind) {
            from = i;
            behind = MIN(i + PIECE_BYTES / super->inode_bytes, super->inodes_per_group);
            gsize bytes = (gsize)((behind - from) * super->inode_bytes);
            is_read = ek_presence_read(recount->reader, table + i * super->inode_bytes, piece,
                                       bytes) == EK_PRESENT;
        }
        gsize at = (gsize)(i - from) * super->inode_bytes;
        if (is_read)
            count_inode(&volume, (EkSpan){piece + at, super->inode_bytes}, &tally);
    }
    return tally;
}

/* Is this a bitmap of these inodes? The format's own ones are unlike files, and some are empty. */
static gboolean inodes_are_plausible(const Tally *tally)
{
    return tally->empty + tally->impossible <= OWN_INODES + tally->files / 8;
}

/* Inodes that cannot be are no folders; a bitmap that does not fit its inodes counts nothing. */
static void recount_inodes(const EkExtRecount *recount, guint8 *descriptor)
{
    const EkExtSuper *super = &recount->super;
    guint64 bits = super->inodes_per_group;
    g_autofree guint8 *bitmap =
        load_bitmap(recount, read_descriptor(recount, descriptor).inodes_bitmap);
    if (bitmap == NULL || !was_written(recount, descriptor, EK_EXT_INODES_UNWRITTEN, bitmap, bits))
        return;
    Tally tally = count_inodes(recount, descriptor, bitmap);
    if (!inodes_are_plausible(&tally))
        return;
    clear_flag(recount, descriptor, EK_EXT_INODES_UNWRITTEN);
    put_half(recount, descriptor, 14, 46, count_free(bitmap, bits));
    put_half(recount, descriptor, 16, 48, tally.folders);
    if (has_ro(recount, RO_GROUP_SUMS | RO_CHECKSUM))
        put_half(recount, descriptor, 28, 50, (guint32)(bits - tally.end));
    put_bitmap_sum(recount, descriptor, bitmap, bits, 26, 58);
}

void ek_ext_recount_group(const EkExtRecount *recount, guint64 group)
{
    guint8 *descriptor = recount->descriptors + group * recount->super.descriptor_bytes;
    recount_blocks(recount, group, descriptor);
    recount_inodes(recount, descriptor);
    ek_ext_sum_group(recount, group);
}

/* --- the superblock ------------------------------------------------------------------------- */

static gboolean journal_is_due(const EkExtRecount *recount)
{
    EkExtVolume volume = {.reader = recount->reader,
                          .first_byte = recount->first_byte,
                          .super = recount->super,
                          .steps = recount->super.blocks};
    return (ek_span_le32(raw_of(recount), 92) & COMPAT_JOURNAL) != 0 &&
           ek_ext_journal_is_due(&volume);
}

void ek_ext_recount_super(const EkExtRecount *recount)
{
    guint64 blocks = 0;
    guint64 inodes = 0;
    guint32 bytes = recount->super.descriptor_bytes;
    for (guint64 group = 0; group < recount->super.groups; group++) {
        const guint8 *descriptor = recount->descriptors + group * bytes;
        blocks += read_descriptor(recount, descriptor).free_blocks;
        inodes += read_descriptor(recount, descriptor).free_inodes;
    }
    blocks *= blocks_a_bit(recount);
    if (blocks > recount->super.blocks || inodes > recount->super.inodes)
        return; /* descriptors that say so are none to count by */
    ek_put_le32(recount->raw + 12, (guint32)(blocks & 0xffffffff));
    ek_put_le32(recount->raw + 16, (guint32)inodes);
    if (ek_span_le32(raw_of(recount), 76) != 0 && bytes >= WIDE_BYTES)
        ek_put_le32(recount->raw + 344, (guint32)(blocks >> 32));
    if (journal_is_due(recount))
        ek_put_le32(recount->raw + 96, ek_span_le32(raw_of(recount), 96) | EK_EXT_INCOMPAT_RECOVER);
}
