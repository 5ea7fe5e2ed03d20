/* SPDX-License-Identifier: MIT */
/* Older copies of blocks in the journal of an ext3 or ext4 volume. */
#include "volume/ext/journal.h"

#define COPIES_MOST (1u << 20)
#define REVOKES_MOST (1u << 20)
#define COMMIT_SUM_AT 16u
#define COMMIT_SECONDS_AT 48u
#define COMMIT_NANOSECONDS_AT 56u

/* The tags of a descriptor: each block that follows is a copy of the one its tag names. Returns how
 * many follow. */
static guint take_tags(EkExtJournal *journal, EkSpan block, guint32 place, GArray *tags)
{
    const EkExtLog *log = journal->log;
    guint32 sequence = ek_span_be32(block, 8);
    guint32 end = log->blocks - log->fast_blocks;
    ek_ext_log_tags(log, block, tags);
    for (guint i = 0; i < tags->len && journal->copies->len < COPIES_MOST; i++) {
        /* Behind the last block comes the first. */
        place = place + 1 < end ? place + 1 : log->first;
        EkExtCopy copy = {sequence, place, g_array_index(tags, EkExtTag, i)};
        g_array_append_val(journal->copies, copy);
    }
    return tags->len;
}

static void take_commit(EkExtJournal *journal, EkSpan block)
{
    if (!ek_ext_log_sum_fits(journal->log, block, COMMIT_SUM_AT))
        return;
    EkExtCommit commit = {ek_span_be32(block, 8),
                          (gint64)(ek_span_be64(block, COMMIT_SECONDS_AT) & G_MAXINT64),
                          ek_span_be32(block, COMMIT_NANOSECONDS_AT), 0, FALSE};
    g_array_append_val(journal->commits, commit);
}

static void take_revokes(EkExtJournal *journal, EkSpan block)
{
    g_autoptr(GArray) blocks = g_array_new(FALSE, FALSE, sizeof(guint64));
    ek_ext_log_revokes(journal->log, block, blocks);
    for (guint i = 0; i < blocks->len && journal->revokes->len < REVOKES_MOST; i++) {
        EkExtRevoke revoke = {g_array_index(blocks, guint64, i), ek_span_be32(block, 8)};
        g_array_append_val(journal->revokes, revoke);
    }
}

static gint compare(guint64 left, guint32 left_sequence, guint64 right, guint32 right_sequence)
{
    if (left != right)
        return left < right ? -1 : 1;
    gint32 apart = ek_ext_sequence_apart(left_sequence, right_sequence);
    return apart > 0 ? -1 : apart < 0;
}

static gint by_block(gconstpointer a, gconstpointer b)
{
    const EkExtCopy *left = a;
    const EkExtCopy *right = b;
    return compare(left->tag.block, left->sequence, right->tag.block, right->sequence);
}

static gint by_revoked(gconstpointer a, gconstpointer b)
{
    const EkExtRevoke *left = a;
    const EkExtRevoke *right = b;
    return compare(left->block, left->sequence, right->block, right->sequence);
}

static gint by_sequence(gconstpointer a, gconstpointer b)
{
    return ek_ext_sequence_apart(((const EkExtCommit *)a)->sequence,
                                 ((const EkExtCommit *)b)->sequence);
}

static EkExtCommit *commit_of(const EkExtJournal *journal, guint32 sequence)
{
    guint low = 0;
    guint high = journal->commits->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        EkExtCommit *commit = &g_array_index(journal->commits, EkExtCommit, middle);
        gint32 apart = ek_ext_sequence_apart(commit->sequence, sequence);
        if (apart == 0)
            return commit;
        if (apart < 0)
            low = middle + 1;
        else
            high = middle;
    }
    return NULL;
}

/* Each once, with how many copies it has. */
static void settle_commits(EkExtJournal *journal)
{
    GArray *commits = journal->commits;
    guint kept = 0;
    g_array_sort(commits, by_sequence);
    for (guint i = 0; i < commits->len; i++) {
        const EkExtCommit *commit = &g_array_index(commits, EkExtCommit, i);
        if (kept == 0 || g_array_index(commits, EkExtCommit, kept - 1).sequence != commit->sequence)
            g_array_index(commits, EkExtCommit, kept++) = *commit;
    }
    g_array_set_size(commits, kept);
    for (guint i = 0; i < journal->copies->len; i++) {
        EkExtCommit *commit =
            commit_of(journal, g_array_index(journal->copies, EkExtCopy, i).sequence);
        if (commit != NULL)
            commit->copies++;
    }
}

/* A journal that goes round writes over the oldest transaction from its beginning on. */
static void find_complete(EkExtJournal *journal, EkReader *reader)
{
    const EkExtLog *log = journal->log;
    g_autofree guint8 *first = g_malloc(log->block_bytes);
    EkSpan span = {first, log->block_bytes};
    gboolean was_read = ek_ext_log_read(log, reader, log->first, first) &&
                        ek_span_be32(span, 0) == EK_EXT_LOG_MAGIC;
    for (guint i = 0; i < journal->commits->len; i++) {
        EkExtCommit *commit = &g_array_index(journal->commits, EkExtCommit, i);
        commit->is_complete =
            (was_read && ek_span_be32(span, 8) == commit->sequence) ||
            (i > 0 && ek_ext_sequence_apart(commit->sequence, (commit - 1)->sequence) == 1);
    }
}

const EkExtCommit *ek_ext_journal_commit(const EkExtJournal *journal, guint32 sequence)
{
    return commit_of(journal, sequence);
}

static void load(EkExtJournal *journal, EkReader *reader)
{
    const EkExtLog *log = journal->log;
    g_autofree guint8 *buffer = g_malloc(log->block_bytes);
    g_autoptr(GArray) tags = g_array_new(FALSE, FALSE, sizeof(EkExtTag));
    EkSpan span = {buffer, log->block_bytes};
    for (guint32 at = 1; at + log->fast_blocks < log->blocks; at++) {
        if (!ek_ext_log_read(log, reader, at, buffer) || ek_span_be32(span, 0) != EK_EXT_LOG_MAGIC)
            continue;
        guint32 kind = ek_span_be32(span, 4);
        if (kind == EK_EXT_LOG_DESCRIPTOR)
            at += take_tags(journal, span, at, tags);
        else if (kind == EK_EXT_LOG_COMMIT)
            take_commit(journal, span);
        else if (kind == EK_EXT_LOG_REVOKE)
            take_revokes(journal, span);
    }
    g_array_sort(journal->copies, by_block);
    g_array_sort(journal->revokes, by_revoked);
    settle_commits(journal);
    find_complete(journal, reader);
}

void ek_ext_journal_close(EkExtJournal *journal)
{
    ek_ext_log_close(journal->log);
    g_array_unref(journal->copies);
    g_array_unref(journal->commits);
    g_array_unref(journal->revokes);
    g_free(journal);
}

EkExtJournal *ek_ext_journal_open(EkExtVolume *volume)
{
    EkExtLog *log = ek_ext_log_open(volume);
    if (log == NULL)
        return NULL;
    g_autoptr(EkExtJournal) journal = g_new0(EkExtJournal, 1);
    journal->log = log;
    journal->copies = g_array_new(FALSE, FALSE, sizeof(EkExtCopy));
    journal->commits = g_array_new(FALSE, FALSE, sizeof(EkExtCommit));
    journal->revokes = g_array_new(FALSE, FALSE, sizeof(EkExtRevoke));
    load(journal, volume->reader);
    return journal->copies->len > 0 ? g_steal_pointer(&journal) : NULL;
}

gboolean ek_ext_journal_is_due(EkExtVolume *volume)
{
    g_autoptr(EkExtLog) log = ek_ext_log_open(volume);
    return log != NULL && log->start != 0;
}

guint ek_ext_journal_copy(const EkExtJournal *journal, guint64 block)
{
    guint low = 0;
    guint high = journal->copies->len;
    while (low < high) {
        guint middle = (low + high) / 2;
        if (g_array_index(journal->copies, EkExtCopy, middle).tag.block < block)
            low = middle + 1;
        else
            high = middle;
    }
    return low;
}

/* Copies of one block, one after the other: NULL when there is none any more. */
static const EkExtCopy *copy_of(const EkExtJournal *journal, guint64 block, guint index)
{
    const EkExtCopy *copy =
        index < journal->copies->len ? &g_array_index(journal->copies, EkExtCopy, index) : NULL;
    return copy != NULL && copy->tag.block == block ? copy : NULL;
}

guint8 *ek_ext_journal_find(const EkExtJournal *journal, const EkExtVolume *volume, EkSpan span,
                            EkByte at, EkByte *copy_at)
{
    guint64 block = (at - volume->first_byte) / journal->log->block_bytes;
    gsize inside = (gsize)((at - volume->first_byte) % journal->log->block_bytes);
    g_autofree guint8 *copy = g_malloc(span.length);
    EkSpan older = {copy, span.length};
    const EkExtCopy *kept;
    for (guint i = ek_ext_journal_copy(journal, block); (kept = copy_of(journal, block, i)) != NULL;
         i++) {
        EkByte place = ek_ext_log_place(journal->log, kept->place);
        EkKnown known;
        if (place == EK_UNPLACED || kept->tag.is_escaped ||
            !ek_reader_read(volume->reader, place + inside, copy, span.length, &known, NULL) ||
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
    guint64 block = EK_EXT_SUPER_OFFSET / journal->log->block_bytes;
    gsize inside = EK_EXT_SUPER_OFFSET % journal->log->block_bytes;
    const EkExtCopy *kept;
    for (guint i = ek_ext_journal_copy(journal, block); (kept = copy_of(journal, block, i)) != NULL;
         i++) {
        EkByte place = ek_ext_log_place(journal->log, kept->place);
        EkExtSuper said;
        EkKnown known;
        if (place != EK_UNPLACED && !kept->tag.is_escaped &&
            ek_reader_read(volume->reader, place + inside, super, EK_EXT_SUPER_BYTES, &known,
                           NULL) &&
            known.good == EK_EXT_SUPER_BYTES &&
            ek_ext_super_read((EkSpan){super, EK_EXT_SUPER_BYTES}, &said) && said.checksum_fits)
            return TRUE;
    }
    return FALSE;
}
