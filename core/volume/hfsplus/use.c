/* SPDX-License-Identifier: MIT */
/* What an HFS+ volume uses, as its allocation bitmap says. */
#include "volume/hfsplus/fork.h"

#include "volume/headers.h"

#define LOOK_BYTES 4096u /* of the bitmap, at once */

/* Where its block 0 is: behind what is wrapped around it, where something is. */
static EkByte start_of(const EkVolume *volume, const EkHfsHeader *header)
{
    EkByte blocks = (EkByte)header->blocks * header->block_bytes;
    EkByte end = volume->header_byte + EK_HFS_HEADER_OFFSET;
    if (volume->bytes < blocks + header->block_bytes)
        return volume->first_byte;
    return volume->by_backup ? end - MIN(end, blocks) : end - MIN(end, 2 * EK_HFS_HEADER_OFFSET);
}

EkUsage ek_hfs_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same)
{
    EkSpan span = ek_volume_header(volume);
    EkHfsHeader header;
    guint8 bits[LOOK_BYTES];
    EkKnown known;
    if (!ek_hfs_header_read(span, &header) || range.first < start_of(volume, &header))
        return EK_USAGE_UNKNOWN;
    EkHfsArea region = {.reader = reader,
                        .first_byte = start_of(volume, &header),
                        .block_bytes = header.block_bytes,
                        .blocks = header.blocks};
    EkByte inside = range.first - region.first_byte;
    guint64 block = inside / header.block_bytes;
    if (block >= header.blocks)
        return EK_USAGE_UNKNOWN;
    EkHfsFork fork = ek_hfs_fork_of(
        &region, ek_span_part(span, EK_HFS_BITMAP_FORK, EK_HFS_FORK_RECORD), EK_HFS_BITMAP_FILE, 0);
    EkByte together = 0;
    EkByte place = ek_hfs_fork_place(&region, &fork, block / 8, &together);
    gsize length =
        (gsize)MIN(MIN(LOOK_BYTES, together), ek_divide_up(header.blocks, 8) - block / 8);
    ek_hfs_fork_clear(&fork);
    *same = header.block_bytes - inside % header.block_bytes;
    /* A run of blocks is told as far as all of its bits were read. */
    if (place == EK_UNPLACED || !ek_reader_read(reader, place, bits, length, &known, NULL) ||
        known.good < length)
        length = place != EK_UNPLACED && ek_presence_read(reader, place, bits, 1) == EK_PRESENT;
    if (length == 0)
        return EK_USAGE_UNKNOWN;
    guint64 first = block % 8;
    guint64 most = MIN(length * 8 - first, header.blocks - block);
    gboolean is_used = (bits[0] >> (7 - first) & 1) != 0;
    guint64 count = 1;
    while (count < most && (bits[(first + count) / 8] >> (7 - (first + count) % 8) & 1) == is_used)
        count++;
    *same += (count - 1) * header.block_bytes;
    return is_used ? EK_USAGE_USED : EK_USAGE_FREE;
}
