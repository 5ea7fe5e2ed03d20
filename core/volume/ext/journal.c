/* SPDX-License-Identifier: MIT */
/* Older copies of blocks in the journal of an ext3 or ext4 volume. */
#include "volume/ext/journal.h"
#include "volume/ext/log.h"

#define COPIES_MOST (1u << 20)

/* A copy of a block of the volume. */
typedef struct {
    guint64 block;
    guint32 sequence; /* the later one is newer */
    guint32 place;    /* block of the journal */
} Copy;

struct EkExtJournal {
    EkExtLog *log;
    GArray *copies; /* Copy, by block, the newest first */
};

/* The tags of a descriptor: each block that follows is a copy of the one its tag names. Returns how
 * many follow. */
static guint take_tags(EkExtJournal *journal, EkSpan block, guint32 place, GArray *tags)
{
    guint32 sequence = ek_span_be32(block, 8);
    ek_ext_log_tags(journal->log, block, tags);
    for (guint i = 0; i < tags->len; i++) {
        const EkExtTag *tag = &g_array_index(tags, EkExtTag, i);
        Copy copy = {tag->block, sequence, place + i + 1};
        if (!tag->is_escaped && journal->copies->len < COPIES_MOST)
            g_array_append_val(journal->copies, copy);
    }
    return tags->len;
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

static void load_copies(EkExtJournal *journal, EkReader *reader)
{
    const EkExtLog *log = journal->log;
    g_autofree guint8 *buffer = g_malloc(log->block_bytes);
    g_autoptr(GArray) tags = g_array_new(FALSE, FALSE, sizeof(EkExtTag));
    EkSpan span = {buffer, log->block_bytes};
    for (guint32 at = 1; at < log->blocks; at++)
        if (ek_ext_log_read(log, reader, at, buffer) && ek_span_be32(span, 0) == EK_EXT_LOG_MAGIC &&
            ek_span_be32(span, 4) == EK_EXT_LOG_DESCRIPTOR)
            at += take_tags(journal, span, at, tags);
    g_array_sort(journal->copies, by_block);
}

void ek_ext_journal_close(EkExtJournal *journal)
{
    ek_ext_log_close(journal->log);
    g_array_unref(journal->copies);
    g_free(journal);
}

EkExtJournal *ek_ext_journal_open(EkExtVolume *volume)
{
    EkExtLog *log = ek_ext_log_open(volume);
    if (log == NULL)
        return NULL;
    EkExtJournal *journal = g_new0(EkExtJournal, 1);
    journal->log = log;
    journal->copies = g_array_new(FALSE, FALSE, sizeof(Copy));
    load_copies(journal, volume->reader);
    if (journal->copies->len > 0)
        return journal;
    ek_ext_journal_close(journal);
    return NULL;
}

gboolean ek_ext_journal_is_due(EkExtVolume *volume)
{
    g_autoptr(EkExtLog) log = ek_ext_log_open(volume);
    return log != NULL && log->start != 0;
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
    guint64 block = (at - volume->first_byte) / journal->log->block_bytes;
    gsize inside = (gsize)((at - volume->first_byte) % journal->log->block_bytes);
    g_autofree guint8 *copy = g_malloc(span.length);
    EkSpan older = {copy, span.length};
    for (guint i = first_copy(journal->copies, block);
         i < journal->copies->len && g_array_index(journal->copies, Copy, i).block == block; i++) {
        EkByte place =
            ek_ext_log_place(journal->log, g_array_index(journal->copies, Copy, i).place);
        EkKnown known;
        if (place == EK_UNPLACED ||
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
    for (guint i = first_copy(journal->copies, block);
         i < journal->copies->len && g_array_index(journal->copies, Copy, i).block == block; i++) {
        EkByte place =
            ek_ext_log_place(journal->log, g_array_index(journal->copies, Copy, i).place);
        EkExtSuper said;
        EkKnown known;
        if (place != EK_UNPLACED &&
            ek_reader_read(volume->reader, place + inside, super, EK_EXT_SUPER_BYTES, &known,
                           NULL) &&
            known.good == EK_EXT_SUPER_BYTES &&
            ek_ext_super_read((EkSpan){super, EK_EXT_SUPER_BYTES}, &said) && said.checksum_fits)
            return TRUE;
    }
    return FALSE;
}
