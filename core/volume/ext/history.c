/* SPDX-License-Identifier: MIT */
/* An ext3 or ext4 volume as it was: a journal that goes round holds each transaction until it is
 * written over, long after it is in place, and all that came later. */
#include "volume/ext/history.h"

#include "image/moves.h"
#include "volume/headers.h"

#include <string.h>

#define ACCESSED 8u /* in an inode */
#define CHANGED 12u
#define ACCESSED_MORE 140u

/* What became of the blocks of a group: one bit each. */
typedef struct {
    gboolean is_known;
    guint8 *freed; /* they were freed at some time */
    guint8 *again; /* they were freed, and used again */
    guint8 *maybe; /* they were freed, and a later transaction used or freed others of the group:
                    * what it used and freed at once left no bit */
} Reused;

struct EkExtPast {
    EkExtJournal *journal;
    EkExtVolume now; /* as it is, with what its journal holds in place */
    EkExtReplay *due;
    EkReader *moved;
    EkExtReplay *replay; /* as it was */
    guint32 sequence;
    EkTimestamp time;   /* when that was committed */
    gboolean has_gaps;  /* not all transactions since then are there */
    GHashTable *reused; /* group (gint64) to Reused */
};

static void reused_free(gpointer data)
{
    Reused *reused = data;
    g_free(reused->freed);
    g_free(reused->again);
    g_free(reused->maybe);
    g_free(reused);
}

/* --- which transaction ---------------------------------------------------------------------- */

static EkTimestamp time_of(const EkExtCommit *commit)
{
    EkTimestamp time = ek_timestamp_utc(commit->seconds);
    time.nanoseconds = commit->nanoseconds % 1000000000;
    return time;
}

/* Those of which nothing was written over (EkMoment), in order. The caller unrefs. */
static GArray *moments_of(const EkExtJournal *journal)
{
    GArray *moments = g_array_new(FALSE, FALSE, sizeof(EkMoment));
    for (guint i = 0; i < journal->commits->len; i++) {
        const EkExtCommit *commit = &g_array_index(journal->commits, EkExtCommit, i);
        EkMoment moment = {commit->sequence, time_of(commit), commit->copies};
        if (commit->is_complete)
            g_array_append_val(moments, moment);
    }
    return moments;
}

GArray *ek_ext_moments(EkReader *reader, const EkVolume *volume)
{
    EkExtVolume opened;
    if (volume->is_earlier || !ek_ext_volume_open(&opened, reader, volume))
        return NULL;
    g_autoptr(EkExtJournal) journal = ek_ext_journal_open(&opened);
    GArray *moments = journal != NULL ? moments_of(journal) : NULL;
    if (moments != NULL && moments->len == 0)
        g_clear_pointer(&moments, g_array_unref);
    return moments;
}

static void explain(const GArray *moments, GError **error)
{
    if (moments->len == 0) {
        ek_error_set(error, EK_ERROR_ABSENT,
                     "the journal of the volume holds no transaction that was committed");
        return;
    }
    const EkMoment *first = &g_array_index(moments, EkMoment, 0);
    const EkMoment *last = &g_array_index(moments, EkMoment, moments->len - 1);
    g_autofree char *text = ek_timestamp_words(first->time);
    ek_error_set(error, EK_ERROR_ABSENT,
                 "the journal of the volume leads back to transaction %" G_GUINT64_FORMAT
                 " (%s) at most, and forward to transaction %" G_GUINT64_FORMAT
                 ": give a time from then on, or the number of a transaction",
                 first->transaction, text, last->transaction);
}

/* Every transaction from the chosen one to the last is there. */
static gboolean is_contiguous(const EkExtJournal *journal, guint32 sequence)
{
    const GArray *commits = journal->commits;
    guint32 last = g_array_index(commits, EkExtCommit, commits->len - 1).sequence;
    gint32 apart = ek_ext_sequence_apart(last, sequence);
    guint later = 0;
    for (guint i = 0; i < commits->len; i++)
        later +=
            ek_ext_sequence_apart(g_array_index(commits, EkExtCommit, i).sequence, sequence) > 0;
    return apart >= 0 && later == (guint)apart;
}

/* --- structures as they were ---------------------------------------------------------------- */

static gboolean is_revoked(const EkExtPast *past, const EkExtCopy *copy)
{
    const GArray *revokes = past->journal->revokes;
    guint low = 0;
    guint high = revokes->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        if (g_array_index(revokes, EkExtRevoke, middle).block < copy->tag.block)
            low = middle + 1;
        else
            high = middle;
    }
    for (; low < revokes->len; low++) {
        const EkExtRevoke *revoke = &g_array_index(revokes, EkExtRevoke, low);
        if (revoke->block != copy->tag.block)
            break;
        if (ek_ext_sequence_apart(revoke->sequence, past->sequence) <= 0)
            return ek_ext_sequence_apart(revoke->sequence, copy->sequence) >= 0;
    }
    return FALSE;
}

/* Reads a copy into a block of the volume. FALSE: it is not what its tag names. */
static gboolean read_copy(const EkExtPast *past, const EkExtVolume *volume, const EkExtCopy *copy,
                          guint8 *block)
{
    const EkExtLog *log = past->journal->log;
    if (!ek_ext_log_read(log, volume->reader, copy->place, block) ||
        !ek_ext_log_copy_fits(log, &copy->tag, copy->sequence, (EkSpan){block, log->block_bytes}))
        return FALSE;
    if (copy->tag.is_escaped)
        ek_put_be32(block, EK_EXT_LOG_MAGIC);
    return TRUE;
}

/* The newest copy of each block that is not newer than the past. */
static void gather_moves(EkExtPast *past, const EkExtVolume *volume)
{
    const EkExtJournal *journal = past->journal;
    const GArray *copies = journal->copies;
    g_autofree guint8 *block = g_malloc(journal->log->block_bytes);
    past->replay = g_new0(EkExtReplay, 1);
    past->replay->moves = ek_moves_new(journal->log->block_bytes);
    ek_put_be32(past->replay->moves->first, EK_EXT_LOG_MAGIC);
    for (guint i = 0; i < copies->len; i++) {
        const EkExtCopy *copy = &g_array_index(copies, EkExtCopy, i);
        if (ek_ext_sequence_apart(copy->sequence, past->sequence) > 0 ||
            ek_ext_journal_commit(journal, copy->sequence) == NULL)
            continue;
        EkMove move = {.at = ek_ext_block_byte(volume, copy->tag.block),
                       .from = ek_ext_log_place(journal->log, copy->place),
                       .patch = copy->tag.is_escaped};
        if (move.at != EK_UNPLACED && move.from != EK_UNPLACED && !is_revoked(past, copy)) {
            if (read_copy(past, volume, copy, block))
                g_array_append_val(past->replay->moves->moves, move);
            else
                past->replay->is_damaged = TRUE;
        }
        /* Older ones of the same block come next. */
        while (i + 1 < copies->len &&
               g_array_index(copies, EkExtCopy, i + 1).tag.block == copy->tag.block)
            i++;
    }
    ek_moves_settle(past->replay->moves);
}

EkExtPast *ek_ext_past_open(EkExtVolume *volume, const EkVolume *of, GError **error)
{
    EkExtJournal *journal = of->is_earlier ? NULL : ek_ext_journal_open(volume);
    if (journal == NULL) {
        ek_error_set(error, EK_ERROR_ABSENT,
                     "the volume has no journal with older copies: it can be read only as it is");
        return NULL;
    }
    g_autoptr(GArray) moments = moments_of(journal);
    const EkMoment *moment = ek_moment_of(moments, &of->as_of);
    if (moment == NULL) {
        explain(moments, error);
        ek_ext_journal_close(journal);
        return NULL;
    }
    EkExtPast *past = g_new0(EkExtPast, 1);
    past->journal = journal;
    past->sequence = (guint32)moment->transaction;
    past->time = moment->time;
    past->has_gaps = !is_contiguous(journal, past->sequence);
    past->reused = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, reused_free);
    gather_moves(past, volume);
    past->now = *volume;
    past->due = ek_ext_replay(volume);
    if (past->due != NULL)
        past->now.reader = past->moved = ek_reader_moved(volume->reader, past->due->moves);
    return past;
}

void ek_ext_past_close(EkExtPast *past)
{
    ek_ext_journal_close(past->journal);
    ek_ext_replay_free(past->replay);
    g_clear_pointer(&past->due, ek_ext_replay_free);
    g_clear_pointer(&past->moved, ek_reader_free);
    g_hash_table_unref(past->reused);
    g_free(past);
}

const EkExtReplay *ek_ext_past_replay(const EkExtPast *past)
{
    return past->replay;
}

/* --- content since then --------------------------------------------------------------------- */

/* What was freed once, and is used after that, was written over. */
static void add_bitmap(Reused *reused, const guint8 *bitmap, gsize length)
{
    for (gsize i = 0; i < length; i++) {
        reused->again[i] |= reused->freed[i] & bitmap[i];
        reused->freed[i] |= (guint8)~bitmap[i];
    }
}

/* A further transaction touched the group: what was freed before it, it may have used. */
static void add_transaction(Reused *reused, const guint8 *bitmap, gsize length)
{
    for (gsize i = 0; i < length; i++)
        reused->maybe[i] |= reused->freed[i];
    add_bitmap(reused, bitmap, length);
}

static void find_reused(EkExtPast *past, const EkExtVolume *volume, guint64 group, Reused *reused)
{
    const GArray *copies = past->journal->copies;
    gsize length = volume->super.block_bytes;
    EkExtGroup was = ek_ext_group(volume, group);
    EkExtGroup is = ek_ext_group(&past->now, group);
    guint64 place = was.bitmap != 0 ? was.bitmap : is.bitmap;
    g_autofree guint8 *bitmap = g_malloc(length);
    guint first = ek_ext_journal_copy(past->journal, place);
    guint end = first;
    reused->is_known = place != 0;
    while (end < copies->len && g_array_index(copies, EkExtCopy, end).tag.block == place &&
           ek_ext_sequence_apart(g_array_index(copies, EkExtCopy, end).sequence, past->sequence) >
               0)
        end++;
    for (guint i = end; i > first; i--) {
        const EkExtCopy *copy = &g_array_index(copies, EkExtCopy, i - 1);
        if (ek_ext_journal_commit(past->journal, copy->sequence) == NULL)
            continue;
        if (read_copy(past, &past->now, copy, bitmap))
            add_transaction(reused, bitmap, length);
        else
            reused->is_known = FALSE;
    }
    /* As it is now it is as the last transaction left it. */
    EkByte at = is.bitmap != 0 ? ek_ext_block_byte(&past->now, is.bitmap) : EK_UNPLACED;
    if (at != EK_UNPLACED && ek_presence_read(past->now.reader, at, bitmap, length) == EK_PRESENT)
        add_bitmap(reused, bitmap, length);
    else
        reused->is_known = FALSE;
}

static const Reused *reused_in(EkExtPast *past, const EkExtVolume *volume, guint64 group)
{
    const Reused *known = g_hash_table_lookup(past->reused, &group);
    if (known != NULL)
        return known;
    Reused *reused = g_new0(Reused, 1);
    reused->freed = g_malloc0(volume->super.block_bytes);
    reused->again = g_malloc0(volume->super.block_bytes);
    reused->maybe = g_malloc0(volume->super.block_bytes);
    find_reused(past, volume, group, reused);
    g_hash_table_insert(past->reused, g_memdup2(&group, sizeof group), reused);
    return reused;
}

typedef struct {
    EkExtPast *past;
    const EkExtVolume *volume;
    gboolean is_gone; /* the file is not there any more: its blocks were freed */
    gboolean is_unknown;
} Probe;

static guint64 group_of(const EkExtVolume *volume, EkByte at, guint64 *inside)
{
    const EkExtSuper *super = &volume->super;
    guint64 block = (at - volume->first_byte) / super->block_bytes;
    block -= MIN(block, super->first_data_block);
    *inside = block % super->blocks_per_group;
    return block / super->blocks_per_group;
}

/* What is said of a block in one of the bitmaps of its group. */
static gboolean has_bit(const EkExtVolume *volume, const guint8 *bits, guint64 inside)
{
    guint64 bit = inside / volume->blocks_a_bit;
    return bit / 8 < volume->super.block_bytes && (bits[bit / 8] >> bit % 8 & 1) != 0;
}

/* Is it known of all of its blocks that nothing else was written there, or that it was? */
static gboolean probe_extent(void *data, const EkExtent *extent)
{
    Probe *probe = data;
    const EkExtVolume *volume = probe->volume;
    if (extent->first_byte == EK_UNPLACED || extent->in_record || extent->stored == 0)
        return TRUE;
    for (EkByte at = 0; at < extent->stored && !probe->is_unknown;
         at += volume->super.block_bytes) {
        guint64 inside;
        EkByte place = extent->first_byte + at;
        if (ek_moves_next(probe->past->replay->moves, place, place + 1) != NULL)
            continue; /* the journal has its content */
        guint64 group = group_of(volume, place, &inside);
        const Reused *reused = reused_in(probe->past, volume, group);
        gboolean is_overwritten = has_bit(volume, reused->again, inside);
        probe->is_unknown = !reused->is_known ||
                            (!is_overwritten && has_bit(volume, reused->maybe, inside)) ||
                            (probe->is_gone && !has_bit(volume, reused->freed, inside));
    }
    return !probe->is_unknown;
}

gboolean ek_ext_past_lacks(const EkExtPast *past, const EkExtVolume *volume, EkByte at)
{
    const GArray *copies = past->journal->copies;
    guint64 block = (at - volume->first_byte) / volume->super.block_bytes;
    guint first = ek_ext_journal_copy(past->journal, block);
    return first < copies->len && g_array_index(copies, EkExtCopy, first).tag.block == block &&
           ek_ext_sequence_apart(g_array_index(copies, EkExtCopy, first).sequence, past->sequence) >
               0 &&
           ek_moves_next(past->replay->moves, at, at + 1) == NULL;
}

/* Is it the same but for when it was read? */
static gboolean is_same(EkSpan span, const guint8 *now)
{
    g_autofree guint8 *was = g_memdup2(span.data, span.length);
    g_autofree guint8 *is = g_memdup2(now, span.length);
    guint8 *const both[] = {was, is};
    for (gsize i = 0; i < G_N_ELEMENTS(both); i++) {
        memset(both[i] + ACCESSED, 0, 4);
        memset(both[i] + EK_EXT_SUM_LOW, 0, 2);
        if (span.length >= ACCESSED_MORE + 4) {
            memset(both[i] + EK_EXT_SUM_HIGH, 0, 2);
            memset(both[i] + ACCESSED_MORE, 0, 4);
        }
    }
    return memcmp(was, is, span.length) == 0;
}

/* Does a later state of the same file say that it was written to? */
static gboolean was_written(const EkExtInode *was, EkSpan later)
{
    EkExtInode is = ek_ext_inode_read(later);
    return is.links > 0 && is.generation == was->generation &&
           (is.mode & EK_EXT_TYPE) == (was->mode & EK_EXT_TYPE) &&
           (is.size != was->size || is.modified.seconds != was->modified.seconds ||
            is.modified.nanoseconds != was->modified.nanoseconds);
}

static gboolean was_written_since(EkExtPast *past, EkExtVolume *volume, const EkExtInode *inode,
                                  EkByte at, gsize length)
{
    const GArray *copies = past->journal->copies;
    gsize size = volume->super.block_bytes;
    guint64 block = (at - volume->first_byte) / size;
    g_autofree guint8 *copied = g_malloc(size);
    for (guint i = ek_ext_journal_copy(past->journal, block); i < copies->len; i++) {
        const EkExtCopy *copy = &g_array_index(copies, EkExtCopy, i);
        if (copy->tag.block != block || ek_ext_sequence_apart(copy->sequence, past->sequence) <= 0)
            break;
        if (!read_copy(past, &past->now, copy, copied) ||
            was_written(inode, (EkSpan){copied + (at - volume->first_byte) % size, length}))
            return TRUE;
    }
    return FALSE;
}

static gboolean is_after(const EkExtPast *past, EkTimestamp time)
{
    return time.is_set &&
           (time.seconds > past->time.seconds ||
            (time.seconds == past->time.seconds && time.nanoseconds > past->time.nanoseconds));
}

EkExtPastState ek_ext_past_state(EkExtPast *past, EkExtVolume *volume, EkSpan span,
                                 const EkExtInode *inode, EkByte at)
{
    g_autofree guint8 *now = g_malloc(span.length);
    if (ek_presence_read(past->now.reader, at, now, span.length) != EK_PRESENT)
        return EK_EXT_PAST_UNSURE;
    if (is_after(past, ek_timestamp_utc((gint32)ek_span_le32(span, CHANGED))) &&
        ek_ext_past_lacks(past, volume, at))
        return is_after(past, inode->created) ? EK_EXT_PAST_ABSENT : EK_EXT_PAST_UNSURE;
    if (is_same(span, now))
        return EK_EXT_PAST_SAME;
    EkExtInode later = ek_ext_inode_read((EkSpan){now, span.length});
    Probe probe = {past, volume, later.links == 0 || later.generation != inode->generation,
                   past->has_gaps || past->replay->is_damaged};
    if (!probe.is_unknown)
        ek_ext_extents(volume, span, inode, at, probe_extent, &probe);
    return probe.is_unknown || was_written(inode, (EkSpan){now, span.length}) ||
                   was_written_since(past, volume, inode, at, span.length)
               ? EK_EXT_PAST_UNSURE
               : EK_EXT_PAST_CHANGED;
}

static gboolean is_reused(EkExtPast *past, const EkExtVolume *volume, EkByte at)
{
    guint64 inside;
    guint64 group = group_of(volume, at, &inside);
    return has_bit(volume, reused_in(past, volume, group)->again, inside);
}

gboolean ek_ext_past_pass(EkExtPast *past, const EkExtVolume *volume, const EkExtent *extent,
                          EkExtSink sink, void *data)
{
    guint32 size = volume->super.block_bytes;
    if (extent->first_byte == EK_UNPLACED || extent->in_record || extent->stored == 0)
        return sink(data, extent);
    for (EkByte from = 0; from < extent->bytes;) {
        gboolean reused = is_reused(past, volume, extent->first_byte + from);
        EkByte to = from;
        do
            to += size - (extent->first_byte + to - volume->first_byte) % size;
        while (to < extent->bytes && is_reused(past, volume, extent->first_byte + to) == reused);
        to = MIN(to, extent->bytes);
        EkExtent part = *extent;
        part.offset += from;
        part.bytes = to - from;
        part.first_byte = reused ? EK_UNPLACED : extent->first_byte + from;
        part.stored = reused ? 0 : part.bytes;
        if (!sink(data, &part))
            return FALSE;
        from = to;
    }
    return TRUE;
}
