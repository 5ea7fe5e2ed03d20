/* SPDX-License-Identifier: MIT */
/* HFS+ and HFSX volumes: as in Apple's Technical Note TN1150. Found by the volume header or the
 * alternate one near the end, believed when the catalog is where it says. What it distrusts: every
 * number; a volume is as long as its blocks and up to one block more. */
#include "volume/hfsplus/hfsplus.h"

#include "volume/headers.h"

#include "base/text.h"

#define LEAF_LOOKS 48u
#define LEAF_STEP 8192u /* no node is larger where there are many volumes of its kind */
#define LEAVES_LEAST 2u
#define EPOCH 2082844800 /* seconds from 1904 to 1970 */

#define ATTRIBUTE_UNMOUNTED 0x100u
#define ATTRIBUTE_JOURNAL 0x2000u

gboolean ek_hfs_header_read(EkSpan span, EkHfsHeader *header)
{
    if (span.length < EK_HEADER_BYTES ||
        (!ek_span_equals(span, 0, "H+\0\4", 4) && !ek_span_equals(span, 0, "HX\0\5", 4)))
        return FALSE;
    *header = (EkHfsHeader){
        .block_bytes = ek_span_be32(span, 40),
        .blocks = ek_span_be32(span, 44),
        .free_blocks = ek_span_be32(span, 48),
        .files = ek_span_be32(span, 32),
        .folders = ek_span_be32(span, 36),
        .bitmap_block = ek_span_be32(span, EK_HFS_BITMAP_FORK + EK_HFS_FORK_EXTENTS),
        .extents_block = ek_span_be32(span, EK_HFS_EXTENTS_FORK + EK_HFS_FORK_EXTENTS),
        .catalog_block = ek_span_be32(span, EK_HFS_CATALOG_FORK + EK_HFS_FORK_EXTENTS),
        .catalog_blocks = ek_span_be32(span, EK_HFS_CATALOG_FORK + EK_HFS_FORK_EXTENTS + 4),
    };
    return ek_is_power_of_two(header->block_bytes) && header->block_bytes >= 512 &&
           header->block_bytes <= EK_HFS_BLOCK_MOST && header->blocks > 0 &&
           header->free_blocks <= header->blocks && header->catalog_blocks > 0 &&
           (guint64)header->catalog_block + header->catalog_blocks <= header->blocks;
}

static EkByte bytes_of(const EkHfsHeader *header)
{
    return (EkByte)header->blocks * header->block_bytes;
}

/* An HFS volume that only holds an HFS+ one, in one run of its allocation blocks. */
typedef struct {
    EkByte bytes;  /* of the wrapper */
    EkByte inside; /* where in it the HFS+ volume begins */
    EkByte inside_bytes;
} Wrapper;

static gboolean wrapper_read(EkSpan span, Wrapper *wrapper)
{
    guint64 block = ek_span_be32(span, 20);
    EkByte first = ek_span_be16(span, 28) * EK_STEP;
    guint64 blocks = ek_span_be16(span, 18);
    guint64 begin = ek_span_be16(span, 126);
    guint64 count = ek_span_be16(span, 128);
    /* Behind the blocks the alternate header and an unused sector. */
    *wrapper =
        (Wrapper){first + blocks * block + 2 * EK_STEP, first + begin * block, count * block};
    return ek_span_equals(span, 0, "BD", 2) &&
           (ek_span_equals(span, 124, "H+", 2) || ek_span_equals(span, 124, "HX", 2)) &&
           block >= EK_STEP && block % EK_STEP == 0 && count > 0 && begin + count <= blocks &&
           wrapper->inside_bytes > 2 * EK_HFS_HEADER_OFFSET;
}

guint ek_hfs_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    EkHfsHeader header;
    Wrapper wrapper;
    guint count = 0;
    if (at >= EK_HFS_HEADER_OFFSET && wrapper_read(span, &wrapper)) {
        candidates[0] = (EkCandidate){at - EK_HFS_HEADER_OFFSET, at, EK_ROLE_PRIMARY};
        return 1;
    }
    if (!ek_hfs_header_read(span, &header))
        return 0;
    if (at >= EK_HFS_HEADER_OFFSET)
        candidates[count++] = (EkCandidate){at - EK_HFS_HEADER_OFFSET, at, EK_ROLE_PRIMARY};
    if (at + EK_HFS_HEADER_OFFSET >= bytes_of(&header))
        candidates[count++] =
            (EkCandidate){at + EK_HFS_HEADER_OFFSET - bytes_of(&header), at, EK_ROLE_BACKUP};
    return count;
}

void ek_hfs_take_label(EkReader *reader, EkVolume *volume, EkByte leaf)
{
    guint8 node[1024];
    EkHfsLeaf first;
    EkSpan span = {node, sizeof node};
    /* A node may be shorter than that: its keys are not. */
    if (ek_presence_read(reader, leaf, node, sizeof node) != EK_PRESENT ||
        !ek_hfs_leaf_read(span, &first) || first.parent != EK_HFS_ROOT_PARENT)
        return;
    guint16 units = ek_span_be16(span, 20);
    if (units > 0)
        volume->label = ek_text_utf16(node + 22, units * 2u, TRUE);
}

/* The catalog begins with a header node. */
static EkPresence look_at_catalog(EkReader *reader, EkByte at, EkHfsTree *tree)
{
    guint8 node[EK_HEADER_BYTES];
    EkPresence part = ek_presence_read(reader, at, node, sizeof node);
    if (part == EK_PRESENT && !ek_hfs_tree_read((EkSpan){node, sizeof node}, tree))
        part = EK_ABSENT;
    return part;
}

/* Where its header node was written over there may be leaves: the first ones are in use most often.
 */
static guint count_leaves(EkReader *reader, EkByte catalog, EkByte bytes)
{
    guint8 node[EK_HEADER_BYTES];
    EkHfsLeaf leaf;
    EkByte before = 0;
    guint count = 0;
    for (guint i = 1; i <= LEAF_LOOKS; i++) {
        EkByte at = bytes / (LEAF_LOOKS * LEAF_LOOKS) * i * i / LEAF_STEP * LEAF_STEP;
        if (at != before &&
            ek_presence_read(reader, catalog + at, node, sizeof node) == EK_PRESENT &&
            ek_hfs_leaf_read((EkSpan){node, sizeof node}, &leaf))
            count++;
        before = at;
    }
    return count;
}

/* The alternate header is 1024 bytes before the end of the partition, which may be up to a block
 * longer than all blocks. Returns the bytes behind them; looks at the primary's side, or, for an
 * alternate one that was found, at the catalog's. */
static EkByte find_rest(EkReader *reader, EkVolume *volume, const EkHfsHeader *header, EkRole role)
{
    guint8 sector[EK_HEADER_BYTES];
    EkHfsTree tree;
    EkByte catalog = (EkByte)header->catalog_block * header->block_bytes;
    for (EkByte rest = 0; rest < MIN(header->block_bytes, 16 * EK_STEP); rest += EK_STEP) {
        if (role == EK_ROLE_BACKUP) {
            if (rest <= volume->first_byte &&
                look_at_catalog(reader, volume->first_byte - rest + catalog, &tree) == EK_PRESENT)
                return rest;
            continue;
        }
        EkByte at = volume->first_byte + bytes_of(header) + rest - EK_HFS_HEADER_OFFSET;
        if (ek_presence_read(reader, at, sector, sizeof sector) == EK_PRESENT &&
            memcmp(sector, volume->header, 4) == 0 &&
            memcmp(sector + 40, volume->header + 40, 8) == 0)
            return rest;
    }
    return 0;
}

EkTimestamp ek_hfs_timestamp(EkSpan span, gsize at)
{
    guint32 seconds = ek_span_be32(span, at);
    return (EkTimestamp){.seconds = (gint64)seconds - EPOCH, .is_set = seconds != 0};
}

void ek_hfs_take_header(EkVolume *volume, const EkHfsHeader *header)
{
    EkSpan span = ek_volume_header(volume);
    if (!ek_bytes_are_zero(volume->header + 104, 8))
        volume->uuid = ek_text_hex(volume->header + 104, 8, '\0');
    volume->created = ek_hfs_timestamp(span, 16);
    volume->created.is_local = TRUE;
    volume->used = ek_hfs_timestamp(span, 20);
    ek_volume_property_number(volume, "bytes per allocation block", header->block_bytes);
    ek_volume_property_number(volume, "allocation blocks", header->blocks);
    ek_volume_property_number(volume, "free blocks", header->free_blocks);
    ek_volume_property_number(volume, EK_PROPERTY_FILES, (guint64)header->files + header->folders);
    ek_volume_property_number(volume, "catalog begins at block", header->catalog_block);
    ek_volume_property(volume, "names", "%s",
                       volume->header[1] == 'X' ? "case-sensitive (HFSX)" : "case-insensitive");
}

static void weigh_headers(EkReader *reader, EkVolume *volume)
{
    guint8 copy[EK_HEADER_BYTES];
    EkByte places[] = {volume->first_byte + EK_HFS_HEADER_OFFSET,
                       volume->first_byte + volume->bytes - EK_HFS_HEADER_OFFSET};
    for (guint i = 0; i < G_N_ELEMENTS(places); i++) {
        EkPresence part = ek_presence_read(reader, places[i], copy, sizeof copy);
        if (part == EK_PRESENT && (memcmp(copy, volume->header, 4) != 0 ||
                                   memcmp(copy + 40, volume->header + 40, 8) != 0))
            part = EK_ABSENT;
        ek_presence_reason(volume, part,
                           i == 0 ? "the volume header" : "the alternate volume header", places[i],
                           i == 0 ? 20 : 15);
    }
}

EkVolume *ek_hfs_measure(EkReader *reader, const EkCandidate *candidate, GError **error);

/* By the header in the wrapper, or else by its copy. The partition is the wrapper's. */
static EkVolume *measure_wrapped(EkReader *reader, const EkCandidate *candidate,
                                 const Wrapper *wrapper, GError **error)
{
    EkByte first = candidate->first_byte + wrapper->inside;
    EkCandidate inside[] = {
        {first, first + EK_HFS_HEADER_OFFSET, EK_ROLE_PRIMARY},
        {first, first + wrapper->inside_bytes - EK_HFS_HEADER_OFFSET, EK_ROLE_BACKUP},
    };
    g_autoptr(EkVolume) volume = NULL;
    for (gsize i = 0; i < G_N_ELEMENTS(inside) && (volume == NULL || !volume->is_confirmed); i++) {
        guint8 header[4];
        g_clear_pointer(&volume, ek_volume_free);
        /* What would lie past the end of the image is not there; wrappers do not lie in wrappers.
         */
        EkPresence part = ek_presence_read(reader, inside[i].header_byte, header, sizeof header);
        if (part == EK_ABSENT || (part == EK_PRESENT && header[0] == 'B'))
            continue;
        volume = ek_hfs_measure(reader, &inside[i], error);
        if (volume == NULL)
            return NULL;
    }
    if (volume == NULL)
        return ek_volume_new(NULL, "hfsplus");
    if (!volume->is_confirmed)
        return g_steal_pointer(&volume);
    volume->metadata_byte = volume->first_byte;
    volume->first_byte = candidate->first_byte;
    volume->bytes = wrapper->bytes;
    ek_volume_reason(volume, 5,
                     "embedded in an HFS wrapper at sector %" G_GUINT64_FORMAT
                     "; the HFS+ volume starts at sector %" G_GUINT64_FORMAT,
                     volume->first_byte / EK_STEP, volume->metadata_byte / EK_STEP);
    return g_steal_pointer(&volume);
}

EkVolume *ek_hfs_measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_HEADER_BYTES];
    EkSpan span = {data, sizeof data};
    EkHfsHeader header;
    EkHfsTree tree;
    g_autoptr(EkVolume) volume =
        ek_header_begin("hfsplus", reader, candidate, data, sizeof data, error);
    Wrapper wrapper;
    if (volume != NULL && wrapper_read(span, &wrapper))
        return measure_wrapped(reader, candidate, &wrapper, error);
    if (volume == NULL || !ek_hfs_header_read(span, &header))
        return g_steal_pointer(&volume);
    EkByte rest = find_rest(reader, volume, &header, candidate->role);
    if (candidate->role == EK_ROLE_BACKUP)
        volume->first_byte -= rest;
    volume->metadata_byte = volume->first_byte;
    volume->bytes = bytes_of(&header) + rest;
    ek_hfs_take_header(volume, &header);
    weigh_headers(reader, volume);
    EkByte catalog = volume->first_byte + (EkByte)header.catalog_block * header.block_bytes;
    EkPresence part = look_at_catalog(reader, catalog, &tree);
    ek_presence_reason(volume, part, "the catalog", catalog, 40);
    guint leaves =
        part == EK_ABSENT && candidate->role == EK_ROLE_BACKUP
            ? count_leaves(reader, catalog, (EkByte)header.catalog_blocks * header.block_bytes)
            : 0;
    if (leaves >= LEAVES_LEAST)
        ek_volume_reason(volume, 30, "%u of its leaves are there", leaves);
    if (part == EK_PRESENT && tree.first_leaf != 0)
        ek_hfs_take_label(reader, volume, catalog + (EkByte)tree.first_leaf * tree.node_bytes);
    ek_header_end(volume, part != EK_ABSENT || leaves >= LEAVES_LEAST);
    return g_steal_pointer(&volume);
}

/* The header says whether the volume was unmounted, and whether it has a journal. */
char *ek_hfs_unclean(EkReader *reader, const EkVolume *volume)
{
    guint32 attributes = ek_span_be32(ek_volume_header(volume), 4);
    (void)reader;
    if (volume->composed || (attributes & ATTRIBUTE_UNMOUNTED) != 0)
        return NULL;
    return g_strdup((attributes & ATTRIBUTE_JOURNAL) != 0
                        ? "The journal is not applied. " EK_UNCLEAN_TEXT
                        : EK_UNCLEAN_TEXT);
}
