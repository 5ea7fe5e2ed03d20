/* SPDX-License-Identifier: MIT */
/* An ext volume that another one was made over in another way: no superblock and no table of groups
 * is left. An inode of a folder says in which block that folder begins, and that block which inode
 * it is of. Pairs of both tell how large a block is and where the volume begins; and with what
 * number inodes stand in each place, so that no table of groups is needed to read them. */
#include "volume/ext/remnants.h"

#include "volume/headers.h"

#include <string.h>

#define FOLDERS_MOST 512u
#define INODES_MOST 512u
#define DEEPER 4u       /* times as many where it is asked for */
#define STARTS_MOST 16u /* of a size of blocks that are weighed */
#define VOLUMES_MOST 4u
#define PAIRS_LEAST 3u
#define BLOCK_LEAST 1024u
#define BLOCK_MOST 65536u
#define RUN_BYTES 16u
#define COPY_BIT ((guint32)1 << 31)

/* --- runs in a header ------------------------------------------------------------------------- */

void ek_ext_runs_keep(EkVolume *volume, const guint8 *super, const GArray *runs)
{
    guint count = MIN(runs->len, EK_EXT_RUNS_MOST);
    gsize length = EK_EXT_SUPER_BYTES + 4 + (gsize)count * RUN_BYTES;
    g_autofree guint8 *header = g_malloc0(length);
    memcpy(header, super, EK_EXT_SUPER_BYTES);
    ek_put_le32(header + EK_EXT_SUPER_BYTES, count);
    for (guint i = 0; i < count; i++) {
        const EkExtInodeRun *run = &g_array_index(runs, EkExtInodeRun, i);
        guint8 *at = header + EK_EXT_SUPER_BYTES + 4 + (gsize)i * RUN_BYTES;
        ek_put_le64(at, run->first_byte);
        ek_put_le32(at + 8, run->first);
        ek_put_le32(at + 12, run->count | (run->is_copy ? COPY_BIT : 0));
    }
    ek_volume_set_header(volume, (EkSpan){header, length});
}

GArray *ek_ext_runs_of(const EkVolume *volume)
{
    EkSpan header = ek_volume_header(volume);
    if (!volume->is_earlier || header.length < EK_EXT_SUPER_BYTES + 4 + RUN_BYTES)
        return NULL;
    GArray *runs = g_array_new(FALSE, FALSE, sizeof(EkExtInodeRun));
    guint32 count = ek_span_le32(header, EK_EXT_SUPER_BYTES);
    for (guint32 i = 0; i < MIN(count, EK_EXT_RUNS_MOST); i++) {
        gsize at = EK_EXT_SUPER_BYTES + 4 + (gsize)i * RUN_BYTES;
        guint32 length = ek_span_le32(header, at + 12);
        EkExtInodeRun run = {ek_span_le64(header, at), ek_span_le32(header, at + 8),
                             length & ~COPY_BIT, (length & COPY_BIT) != 0};
        if (ek_span_has(header, at, RUN_BYTES) && run.first > 0 && run.count > 0)
            g_array_append_val(runs, run);
    }
    return runs;
}

/* --- what was seen ---------------------------------------------------------------------------- */

/* The first block of a folder. */
typedef struct {
    EkByte place;
    guint32 inode;
} Folder;

/* The inode of a folder. */
typedef struct {
    EkByte place;
    guint64 block; /* the first one */
    gboolean has_extents;
    EkTimestamp used;
} Inode;

typedef struct {
    EkReader *reader;
    const EkSightings *sightings;
    GArray *folders; /* Folder */
    GArray *inodes;  /* Inode */
} Search;

/* Where blocks lie, and what agrees with it. */
typedef struct {
    EkByte start;
    guint32 block_bytes;
    guint32 inode_bytes;
    guint pairs; /* whose number agrees with that of another */
} Fit;

static guint deeper(const Search *search, guint most)
{
    return search->sightings->is_deep ? DEEPER * most : most;
}

static void take_inodes(Search *search, EkByte place)
{
    guint8 data[EK_STEP];
    if (ek_presence_read(search->reader, place, data, sizeof data) != EK_PRESENT)
        return;
    for (gsize at = 0; at < sizeof data; at += EK_EXT_INODE_LEAST) {
        EkExtInode inode =
            ek_ext_inode_read(ek_span_part((EkSpan){data, sizeof data}, at, EK_EXT_INODE_LEAST));
        Inode own = {place + at, ek_ext_folder_block(&inode), (inode.flags & EK_EXT_EXTENTS) != 0,
                     inode.modified};
        if (own.block != 0 && search->inodes->len < deeper(search, INODES_MOST))
            g_array_append_val(search->inodes, own);
    }
}

static void gather(Search *search)
{
    const GArray *runs = search->sightings->runs;
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        gboolean is_root = run->stride == EK_EXT_SEEN_ROOT;
        gboolean is_folder = is_root || run->stride == EK_EXT_SEEN_FOLDER;
        if (run->stride > EK_EXT_SEEN_INODE ||
            ek_ext_is_of_newer(search->reader, search->sightings, run->first_byte))
            continue;
        Folder folder = {run->first_byte, is_root ? EK_EXT_ROOT : (guint32)run->first_record};
        if (!is_folder)
            take_inodes(search, run->first_byte);
        else if (search->folders->len < deeper(search, FOLDERS_MOST))
            g_array_append_val(search->folders, folder);
    }
}

/* --- which blocks fit ------------------------------------------------------------------------- */

static gint by_value(gconstpointer a, gconstpointer b)
{
    const EkByte *left = a;
    const EkByte *right = b;
    return *left < *right ? -1 : *left > *right;
}

static gint by_zero(gconstpointer a, gconstpointer b)
{
    const EkExtPair *left = a;
    const EkExtPair *right = b;
    if (left->zero != right->zero)
        return left->zero < right->zero ? -1 : 1;
    return left->inode < right->inode ? -1 : left->inode > right->inode;
}

static const Folder *folder_at(const Search *search, EkByte place)
{
    guint low = 0;
    guint high = search->folders->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        const Folder *folder = &g_array_index(search->folders, Folder, middle);
        if (folder->place == place)
            return folder;
        if (folder->place < place)
            low = middle + 1;
        else
            high = middle;
    }
    return NULL;
}

/* The folders whose inode leads to their block (EkExtPair), by where inode 0 would stand. The
 * caller unrefs. */
static GArray *pair_up(const Search *search, const Fit *fit)
{
    GArray *pairs = g_array_new(FALSE, FALSE, sizeof(EkExtPair));
    for (guint i = 0; i < search->inodes->len; i++) {
        const Inode *inode = &g_array_index(search->inodes, Inode, i);
        const Folder *folder = inode->block < G_MAXINT64 / BLOCK_MOST
                                   ? folder_at(search, fit->start + inode->block * fit->block_bytes)
                                   : NULL;
        EkByte before = folder != NULL ? (EkByte)folder->inode * fit->inode_bytes : 0;
        if (folder == NULL || inode->place < fit->start ||
            (inode->place - fit->start) % fit->inode_bytes != 0)
            continue;
        /* It may be negative: only whether they are alike counts. */
        EkExtPair pair = {inode->place - before, inode->place, folder->inode};
        g_array_append_val(pairs, pair);
    }
    g_array_sort(pairs, by_zero);
    return pairs;
}

/* How many folders have a pair with another beside it, with another number. Images of one volume
 * in its files have the same inodes many times over: that says nothing more. */
static guint count_agreeing(const GArray *pairs)
{
    g_autoptr(GHashTable) agreeing = g_hash_table_new(NULL, NULL);
    for (guint i = 0; i < pairs->len; i++) {
        const EkExtPair *pair = &g_array_index(pairs, EkExtPair, i);
        const EkExtPair *before = i > 0 ? pair - 1 : NULL;
        const EkExtPair *after = i + 1 < pairs->len ? pair + 1 : NULL;
        if ((before != NULL && before->zero == pair->zero && before->inode != pair->inode) ||
            (after != NULL && after->zero == pair->zero && after->inode != pair->inode))
            g_hash_table_add(agreeing, GUINT_TO_POINTER(pair->inode));
    }
    return g_hash_table_size(agreeing);
}

static void try_start(const Search *search, EkByte start, guint32 block_bytes, Fit *best)
{
    for (guint32 bytes = EK_EXT_INODE_LEAST; bytes <= 2 * EK_EXT_INODE_LEAST; bytes *= 2) {
        Fit fit = {start, block_bytes, bytes, 0};
        g_autoptr(GArray) pairs = pair_up(search, &fit);
        fit.pairs = count_agreeing(pairs);
        if (fit.pairs > best->pairs)
            *best = fit;
    }
}

/* The starts that most inodes and folders would agree on. */
static void try_size(const Search *search, guint32 block_bytes, GArray *starts, Fit *best)
{
    EkByte top[STARTS_MOST] = {0};
    guint votes_of[STARTS_MOST] = {0};
    guint votes = 0;
    g_array_set_size(starts, 0);
    for (guint i = 0; i < search->inodes->len; i++)
        for (guint k = 0; k < search->folders->len; k++) {
            guint64 block = g_array_index(search->inodes, Inode, i).block;
            EkByte place = g_array_index(search->folders, Folder, k).place;
            if (block > place / block_bytes)
                continue;
            EkByte start = place - block * block_bytes;
            g_array_append_val(starts, start);
        }
    g_array_sort(starts, by_value);
    for (guint i = 0; i < starts->len; i++) {
        EkByte start = g_array_index(starts, EkByte, i);
        votes = i > 0 && g_array_index(starts, EkByte, i - 1) == start ? votes + 1 : 1;
        gboolean is_last = i + 1 == starts->len || g_array_index(starts, EkByte, i + 1) != start;
        guint least = 0;
        for (guint k = 1; k < STARTS_MOST; k++)
            if (votes_of[k] < votes_of[least])
                least = k;
        if (is_last && votes > votes_of[least]) {
            votes_of[least] = votes;
            top[least] = start;
        }
    }
    for (guint k = 0; k < STARTS_MOST; k++)
        if (votes_of[k] > 1)
            try_start(search, top[k], block_bytes, best);
}

static Fit best_fit(const Search *search)
{
    g_autoptr(GArray) starts = g_array_new(FALSE, FALSE, sizeof(EkByte));
    Fit best = {0};
    for (guint32 bytes = BLOCK_LEAST; bytes <= BLOCK_MOST; bytes *= 2)
        if (ek_is_expected_unit(search->sightings, bytes))
            try_size(search, bytes, starts, &best);
    return best;
}

/* --- the volume ------------------------------------------------------------------------------- */

/* As long as what begins there now, or to the end of the drive. */
static EkByte length_of(const Search *search, EkByte start)
{
    const EkSightings *sightings = search->sightings;
    for (guint i = 0; i < sightings->volumes->len; i++) {
        const EkVolume *volume = sightings->volumes->pdata[i];
        if (volume->first_byte == start && !volume->is_earlier)
            return volume->bytes;
    }
    for (guint i = 0; i < sightings->places->len; i++) {
        EkRange place = g_array_index(sightings->places, EkRange, i);
        if (place.first == start)
            return place.bytes;
    }
    return ek_reader_bytes(search->reader) - start;
}

static void compose_super(const Search *search, const Fit *fit, guint8 *header)
{
    guint64 blocks = length_of(search, fit->start) / fit->block_bytes;
    guint64 groups = ek_divide_up(blocks, (guint64)fit->block_bytes * 8);
    EkExtSuper super = {
        .block_bytes = fit->block_bytes,
        .blocks = blocks,
        .first_data_block = fit->block_bytes == BLOCK_LEAST ? 1 : 0,
        .blocks_per_group = fit->block_bytes * 8,
        .inodes_per_group = MIN(fit->block_bytes * 8, (guint32)(G_MAXUINT32 / MAX(groups, 1))),
        .inode_bytes = fit->inode_bytes,
    };
    super.inodes = (guint32)MIN(groups * super.inodes_per_group, G_MAXUINT32);
    memset(header, 0, EK_EXT_SUPER_BYTES);
    ek_ext_super_compose(&super, header);
}

static const char *name_of(const Search *search)
{
    for (guint i = 0; i < search->inodes->len; i++)
        if (g_array_index(search->inodes, Inode, i).has_extents)
            return "ext4";
    return "ext3";
}

static EkVolume *compose(const Search *search, const Fit *fit, const GArray *pairs)
{
    EkVolume *volume = ek_volume_new(NULL, name_of(search));
    guint8 super[EK_EXT_SUPER_BYTES];
    EkExtVolume opened;
    compose_super(search, fit, super);
    ek_volume_set_header(volume, (EkSpan){super, sizeof super});
    volume->composed = volume->by_backup = volume->is_earlier = TRUE;
    volume->first_byte = fit->start;
    volume->own_sector_size = EK_STEP;
    volume->length_is_least = TRUE;
    if (!ek_ext_volume_open(&opened, search->reader, volume))
        return volume;
    g_autoptr(GArray) runs = ek_ext_find_runs(&opened, search->sightings, pairs);
    ek_ext_runs_keep(volume, super, runs);
    volume->header_byte = volume->metadata_byte = g_array_index(runs, EkExtInodeRun, 0).first_byte;
    volume->bytes = opened.super.blocks * opened.super.block_bytes;
    volume->is_confirmed = TRUE;
    for (guint i = 0; i < search->inodes->len; i++)
        ek_timestamp_advance(&volume->used, g_array_index(search->inodes, Inode, i).used);
    ek_volume_property_number(volume, "bytes per block", fit->block_bytes);
    ek_volume_property_number(volume, "bytes per inode", fit->inode_bytes);
    ek_volume_reason(volume, (int)MIN(20 + 5 * fit->pairs, 75u),
                     "%u folders that no volume there now holds are where their inodes state, and "
                     "name these inodes",
                     fit->pairs);
    ek_volume_reason(volume, 0,
                     "its superblocks and group descriptors are overwritten: inodes are read where "
                     "these folders show them, in %u places",
                     runs->len);
    ek_volume_expected(volume, search->sightings);
    return volume;
}

/* Are these inodes where a known volume has its own? */
static gboolean are_of(const Search *search, const EkVolume *volume, const Fit *fit,
                       const GArray *pairs)
{
    EkExtVolume opened;
    guint same = 0;
    if (volume->first_byte != fit->start || !g_str_has_prefix(volume->filesystem, "ext") ||
        !ek_ext_volume_open(&opened, search->reader, volume) ||
        opened.super.block_bytes != fit->block_bytes ||
        opened.super.inode_bytes != fit->inode_bytes)
        return FALSE;
    /* One that was found by a copy of its superblock may have lost its groups as well. */
    if (volume->by_backup)
        return TRUE;
    for (guint i = 0; i < pairs->len; i++) {
        const EkExtPair *pair = &g_array_index(pairs, EkExtPair, i);
        guint32 per_group = opened.super.inodes_per_group;
        EkExtGroup group = ek_ext_group(&opened, (pair->inode - 1) / per_group);
        same += group.table != 0 &&
                ek_ext_block_byte(&opened, group.table) +
                        (EkByte)((pair->inode - 1) % per_group) * fit->inode_bytes ==
                    pair->place;
    }
    return same > pairs->len / 4;
}

static gboolean is_known(const Search *search, const Fit *fit, const GArray *pairs)
{
    for (guint i = 0; i < search->sightings->volumes->len; i++)
        if (are_of(search, search->sightings->volumes->pdata[i], fit, pairs))
            return TRUE;
    return FALSE;
}

/* What begins at a usual place needs more to be believed than what begins where something else
 * does. Folders that were made one after another stand in rows, and agree with themselves a few
 * blocks on: what begins anywhere is not believed. */
static guint pairs_wanted(const Search *search, EkByte start)
{
    const EkSightings *sightings = search->sightings;
    if (ek_is_expected_at(sightings, start))
        return 1;
    for (guint i = 0; i < sightings->volumes->len; i++)
        if (((const EkVolume *)sightings->volumes->pdata[i])->first_byte == start)
            return PAIRS_LEAST;
    for (guint i = 0; i < sightings->places->len; i++)
        if (g_array_index(sightings->places, EkRange, i).first == start)
            return PAIRS_LEAST;
    return ek_is_usual_start(start) ? 2 * PAIRS_LEAST : G_MAXUINT;
}

/* What is explained is told apart no more. */
static void take_away(Search *search, const Fit *fit)
{
    g_autoptr(GHashTable) explained =
        g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    for (guint i = search->inodes->len; i > 0; i--) {
        const Inode *inode = &g_array_index(search->inodes, Inode, i - 1);
        const Folder *folder = inode->block < G_MAXINT64 / BLOCK_MOST
                                   ? folder_at(search, fit->start + inode->block * fit->block_bytes)
                                   : NULL;
        if (folder == NULL)
            continue;
        g_hash_table_add(explained, g_memdup2(&folder->place, sizeof folder->place));
        g_array_remove_index(search->inodes, i - 1);
    }
    for (guint i = search->folders->len; i > 0; i--)
        if (g_hash_table_contains(explained, &g_array_index(search->folders, Folder, i - 1).place))
            g_array_remove_index(search->folders, i - 1);
}

void ek_ext_infer_remnants(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                           void *data)
{
    g_autoptr(GArray) folders = g_array_new(FALSE, FALSE, sizeof(Folder));
    g_autoptr(GArray) inodes = g_array_new(FALSE, FALSE, sizeof(Inode));
    Search search = {reader, sightings, folders, inodes};
    gather(&search);
    for (guint i = 0; i < VOLUMES_MOST; i++) {
        Fit fit = best_fit(&search);
        if (fit.pairs == 0)
            break;
        g_autoptr(GArray) pairs = pair_up(&search, &fit);
        if (fit.pairs >= pairs_wanted(&search, fit.start) && !is_known(&search, &fit, pairs))
            sink(data, compose(&search, &fit, pairs));
        take_away(&search, &fit);
    }
}
