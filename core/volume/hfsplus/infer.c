/* SPDX-License-Identifier: MIT */
/* An HFS+ volume without its two headers. The catalog is found by its header node, or by two of its
 * leaves that name each other. A copy of the header elsewhere (a journal keeps some) says in which
 * block the catalog begins: then all is known. Without one, the files in the catalog tell the size
 * of a block, and the volume begins where a partition table says or partitions usually do, when
 * what stands where its allocation bitmap would be has the blocks of the catalog and of the files
 * in use. Offsets as in Technical Note TN1150. */
#include "volume/hfsplus/hfsplus.h"

#include "volume/formats.h"
#include "volume/headers.h"

#include <string.h>

#define CATALOGS_MOST 16u
#define COPIES_MOST 64u /* of headers that are tried */
#define BITMAP_MOST                                                                                \
    (16u << 20)         /* bytes of a bitmap that are looked through: 512 GiB in blocks of 4 KiB */
#define LEAVES_MOST 64u /* of those that are looked at */
#define SAMPLES_MOST 256u     /* files whose places are compared with the bitmap */
#define CHAIN_MOST (1u << 20) /* leaves that are followed */
#define BITS_MOST 64u         /* of a run of blocks that is in use */
#define BLOCK_LEAST 512u
#define FILE_RECORD 2u
#define FILE_FORK 88u /* in a file's record */
#define FORK_BYTES 24u
#define BITMAP_LOOK 65536u            /* bytes of a bitmap in which some block must be free */
#define BEFORE_MOST ((EkByte)1 << 30) /* a volume begins so far before its catalog, at most */
#define MIB ((EkByte)1 << 20)

/* Blocks that are in use as the catalog says, at least, for a volume to be believed: where a table
 * tells the place, and where nothing does. */
#define AGREE_LEAST 8u
#define AGREE_LEAST_GUESSED 32u

/* The distance between records of a run tells what was seen: none of these form any. */
enum { SEEN_HEADER = 1, SEEN_CATALOG = 2, SEEN_EXTENTS = 3, SEEN_LEAF = 4 };

/* A file's first run of blocks. */
typedef struct {
    EkByte bytes;
    guint32 blocks; /* of all of it */
    guint32 first;
    guint32 count;
} Sample;

typedef struct {
    EkByte at;
    EkHfsTree tree;    /* nodes 0: its header node was not found */
    GArray *samples;   /* Sample */
    EkByte first_leaf; /* EK_UNPLACED: not known */
} Catalog;

/* A place and a size of blocks, and how many of them are in use where the catalog says so. */
typedef struct {
    EkByte start;
    EkByte end; /* 0: no table tells */
    guint32 block_bytes;
    guint32 agree;
} Fit;

gboolean ek_hfs_record_seen(EkSpan span, EkRecord *record)
{
    EkHfsHeader header;
    EkHfsTree tree;
    EkHfsLeaf leaf;
    *record = (EkRecord){0, 0};
    if (ek_hfs_header_read(span, &header))
        record->bytes = SEEN_HEADER;
    else if (ek_hfs_tree_read(span, &tree) && tree.key_most == EK_HFS_CATALOG_KEY)
        record->bytes = SEEN_CATALOG;
    else if (ek_hfs_tree_read(span, &tree) && tree.key_most == EK_HFS_EXTENTS_KEY)
        record->bytes = SEEN_EXTENTS;
    else if (ek_hfs_leaf_read(span, &leaf))
        record->bytes = SEEN_LEAF;
    return record->bytes != 0;
}

static const EkRecordRun *run_at(const GArray *runs, guint i, guint64 seen)
{
    const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
    return run->stride == seen ? run : NULL;
}

static gboolean read_step(EkReader *reader, EkByte at, guint8 step[EK_STEP])
{
    return ek_presence_read(reader, at, step, EK_STEP) == EK_PRESENT;
}

/* --- the catalog ------------------------------------------------------------------------------ */

static void catalog_free(gpointer data)
{
    Catalog *catalog = data;
    g_array_unref(catalog->samples);
    g_free(catalog);
}

static void add_catalog(GPtrArray *catalogs, EkByte at, EkHfsTree tree)
{
    for (guint i = 0; i < catalogs->len; i++)
        if (((Catalog *)catalogs->pdata[i])->at == at)
            return;
    if (catalogs->len == CATALOGS_MOST)
        return;
    Catalog *catalog = g_new0(Catalog, 1);
    catalog->at = at;
    catalog->tree = tree;
    catalog->first_leaf =
        tree.first_leaf != 0 ? at + (EkByte)tree.first_leaf * tree.node_bytes : EK_UNPLACED;
    catalog->samples = g_array_new(FALSE, FALSE, sizeof(Sample));
    g_ptr_array_add(catalogs, catalog);
}

/* Two leaves that name each other tell by their distance how large a node is, and by their numbers
 * where the catalog begins. */
static void add_catalogs_of_leaves(EkReader *reader, const GArray *runs, GPtrArray *catalogs)
{
    EkHfsLeaf before = {0, 0, 0, 0};
    EkByte before_at = 0;
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = run_at(runs, i, SEEN_LEAF);
        guint8 step[EK_STEP];
        EkHfsLeaf leaf;
        if (run == NULL || !read_step(reader, run->first_byte, step) ||
            !ek_hfs_leaf_read((EkSpan){step, sizeof step}, &leaf))
            continue;
        EkByte apart = run->first_byte - before_at;
        guint64 nodes = before.next > leaf.previous ? before.next - leaf.previous : 0;
        if (leaf.previous != 0 && nodes != 0 && apart % nodes == 0) {
            EkHfsTree tree = {.node_bytes = (guint32)MIN(apart / nodes, G_MAXUINT32)};
            EkByte into = (EkByte)leaf.previous * tree.node_bytes;
            if (ek_is_power_of_two(tree.node_bytes) && tree.node_bytes >= BLOCK_LEAST &&
                tree.node_bytes <= EK_HFS_NODE_MOST && into <= before_at)
                add_catalog(catalogs, before_at - into, tree);
        }
        before = leaf;
        before_at = run->first_byte;
    }
}

static GPtrArray *find_catalogs(EkReader *reader, const GArray *runs)
{
    GPtrArray *catalogs = g_ptr_array_new_with_free_func(catalog_free);
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = run_at(runs, i, SEEN_CATALOG);
        guint8 step[EK_STEP];
        EkHfsTree tree;
        if (run != NULL && read_step(reader, run->first_byte, step) &&
            ek_hfs_tree_read((EkSpan){step, sizeof step}, &tree))
            add_catalog(catalogs, run->first_byte, tree);
    }
    add_catalogs_of_leaves(reader, runs, catalogs);
    return catalogs;
}

static void take_sample(Catalog *catalog, EkSpan record)
{
    guint key_bytes = ek_span_be16(record, 0);
    EkSpan file = ek_span_part(record, 2 + key_bytes, FILE_FORK + FORK_BYTES);
    Sample sample = {
        .bytes = ek_span_be64(file, FILE_FORK),
        .blocks = ek_span_be32(file, FILE_FORK + 12),
        .first = ek_span_be32(file, FILE_FORK + 16),
        .count = ek_span_be32(file, FILE_FORK + 20),
    };
    if (ek_span_be16(file, 0) == FILE_RECORD && sample.bytes > 0 && sample.count > 0 &&
        sample.count <= sample.blocks && catalog->samples->len < SAMPLES_MOST)
        g_array_append_val(catalog->samples, sample);
}

static void look_at_leaf(EkReader *reader, Catalog *catalog, EkByte at)
{
    guint32 bytes = catalog->tree.node_bytes;
    g_autofree guint8 *node = g_malloc(bytes);
    EkSpan span = {node, bytes};
    EkHfsLeaf leaf;
    if (ek_presence_read(reader, at, node, bytes) != EK_PRESENT || !ek_hfs_leaf_read(span, &leaf))
        return;
    if (leaf.parent == EK_HFS_ROOT_PARENT)
        catalog->first_leaf = at;
    for (guint i = 0; i < MIN(leaf.records, bytes / 4); i++) {
        gsize place = ek_span_be16(span, bytes - 2 * ((gsize)i + 1));
        take_sample(catalog, ek_span_part(span, place, bytes - MIN(place, bytes)));
    }
}

static void take_samples(EkReader *reader, const GArray *runs, Catalog *catalog)
{
    guint32 size = catalog->tree.node_bytes;
    EkByte end = catalog->tree.nodes != 0 ? (EkByte)catalog->tree.nodes * size : G_MAXUINT64;
    guint leaves = 0;
    for (guint i = 0; i < runs->len && leaves < LEAVES_MOST; i++) {
        const EkRecordRun *run = run_at(runs, i, SEEN_LEAF);
        if (run == NULL || run->first_byte <= catalog->at || run->first_byte - catalog->at >= end ||
            (run->first_byte - catalog->at) % size != 0)
            continue;
        look_at_leaf(reader, catalog, run->first_byte);
        leaves++;
    }
}

/* --- by a copy of the header ------------------------------------------------------------------ */

static EkPresence look_at_tree(EkReader *reader, EkByte at, guint32 key_most)
{
    guint8 step[EK_STEP];
    EkHfsTree tree;
    EkPresence part = ek_presence_read(reader, at, step, sizeof step);
    gboolean is_it = part == EK_PRESENT && ek_hfs_tree_read((EkSpan){step, sizeof step}, &tree) &&
                     tree.key_most == key_most;
    return part == EK_PRESENT && !is_it ? EK_ABSENT : part;
}

/* The first block of a file is the highest bit of a byte. */
static EkUsage use_of(EkReader *reader, EkByte bitmap, guint64 block)
{
    return ek_usage_bit(reader, bitmap, block ^ 7);
}

static EkVolume *begin_volume(const Catalog *catalog, EkByte start)
{
    EkVolume *volume = ek_volume_new(NULL, "hfsplus");
    volume->composed = volume->by_backup = TRUE;
    volume->first_byte = volume->metadata_byte = start;
    volume->header_byte = catalog->at;
    volume->own_sector_size = EK_STEP;
    return volume;
}

static void end_volume(EkReader *reader, EkVolume *volume, const Catalog *catalog)
{
    EkHfsHeader header;
    gboolean stands = ek_hfs_header_read(ek_volume_header(volume), &header);
    if (stands && catalog->first_leaf != EK_UNPLACED)
        ek_hfs_take_label(reader, volume, catalog->first_leaf);
    ek_header_end(volume, stands);
}

/* The partition may be up to one block longer than all blocks: a table tells. */
static EkByte length_of(const GArray *places, EkByte start, EkByte bytes, guint32 block_bytes)
{
    for (guint i = 0; i < places->len; i++) {
        EkRange place = g_array_index(places, EkRange, i);
        if (place.first == start && place.bytes >= bytes && place.bytes - bytes < block_bytes)
            return place.bytes;
    }
    return bytes;
}

/* Files fill all of their blocks but for a part of the last. */
static gboolean may_be_of(const GArray *samples, guint32 block_bytes)
{
    guint full = 0;
    for (guint i = 0; i < samples->len; i++) {
        const Sample *sample = &g_array_index(samples, Sample, i);
        if ((EkByte)sample->blocks * block_bytes < sample->bytes)
            return FALSE;
        full += (EkByte)(sample->blocks - 1) * block_bytes < sample->bytes;
    }
    return full * 2 >= samples->len;
}

/* Where the journal is, as the block behind a bitmap says. */
static gboolean is_journal_info(EkSpan span, guint32 block_bytes)
{
    guint64 offset = ek_span_be64(span, 36);
    return span.length >= 52 && ek_span_be32(span, 0) == 1 &&
           ek_bytes_are_zero(span.data + 4, 32) && offset != 0 && offset % block_bytes == 0 &&
           ek_span_be64(span, 44) != 0;
}

static gboolean is_in_another(const EkSightings *sightings, EkByte at)
{
    for (guint i = 0; i < sightings->volumes->len; i++) {
        const EkVolume *other = sightings->volumes->pdata[i];
        if (g_str_equal(other->filesystem, "hfsplus") && ek_range_holds(ek_volume_range(other), at))
            return TRUE;
    }
    return FALSE;
}

/* Bitmap or tree of extents may have been written over by another volume, where one is known. Then
 * the copy must be the one at the end of the volume, or the journal where it says; and the files
 * inside, with as many blocks as they are long. */
static gboolean is_written_over(EkReader *reader, const EkSightings *sightings,
                                const Catalog *catalog, EkByte at, EkSpan copy, EkByte start,
                                gboolean has_extents)
{
    guint8 info[EK_STEP];
    guint32 size = ek_span_be32(copy, 40);
    guint32 blocks = ek_span_be32(copy, 44);
    guint32 block = ek_span_be32(copy, 12);
    EkByte end = start + (EkByte)blocks * size;
    EkByte bitmap =
        start + (EkByte)ek_span_be32(copy, EK_HFS_BITMAP_FORK + EK_HFS_FORK_EXTENTS) * size;
    gboolean is_over = FALSE;
    for (guint i = 0; i < sightings->volumes->len; i++)
        is_over |= ek_range_holds(ek_volume_range(sightings->volumes->pdata[i]), bitmap);
    for (guint i = 0; i < catalog->samples->len; i++) {
        const Sample *sample = &g_array_index(catalog->samples, Sample, i);
        is_over &= (guint64)sample->first + sample->count <= blocks;
    }
    if (!is_over || catalog->samples->len == 0 || !may_be_of(catalog->samples, size))
        return FALSE;
    /* Behind it there may be a part of a block. */
    if (at > start && at + EK_HFS_HEADER_OFFSET >= end && at + EK_HFS_HEADER_OFFSET - end < size)
        return TRUE;
    if (catalog->samples->len < AGREE_LEAST)
        return FALSE;
    /* Makers put the journal behind that block, and the tree of extents behind the journal. */
    EkByte behind =
        start + (EkByte)ek_span_be32(copy, EK_HFS_EXTENTS_FORK + EK_HFS_FORK_EXTENTS) * size;
    if (has_extents && block != 0 && at > start + (EkByte)block * size && at < behind &&
        !is_in_another(sightings, at))
        return TRUE;
    return block != 0 && block < blocks &&
           ek_presence_read(reader, start + (EkByte)block * size, info, sizeof info) ==
               EK_PRESENT &&
           is_journal_info((EkSpan){info, sizeof info}, MIN(size, EK_STEP));
}

/* Is it the header, or the alternate one, of a volume that is known and begins elsewhere? */
static gboolean is_anothers(const EkSightings *sightings, EkByte copy, EkByte start)
{
    for (guint i = 0; i < sightings->volumes->len; i++) {
        const EkVolume *other = sightings->volumes->pdata[i];
        EkByte first = other->metadata_byte;
        if (g_str_equal(other->filesystem, "hfsplus") && first != start &&
            (copy == first + EK_HFS_HEADER_OFFSET || copy == other->header_byte ||
             (copy > first && first + other->bytes - copy <= EK_HFS_HEADER_OFFSET)))
            return TRUE;
    }
    return FALSE;
}

static EkVolume *compose_by_copy(EkReader *reader, const EkSightings *sightings,
                                 const Catalog *catalog, EkByte copy)
{
    guint8 data[EK_HEADER_BYTES];
    EkHfsHeader header;
    if (!read_step(reader, copy, data) ||
        !ek_hfs_header_read((EkSpan){data, sizeof data}, &header) ||
        (EkByte)header.catalog_block * header.block_bytes > catalog->at)
        return NULL;
    EkByte start = catalog->at - (EkByte)header.catalog_block * header.block_bytes;
    EkByte bitmap = start + (EkByte)header.bitmap_block * header.block_bytes;
    if (copy < start || copy - start >= (EkByte)header.blocks * header.block_bytes ||
        is_anothers(sightings, copy, start))
        return NULL;
    EkPresence extents = look_at_tree(
        reader, start + (EkByte)header.extents_block * header.block_bytes, EK_HFS_EXTENTS_KEY);
    EkUsage use = use_of(reader, bitmap, header.catalog_block);
    gboolean is_over = extents == EK_ABSENT || use == EK_USAGE_FREE;
    if (is_over && !is_written_over(reader, sightings, catalog, copy, (EkSpan){data, sizeof data},
                                    start, extents == EK_PRESENT))
        return NULL;
    EkVolume *volume = begin_volume(catalog, start);
    EkByte bytes = (EkByte)header.blocks * header.block_bytes;
    volume->bytes = length_of(sightings->places, start, bytes, header.block_bytes);
    memcpy(volume->header, data, sizeof data);
    ek_hfs_take_header(volume, &header);
    ek_volume_reason(
        volume, 40,
        "a copy of its header at sector %" G_GUINT64_FORMAT
        " says in which block its catalog is, which begins at sector %" G_GUINT64_FORMAT,
        copy / EK_STEP, catalog->at / EK_STEP);
    if (is_over)
        ek_volume_reason(volume, 20,
                         "that copy is the one at its end, or its journal is where it says, and %u "
                         "files have as many blocks as they are long; another volume was written "
                         "over its bitmap",
                         catalog->samples->len);
    ek_volume_reason(volume, extents == EK_PRESENT ? 20 : 0,
                     extents == EK_PRESENT  ? "the extents overflow file is where that copy says"
                     : extents == EK_ABSENT ? "the extents overflow file is written over"
                                            : "the extents overflow file is unread: not checked");
    if (!is_over)
        ek_volume_reason(volume, use == EK_USAGE_USED ? 10 : 0,
                         use == EK_USAGE_USED ? "its bitmap has the catalog in use"
                                              : "its bitmap could not be checked (unread)");
    end_volume(reader, volume, catalog);
    return volume;
}

/* --- without one ------------------------------------------------------------------------------ */

/* Formatting puts the bitmap behind the header's block. */
static guint32 bitmap_block_of(guint32 block_bytes)
{
    return (guint32)ek_divide_up(EK_HFS_HEADER_OFFSET + EK_STEP, block_bytes);
}

/* Counts the blocks from `first` on that are in use, up to the first that is not. FALSE when one of
 * the first `least` is free. */
static gboolean count_used(EkReader *reader, EkByte bitmap, guint64 first, guint64 least,
                           guint64 most, guint32 *agree)
{
    for (guint64 i = 0; i < most; i++) {
        EkUsage use = use_of(reader, bitmap, first + i);
        if (use == EK_USAGE_FREE)
            return i >= least;
        if (use == EK_USAGE_USED)
            (*agree)++;
    }
    return TRUE;
}

/* Is some block free? A region that is full of ones is no bitmap. */
static gboolean has_free_block(EkReader *reader, EkByte bitmap)
{
    g_autofree guint8 *bytes = g_malloc(BITMAP_LOOK);
    gsize length =
        (gsize)MIN(BITMAP_LOOK, ek_reader_bytes(reader) - MIN(bitmap, ek_reader_bytes(reader)));
    if (length == 0 || !ek_reader_read(reader, bitmap, bytes, length, NULL, NULL))
        return FALSE;
    for (gsize i = 0; i < length; i++)
        if (bytes[i] != 0xff)
            return TRUE;
    return FALSE;
}

/* FALSE when something that was read contradicts. */
static gboolean weigh_fit(EkReader *reader, const Catalog *catalog, const GArray *runs, Fit *fit)
{
    guint32 size = fit->block_bytes;
    guint32 own = bitmap_block_of(size);
    EkByte bitmap = fit->start + (EkByte)own * size;
    EkByte limit = fit->end != 0 ? fit->end : ek_reader_bytes(reader);
    EkByte node = MAX(catalog->tree.node_bytes, size);
    EkByte nodes = MAX((EkByte)catalog->tree.nodes * catalog->tree.node_bytes, node);
    fit->agree = 0;
    if ((catalog->at - fit->start) % size != 0 ||
        !count_used(reader, bitmap, 0, own + 1, own + 1, &fit->agree) ||
        !count_used(reader, bitmap, (catalog->at - fit->start) / size, node / size,
                    MIN(nodes / size, BITS_MOST), &fit->agree))
        return FALSE;
    for (guint i = 0; i < catalog->samples->len; i++) {
        const Sample *sample = &g_array_index(catalog->samples, Sample, i);
        guint64 end = (guint64)sample->first + sample->count;
        if (end > (limit - fit->start) / size ||
            !count_used(reader, bitmap, sample->first, 1, 1, &fit->agree) ||
            !count_used(reader, bitmap, end - 1, 1, 1, &fit->agree))
            return FALSE;
    }
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = run_at(runs, i, SEEN_EXTENTS);
        if (run == NULL || run->first_byte <= bitmap || run->first_byte > catalog->at + BEFORE_MOST)
            continue;
        count_used(reader, bitmap, (run->first_byte - fit->start) / size, 1, BITS_MOST,
                   &fit->agree);
        break;
    }
    return has_free_block(reader, bitmap);
}

static void try_start(EkReader *reader, const Catalog *catalog, const GArray *runs, Fit fit,
                      Fit *best)
{
    for (guint32 size = BLOCK_LEAST; size <= EK_HFS_BLOCK_MOST; size *= 2) {
        fit.block_bytes = size;
        if (fit.start < catalog->at && may_be_of(catalog->samples, size) &&
            weigh_fit(reader, catalog, runs, &fit) && fit.agree > best->agree)
            *best = fit;
    }
}

static Fit find_fit(EkReader *reader, const EkSightings *sightings, const Catalog *catalog)
{
    /* In sectors: behind tables, and behind the partition for the firmware that some makers put
     * before it. */
    static const EkSector odd[] = {34, 40, 63, 64, 96, 262208, 409640};
    Fit best = {.agree = AGREE_LEAST - 1};
    for (guint i = 0; i < sightings->places->len; i++) {
        EkRange place = g_array_index(sightings->places, EkRange, i);
        Fit fit = {.start = place.first, .end = ek_range_end(place)};
        if (fit.end > catalog->at)
            try_start(reader, catalog, sightings->runs, fit, &best);
    }
    if (best.agree >= AGREE_LEAST)
        return best;
    best.agree = AGREE_LEAST_GUESSED - 1;
    for (gsize i = 0; i < G_N_ELEMENTS(odd); i++)
        try_start(reader, catalog, sightings->runs, (Fit){.start = odd[i] * EK_STEP}, &best);
    EkByte from = catalog->at - MIN(catalog->at, BEFORE_MOST);
    for (EkByte start = from / MIB * MIB; start < catalog->at; start += MIB)
        try_start(reader, catalog, sightings->runs, (Fit){.start = start}, &best);
    return best;
}

/* The bitmap, up to what stands behind it: what tells of the journal, or the tree of extents.
 * Returns its length, 0 when that is not told. The caller frees *bytes. */
static gsize read_bitmap(EkReader *reader, const GArray *runs, const Fit *fit, guint8 **bytes)
{
    EkByte first = fit->start + (EkByte)bitmap_block_of(fit->block_bytes) * fit->block_bytes;
    EkByte tree = EK_UNPLACED;
    EkKnown known;
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = run_at(runs, i, SEEN_EXTENTS);
        if (run != NULL && run->first_byte > first)
            tree = MIN(tree, run->first_byte);
    }
    gsize length = (gsize)MIN(MIN(tree, ek_reader_bytes(reader)) - first, BITMAP_MOST);
    *bytes = g_malloc(length);
    if (!ek_reader_read(reader, first, *bytes, length, &known, NULL))
        return 0;
    for (gsize at = fit->block_bytes; at < length; at += fit->block_bytes)
        if (is_journal_info(ek_span_part((EkSpan){*bytes, length}, at, fit->block_bytes),
                            fit->block_bytes))
            return at;
    return known.good == length && first + length == tree ? length : 0;
}

/* The last blocks hold the other header, and are in use. Returns how many there are, 0 when that is
 * not told. */
static guint64 count_blocks(EkReader *reader, const GArray *runs, const Fit *fit)
{
    g_autofree guint8 *bytes = NULL;
    gsize whole = read_bitmap(reader, runs, fit, &bytes);
    gsize length = whole;
    guint bit = 0;
    while (length > 0 && bytes[length - 1] == 0)
        length--;
    /* What goes on for more than a block was no bitmap. */
    if (length == 0 || length + fit->block_bytes <= whole)
        return 0;
    while ((bytes[length - 1] >> bit & 1) == 0)
        bit++;
    guint64 blocks = (guint64)length * 8 - bit;
    return blocks <= (ek_reader_bytes(reader) - fit->start) / fit->block_bytes ? blocks : 0;
}

static guint64 least_blocks(const Catalog *catalog, const Fit *fit)
{
    guint64 least = (catalog->at - fit->start + catalog->tree.node_bytes) / fit->block_bytes;
    for (guint i = 0; i < catalog->samples->len; i++) {
        const Sample *sample = &g_array_index(catalog->samples, Sample, i);
        least = MAX(least, (guint64)sample->first + sample->count);
    }
    return least;
}

static void put_fork(guint8 *fork, EkByte bytes, guint32 first, guint32 block_bytes)
{
    guint32 blocks = (guint32)ek_divide_up(bytes, block_bytes);
    ek_put_be64(fork, bytes);
    ek_put_be32(fork + 12, blocks);
    ek_put_be32(fork + EK_HFS_FORK_EXTENTS, first);
    ek_put_be32(fork + EK_HFS_FORK_EXTENTS + 4, blocks);
}

/* How many nodes the catalog has, at least, as its leaves tell by their places and by which they
 * name next. */
static guint64 count_nodes(EkReader *reader, const GArray *runs, const Catalog *catalog)
{
    guint32 size = catalog->tree.node_bytes;
    guint64 last = 0;
    guint8 step[EK_STEP];
    EkHfsLeaf leaf;
    EkHfsLeaf next;
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = run_at(runs, i, SEEN_LEAF);
        EkByte into =
            run != NULL && run->first_byte > catalog->at ? run->first_byte - catalog->at : 0;
        if (into == 0 || into % size != 0 || into > BEFORE_MOST ||
            !read_step(reader, run->first_byte, step) ||
            !ek_hfs_leaf_read((EkSpan){step, sizeof step}, &leaf))
            continue;
        guint64 number = into / size;
        /* Its neighbour knows it: it is of this tree. */
        if ((leaf.next == 0 && leaf.previous == 0) || leaf.next == number)
            continue;
        EkByte other = leaf.next != 0 ? leaf.next : leaf.previous;
        if (read_step(reader, catalog->at + other * size, step) &&
            ek_hfs_leaf_read((EkSpan){step, sizeof step}, &next) &&
            (leaf.next != 0 ? next.previous : next.next) == number)
            last = MAX(last, MAX(number, other));
    }
    /* On from there, as far as they were read. */
    for (guint count = 0; count < CHAIN_MOST && last != 0; count++) {
        if (!read_step(reader, catalog->at + last * size, step) ||
            !ek_hfs_leaf_read((EkSpan){step, sizeof step}, &leaf) || leaf.next <= last)
            break;
        last = leaf.next;
    }
    return last + 1;
}

/* The tree of extents stands behind the bitmap: without it no system mounts a volume. */
static void compose_extents(EkReader *reader, const GArray *runs, const Fit *fit, guint8 *header)
{
    EkByte bitmap = fit->start + (EkByte)bitmap_block_of(fit->block_bytes) * fit->block_bytes;
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = run_at(runs, i, SEEN_EXTENTS);
        guint8 step[EK_STEP];
        EkHfsTree tree;
        if (run == NULL || run->first_byte <= bitmap ||
            (run->first_byte - fit->start) % fit->block_bytes != 0 ||
            !read_step(reader, run->first_byte, step) ||
            !ek_hfs_tree_read((EkSpan){step, sizeof step}, &tree))
            continue;
        put_fork(header + EK_HFS_EXTENTS_FORK, (EkByte)tree.nodes * tree.node_bytes,
                 (guint32)((run->first_byte - fit->start) / fit->block_bytes), fit->block_bytes);
        return;
    }
}

static void compose_header(const Catalog *catalog, const Fit *fit, guint64 blocks, guint8 *header)
{
    guint32 size = fit->block_bytes;
    memset(header, 0, EK_HEADER_BYTES);
    memcpy(header, catalog->tree.is_sensitive ? "HX\0\5" : "H+\0\4", 4);
    ek_put_be32(header + 40, size);
    ek_put_be32(header + 44, (guint32)blocks);
    put_fork(header + EK_HFS_BITMAP_FORK, ek_divide_up(blocks, 8), bitmap_block_of(size), size);
    put_fork(header + EK_HFS_CATALOG_FORK,
             (EkByte)MAX(catalog->tree.nodes, 1) * catalog->tree.node_bytes,
             (guint32)((catalog->at - fit->start) / size), size);
}

static EkVolume *compose_by_files(EkReader *reader, const EkSightings *sightings, Catalog *catalog)
{
    Fit fit = find_fit(reader, sightings, catalog);
    if (fit.block_bytes != 0 && catalog->tree.nodes == 0)
        catalog->tree.nodes = (guint32)count_nodes(reader, sightings->runs, catalog);
    if (fit.block_bytes == 0)
        return NULL;
    EkVolume *volume = begin_volume(catalog, fit.start);
    guint64 least = least_blocks(catalog, &fit);
    guint64 blocks = fit.end != 0 ? (fit.end - fit.start) / fit.block_bytes : 0;
    if (blocks == 0)
        blocks = count_blocks(reader, sightings->runs, &fit);
    volume->length_is_least = blocks < least || blocks > G_MAXUINT32;
    if (volume->length_is_least)
        blocks = MIN(least, G_MAXUINT32);
    volume->bytes =
        fit.end != 0 && !volume->length_is_least ? fit.end - fit.start : blocks * fit.block_bytes;
    compose_header(catalog, &fit, blocks, volume->header);
    compose_extents(reader, sightings->runs, &fit, volume->header);
    ek_volume_property_number(volume, "bytes per allocation block", fit.block_bytes);
    ek_volume_property_number(volume, "allocation blocks", blocks);
    ek_volume_property_number(volume, "catalog begins at block",
                              (catalog->at - fit.start) / fit.block_bytes);
    ek_volume_reason(volume, 30,
                     "no volume header found; catalog file at sector %" G_GUINT64_FORMAT
                     " with %u known files",
                     catalog->at / EK_STEP, catalog->samples->len);
    ek_volume_reason(
        volume, fit.agree >= AGREE_LEAST_GUESSED ? 30 : 20,
        "the likely allocation bitmap marks all %u checked blocks of catalog and files as used",
        fit.agree);
    ek_volume_reason(volume, 0, "its first sector is %s",
                     fit.end != 0 ? "known from a partition table"
                                  : "assumed: partitions usually start there");
    ek_volume_reason(volume, 0, "UUID lost (stored only in the header)");
    end_volume(reader, volume, catalog);
    return volume;
}

gboolean ek_hfs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink, void *data,
                      GError **error)
{
    g_autoptr(GPtrArray) catalogs = find_catalogs(reader, sightings->runs);
    (void)error;
    for (guint i = 0; i < catalogs->len; i++) {
        Catalog *catalog = catalogs->pdata[i];
        EkVolume *volume = NULL;
        guint copies = 0;
        take_samples(reader, sightings->runs, catalog);
        for (guint k = 0; k < sightings->runs->len && copies < COPIES_MOST && volume == NULL; k++) {
            const EkRecordRun *run = run_at(sightings->runs, k, SEEN_HEADER);
            if (run == NULL)
                continue;
            volume = compose_by_copy(reader, sightings, catalog, run->first_byte);
            copies++;
        }
        if (volume == NULL)
            volume = compose_by_files(reader, sightings, catalog);
        if (volume != NULL)
            sink(data, volume);
    }
    return TRUE;
}
