/* SPDX-License-Identifier: MIT */
/* The journal of an ext3 or ext4 volume as a row of blocks. */
#include "volume/ext/log.h"

#include "base/checksum.h"
#include "volume/headers.h"

#include <string.h>

#define SUPER_1 3u
#define SUPER_2 4u
#define COMPAT_SUM 0x1u
#define FAST_BLOCKS_USUAL 256u
#define TAG_ESCAPED 1u
#define TAG_SAME_UUID 2u
#define TAG_LAST 8u
#define UUID_BYTES 16u
#define BLOCKS_MOST (1u << 22)
#define COUNT_AT 12u /* of a revoke block */
#define REVOKES_AT 16u

static gboolean add_extent(void *data, const EkExtent *extent)
{
    g_array_append_val(data, *extent);
    return TRUE;
}

EkByte ek_ext_log_place(const EkExtLog *log, guint64 block)
{
    EkByte offset = block * log->block_bytes;
    for (guint i = 0; i < log->extents->len; i++) {
        const EkExtent *extent = &g_array_index(log->extents, EkExtent, i);
        if (offset >= extent->offset && offset - extent->offset < extent->bytes)
            return extent->first_byte == EK_UNPLACED
                       ? EK_UNPLACED
                       : extent->first_byte + (offset - extent->offset);
    }
    return EK_UNPLACED;
}

gboolean ek_ext_log_read(const EkExtLog *log, EkReader *reader, guint64 block, guint8 *buffer)
{
    EkByte at = ek_ext_log_place(log, block);
    EkKnown known;
    return at != EK_UNPLACED &&
           ek_reader_read(reader, at, buffer, log->block_bytes, &known, NULL) &&
           known.good == log->block_bytes;
}

#define DESCRIPTOR_REACH 1024u /* blocks looked at in front of one that may be a copy */

static gsize tag_bytes(const EkExtLog *log)
{
    if ((log->features & EK_EXT_LOG_SUMS_3) != 0)
        return 16;
    return 8u + ((log->features & EK_EXT_LOG_SUMS_2) != 0 ? 2u : 0u) +
           ((log->features & EK_EXT_LOG_WIDE) != 0 ? 4u : 0u);
}

void ek_ext_log_tags(const EkExtLog *log, EkSpan block, GArray *tags)
{
    gsize size = tag_bytes(log);
    gboolean is_new = (log->features & EK_EXT_LOG_SUMS_3) != 0;
    g_array_set_size(tags, 0);
    for (gsize at = EK_EXT_LOG_HEADER_BYTES; at + size <= block.length;) {
        guint32 flags = is_new ? ek_span_be32(block, at + 4) : ek_span_be16(block, at + 6);
        EkExtTag tag = {.block = ek_span_be32(block, at),
                        .sum = is_new ? ek_span_be32(block, at + 12) : ek_span_be16(block, at + 4),
                        .is_escaped = (flags & TAG_ESCAPED) != 0};
        if ((log->features & EK_EXT_LOG_WIDE) != 0)
            tag.block |= (guint64)ek_span_be32(block, at + 8) << 32;
        g_array_append_val(tags, tag);
        if ((flags & TAG_LAST) != 0)
            break;
        at += size + ((flags & TAG_SAME_UUID) == 0 ? UUID_BYTES : 0);
    }
}

gboolean ek_ext_log_has_sums(const EkExtLog *log)
{
    return (log->features & (EK_EXT_LOG_SUMS_2 | EK_EXT_LOG_SUMS_3)) != 0;
}

static guint32 seed_of(const EkExtLog *log)
{
    return ek_crc32c(G_MAXUINT32, (EkSpan){log->uuid, sizeof log->uuid});
}

/* The sum is over the whole block with that sum zero. */
gboolean ek_ext_log_sum_fits(const EkExtLog *log, EkSpan block, gsize at)
{
    static const guint8 zeros[4] = {0};
    if (!ek_ext_log_has_sums(log))
        return TRUE;
    guint32 sum = ek_crc32c(seed_of(log), ek_span_part(block, 0, at));
    sum = ek_crc32c(sum, (EkSpan){zeros, sizeof zeros});
    sum = ek_crc32c(sum, ek_span_part(block, at + 4, block.length - at - 4));
    return sum == ek_span_be32(block, at);
}

gboolean ek_ext_log_copy_fits(const EkExtLog *log, const EkExtTag *tag, guint32 sequence,
                              EkSpan block)
{
    guint8 number[4];
    if (!ek_ext_log_has_sums(log))
        return TRUE;
    ek_put_be32(number, sequence);
    guint32 sum = ek_crc32c(seed_of(log), (EkSpan){number, sizeof number});
    sum = ek_crc32c(sum, block);
    return (log->features & EK_EXT_LOG_SUMS_3) != 0 ? sum == tag->sum : (sum & 0xffff) == tag->sum;
}

void ek_ext_log_revokes(const EkExtLog *log, EkSpan block, GArray *blocks)
{
    gsize size = (log->features & EK_EXT_LOG_WIDE) != 0 ? 8 : 4;
    gsize room = block.length - (ek_ext_log_has_sums(log) ? 4 : 0);
    gsize end = MIN(ek_span_be32(block, COUNT_AT), room);
    if (!ek_ext_log_sum_fits(log, block, block.length - 4))
        return;
    for (gsize at = REVOKES_AT; at + size <= end; at += size) {
        guint64 revoked = size == 8 ? ek_span_be64(block, at) : ek_span_be32(block, at);
        g_array_append_val(blocks, revoked);
    }
}

gboolean ek_ext_log_names(EkReader *reader, EkByte at, guint32 block_bytes, guint64 block)
{
    static const guint32 features[] = {EK_EXT_LOG_SUMS_3, 0, EK_EXT_LOG_WIDE, EK_EXT_LOG_SUMS_2,
                                       EK_EXT_LOG_SUMS_2 | EK_EXT_LOG_WIDE};
    g_autofree guint8 *data = g_malloc(block_bytes);
    g_autoptr(GArray) tags = g_array_new(FALSE, FALSE, sizeof(EkExtTag));
    /* No tag takes less than eight bytes. */
    guint most = MIN(block_bytes / 8, DESCRIPTOR_REACH);
    for (guint back = 1;
         back <= most && at >= (EkByte)back * block_bytes && !ek_reader_is_spent(reader); back++) {
        EkSpan span = {data, block_bytes};
        EkByte place = at - (EkByte)back * block_bytes;
        if (ek_presence_read(reader, place, data, EK_EXT_LOG_HEADER_BYTES) != EK_PRESENT ||
            ek_span_be32(span, 0) != EK_EXT_LOG_MAGIC)
            continue;
        if (ek_span_be32(span, 4) != EK_EXT_LOG_DESCRIPTOR ||
            ek_presence_read(reader, place, data, block_bytes) != EK_PRESENT)
            return FALSE;
        for (gsize i = 0; i < G_N_ELEMENTS(features); i++) {
            EkExtLog log = {.block_bytes = block_bytes, .features = features[i]};
            g_array_set_size(tags, 0);
            ek_ext_log_tags(&log, span, tags);
            if (tags->len >= back && g_array_index(tags, EkExtTag, back - 1).block == block)
                return TRUE;
        }
        return FALSE;
    }
    return FALSE;
}

static void read_super(EkExtLog *log, EkReader *reader)
{
    g_autofree guint8 *super = g_malloc(log->block_bytes);
    EkSpan head = {super, log->block_bytes};
    guint32 version = 0;
    if (!ek_ext_log_read(log, reader, 0, super) || ek_span_be32(head, 0) != EK_EXT_LOG_MAGIC ||
        ek_span_be32(head, 12) != log->block_bytes)
        return;
    version = ek_span_be32(head, 4);
    if (version != SUPER_1 && version != SUPER_2)
        return;
    log->blocks =
        (guint32)MIN(MIN(log->bytes / log->block_bytes, ek_span_be32(head, 16)), BLOCKS_MOST);
    log->first = ek_span_be32(head, 20);
    log->sequence = ek_span_be32(head, 24);
    log->start = ek_span_be32(head, 28);
    if (version == SUPER_1)
        return;
    log->has_sum = (ek_span_be32(head, 36) & COMPAT_SUM) != 0;
    log->features = ek_span_be32(head, 40);
    memcpy(log->uuid, super + 48, sizeof log->uuid);
    if ((log->features & EK_EXT_LOG_FAST) != 0)
        log->fast_blocks = ek_span_be32(head, 84) != 0 ? ek_span_be32(head, 84) : FAST_BLOCKS_USUAL;
}

EkExtLog *ek_ext_log_open(EkExtVolume *volume)
{
    guint64 group = (EK_EXT_JOURNAL - 1) / volume->super.inodes_per_group;
    guint64 index = (EK_EXT_JOURNAL - 1) % volume->super.inodes_per_group;
    gsize bytes = volume->super.inode_bytes;
    EkExtGroup where = ek_ext_group(volume, group);
    EkByte at = where.table != 0 ? ek_ext_block_byte(volume, where.table) : EK_UNPLACED;
    g_autofree guint8 *data = g_malloc0(bytes);
    EkSpan span = {data, bytes};
    EkKnown known;
    if (at == EK_UNPLACED ||
        !ek_reader_read(volume->reader, at + index * bytes, data, bytes, &known, NULL) ||
        known.good < bytes)
        return NULL;
    EkExtInode inode = ek_ext_inode_read(span);
    if ((inode.mode & EK_EXT_TYPE) != EK_EXT_FILE || inode.size == 0)
        return NULL;
    EkExtLog *log = g_new0(EkExtLog, 1);
    log->block_bytes = volume->super.block_bytes;
    log->extents = g_array_new(FALSE, FALSE, sizeof(EkExtent));
    log->bytes = inode.size;
    ek_ext_extents(volume, span, &inode, at + index * bytes, add_extent, log->extents);
    read_super(log, volume->reader);
    return log;
}

void ek_ext_log_close(EkExtLog *log)
{
    g_array_unref(log->extents);
    g_free(log);
}
