/* SPDX-License-Identifier: MIT */
/* An F2FS volume without any superblock. A checkpoint says how many segments each area behind it
 * has; so the node address table is found. Its entries count blocks from where the volume begins,
 * and each node says at its end which one it is: the one beginning for which they agree is right.
 * Offsets as in the Linux kernel's include/linux/f2fs_fs.h. */
#include "volume/f2fs/f2fs.h"
#include "volume/formats.h"
#include "volume/headers.h"

#define BLOCK EK_F2FS_BLOCK_BYTES
#define SEGMENT_BLOCKS 512u
#define SEGMENT ((EkByte)SEGMENT_BLOCKS * BLOCK)
#define CHECKPOINT_SEGMENTS 2u
#define ENTRY_BYTES 9u
#define ENTRIES (BLOCK / ENTRY_BYTES)
#define ROOT_NODE 3u
#define FOOTER_OFFSET (BLOCK - 24u)
#define NODES_TRIED 16u
#define CHECKPOINTS_TRIED 32u
#define BITMAP_MOST 3900u /* of a checkpoint's block */
#define START_MOST 1026u  /* blocks in front of the checkpoints: two, then up to two segments */
#define SEGMENTS_MOST (1u << 26) /* 128 TiB */

typedef struct {
    EkByte place; /* of the first of the two checkpoints */
    guint32 status_segments;
    guint32 address_segments;
    guint64 main_segments;
} Areas;

typedef struct {
    guint32 node;
    guint32 inode;
    guint32 block;
} Address;

gboolean ek_f2fs_record_seen(EkSpan span, EkRecord *record)
{
    if (!ek_f2fs_is_checkpoint(ek_span_part(span, 0, BLOCK)))
        return FALSE;
    record->number = ek_span_le64(span, 0);
    record->bytes = 1;
    return TRUE;
}

/* What a checkpoint says of the areas. */
static gboolean areas_read(EkSpan block, EkByte place, Areas *areas)
{
    guint32 status = ek_span_le32(block, 156);
    guint32 address = ek_span_le32(block, 160);
    *areas =
        (Areas){.place = place,
                .status_segments = status / 64 * 2,
                .address_segments = address / 64 * 2,
                .main_segments = ek_span_le64(block, 8) / SEGMENT_BLOCKS + ek_span_le32(block, 28)};
    return status % 64 == 0 && address % 64 == 0 && status > 0 && address > 0 &&
           status < BITMAP_MOST && address < BITMAP_MOST && areas->main_segments > 0 &&
           areas->main_segments < SEGMENTS_MOST;
}

static EkByte address_table(const Areas *areas)
{
    return areas->place + (EkByte)(CHECKPOINT_SEGMENTS + areas->status_segments) * SEGMENT;
}

/* The first nodes that one of the table's two copies has a place for. */
static guint read_addresses(EkReader *reader, EkByte at, Address addresses[NODES_TRIED])
{
    guint8 block[BLOCK];
    EkSpan span = {block, sizeof block};
    guint count = 0;
    if (ek_presence_read(reader, at, block, sizeof block) != EK_PRESENT)
        return 0;
    for (guint32 i = ROOT_NODE; i < ENTRIES && count < NODES_TRIED; i++) {
        Address address = {i, ek_span_le32(span, i * ENTRY_BYTES + 1),
                           ek_span_le32(span, i * ENTRY_BYTES + 5)};
        if (address.inode != 0 && address.block > START_MOST && address.block < G_MAXINT32)
            addresses[count++] = address;
    }
    return count;
}

static guint count_nodes(EkReader *reader, EkByte start, const Address *addresses, guint count)
{
    guint there = 0;
    for (guint i = 0; i < count; i++) {
        guint8 footer[24];
        EkSpan span = {footer, sizeof footer};
        EkByte at = start + (EkByte)addresses[i].block * BLOCK + FOOTER_OFFSET;
        there += ek_presence_read(reader, at, footer, sizeof footer) == EK_PRESENT &&
                 ek_span_le32(span, 0) == addresses[i].node &&
                 ek_span_le32(span, 4) == addresses[i].inode;
    }
    return there;
}

typedef struct {
    EkByte start;
    guint nodes;
    guint of; /* that were looked for */
} Found;

/* The beginning for which most nodes are where the table has them; none where two are as good. */
static Found find_start(EkReader *reader, const Areas *areas)
{
    Found best = {0};
    for (guint copy = 0; copy < 2; copy++) {
        Address addresses[NODES_TRIED];
        guint count = read_addresses(reader, address_table(areas) + copy * SEGMENT, addresses);
        gboolean is_shared = FALSE;
        Found own = {.of = count};
        for (guint blocks = 2; blocks <= START_MOST && count > 0; blocks++) {
            if (areas->place < (EkByte)blocks * BLOCK)
                break;
            EkByte start = areas->place - (EkByte)blocks * BLOCK;
            guint nodes = count_nodes(reader, start, addresses, count);
            is_shared = nodes == own.nodes || (nodes < own.nodes && is_shared);
            if (nodes > own.nodes) {
                own.start = start;
                own.nodes = nodes;
            }
        }
        if (own.nodes > best.nodes && !is_shared)
            best = own;
    }
    return best;
}

/* Blocks up to the end of the main area. Each segment of it has a block of summaries. */
static guint64 blocks_of(const Areas *areas, EkByte start)
{
    guint64 summaries = ek_divide_up(areas->main_segments + 1, SEGMENT_BLOCKS);
    guint64 segments = CHECKPOINT_SEGMENTS + areas->status_segments + areas->address_segments +
                       summaries + areas->main_segments;
    return (areas->place - start) / BLOCK + segments * SEGMENT_BLOCKS;
}

static EkVolume *describe(const Areas *areas, const Found *found)
{
    EkVolume *volume = ek_volume_new(NULL, "f2fs");
    volume->composed = volume->by_backup = TRUE;
    volume->length_is_least = TRUE;
    volume->first_byte = found->start;
    volume->bytes = blocks_of(areas, found->start) * BLOCK;
    volume->header_byte = areas->place;
    volume->metadata_byte = areas->place;
    volume->own_sector_size = EK_STEP;
    ek_volume_property_number(volume, "bytes per block", BLOCK);
    ek_volume_property_number(volume, "checkpoints begin at block",
                              (areas->place - found->start) / BLOCK);
    ek_volume_reason(volume, 30,
                     "no superblock found; a checkpoint (sector %" G_GUINT64_FORMAT
                     ", its checksum fits) states where the node address table is",
                     areas->place / EK_STEP);
    ek_volume_reason(volume, found->nodes > 1 ? 30 : 15,
                     "%u of %u nodes checked are where that table states, counted from the start "
                     "of the volume",
                     found->nodes, found->of);
    ek_volume_reason(volume, 0, "the volume may be up to one segment (2 MiB) longer");
    ek_volume_reason(volume, 0, "UUID and label lost (stored only in the superblocks)");
    ek_header_end(volume, TRUE);
    return volume;
}

gboolean ek_f2fs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                       void *data, GError **error)
{
    const GArray *runs = sightings->runs;
    (void)error;
    for (guint i = 0; i < runs->len && i < CHECKPOINTS_TRIED; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        guint8 block[BLOCK];
        if (ek_presence_read(reader, run->first_byte, block, sizeof block) != EK_PRESENT)
            continue;
        /* It may be the first of the two, or the second. */
        for (guint which = 0; which < 2; which++) {
            Areas areas;
            if (run->first_byte < which * SEGMENT ||
                !areas_read((EkSpan){block, sizeof block}, run->first_byte - which * SEGMENT,
                            &areas))
                continue;
            Found found = find_start(reader, &areas);
            if (found.nodes > 1 || (found.nodes == 1 && ek_is_usual_start(found.start)))
                sink(data, describe(&areas, &found));
        }
    }
    return TRUE;
}
