/* SPDX-License-Identifier: MIT */
/* What a journal holds that was committed and is not in place yet: a volume that was not cleanly
 * unmounted is read with these copies in place of the blocks, as the system's driver would have it.
 * Nothing is written. The rules are those of the Linux kernel's fs/jbd2/recovery.c as its
 * documentation describes them: transactions follow one another up to the first that was not
 * committed; a block that was revoked is not put in place by what came before. What it distrusts:
 * numbers of blocks, rows that come back to themselves, sums. */
#include "volume/ext/log.h"

#include "base/checksum.h"

#include <string.h>

#define SUM_KIND_AT 12u /* of a commit block */
#define SUM_AT 16u
#define SUM_CRC32 1u

typedef struct {
    EkExtVolume *volume;
    EkExtLog *log;
    EkExtReplay *replay;
    guint8 *block;
    GArray *tags;
    GHashTable *revoked; /* block (guint64*) to the last sequence that revoked it */
    guint32 end;         /* first sequence that was not committed */
    guint32 last;        /* block behind the log proper */
} Replaying;

static guint32 next_block(const Replaying *replaying, guint32 block)
{
    return block + 1 >= replaying->last ? replaying->log->first : block + 1;
}

static gboolean read_block(Replaying *replaying, guint32 block)
{
    return ek_ext_log_read(replaying->log, replaying->volume->reader, block, replaying->block);
}

static EkSpan block_of(const Replaying *replaying)
{
    return (EkSpan){replaying->block, replaying->log->block_bytes};
}

/* --- which transactions were committed ------------------------------------------------------ */

/* The older sum runs over a descriptor and all that follows it. */
static guint32 sum_copies(Replaying *replaying, guint32 sum, guint32 block, guint count)
{
    sum = ek_crc32_forward(sum, block_of(replaying));
    for (guint i = 0; i < count; i++) {
        block = next_block(replaying, block);
        if (read_block(replaying, block))
            sum = ek_crc32_forward(sum, block_of(replaying));
        else
            replaying->replay->is_damaged = TRUE;
    }
    return sum;
}

static gboolean commit_fits(const Replaying *replaying, guint32 sum)
{
    EkSpan span = block_of(replaying);
    if (ek_ext_log_has_sums(replaying->log))
        return ek_ext_log_sum_fits(replaying->log, span, SUM_AT);
    return !replaying->log->has_sum || ek_span_u8(span, SUM_KIND_AT) != SUM_CRC32 ||
           ek_span_be32(span, SUM_AT) == sum;
}

/* Finds the first sequence that was not committed. */
static void scan(Replaying *replaying)
{
    const EkExtLog *log = replaying->log;
    guint32 block = log->start;
    guint32 sequence = log->sequence;
    guint32 sum = G_MAXUINT32;
    replaying->end = sequence;
    for (guint32 steps = 0; steps < log->blocks; steps++) {
        EkSpan span = block_of(replaying);
        if (!read_block(replaying, block)) {
            replaying->replay->is_damaged = TRUE;
            return;
        }
        if (ek_span_be32(span, 0) != EK_EXT_LOG_MAGIC || ek_span_be32(span, 8) != sequence)
            return;
        guint32 kind = ek_span_be32(span, 4);
        if (kind == EK_EXT_LOG_DESCRIPTOR) {
            if (!ek_ext_log_sum_fits(log, span, span.length - 4))
                return;
            ek_ext_log_tags(log, span, replaying->tags);
            guint count = replaying->tags->len;
            if (log->has_sum && !ek_ext_log_has_sums(log))
                sum = sum_copies(replaying, sum, block, count);
            for (guint i = 0; i < count; i++)
                block = next_block(replaying, block);
            steps += count;
        } else if (kind == EK_EXT_LOG_COMMIT) {
            if (!commit_fits(replaying, sum))
                return;
            sum = G_MAXUINT32;
            replaying->end = ++sequence;
            replaying->replay->transactions++;
        } else if (kind != EK_EXT_LOG_REVOKE) {
            return;
        }
        block = next_block(replaying, block);
    }
}

/* --- what they hold ------------------------------------------------------------------------- */

typedef void (*BlockTaker)(Replaying *replaying, guint32 sequence, guint32 block);

static void take_revokes(Replaying *replaying, guint32 sequence, guint32 block)
{
    EkSpan span = block_of(replaying);
    (void)block;
    if (ek_span_be32(span, 4) != EK_EXT_LOG_REVOKE)
        return;
    g_autoptr(GArray) blocks = g_array_new(FALSE, FALSE, sizeof(guint64));
    ek_ext_log_revokes(replaying->log, span, blocks);
    for (guint i = 0; i < blocks->len; i++)
        g_hash_table_replace(replaying->revoked,
                             g_memdup2(&g_array_index(blocks, guint64, i), sizeof(guint64)),
                             GUINT_TO_POINTER(sequence));
}

static gboolean is_revoked(const Replaying *replaying, guint64 block, guint32 sequence)
{
    gpointer by = NULL;
    return g_hash_table_lookup_extended(replaying->revoked, &block, NULL, &by) &&
           (gint32)(GPOINTER_TO_UINT(by) - sequence) >= 0;
}

static gboolean copy_fits(Replaying *replaying, const EkExtTag *tag, guint32 sequence,
                          guint32 block)
{
    return read_block(replaying, block) &&
           ek_ext_log_copy_fits(replaying->log, tag, sequence, block_of(replaying));
}

static void take_copies(Replaying *replaying, guint32 sequence, guint32 block)
{
    const EkExtLog *log = replaying->log;
    EkMoves *moves = replaying->replay->moves;
    if (ek_span_be32(block_of(replaying), 4) != EK_EXT_LOG_DESCRIPTOR)
        return;
    for (guint i = 0; i < replaying->tags->len; i++) {
        const EkExtTag *tag = &g_array_index(replaying->tags, EkExtTag, i);
        EkMove move = {.at = ek_ext_block_byte(replaying->volume, tag->block),
                       .order = sequence - log->sequence,
                       .patch = tag->is_escaped};
        block = next_block(replaying, block);
        move.from = ek_ext_log_place(log, block);
        if (move.at == EK_UNPLACED || is_revoked(replaying, tag->block, sequence))
            continue;
        if (move.from == EK_UNPLACED || !copy_fits(replaying, tag, sequence, block))
            replaying->replay->is_damaged = TRUE;
        else
            g_array_append_val(moves->moves, move);
    }
}

/* Goes through all that was committed. */
static void go_through(Replaying *replaying, BlockTaker take)
{
    const EkExtLog *log = replaying->log;
    guint32 block = log->start;
    guint32 sequence = log->sequence;
    for (guint32 steps = 0; steps < log->blocks && sequence != replaying->end; steps++) {
        EkSpan span = block_of(replaying);
        if (!read_block(replaying, block))
            return;
        guint32 kind = ek_span_be32(span, 4);
        guint count = 0;
        if (kind == EK_EXT_LOG_DESCRIPTOR) {
            ek_ext_log_tags(log, span, replaying->tags);
            count = replaying->tags->len;
        }
        take(replaying, sequence, block);
        sequence += kind == EK_EXT_LOG_COMMIT ? 1 : 0;
        for (guint i = 0; i <= count; i++)
            block = next_block(replaying, block);
        steps += count;
    }
}

/* Is there a fast commit behind the last transaction? Its first tag names the sequence it is of. */
static gboolean has_fast_commit(Replaying *replaying)
{
    EkSpan span = block_of(replaying);
    const guint16 head = 9; /* the tag that begins one */
    if (replaying->log->fast_blocks == 0 || !read_block(replaying, replaying->last))
        return FALSE;
    return ek_span_le16(span, 0) == head && ek_span_le32(span, 8) == replaying->end;
}

void ek_ext_replay_free(EkExtReplay *replay)
{
    ek_moves_free(replay->moves);
    g_free(replay);
}

EkExtReplay *ek_ext_replay(EkExtVolume *volume)
{
    g_autoptr(EkExtLog) log = ek_ext_log_open(volume);
    if (log == NULL || log->start == 0 || log->first == 0 || log->start < log->first ||
        log->fast_blocks >= log->blocks || log->start >= log->blocks - log->fast_blocks)
        return NULL;
    g_autoptr(EkExtReplay) replay = g_new0(EkExtReplay, 1);
    replay->moves = ek_moves_new(log->block_bytes);
    ek_put_be32(replay->moves->first, EK_EXT_LOG_MAGIC);
    g_autofree guint8 *block = g_malloc0(log->block_bytes);
    g_autoptr(GArray) tags = g_array_new(FALSE, FALSE, sizeof(EkExtTag));
    g_autoptr(GHashTable) revoked =
        g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, NULL);
    Replaying replaying = {.volume = volume,
                           .log = log,
                           .replay = replay,
                           .block = block,
                           .tags = tags,
                           .revoked = revoked,
                           .last = log->blocks - log->fast_blocks};
    scan(&replaying);
    go_through(&replaying, take_revokes);
    go_through(&replaying, take_copies);
    replay->has_fast = has_fast_commit(&replaying);
    ek_moves_settle(replay->moves);
    return g_steal_pointer(&replay);
}
