/* SPDX-License-Identifier: MIT */
/* Files of ext2, ext3 and ext4: one pass over the inode tables; each folder's blocks are read when
 * its inode comes. Deleted inodes have lost where their content lay, but for older copies of them
 * in the journal; deleted names stand in the room behind other names. What it distrusts: maps
 * (which may lead outside or come back to themselves), record lengths, sizes, names. */
#include "image/checkedblock.h"
#include "volume/ext/history.h"
#include "volume/ext/remnants.h"
#include "volume/headers.h"

#include <string.h>

#define WINDOW_BYTES (256u << 10)
#define ENTRY_LEAST 12u
#define NAME_MOST 255u
#define EK_PIECE_MOST 65536u
#define INLINE_PARENT 4u /* an inline folder begins with the number of its parent */
#define FOLDER_BYTES_MOST ((EkByte)8 << 30)
#define NOT_KNOWN G_MAXUINT32
#define NAMED_MOST (1u << 20)
#define NAMED_ROUNDS 64u

struct EkOpened {
    EkExtVolume volume;
    EkExtJournal *journal;     /* NULL: none that can be read */
    EkExtReplay *due;          /* NULL: nothing is */
    EkExtPast *past;           /* NULL: the volume is read as it is */
    const EkExtReplay *replay; /* what is read in place of blocks: of one of these, or NULL */
    EkReader *moved;           /* with that in place */
    GArray *runs;              /* EkExtInodeRun: where inodes are; NULL: where the groups say */
    GArray *blocks; /* EkRecordRun: first blocks of folders that a hunt saw; NULL: no matter */
};

EkOpened *ek_ext_open(EkReader *reader, const EkVolume *volume, GError **error)
{
    EkOpened *opened = g_new0(EkOpened, 1);
    if (!ek_ext_volume_open(&opened->volume, reader, volume)) {
        g_free(opened);
        ek_error_set(error, EK_ERROR_DAMAGED, "the kept superblock is none");
        return NULL;
    }
    opened->runs = ek_ext_runs_of(volume);
    /* The journal that is there is the newer volume's. */
    if (volume->is_earlier && volume->as_of.kind == EK_AS_IT_IS)
        return opened;
    if (volume->as_of.kind != EK_AS_IT_IS) {
        opened->past = ek_ext_past_open(&opened->volume, volume, error);
        if (opened->past == NULL) {
            ek_ext_close(opened);
            return NULL;
        }
        opened->replay = ek_ext_past_replay(opened->past);
    } else if (!volume->without_journal) {
        opened->replay = opened->due = ek_ext_replay(&opened->volume);
    }
    if (opened->replay != NULL) {
        opened->moved = ek_reader_moved(reader, opened->replay->moves);
        opened->volume.reader = opened->moved;
    }
    /* What was deleted in the past may have been written again later. */
    if (opened->past == NULL)
        opened->journal = ek_ext_journal_open(&opened->volume);
    return opened;
}

char *ek_ext_unclean(EkReader *reader, const EkVolume *volume)
{
    EkExtVolume own;
    if (!ek_ext_volume_open(&own, reader, volume))
        return NULL;
    g_autoptr(EkExtReplay) replay = ek_ext_replay(&own);
    if (replay == NULL)
        return NULL;
    return g_strdup_printf("The latest changes are read from the journal: %u blocks in %u "
                           "transactions. To read without the journal, add --without-journal.%s%s",
                           replay->moves->moves->len, replay->transactions,
                           replay->has_fast ? " Fast commits are not applied." : "",
                           replay->is_damaged ? " A part of the journal could not be read." : "");
}

void ek_ext_close(EkOpened *opened)
{
    g_clear_pointer(&opened->journal, ek_ext_journal_close);
    g_clear_pointer(&opened->past, ek_ext_past_close);
    g_clear_pointer(&opened->due, ek_ext_replay_free);
    g_clear_pointer(&opened->moved, ek_reader_free);
    g_clear_pointer(&opened->runs, g_array_unref);
    g_clear_pointer(&opened->blocks, g_array_unref);
    g_free(opened);
}

gboolean ek_ext_lacks(EkOpened *opened)
{
    const EkExtVolume *volume = &opened->volume;
    EkExtGroup group = ek_ext_group(volume, 0);
    guint8 root[EK_EXT_INODE_LEAST];
    EkByte table = group.table != 0 ? ek_ext_block_byte(volume, group.table) : EK_UNPLACED;
    if (volume->is_earlier || table == EK_UNPLACED ||
        ek_presence_read(volume->reader,
                         table + (EkByte)(EK_EXT_ROOT - 1) * volume->super.inode_bytes, root,
                         sizeof root) != EK_PRESENT)
        return TRUE;
    return (ek_ext_inode_read((EkSpan){root, sizeof root}).mode & EK_EXT_TYPE) != EK_EXT_FOLDER;
}

gboolean ek_ext_adopt(EkOpened *opened, const GArray *runs, GError **error)
{
    (void)error;
    g_clear_pointer(&opened->blocks, g_array_unref);
    opened->blocks = g_array_new(FALSE, FALSE, sizeof(EkRecordRun));
    for (guint i = 0; i < runs->len; i++) {
        const EkRecordRun *run = &g_array_index(runs, EkRecordRun, i);
        if (run->stride == EK_EXT_SEEN_FOLDER || run->stride == EK_EXT_SEEN_ROOT)
            g_array_append_vals(opened->blocks, run, 1);
    }
    return TRUE;
}

guint64 ek_ext_root(EkOpened *opened)
{
    (void)opened;
    return EK_EXT_ROOT;
}

typedef struct {
    EkOpened *opened;
    const EkFileSink *sink;
    GString *text;
    guint8 *block;
    guint64 number; /* of the inode that is being taken */
    gboolean is_deleted;
    gboolean is_copy;    /* of inodes that may be out of date */
    EkByte folder_bytes; /* of the folder's content that is seen */
    guint64 groups;      /* that are walked */
    guint32 *used;       /* inodes of each group that were taken for written; NOT_KNOWN: not yet */
    GArray *named;       /* guint32: inodes beyond those, that a folder names */
    GHashTable *folders; /* numbers of those that were taken, where blocks of others were seen */
    EkFolderDamage damage;
    EkExtPastState state; /* of the inode, where the volume is read as it was */
} Walk;

/* --- folders -------------------------------------------------------------------------------- */

static gboolean is_dots(EkSpan name)
{
    return (name.length == 1 && name.data[0] == '.') ||
           (name.length == 2 && name.data[0] == '.' && name.data[1] == '.');
}

/* How many inodes of a group were ever written is a hint, which may be behind the times: one that a
 * folder names is read. */
static void note_named(Walk *walk, guint32 inode)
{
    const EkExtVolume *volume = &walk->opened->volume;
    guint32 group = (inode - 1) / volume->super.inodes_per_group;
    if (group >= walk->groups || walk->named->len >= NAMED_MOST)
        return;
    if (walk->used[group] == NOT_KNOWN)
        walk->used[group] = ek_ext_group(volume, group).used;
    if ((inode - 1) % volume->super.inodes_per_group >= walk->used[group])
        g_array_append_val(walk->named, inode);
}

static gboolean pass_name(Walk *walk, guint32 inode, EkSpan bytes, gboolean is_deleted)
{
    if (is_dots(bytes))
        return TRUE;
    if (!is_deleted && !walk->is_deleted)
        note_named(walk, inode);
    g_string_truncate(walk->text, 0);
    gboolean escaped = ek_name_utf8(walk->text, bytes);
    EkFileName name = {
        .file = inode,
        .parent = walk->number,
        .is_deleted = is_deleted || walk->is_deleted,
        .text = walk->text->str,
        .bytes = escaped ? bytes.data : NULL,
        .length = escaped ? bytes.length : 0,
    };
    return walk->sink->name(walk->sink->data, &name);
}

static gsize room_for(gsize name)
{
    return (8 + name + 3) / 4 * 4;
}

static gsize name_length(const Walk *walk, EkSpan entry)
{
    return walk->opened->volume.has_types ? ek_span_u8(entry, 6) : ek_span_le16(entry, 6);
}

static gboolean is_plausible(const Walk *walk, EkSpan entry)
{
    gsize length = name_length(walk, entry);
    guint32 inode = ek_span_le32(entry, 0);
    return inode != 0 && inode <= walk->opened->volume.super.inodes && length > 0 &&
           length <= NAME_MOST && ek_span_has(entry, 8, length) &&
           memchr(entry.data + 8, 0, length) == NULL && memchr(entry.data + 8, '/', length) == NULL;
}

/* What stood between an entry and the next one before it was deleted. */
static gboolean pass_deleted_names(Walk *walk, EkSpan room)
{
    for (gsize at = 0; at + ENTRY_LEAST <= room.length;) {
        EkSpan entry = ek_span_part(room, at, room.length - at);
        gsize length = name_length(walk, entry);
        if (!is_plausible(walk, entry)) {
            at += 4;
            continue;
        }
        if (!pass_name(walk, ek_span_le32(entry, 0), ek_span_part(entry, 8, length), TRUE))
            return FALSE;
        at += room_for(length);
    }
    return TRUE;
}

/* How far it is to the next entry; 0: that cannot be. */
static gsize step_at(const EkCheckedBlock *block, gsize at)
{
    gsize size = block->span.length;
    gsize step = ek_span_le16(block->span, at + 4);
    /* In blocks of 64 KiB the whole of one does not fit into the number. */
    if (size == EK_PIECE_MOST && (step == EK_PIECE_MOST - 1 || step == 0))
        step = size - at;
    return step < 8 || step % 4 != 0 || step > size - at ? 0 : step;
}

/* Whether entries follow one another from there to the block's end, or to what was not read. */
static gboolean holds_entries(const Walk *walk, const EkCheckedBlock *block, gsize at)
{
    guint count = 0;
    gsize end = ek_checked_block_until(block, at);
    while (at + 8 <= end) {
        gsize step = step_at(block, at);
        EkSpan entry = ek_span_part(block->span, at, MIN(step, end - at));
        gboolean is_cut = step > end - at;
        if (step < ENTRY_LEAST ||
            (ek_span_le32(entry, 0) != 0 && !is_cut && !is_plausible(walk, entry)))
            return FALSE;
        count += ek_span_le32(entry, 0) != 0 && !is_cut;
        at += step;
        end = ek_checked_block_until(block, at);
    }
    return count > 0;
}

/* Where entries go on behind what was not read; the block's length: nowhere. */
static gsize next_entries(const Walk *walk, const EkCheckedBlock *block, gsize from)
{
    gsize at = (from + 3) / 4 * 4;
    while (at < block->span.length && !holds_entries(walk, block, at))
        at += block->is_good[at / EK_PIECE_SECTOR] ? 4 : EK_PIECE_SECTOR - at % EK_PIECE_SECTOR;
    return at;
}

static gboolean take_entries(Walk *walk, const EkCheckedBlock *block)
{
    for (gsize at = 0; at + 8 <= block->span.length;) {
        gsize end = ek_checked_block_until(block, at);
        if (end - at < 8) {
            at = next_entries(walk, block, end);
            continue;
        }
        gsize step = step_at(block, at);
        /* Something else stands there: entries may go on behind it. */
        if (step == 0) {
            walk->damage.cut_short = TRUE;
            at = next_entries(walk, block, at + 4);
            continue;
        }
        EkSpan entry = ek_span_part(block->span, at, MIN(step, end - at));
        gsize length = name_length(walk, entry);
        guint32 inode = ek_span_le32(entry, 0);
        gboolean is_used = inode != 0 && inode <= walk->opened->volume.super.inodes && length > 0 &&
                           ek_span_has(entry, 8, length);
        gsize used = is_used ? MIN(room_for(length), entry.length) : 8;
        if (is_used && !pass_name(walk, inode, ek_span_part(entry, 8, length), FALSE))
            return FALSE;
        /* Behind the first entry of a block may be an index. */
        if (!pass_deleted_names(walk, ek_span_part(entry, used, entry.length - used)))
            return FALSE;
        at += step;
    }
    return TRUE;
}

/* Blocks of a folder. */
static gboolean take_run(void *data, const EkExtent *extent)
{
    Walk *walk = data;
    EkExtVolume *volume = &walk->opened->volume;
    guint32 size = volume->super.block_bytes;
    EkByte whole = ek_divide_up(extent->bytes, size) * size;
    if (extent->first_byte == EK_UNPLACED) {
        walk->damage.cut_short = TRUE;
        return TRUE;
    }
    for (EkByte at = 0; at < whole && walk->folder_bytes < FOLDER_BYTES_MOST; at += size) {
        EkCheckedBlock block;
        walk->folder_bytes += size;
        if (!ek_checked_block_read(&block, volume->reader, extent->first_byte + at, walk->block,
                                   size)) {
            walk->damage.cut_short = TRUE;
            return TRUE;
        }
        if (walk->opened->past != NULL &&
            ek_ext_past_lacks(walk->opened->past, volume, extent->first_byte + at))
            walk->damage.unread_bytes += size;
        walk->damage.bad_bytes += block.known.bad;
        walk->damage.unread_bytes += block.known.unread;
        if (!take_entries(walk, &block))
            return FALSE;
    }
    return TRUE;
}

/* An inline folder's entries stand in the inode. */
static gboolean take_inline_run(void *data, const EkExtent *extent)
{
    Walk *walk = data;
    EkExtVolume *volume = &walk->opened->volume;
    EkByte skip = extent->offset == 0 ? INLINE_PARENT : 0;
    if (extent->first_byte == EK_UNPLACED || extent->bytes < skip ||
        extent->bytes > volume->super.block_bytes) {
        walk->damage.cut_short = TRUE;
        return TRUE;
    }
    EkCheckedBlock block;
    return !ek_checked_block_read(&block, volume->reader, extent->first_byte + skip, walk->block,
                                  (gsize)(extent->bytes - skip)) ||
           take_entries(walk, &block);
}

static gboolean take_folder(Walk *walk, EkSpan span, const EkExtInode *inode, EkByte at)
{
    walk->damage = (EkFolderDamage){0};
    walk->folder_bytes = 0;
    gboolean is_inline = (inode->flags & EK_EXT_INLINE) != 0;
    if (!ek_ext_extents(&walk->opened->volume, span, inode, at,
                        is_inline ? take_inline_run : take_run, walk))
        return FALSE;
    return (walk->damage.bad_bytes + walk->damage.unread_bytes == 0 && !walk->damage.cut_short) ||
           walk->sink->damage(walk->sink->data, walk->number, &walk->damage);
}

/* --- inodes --------------------------------------------------------------------------------- */

static EkFileType type_of(const EkExtInode *inode)
{
    switch (inode->mode & EK_EXT_TYPE) {
    case EK_EXT_FOLDER: return EK_TYPE_FOLDER;
    case EK_EXT_FILE: return EK_TYPE_FILE;
    case EK_EXT_LINK: return EK_TYPE_LINK;
    default: return EK_TYPE_SPECIAL;
    }
}

/* What the journal has no copy of, where the volume is read as it was. */
static gboolean pass_in_place(void *data, const EkExtent *extent)
{
    const Walk *walk = data;
    return walk->sink->extent(walk->sink->data, walk->number, extent);
}

static gboolean pass_by_state(Walk *walk, const EkExtent *extent)
{
    return walk->state == EK_EXT_PAST_SAME
               ? pass_in_place(walk, extent)
               : ek_ext_past_pass(walk->opened->past, &walk->opened->volume, extent, pass_in_place,
                                  walk);
}

static gboolean pass_extent(void *data, const EkExtent *extent)
{
    Walk *walk = data;
    const EkExtReplay *replay = walk->opened->replay;
    EkByte end = extent->first_byte + extent->stored;
    const EkMove *move;
    if (replay == NULL || extent->first_byte == EK_UNPLACED)
        return walk->sink->extent(walk->sink->data, walk->number, extent);
    /* Where the journal holds newer content, that is where it lies. */
    for (EkByte at = extent->first_byte; at < end;) {
        move = ek_moves_next(replay->moves, at, end);
        EkByte first = move != NULL ? MAX(move->at, at) : end;
        EkByte next = move != NULL ? MIN(move->at + replay->moves->block_bytes, end) : end;
        EkExtent part = *extent;
        part.offset += at - extent->first_byte;
        part.first_byte = at;
        part.bytes = part.stored = first - at;
        if (part.bytes > 0 && !pass_by_state(walk, &part))
            return FALSE;
        part.offset = extent->offset + (first - extent->first_byte);
        part.bytes = part.stored = next - first;
        part.first_byte = EK_UNPLACED;
        if (move != NULL && !move->patch)
            part.first_byte = move->from + (first - move->at);
        part.stored = part.first_byte != EK_UNPLACED ? part.bytes : 0;
        part.in_record = TRUE; /* the journal's region, and rightly so */
        if (part.bytes > 0 && !walk->sink->extent(walk->sink->data, walk->number, &part))
            return FALSE;
        at = next;
    }
    return TRUE;
}

/* The format's own inodes: those with low numbers, the file of orphans, attributes that are too
 * large for their inode. */
static gboolean is_own(const Walk *walk, const EkExtInode *inode)
{
    const EkExtVolume *volume = &walk->opened->volume;
    return (walk->number < volume->first_inode && walk->number != EK_EXT_ROOT) ||
           (volume->super.orphan_file != 0 && walk->number == volume->super.orphan_file) ||
           (inode->flags & EK_EXT_ATTRIBUTES) != 0;
}

/* A file of no bytes that has blocks lost its size: it is as long as they are, and a guess. */
static gboolean find_end(void *data, const EkExtent *extent)
{
    guint64 *end = data;
    *end = MAX(*end, extent->offset + extent->bytes);
    return TRUE;
}

static void restore_size(Walk *walk, EkSpan span, EkExtInode *inode, EkByte at, EkFile *file)
{
    const EkExtVolume *volume = &walk->opened->volume;
    guint64 own = ek_span_le32(span, 104) != 0 ? volume->super.block_bytes / EK_STEP : 0;
    if (file->type != EK_TYPE_FILE || inode->size != 0 || inode->sectors <= own ||
        walk->is_deleted || (inode->flags & (EK_EXT_HUGE | EK_EXT_INLINE)) != 0)
        return;
    guint64 end = 0;
    inode->size = inode->sectors * EK_STEP;
    ek_ext_extents(&walk->opened->volume, span, inode, at, find_end, &end);
    inode->size = file->size = end;
    file->flags |= end > 0 ? EK_FILE_GUESSED : 0;
}

static gboolean pass_inode(Walk *walk, EkSpan span, EkByte at)
{
    EkExtInode inode = ek_ext_inode_read(span);
    EkOpened *opened = walk->opened;
    walk->state = EK_EXT_PAST_SAME;
    if (opened->past != NULL)
        walk->state = ek_ext_past_state(opened->past, &opened->volume, span, &inode, at);
    if (walk->state == EK_EXT_PAST_ABSENT)
        return TRUE;
    EkFile file = {
        .number = walk->number,
        .type = type_of(&inode),
        .flags = (walk->is_deleted ? EK_FILE_DELETED : 0) |
                 (is_own(walk, &inode) ? EK_FILE_OWN : 0) |
                 ((inode.flags & EK_EXT_ENCRYPTED) != 0 ? EK_FILE_ENCRYPTED : 0) |
                 (walk->is_copy || walk->state == EK_EXT_PAST_UNSURE ? EK_FILE_GUESSED : 0),
        .size = inode.size,
        .created = inode.created,
        .modified = inode.modified,
        .accessed = inode.accessed,
        .attributes = inode.mode,
        .generation = 0,
        .place = at,
    };
    if (file.type == EK_TYPE_FOLDER || file.type == EK_TYPE_SPECIAL)
        file.size = 0;
    restore_size(walk, span, &inode, at, &file);
    if (!walk->sink->file(walk->sink->data, &file))
        return FALSE;
    if (file.type == EK_TYPE_FOLDER) {
        if (walk->opened->blocks != NULL)
            g_hash_table_add(walk->folders, GUINT_TO_POINTER((guint)walk->number));
        return take_folder(walk, span, &inode, at);
    }
    return file.type == EK_TYPE_SPECIAL ||
           ek_ext_extents(&walk->opened->volume, span, &inode, at, pass_extent, walk);
}

static gboolean take_inode(Walk *walk, EkSpan span, EkByte at)
{
    EkOpened *opened = walk->opened;
    EkExtInode inode = ek_ext_inode_read(span);
    g_autofree guint8 *older = NULL;
    if (inode.mode == 0 || !ek_ext_inode_is_possible(&opened->volume, span))
        return TRUE;
    walk->is_deleted = inode.links == 0;
    if (!walk->is_deleted)
        return pass_inode(walk, span, at);
    if (opened->journal != NULL) {
        EkByte copy_at = 0;
        older = ek_ext_journal_find(opened->journal, &opened->volume, span, at, &copy_at);
        if (older != NULL)
            return pass_inode(walk, (EkSpan){older, span.length}, copy_at);
    }
    return pass_inode(walk, span, at);
}

/* Inodes that are read together; one by one where not all of them were read from the drive. */
static gboolean take_window(Walk *walk, guint64 first, guint count, EkByte place, guint8 *window)
{
    const EkExtVolume *volume = &walk->opened->volume;
    gsize bytes = volume->super.inode_bytes;
    EkKnown known = {0};
    gboolean was_read = ek_reader_read(volume->reader, place, window, count * bytes, &known, NULL);
    if (was_read && known.good == count * bytes && ek_bytes_are_zero(window, count * bytes))
        return TRUE;
    EkFolderDamage damage = {.bad_bytes = known.bad,
                             .unread_bytes = was_read ? known.unread : count * bytes};
    if (damage.bad_bytes + damage.unread_bytes > 0 &&
        !walk->sink->damage(walk->sink->data, EK_EXT_ROOT, &damage))
        return FALSE;
    for (guint i = 0; i < count && was_read; i++) {
        EkSpan span = {window + i * bytes, bytes};
        EkByte at = place + i * bytes;
        walk->number = first + i;
        if (known.good < count * bytes && ek_reader_known(volume->reader, at, bytes).good < bytes)
            continue;
        if (!take_inode(walk, span, at))
            return FALSE;
    }
    return TRUE;
}

static gboolean take_group(Walk *walk, guint64 number, guint8 *window)
{
    const EkExtVolume *volume = &walk->opened->volume;
    guint32 bytes = volume->super.inode_bytes;
    guint32 per_group = volume->super.inodes_per_group;
    EkExtGroup group = ek_ext_group(volume, number);
    guint32 from = 0;
    if (volume->is_earlier) {
        from = group.used;
        group.used = per_group;
    }
    walk->used[number] = group.used;
    EkByte table = group.table != 0 ? ek_ext_block_byte(volume, group.table) : EK_UNPLACED;
    if (table == EK_UNPLACED) {
        EkFolderDamage damage = {.unread_bytes = (EkByte)per_group * bytes};
        return walk->sink->damage(walk->sink->data, EK_EXT_ROOT, &damage);
    }
    guint most = WINDOW_BYTES / bytes;
    for (guint32 at = from; at < group.used; at += most) {
        guint count = MIN(most, group.used - at);
        guint64 first = number * per_group + at + 1;
        if (!take_window(walk, first, count, table + (EkByte)at * bytes, window))
            return FALSE;
    }
    return TRUE;
}

/* Inodes whose places are known without any table of groups. */
static gboolean take_inode_run(Walk *walk, const EkExtInodeRun *run, guint8 *window)
{
    guint32 bytes = walk->opened->volume.super.inode_bytes;
    guint most = WINDOW_BYTES / bytes;
    walk->is_copy = run->is_copy;
    for (guint32 at = 0; at < run->count; at += most)
        if (!take_window(walk, run->first + (guint64)at, MIN(most, run->count - at),
                         run->first_byte + (EkByte)at * bytes, window))
            return FALSE;
    return TRUE;
}

static gint by_number(gconstpointer a, gconstpointer b)
{
    guint32 left = *(const guint32 *)a;
    guint32 right = *(const guint32 *)b;
    return left < right ? -1 : left > right;
}

/* Those that folders named beyond what was taken; folders among them may name more. */
static gboolean take_named(Walk *walk, guint8 *window)
{
    const EkExtVolume *volume = &walk->opened->volume;
    g_autoptr(GHashTable) done = g_hash_table_new(g_direct_hash, g_direct_equal);
    for (guint round = 0; walk->named->len > 0 && round < NAMED_ROUNDS; round++) {
        g_autoptr(GArray) now = walk->named;
        walk->named = g_array_new(FALSE, FALSE, sizeof(guint32));
        g_array_sort(now, by_number);
        gboolean fine = TRUE;
        for (guint i = 0; i < now->len && fine; i++) {
            guint32 inode = g_array_index(now, guint32, i);
            guint32 per_group = volume->super.inodes_per_group;
            EkExtGroup group = ek_ext_group(volume, (inode - 1) / per_group);
            EkByte table = group.table != 0 ? ek_ext_block_byte(volume, group.table) : EK_UNPLACED;
            if (table == EK_UNPLACED || !g_hash_table_add(done, GUINT_TO_POINTER(inode)))
                continue;
            EkByte place = table + (EkByte)((inode - 1) % per_group) * volume->super.inode_bytes;
            fine = take_window(walk, inode, 1, place, window);
        }
        if (!fine)
            return FALSE;
    }
    return TRUE;
}

/* A block of entries that begin no folder. */
static gboolean goes_on(const Walk *walk, const EkCheckedBlock *block)
{
    EkSpan first = ek_span_part(block->span, 0, ENTRY_LEAST);
    return block->known.good == block->span.length && holds_entries(walk, block, 0) &&
           !(ek_span_u8(first, 6) == 1 && ek_span_u8(first, 8) == '.');
}

/* Its second entry says which folder it was in. */
static gboolean pass_made_name(Walk *walk, const EkCheckedBlock *block)
{
    guint32 parent = ek_span_le32(block->span, ENTRY_LEAST);
    ek_name_made(walk->text, walk->number);
    EkFileName name = {
        .file = walk->number, .parent = parent, .is_made = TRUE, .text = walk->text->str};
    return parent == walk->number || walk->sink->name(walk->sink->data, &name);
}

/* A folder whose inode is gone: its first block, and those behind it that hold entries. */
static gboolean take_lone_folder(Walk *walk, EkByte place, guint32 number)
{
    const EkExtVolume *volume = &walk->opened->volume;
    guint32 size = volume->super.block_bytes;
    EkCheckedBlock block;
    if (!ek_checked_block_read(&block, volume->reader, place, walk->block, size) ||
        block.known.good < size || !holds_entries(walk, &block, 0))
        return TRUE;
    EkFile file = {.number = number,
                   .type = EK_TYPE_FOLDER,
                   .attributes = EK_EXT_FOLDER | 0755,
                   .place = place};
    walk->number = number;
    walk->is_deleted = FALSE;
    if (!walk->sink->file(walk->sink->data, &file) || !pass_made_name(walk, &block))
        return FALSE;
    for (EkByte seen = size; take_entries(walk, &block); seen += size) {
        place += size;
        if (seen >= FOLDER_BYTES_MOST ||
            !ek_checked_block_read(&block, volume->reader, place, walk->block, size) ||
            !goes_on(walk, &block))
            return TRUE;
    }
    return FALSE;
}

/* Are the inodes that entries name there, and of the type they say? How many; 0: one is not. */
static guint count_agreeing(const Walk *walk, const EkCheckedBlock *block)
{
    static const guint16 types[] = {0, EK_EXT_FILE, EK_EXT_FOLDER};
    const EkExtVolume *volume = &walk->opened->volume;
    guint count = 0;
    gsize step = 0;
    for (gsize at = 0; at + 8 <= block->span.length; at += step) {
        EkSpan entry = ek_span_part(block->span, at, block->span.length - at);
        guint32 number = ek_span_le32(entry, 0);
        guint type = volume->has_types ? ek_span_u8(entry, 7) : 0;
        guint8 data[EK_EXT_INODE_LEAST];
        step = step_at(block, at);
        if (step == 0)
            break;
        if (number == 0 || number == EK_EXT_ROOT || !is_plausible(walk, entry))
            continue;
        EkExtGroup group = ek_ext_group(volume, (number - 1) / volume->super.inodes_per_group);
        EkByte table = group.table != 0 ? ek_ext_block_byte(volume, group.table) : EK_UNPLACED;
        EkByte inside =
            (EkByte)((number - 1) % volume->super.inodes_per_group) * volume->super.inode_bytes;
        if (table == EK_UNPLACED ||
            ek_presence_read(volume->reader, table + inside, data, sizeof data) != EK_PRESENT)
            continue;
        EkExtInode inode = ek_ext_inode_read((EkSpan){data, sizeof data});
        if (inode.links == 0 ||
            (type > 0 && type < G_N_ELEMENTS(types) && (inode.mode & EK_EXT_TYPE) != types[type]))
            return 0;
        count++;
    }
    return count;
}

/* Any volume has a root folder, also one in a disk image: it is this one's where its entries name
 * inodes of this one, and most of all. NULL: none is. */
static const EkRecordRun *find_root(Walk *walk)
{
    const EkExtVolume *volume = &walk->opened->volume;
    const GArray *blocks = walk->opened->blocks;
    const EkRecordRun *best = NULL;
    guint most = 0;
    for (guint i = 0; i < blocks->len; i++) {
        const EkRecordRun *run = &g_array_index(blocks, EkRecordRun, i);
        EkCheckedBlock block;
        if (run->stride != EK_EXT_SEEN_ROOT ||
            !ek_checked_block_read(&block, volume->reader, run->first_byte, walk->block,
                                   volume->super.block_bytes) ||
            block.known.good < volume->super.block_bytes)
            continue;
        guint count = count_agreeing(walk, &block);
        if (count > most) {
            most = count;
            best = run;
        }
    }
    return best;
}

/* Of several blocks that call themselves one folder's, the first counts. */
static gboolean take_lone_folders(Walk *walk)
{
    const EkExtVolume *volume = &walk->opened->volume;
    const GArray *blocks = walk->opened->blocks;
    gboolean fine = TRUE;
    const EkRecordRun *root = blocks != NULL ? find_root(walk) : NULL;
    for (guint i = 0; blocks != NULL && i < blocks->len && fine; i++) {
        const EkRecordRun *run = &g_array_index(blocks, EkRecordRun, i);
        EkByte inside = run->first_byte - volume->first_byte;
        if (run->stride == EK_EXT_SEEN_ROOT && run != root)
            continue;
        if (run->first_byte >= volume->first_byte && inside % volume->super.block_bytes == 0 &&
            run->first_record <= volume->super.inodes &&
            g_hash_table_add(walk->folders, GUINT_TO_POINTER((guint)run->first_record)))
            fine = take_lone_folder(walk, run->first_byte, (guint32)run->first_record);
    }
    return fine;
}

gboolean ek_ext_walk(EkOpened *opened, guint64 from, const EkFileSink *sink)
{
    const EkExtSuper *super = &opened->volume.super;
    g_autofree guint8 *window = g_malloc(WINDOW_BYTES);
    g_autofree guint8 *block = g_malloc(super->block_bytes);
    g_autoptr(GString) text = g_string_new(NULL);
    g_autoptr(GHashTable) folders = g_hash_table_new(g_direct_hash, g_direct_equal);
    Walk walk = {.opened = opened, .sink = sink, .text = text, .block = block, .folders = folders};
    opened->volume.steps = super->blocks;
    /* Each takes some room, whatever the superblock says. */
    guint64 groups =
        MIN(super->groups, ek_reader_bytes(opened->volume.reader) / super->block_bytes + 1);
    g_autofree guint32 *used = g_new(guint32, (gsize)groups);
    memset(used, 0xff, (gsize)groups * sizeof *used);
    walk.used = used;
    const GArray *runs = opened->runs;
    /* Of runs none names what is beyond them. */
    walk.groups = runs == NULL ? groups : 0;
    walk.named = g_array_new(FALSE, FALSE, sizeof(guint32));
    gboolean fine = TRUE;
    for (guint64 i = from; runs != NULL && i < runs->len && fine; i++)
        fine = take_inode_run(&walk, &g_array_index(runs, EkExtInodeRun, i), window) &&
               sink->mark(sink->data, i + 1, i + 1, runs->len);
    for (guint64 group = from; runs == NULL && group < groups && fine; group++)
        /* Where inodes are still to come that were named, a walk cannot go on from there. */
        fine = take_group(&walk, group, window) &&
               sink->mark(sink->data, walk.named->len == 0 ? group + 1 : 0, group + 1, groups);
    fine = fine && take_named(&walk, window) && (from > 0 || take_lone_folders(&walk));
    g_array_unref(walk.named);
    return fine;
}
