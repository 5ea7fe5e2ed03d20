/* SPDX-License-Identifier: MIT */
/* What the journal of an HFS+ volume still holds of its catalog. It is a ring of blocks, as they
 * were to be written; what was written long ago stands there until the ring comes round. What it
 * distrusts: its own header, which half of a copy may have been written over since. */
#include "volume/hfsplus/journal.h"

#include "volume/headers.h"

#define ATTRIBUTE_JOURNAL 0x2000u
#define INFO_BLOCK 12u /* in the volume header */
#define INFO_BYTES 52u
#define INFO_INSIDE 1u /* the journal is in this volume */
#define MAGIC 0x4a4e4c78u
#define ORDER 0x12345678u
#define HEADER_BYTES 44u
#define WINDOW (1u << 20)

/* The ring: bytes from the beginning of the journal. */
typedef struct {
    EkByte at; /* of the journal, on the drive */
    EkByte begin;
    EkByte end; /* behind what was written last */
    EkByte bytes;
} Ring;

static guint32 word(EkSpan span, gsize at, gboolean is_little)
{
    return is_little ? ek_span_le32(span, at) : ek_span_be32(span, at);
}

static guint64 long_word(EkSpan span, gsize at, gboolean is_little)
{
    return is_little ? ek_span_le64(span, at) : ek_span_be64(span, at);
}

/* Where the journal is, as the block of information about it says. */
static gboolean find_journal(const EkHfsArea *region, EkSpan header, Ring *ring)
{
    guint8 info[INFO_BYTES];
    EkSpan span = {info, sizeof info};
    EkHfsExtent block = {0, ek_span_be32(header, INFO_BLOCK), 1};
    EkByte place = ek_hfs_extent_byte(region, &block);
    EkByte room = (EkByte)region->blocks * region->block_bytes;
    if ((ek_span_be32(header, 4) & ATTRIBUTE_JOURNAL) == 0 || block.first == 0 ||
        place == EK_UNPLACED ||
        ek_presence_read(region->reader, place, info, sizeof info) != EK_PRESENT ||
        (ek_span_be32(span, 0) & INFO_INSIDE) == 0)
        return FALSE;
    EkByte offset = ek_span_be64(span, 36);
    ring->bytes = ek_span_be64(span, 44);
    ring->at = region->first_byte + offset;
    return offset <= room && ring->bytes <= room - offset && ring->bytes > EK_STEP;
}

/* Where it was written last: its header says so, in the order of bytes of who wrote it. */
static void read_header(const EkHfsArea *region, Ring *ring)
{
    guint8 head[HEADER_BYTES];
    EkSpan span = {head, sizeof head};
    ring->begin = EK_STEP;
    ring->end = ring->bytes;
    if (ek_presence_read(region->reader, ring->at, head, sizeof head) != EK_PRESENT)
        return;
    gboolean is_little = ek_span_le32(span, 4) == ORDER;
    guint32 bytes = word(span, 40, is_little);
    EkByte end = long_word(span, 16, is_little);
    if (word(span, 0, is_little) != MAGIC || word(span, 4, is_little) != ORDER ||
        long_word(span, 24, is_little) != ring->bytes || bytes < EK_STEP || bytes >= ring->bytes ||
        end < bytes || end > ring->bytes)
        return;
    ring->begin = bytes;
    ring->end = end;
}

/* Do its records lie one behind the other, and do their keys not go back? What was half written
 * over seldom does. */
static gboolean is_whole(EkSpan node)
{
    guint32 before = 0;
    guint16 at = 14;
    for (guint i = 0; i < ek_span_be16(node, 10); i++) {
        EkSpan record = ek_hfs_record_of(node, i);
        guint key = ek_span_be16(record, 0);
        guint32 parent = ek_span_be32(record, 2);
        if (record.length == 0 || record.data != node.data + at || parent < before ||
            key != 6 + 2u * ek_span_be16(record, 6))
            return FALSE;
        before = parent;
        at = (guint16)(at + record.length);
    }
    return TRUE;
}

/* From the end of a part of the ring back to where it begins. */
static gboolean take_part(const EkHfsArea *region, const Ring *ring, EkByte begin, EkByte end,
                          guint32 node_bytes, EkHfsNodeSink sink, void *data)
{
    g_autofree guint8 *window = g_malloc(WINDOW + EK_HFS_NODE_MOST);
    for (EkByte behind = end; behind > begin;) {
        EkByte first = behind - begin > WINDOW ? behind - WINDOW : begin;
        gsize length = (gsize)(MIN(behind + node_bytes, end) - first);
        gsize places = (gsize)(behind - first);
        if (ek_reader_read(region->reader, ring->at + first, window, length, NULL, NULL))
            for (gsize at = (places - 1) / EK_STEP * EK_STEP; at < places; at -= EK_STEP) {
                EkSpan node = {window + at, node_bytes};
                EkHfsLeaf leaf;
                if (at + node_bytes <= length && ek_hfs_leaf_read(node, &leaf) && is_whole(node) &&
                    !sink(data, node))
                    return FALSE;
            }
        behind = first;
    }
    return TRUE;
}

gboolean ek_hfs_journal_leaves(const EkHfsArea *region, EkSpan header, guint32 node_bytes,
                               EkHfsNodeSink sink, void *data)
{
    Ring ring;
    if (!find_journal(region, header, &ring))
        return TRUE;
    read_header(region, &ring);
    return take_part(region, &ring, ring.begin, ring.end, node_bytes, sink, data) &&
           take_part(region, &ring, ring.end, ring.bytes, node_bytes, sink, data);
}
