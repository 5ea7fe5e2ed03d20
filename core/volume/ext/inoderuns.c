/* SPDX-License-Identifier: MIT */
/* Where inodes stand of which no table of groups tells: around the folders' inodes that are known,
 * as far as inodes go on there; and where tables must be by how those of other groups lie. */
#include "volume/ext/remnants.h"

#include "volume/headers.h"

#include <string.h>

#define EMPTY_MOST (4u << 20) /* bytes of a table that were never written, in a row */
#define LAYOUT_PAIRS 16u      /* that may be right */
#define EXTRA_MOST 1100u      /* blocks: a superblock, descriptors and room for more of them */
#define SUPERS_TRIED 50u      /* groups */
#define NEAR_BLOCKS 512u      /* a transaction is seldom longer */

typedef struct {
    EkExtVolume *volume;
    const EkSightings *sightings;
} Search;

gboolean ek_ext_is_of_newer(EkReader *reader, const EkSightings *sightings, EkByte at)
{
    return ek_usage_by_any(reader, sightings->volumes, at) == EK_USAGE_USED;
}

static gboolean is_of_newer(const Search *search, EkByte at)
{
    return ek_ext_is_of_newer(search->volume->reader, search->sightings, at);
}

/* May this be part of a table of inodes? Those that hold nothing may have times. */
static gboolean may_be_inodes(const EkExtVolume *volume, EkSpan span)
{
    guint32 bytes = volume->super.inode_bytes;
    for (gsize at = 0; at + bytes <= span.length; at += bytes) {
        EkSpan one = ek_span_part(span, at, bytes);
        EkExtInode inode = ek_ext_inode_read(one);
        gboolean is_nothing = inode.mode == 0 && inode.links == 0 && inode.size == 0 &&
                              ek_bytes_are_zero(inode.map.data, inode.map.length);
        if (!is_nothing && !ek_ext_inode_is_possible(volume, one))
            return FALSE;
    }
    return TRUE;
}

/* Bytes from `place` on (or before it) that may be a table of inodes: possible ones, zeros, or what
 * a newer volume has written over. At most `most`. */
static EkByte table_bytes(const Search *search, EkByte place, EkByte most, gboolean backwards)
{
    guint32 block = search->volume->super.block_bytes;
    g_autofree guint8 *data = g_malloc(block);
    EkSpan span = {data, 0};
    EkByte done = 0;
    EkByte empty = 0;
    while (done < most && empty < EMPTY_MOST) {
        EkByte edge = backwards ? place - done : place + done;
        EkByte inside = (edge - search->volume->first_byte) % block;
        EkByte room = backwards ? (inside == 0 ? block : inside) : block - inside;
        EkByte length = MIN(room, most - done);
        EkByte at = backwards ? edge - length : edge;
        span.length = (gsize)length;
        gboolean is_empty = is_of_newer(search, at);
        if (!is_empty &&
            ek_presence_read(search->volume->reader, at, data, span.length) == EK_ABSENT)
            break;
        is_empty = is_empty || ek_bytes_are_zero(data, span.length);
        if (!is_empty && !may_be_inodes(search->volume, span))
            break;
        done += length;
        empty = is_empty ? empty + length : 0;
    }
    return done - MIN(empty, done);
}

/* EkExtPairs of one table lie between others of other tables: it goes no further than these. */
typedef struct {
    EkByte least;
    EkByte most;
} Bounds;

static Bounds bounds_of(const Search *search, const GArray *pairs, const EkExtPair *first,
                        const EkExtPair *last)
{
    guint32 block = search->volume->super.block_bytes;
    Bounds bounds = {search->volume->first_byte, ek_reader_bytes(search->volume->reader)};
    for (guint i = 0; i < pairs->len; i++) {
        const EkExtPair *other = &g_array_index(pairs, EkExtPair, i);
        EkByte at = other->place - (other->place - search->volume->first_byte) % block;
        if (other->zero == first->zero)
            continue;
        if (other->place < first->place)
            bounds.least = MAX(bounds.least, at + block);
        else if (other->place > last->place)
            bounds.most = MIN(bounds.most, at);
    }
    return bounds;
}

/* The run that the pairs from `first` to `last` lie in. */
static EkExtInodeRun run_of(const Search *search, const GArray *pairs, const EkExtPair *first,
                            const EkExtPair *last)
{
    guint32 bytes = search->volume->super.inode_bytes;
    Bounds bounds = bounds_of(search, pairs, first, last);
    EkByte before =
        MIN((EkByte)(first->inode - 1) * bytes, first->place - MIN(bounds.least, first->place));
    EkByte rest = MAX(bounds.most, last->place) - last->place;
    EkByte back = table_bytes(search, first->place, before - before % bytes, TRUE);
    EkByte on = table_bytes(search, last->place, rest, FALSE);
    EkByte length = back + (last->place - first->place) + MAX(on, bytes);
    return (EkExtInodeRun){
        .first_byte = first->place - back,
        .first = first->inode - (guint32)(back / bytes),
        .count = (guint32)MIN(length / bytes, G_MAXINT32),
        .is_copy = length <= search->volume->super.block_bytes,
    };
}

/* Does a block of a journal stand near the run? Then it may be a copy in it, and out of date: each
 * transaction begins and ends with such a block. */
static gboolean is_in_journal(const Search *search, const EkExtInodeRun *run)
{
    guint32 block = search->volume->super.block_bytes;
    EkByte inside = run->first_byte - search->volume->first_byte;
    EkByte first = run->first_byte - inside % block;
    EkByte back = MIN(inside / block, NEAR_BLOCKS) * block;
    EkByte length = (EkByte)run->count * search->volume->super.inode_bytes;
    for (EkByte at = first - back; at < first + length + NEAR_BLOCKS * block; at += block) {
        guint8 start[4];
        if (ek_presence_read(search->volume->reader, at, start, sizeof start) == EK_PRESENT &&
            memcmp(start, "\xc0\x3b\x39\x98", sizeof start) == 0)
            return TRUE;
    }
    return FALSE;
}

static gint by_length(gconstpointer a, gconstpointer b)
{
    const EkExtInodeRun *left = a;
    const EkExtInodeRun *right = b;
    if (left->count != right->count)
        return left->count > right->count ? -1 : 1;
    return left->first_byte < right->first_byte ? -1 : left->first_byte > right->first_byte;
}

static gint by_first(gconstpointer a, gconstpointer b)
{
    const EkExtInodeRun *left = a;
    const EkExtInodeRun *right = b;
    return left->first < right->first ? -1 : left->first > right->first;
}

/* A journal keeps copies of blocks of a table: where two runs have the same numbers the longer one
 * counts. */
static void drop_copies(GArray *runs)
{
    g_array_sort(runs, by_length);
    for (guint i = 0; i < runs->len; i++)
        for (guint k = runs->len; k > i + 1; k--) {
            const EkExtInodeRun *longer = &g_array_index(runs, EkExtInodeRun, i);
            const EkExtInodeRun *other = &g_array_index(runs, EkExtInodeRun, k - 1);
            if (other->first < longer->first + (guint64)longer->count &&
                longer->first < other->first + (guint64)other->count)
                g_array_remove_index(runs, k - 1);
        }
    g_array_sort(runs, by_first);
}

/* How inode tables lie when each is in its own group: so far behind the beginning of the group. */
typedef struct {
    guint32 per_group;
    EkByte offset;
    guint agreeing; /* groups */
} Layout;

/* As all makers place copies of the superblock but the first ones. */
static gboolean holds_super(guint64 group)
{
    const EkExtSuper usual = {.sparse = TRUE, .groups = G_MAXUINT32};
    return ek_ext_holds_copy(&usual, group);
}

static EkByte group_start(const EkExtVolume *volume, guint64 group)
{
    return volume->first_byte +
           (volume->super.first_data_block + group * volume->super.blocks_per_group) *
               volume->super.block_bytes;
}

/* Where the table begins in its group, by one pair. FALSE: it would lie in another group. */
static gboolean offset_by(const EkExtVolume *volume, const EkExtPair *pair, guint32 per_group,
                          guint64 *group, EkByte *offset)
{
    *group = (pair->inode - 1) / per_group;
    EkByte start = group_start(volume, *group);
    EkByte before = (EkByte)((pair->inode - 1) % per_group) * volume->super.inode_bytes;
    *offset = pair->place - before - start;
    return pair->place >= start + before &&
           *offset < (EkByte)volume->super.blocks_per_group * volume->super.block_bytes &&
           *offset % volume->super.block_bytes == 0;
}

/* The number of inodes a group that most groups without a copy of the superblock agree on. */
static Layout find_layout(const EkExtVolume *volume, const GArray *pairs)
{
    Layout best = {0};
    for (guint32 per_group = 8; per_group <= volume->super.block_bytes * 8; per_group += 8)
        for (guint i = 0; i < MIN(pairs->len, LAYOUT_PAIRS); i++) {
            Layout layout = {.per_group = per_group};
            guint64 own = 0;
            guint64 last = G_MAXUINT64;
            if (!offset_by(volume, &g_array_index(pairs, EkExtPair, i), per_group, &own,
                           &layout.offset) ||
                holds_super(own))
                continue;
            for (guint k = 0; k < pairs->len; k++) {
                guint64 group = 0;
                EkByte offset = 0;
                if (offset_by(volume, &g_array_index(pairs, EkExtPair, k), per_group, &group,
                              &offset) &&
                    offset == layout.offset && group != last && !holds_super(group)) {
                    layout.agreeing++;
                    last = group;
                }
            }
            if (layout.agreeing > best.agreeing)
                best = layout;
        }
    return best;
}

/* Do inodes in use begin there, and none before? */
static gboolean begins_table(const Search *search, EkByte place)
{
    guint32 size = search->volume->super.block_bytes;
    g_autofree guint8 *data = g_malloc(size);
    if (is_of_newer(search, place) ||
        ek_presence_read(search->volume->reader, place, data, search->volume->super.inode_bytes) !=
            EK_PRESENT ||
        ek_bytes_are_zero(data, search->volume->super.inode_bytes) ||
        table_bytes(search, place, size, FALSE) == 0)
        return FALSE;
    return ek_presence_read(search->volume->reader, place - size, data, size) != EK_PRESENT ||
           ek_bytes_are_zero(data, size) || table_bytes(search, place - size, size, FALSE) == 0;
}

/* How much farther behind the beginning the table is in a group with a copy of the superblock: as a
 * pair tells, else where most of them have one. 0: not known. */
static EkByte find_extra(const Search *search, const GArray *pairs, const Layout *layout)
{
    EkByte best = 0;
    guint most = 0;
    for (guint i = 0; i < pairs->len; i++) {
        guint64 group = 0;
        EkByte offset = 0;
        if (offset_by(search->volume, &g_array_index(pairs, EkExtPair, i), layout->per_group,
                      &group, &offset) &&
            holds_super(group) && offset > layout->offset)
            return offset - layout->offset;
    }
    for (guint blocks = 2; blocks < EXTRA_MOST; blocks++) {
        EkByte extra = (EkByte)blocks * search->volume->super.block_bytes;
        guint count = 0;
        for (guint64 group = 1; group < MIN(search->volume->super.groups, SUPERS_TRIED); group++)
            count += holds_super(group) && begins_table(search, group_start(search->volume, group) +
                                                                    layout->offset + extra);
        if (count > most) {
            most = count;
            best = extra;
        }
    }
    return best;
}

/* The tables of groups in which no folder is left, where they must be. */
static void add_tables(const Search *search, const GArray *pairs, GArray *runs)
{
    Layout layout = find_layout(search->volume, pairs);
    guint32 bytes = search->volume->super.inode_bytes;
    guint known = runs->len;
    if (layout.agreeing < 2)
        return;
    EkByte extra = find_extra(search, pairs, &layout);
    for (guint64 group = 0; group < search->volume->super.groups && runs->len < EK_EXT_RUNS_MOST;
         group++) {
        gboolean is_super = holds_super(group);
        EkByte place = group_start(search->volume, group) + layout.offset + (is_super ? extra : 0);
        guint64 first = group * layout.per_group + 1;
        gboolean is_known = (is_super && extra == 0) || first > G_MAXINT32;
        for (guint i = 0; i < known && !is_known; i++) {
            const EkExtInodeRun *run = &g_array_index(runs, EkExtInodeRun, i);
            is_known =
                first < run->first + (guint64)run->count && run->first < first + layout.per_group;
        }
        EkByte length =
            is_known ? 0 : table_bytes(search, place, (EkByte)layout.per_group * bytes, FALSE);
        EkExtInodeRun run = {place, (guint32)first, (guint32)(length / bytes), FALSE};
        if (run.count > 0)
            g_array_append_val(runs, run);
    }
    g_array_sort(runs, by_first);
}

GArray *ek_ext_find_runs(EkExtVolume *volume, const EkSightings *sightings, const GArray *pairs)
{
    const Search own = {volume, sightings};
    const Search *search = &own;
    GArray *runs = g_array_new(FALSE, FALSE, sizeof(EkExtInodeRun));
    for (guint i = 0; i < pairs->len && runs->len < EK_EXT_RUNS_MOST;) {
        const EkExtPair *first = &g_array_index(pairs, EkExtPair, i);
        guint end = i + 1;
        while (end < pairs->len && g_array_index(pairs, EkExtPair, end).zero == first->zero)
            end++;
        EkExtInodeRun run = run_of(search, pairs, first, &g_array_index(pairs, EkExtPair, end - 1));
        g_array_append_val(runs, run);
        i = end;
    }
    drop_copies(runs);
    for (guint i = 0; i < runs->len; i++) {
        EkExtInodeRun *run = &g_array_index(runs, EkExtInodeRun, i);
        run->is_copy = run->is_copy || is_in_journal(search, run);
    }
    add_tables(search, pairs, runs);
    return runs;
}
