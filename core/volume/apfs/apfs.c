/* SPDX-License-Identifier: MIT */
/* APFS containers: as in Apple's "Apple File System Reference". Found by block zero, or by the copy
 * of its superblock that each checkpoint holds; believed when the sum of a superblock fits and the
 * checkpoints are where it says. The files are not listed by this version. */
#include "volume/formats.h"
#include "volume/headers.h"

#define SUPER_BYTES 4096u
#define BLOCK_MOST 65536u
#define MAGIC_OFFSET 32u
#define TYPE_MASK 0xffffu
#define TYPE_SUPER 0x01u
#define TYPE_CHECKPOINT_MAP 0x0cu
#define NOT_IN_A_ROW 0x80000000u

typedef struct {
    guint32 block_bytes;
    guint64 blocks;
    guint64 transaction;
    guint32 descriptor_blocks;
    guint64 descriptor_base;
    gboolean in_a_row;
} Super;

static const EkSignature signatures[] = {
    {.offset = MAGIC_OFFSET, .length = 4, .bytes = {'N', 'X', 'S', 'B'}},
};

static gboolean super_read(EkSpan span, Super *super)
{
    if (span.length < EK_HEADER_BYTES || !ek_span_equals(span, MAGIC_OFFSET, "NXSB", 4) ||
        (ek_span_le32(span, 24) & TYPE_MASK) != TYPE_SUPER)
        return FALSE;
    *super = (Super){
        .block_bytes = ek_span_le32(span, 36),
        .blocks = ek_span_le64(span, 40),
        .transaction = ek_span_le64(span, 16),
        .descriptor_blocks = ek_span_le32(span, 104) & ~NOT_IN_A_ROW,
        .descriptor_base = ek_span_le64(span, 112),
        .in_a_row = (ek_span_le32(span, 104) & NOT_IN_A_ROW) == 0,
    };
    return ek_is_power_of_two(super->block_bytes) && super->block_bytes >= SUPER_BYTES &&
           super->block_bytes <= BLOCK_MOST && super->blocks > 0 &&
           super->blocks < (guint64)G_MAXINT64 / super->block_bytes &&
           (!super->in_a_row ||
            (super->descriptor_base < super->blocks && super->descriptor_blocks <= super->blocks));
}

/* Fletcher's sum of the block behind the sum itself, as 64 bits. */
static gboolean sum_fits(EkSpan block)
{
    guint64 low = 0;
    guint64 high = 0;
    for (gsize i = 8; i + 4 <= block.length; i += 4) {
        low = (low + ek_span_le32(block, i)) % G_MAXUINT32;
        high = (high + low) % G_MAXUINT32;
    }
    guint64 first = G_MAXUINT32 - (low + high) % G_MAXUINT32;
    guint64 second = G_MAXUINT32 - (low + first) % G_MAXUINT32;
    return ek_span_le64(block, 0) == (second << 32 | first);
}

static guint recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    Super super;
    if (!super_read(span, &super))
        return 0;
    candidates[0] = (EkCandidate){at, at, EK_ROLE_PRIMARY};
    return 1;
}

/* A block of a checkpoint: a map of it, or the copy of the superblock. */
static EkPresence look_at_checkpoint(EkReader *reader, EkByte at)
{
    guint8 block[64];
    EkSpan span = {block, sizeof block};
    EkPresence part = ek_presence_read(reader, at, block, sizeof block);
    guint32 type = ek_span_le32(span, 24) & TYPE_MASK;
    if (part == EK_PRESENT && type != TYPE_CHECKPOINT_MAP &&
        (type != TYPE_SUPER || !ek_span_equals(span, MAGIC_OFFSET, "NXSB", 4)))
        part = EK_ABSENT;
    return part;
}

/* Where block zero is, for a superblock that stands in a checkpoint: the map before it is numbered
 * by its own block. */
static EkByte start_behind(EkReader *reader, EkByte at, const Super *super)
{
    guint8 block[64];
    EkSpan span = {block, sizeof block};
    if (at < super->block_bytes ||
        ek_presence_read(reader, at - super->block_bytes, block, sizeof block) != EK_PRESENT ||
        (ek_span_le32(span, 24) & TYPE_MASK) != TYPE_CHECKPOINT_MAP)
        return EK_UNPLACED;
    guint64 number = ek_span_le64(span, 8);
    EkByte before = at - super->block_bytes;
    return number < super->blocks && number * super->block_bytes <= before
               ? before - number * super->block_bytes
               : EK_UNPLACED;
}

static EkVolume *measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    g_autofree guint8 *data = g_malloc(BLOCK_MOST);
    guint8 copy[EK_HEADER_BYTES];
    Super super;
    g_autoptr(EkVolume) volume =
        ek_header_begin("apfs", reader, candidate, data, BLOCK_MOST, error);
    if (volume == NULL || !super_read((EkSpan){data, BLOCK_MOST}, &super))
        return g_steal_pointer(&volume);
    EkByte start = start_behind(reader, candidate->header_byte, &super);
    if (start != EK_UNPLACED)
        volume->first_byte = start;
    EkSpan span = {data, super.block_bytes};
    volume->bytes = super.blocks * super.block_bytes;
    volume->own_sector_size = EK_STEP;
    volume->uuid = ek_volume_uuid(ek_span_part(span, 72, 16));
    ek_volume_property_number(volume, "bytes per block", super.block_bytes);
    ek_volume_property_number(volume, "blocks", super.blocks);
    ek_volume_property_number(volume, "transaction", super.transaction);

    gboolean fits = sum_fits(span);
    ek_volume_reason(volume, 20, "container superblock at sector %" G_GUINT64_FORMAT,
                     candidate->header_byte / EK_STEP);
    ek_volume_reason(volume, fits ? 15 : 0, "its checksum %s", fits ? "fits" : "does not fit");
    EkPresence zero = ek_presence_read(reader, volume->first_byte, copy, sizeof copy);
    if (zero == EK_PRESENT && (!ek_span_equals((EkSpan){copy, sizeof copy}, 32, "NXSB", 4) ||
                               memcmp(copy + 72, data + 72, 16) != 0))
        zero = EK_ABSENT;
    ek_presence_reason(volume, zero, "block zero", volume->first_byte, 15);
    EkPresence part = EK_UNREAD;
    if (super.in_a_row) {
        EkByte at = volume->first_byte + super.descriptor_base * super.block_bytes;
        part = look_at_checkpoint(reader, at);
        ek_presence_reason(volume, part, "the first checkpoint block", at, 35);
    }
    ek_header_end(volume, part == EK_PRESENT || (part == EK_UNREAD && fits));
    return g_steal_pointer(&volume);
}

const EkFileSystem ek_fs_apfs = {
    .name = "apfs",
    .types = {{.mbr = 0xaf, .gpt = "Apple APFS", .apm = "Apple_APFS"}},
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
};
