/* SPDX-License-Identifier: MIT */
#include "volume/ext/journal.h"

#define MAGIC 0xc03b3998u
#define DESCRIPTOR 1u
#define SUPER_1 3u
#define SUPER_2 4u
#define HEADER_BYTES 12u
#define START_AT 28u /* in its superblock: 0 when all of it was played back */
#define FEATURE_WIDE 0x2u
#define FEATURE_SUMS_2 0x8u
#define FEATURE_SUMS_3 0x10u
#define TAG_ESCAPED 1u
#define TAG_SAME_UUID 2u
#define TAG_LAST 8u
#define UUID_BYTES 16u
#define BLOCKS_MOST (1u << 20)
#define COPIES_MOST (1u << 20)

/* A copy of a block of the volume. */
typedef struct {
    guint64 block;
    guint32 sequence; /* the later one is newer */
    guint32 place;    /* block of the journal */
} Copy;

struct EkExtJournal {
    GArray *extents; /* EkExtent: where it lies */
    GArray *copies;  /* Copy, by block, the newest first */
    guint32 block_bytes;
    guint32 features;
};

static gboolean add_extent(void *data, const EkExtent *extent)
{
    g_array_append_val(data, *extent);
    return TRUE;
}

static EkByte place_of(const EkExtJournal *journal, guint64 block)
{
    EkByte offset = block * journal->block_bytes;
    for (guint i = 0; i < journal->extents->len; i++) {
        const EkExtent *extent = &g_array_index(journal->extents, EkExtent, i);
        if (offset >= extent->offset && offset - extent->offset < extent->bytes)
            return extent->first_byte == EK_UNPLACED
                       ? EK_UNPLACED
                       : extent->first_byte + (offset - extent->offset);
    }
    return EK_UNPLACED;
}

static gboolean read_block(const EkExtJournal *journal, EkGate *gate, guint64 block, guint8 *buffer)
{
    EkByte at = place_of(journal, block);
    EkKnown known;
    return at != EK_UNPLACED &&
           ek_gate_read(gate, at, buffer, journal->block_bytes, &known, NULL) &&
           known.good == journal->block_bytes;
}

static gsize tag_bytes(const EkExtJournal *journal)
{
    if ((journal->features & FEATURE_SUMS_3) != 0)
        return 16;
    return 8u + ((journal->features & FEATURE_SUMS_2) != 0 ? 2u : 0u) +
           ((journal->features & FEATURE_WIDE) != 0 ? 4u : 0u);
}

/* The tags of a descriptor: each block that follows is a copy of the one its tag names. Returns how
 * many follow. */
static guint take_tags(EkExtJournal *journal, EkSpan block, guint32 place)
{
    gsize size = tag_bytes(journal);
    guint32 sequence = ek_span_be32(block, 8);
    guint count = 0;
    for (gsize at = HEADER_BYTES; at + size <= block.length;) {
        gboolean is_new = (journal->features & FEATURE_SUMS_3) != 0;
        guint32 flags = is_new ? ek_span_be32(block, at + 4) : ek_span_be16(block, at + 6);
        Copy copy = {.block = ek_span_be32(block, at), .sequence = sequence};
        if ((journal->features & FEATURE_WIDE) != 0)
            copy.block |= (guint64)ek_span_be32(block, at + 8) << 32;
        count++;
        copy.place = place + count;
        if ((flags & TAG_ESCAPED) == 0 && journal->copies->len < COPIES_MOST)
            g_array_append_val(journal->copies, copy);
        if ((flags & TAG_LAST) != 0)
            break;
        at += size + ((flags & TAG_SAME_UUID) == 0 ? UUID_BYTES : 0);
    }
    return count;
}

static gint by_block(gconstpointer a, gconstpointer b)
{
    const Copy *left = a;
    const Copy *right = b;
    if (left->block != right->block)
        return left->block < right->block ? -1 : 1;
    /* Sequences go round. */
    gint32 apart = (gint32)(left->sequence - right->sequence);
    return apart > 0 ? -1 : apart < 0;
}

static void load_copies(EkExtJournal *journal, EkGate *gate, guint32 blocks)
{
    g_autofree guint8 *buffer = g_malloc(journal->block_bytes);
    EkSpan span = {buffer, journal->block_bytes};
    for (guint32 at = 1; at < blocks; at++)
        if (read_block(journal, gate, at, buffer) && ek_span_be32(span, 0) == MAGIC &&
            ek_span_be32(span, 4) == DESCRIPTOR)
            at += take_tags(journal, span, at);
    g_array_sort(journal->copies, by_block);
}

void ek_ext_journal_close(EkExtJournal *journal)
{
    g_array_unref(journal->extents);
    g_array_unref(journal->copies);
    g_free(journal);
}

/* Where the journal lies; none of its copies is loaded. NULL when there is none, or it cannot be
 * read. */
static EkExtJournal *find_journal(EkExtVolume *volume, guint64 *bytes_of_it)
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
        !ek_gate_read(volume->gate, at + index * bytes, data, bytes, &known, NULL) ||
        known.good < bytes)
        return NULL;
    EkExtInode inode = ek_ext_inode_read(volume, span);
    if ((inode.mode & EK_EXT_TYPE) != EK_EXT_FILE || inode.size == 0)
        return NULL;
    EkExtJournal *journal = g_new0(EkExtJournal, 1);
    journal->block_bytes = volume->super.block_bytes;
    journal->extents = g_array_new(FALSE, FALSE, sizeof(EkExtent));
    journal->copies = g_array_new(FALSE, FALSE, sizeof(Copy));
    ek_ext_extents(volume, span, &inode, at + index * bytes, add_extent, journal->extents);
    *bytes_of_it = inode.size;
    return journal;
}

/* Its superblock, a block long; NULL when it is none, or was not read. The caller frees. */
static guint8 *read_super(const EkExtJournal *journal, EkGate *gate)
{
    g_autofree guint8 *super = g_malloc(journal->block_bytes);
    EkSpan head = {super, journal->block_bytes};
    return read_block(journal, gate, 0, super) && ek_span_be32(head, 0) == MAGIC &&
                   ek_span_be32(head, 12) == journal->block_bytes &&
                   (ek_span_be32(head, 4) == SUPER_1 || ek_span_be32(head, 4) == SUPER_2)
               ? g_steal_pointer(&super)
               : NULL;
}

EkExtJournal *ek_ext_journal_open(EkExtVolume *volume)
{
    guint64 bytes = 0;
    EkExtJournal *journal = find_journal(volume, &bytes);
    if (journal == NULL)
        return NULL;
    g_autofree guint8 *super = read_super(journal, volume->gate);
    if (super != NULL) {
        EkSpan head = {super, journal->block_bytes};
        journal->features = ek_span_be32(head, 4) == SUPER_2 ? ek_span_be32(head, 0x28) : 0;
        guint64 blocks = MIN(bytes / journal->block_bytes, ek_span_be32(head, 16));
        load_copies(journal, volume->gate, (guint32)MIN(blocks, BLOCKS_MOST));
    }
    if (journal->copies->len > 0)
        return journal;
    ek_ext_journal_close(journal);
    return NULL;
}

gboolean ek_ext_journal_is_due(EkExtVolume *volume)
{
    guint64 bytes = 0;
    EkExtJournal *journal = find_journal(volume, &bytes);
    if (journal == NULL)
        return FALSE;
    g_autofree guint8 *super = read_super(journal, volume->gate);
    EkSpan head = {super, journal->block_bytes};
    gboolean is_due = super != NULL && ek_span_be32(head, START_AT) != 0;
    ek_ext_journal_close(journal);
    return is_due;
}

/* The first copy of a block in the list. */
static guint first_copy(const GArray *copies, guint64 block)
{
    guint low = 0;
    guint high = copies->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        if (g_array_index(copies, Copy, middle).block < block)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

guint8 *ek_ext_journal_find(const EkExtJournal *journal, const EkExtVolume *volume, EkSpan span,
                            EkByte at, EkByte *copy_at)
{
    guint64 block = (at - volume->first_byte) / journal->block_bytes;
    gsize inside = (gsize)((at - volume->first_byte) % journal->block_bytes);
    g_autofree guint8 *copy = g_malloc(span.length);
    EkSpan older = {copy, span.length};
    for (guint i = first_copy(journal->copies, block);
         i < journal->copies->len && g_array_index(journal->copies, Copy, i).block == block; i++) {
        EkByte place = place_of(journal, g_array_index(journal->copies, Copy, i).place);
        EkKnown known;
        if (place == EK_UNPLACED ||
            !ek_gate_read(volume->gate, place + inside, copy, span.length, &known, NULL) ||
            known.good < span.length)
            continue;
        gboolean is_it =
            ek_span_le16(older, 26) != 0 && ek_span_le32(older, 20) == 0 &&
            (ek_span_le16(older, 0) & EK_EXT_TYPE) == (ek_span_le16(span, 0) & EK_EXT_TYPE) &&
            ek_span_le32(older, 100) == ek_span_le32(span, 100);
        if (is_it) {
            *copy_at = place + inside;
            return g_steal_pointer(&copy);
        }
    }
    return NULL;
}

gboolean ek_ext_journal_super(const EkExtJournal *journal, const EkExtVolume *volume,
                              guint8 super[EK_EXT_SUPER_BYTES])
{
    guint64 block = EK_EXT_SUPER_OFFSET / journal->block_bytes;
    gsize inside = EK_EXT_SUPER_OFFSET % journal->block_bytes;
    for (guint i = first_copy(journal->copies, block);
         i < journal->copies->len && g_array_index(journal->copies, Copy, i).block == block; i++) {
        EkByte place = place_of(journal, g_array_index(journal->copies, Copy, i).place);
        EkExtSuper said;
        EkKnown known;
        if (place != EK_UNPLACED &&
            ek_gate_read(volume->gate, place + inside, super, EK_EXT_SUPER_BYTES, &known, NULL) &&
            known.good == EK_EXT_SUPER_BYTES &&
            ek_ext_super_read((EkSpan){super, EK_EXT_SUPER_BYTES}, &said) && said.checksum_fits)
            return TRUE;
    }
    return FALSE;
}
