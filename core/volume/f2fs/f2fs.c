/* SPDX-License-Identifier: MIT */
/* F2FS volumes: offsets as in the Linux kernel's include/linux/f2fs_fs.h. Found by either of the
 * two superblocks, believed when a checkpoint whose sum fits is where it says. The files are not
 * listed by this version. */
#include "volume/f2fs/f2fs.h"
#include "volume/headers.h"

#include "base/checksum.h"
#include "base/text.h"

#define MAGIC 0xf2f52010u
#define BLOCK_BYTES EK_F2FS_BLOCK_BYTES
#define SUPER_OFFSET 1024u /* in each of the first two blocks */
#define SUPER_BYTES 3072u
#define SUM_OFFSET 4092u
#define NODE_ADDRESS_BYTES 9u
#define NODES_A_BLOCK (BLOCK_BYTES / NODE_ADDRESS_BYTES)

typedef struct {
    guint64 blocks;
    guint32 segment_blocks;
    guint32 segments;
    guint32 segments_a_section;
    guint32 sections_a_zone;
    guint32 checkpoint_block;
    guint32 nodes_block; /* of the node address table, whose segments stand in pairs */
    guint32 main_block;
    guint32 node_inode; /* the two that name areas, no files */
    guint32 meta_inode;
} Super;

static gboolean super_read(EkSpan span, Super *super)
{
    if (span.length < EK_HEADER_BYTES || ek_span_le32(span, 0) != MAGIC ||
        ek_span_le32(span, 16) != 12 || ek_span_le32(span, 20) != 9)
        return FALSE;
    *super = (Super){
        .blocks = ek_span_le64(span, 36),
        .segment_blocks = 1u << ek_span_le32(span, 20),
        .segments = ek_span_le32(span, 48),
        .segments_a_section = ek_span_le32(span, 24),
        .sections_a_zone = ek_span_le32(span, 28),
        .checkpoint_block = ek_span_le32(span, 76),
        .nodes_block = ek_span_le32(span, 84),
        .main_block = ek_span_le32(span, 92),
        .node_inode = ek_span_le32(span, 100),
        .meta_inode = ek_span_le32(span, 104),
    };
    return super->blocks > 0 && super->blocks < G_MAXINT64 / BLOCK_BYTES &&
           super->checkpoint_block > 0 &&
           (guint64)super->checkpoint_block + 2 * super->segment_blocks <= super->blocks &&
           super->main_block > super->checkpoint_block && super->main_block < super->blocks;
}

guint ek_f2fs_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    Super super;
    guint count = 0;
    if (!super_read(span, &super))
        return 0;
    if (at >= SUPER_OFFSET)
        candidates[count++] = (EkCandidate){at - SUPER_OFFSET, at, EK_ROLE_PRIMARY};
    if (at >= SUPER_OFFSET + BLOCK_BYTES)
        candidates[count++] = (EkCandidate){at - SUPER_OFFSET - BLOCK_BYTES, at, EK_ROLE_BACKUP};
    return count;
}

gboolean ek_f2fs_is_checkpoint(EkSpan block)
{
    return block.length >= BLOCK_BYTES && ek_span_le64(block, 0) != 0 &&
           ek_span_le32(block, 164) == SUM_OFFSET &&
           ek_crc32_from(MAGIC, ek_span_part(block, 0, SUM_OFFSET)) ==
               ek_span_le32(block, SUM_OFFSET);
}

static EkPresence look_at_checkpoint(EkReader *reader, EkByte at)
{
    guint8 block[BLOCK_BYTES];
    EkPresence part = ek_presence_read(reader, at, block, sizeof block);
    if (part == EK_PRESENT && !ek_f2fs_is_checkpoint((EkSpan){block, sizeof block}))
        part = EK_ABSENT;
    return part;
}

/* The node address table begins with those of the two inodes that every volume has. */
static EkPresence look_at_nodes(EkReader *reader, EkByte at, const Super *super)
{
    guint8 block[BLOCK_BYTES];
    EkSpan span = {block, sizeof block};
    guint32 numbers[] = {super->node_inode, super->meta_inode};
    EkPresence part = ek_presence_read(reader, at, block, sizeof block);
    for (gsize i = 0; i < G_N_ELEMENTS(numbers) && part == EK_PRESENT; i++)
        if (numbers[i] == 0 || numbers[i] >= NODES_A_BLOCK ||
            ek_span_le32(span, (gsize)numbers[i] * NODE_ADDRESS_BYTES + 1) != numbers[i])
            part = EK_ABSENT;
    return part;
}

typedef struct {
    gboolean there; /* one of the two, at least */
    guint unread;
} Pair;

/* Looks at what has a copy a segment behind it. */
static Pair weigh_pair(EkReader *reader, EkVolume *volume, const Super *super, gboolean checkpoints)
{
    static const char *const names[] = {"the first node address table",
                                        "the second node address table", "the first checkpoint",
                                        "the second checkpoint"};
    Pair pair = {FALSE, 0};
    for (guint i = 0; i < 2; i++) {
        EkByte block = checkpoints ? super->checkpoint_block : super->nodes_block;
        EkByte at = volume->first_byte + (block + (EkByte)i * super->segment_blocks) * BLOCK_BYTES;
        EkPresence part =
            checkpoints ? look_at_checkpoint(reader, at) : look_at_nodes(reader, at, super);
        /* A table's copy is written only when an entry of it changes. */
        if (checkpoints || part != EK_ABSENT)
            ek_presence_reason(volume, part, names[(checkpoints ? 2 : 0) + i], at,
                               pair.there ? 10 : (checkpoints ? 35 : 15));
        pair.there |= part == EK_PRESENT;
        pair.unread += part == EK_UNREAD;
    }
    if (!pair.there && pair.unread == 0)
        volume->contradicted++;
    return pair;
}

EkVolume *ek_f2fs_measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[SUPER_BYTES];
    guint8 copy[EK_HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    Super super;
    g_autoptr(EkVolume) volume =
        ek_header_begin("f2fs", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !super_read(span, &super))
        return g_steal_pointer(&volume);
    volume->bytes = super.blocks * BLOCK_BYTES;
    volume->uuid = ek_volume_uuid(ek_span_part(span, 108, 16));
    g_autofree char *label = ek_text_utf16(data + 124, 1024, FALSE);
    volume->label = *label != '\0' ? g_steal_pointer(&label) : NULL;
    ek_volume_property_number(volume, "bytes per block", BLOCK_BYTES);
    ek_volume_property_number(volume, "blocks", super.blocks);
    ek_volume_property_number(volume, "segments", super.segments);
    ek_volume_property_number(volume, "segments a section", super.segments_a_section);
    ek_volume_property_number(volume, "sections a zone", super.sections_a_zone);
    ek_volume_property_number(volume, "checkpoints begin at block", super.checkpoint_block);
    ek_volume_property_number(volume, "main area begins at block", super.main_block);

    guint supers = 0;
    for (guint i = 0; i < 2; i++) {
        EkByte at = volume->first_byte + SUPER_OFFSET + (EkByte)i * BLOCK_BYTES;
        /* What mounting changes stands further behind. */
        EkHeaderState state = ek_header_look(reader, at, data, 108 + 16, copy);
        supers += state == EK_HEADER_AGREES;
        ek_header_reason(volume, state, i == 0 ? "superblock" : "second superblock", at,
                         i == 0 ? 20 : 15);
    }
    Pair checkpoints = weigh_pair(reader, volume, &super, TRUE);
    Pair nodes = weigh_pair(reader, volume, &super, FALSE);
    /* Without a checkpoint it does not open, but it is there. */
    ek_header_end(volume, checkpoints.there || nodes.there || supers == 2 ||
                              (checkpoints.unread == 2 && nodes.unread > 0));
    return g_steal_pointer(&volume);
}
