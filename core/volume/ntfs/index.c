/* SPDX-License-Identifier: MIT */
/* Entries of folders' indexes, of the journal of changes and of the log, each decoded here and
 * nowhere else. */
#include "volume/ntfs/index.h"

#include <string.h>

#define ROOT_HEADER 16u  /* in an index root */
#define BLOCK_HEADER 24u /* in a block */
#define ENTRY_HEADER 16u /* before the name of an entry */
#define NAME_HEADER 66u  /* before the text of a name */
#define ENTRY_END 2u     /* flag: the last one, without a name */
#define NAMESPACES 4u
#define CHANGE_HEADER 60u /* of a record of version 2 */
#define CHANGE_DELETED 0x200u
#define CHANGE_OLD_NAME 0x1000u
#define CHANGES_STEP 8u
#define FOLDER_OF_CHANGE 0x10u
#define LOG_FIRST 64u      /* where the first operation of a page may begin */
#define LOG_HEADER 48u     /* of an operation */
#define LOG_OPERATION 32u  /* what it says of itself, behind that */
#define LOG_MAKE_RECORD 2u /* operations */
#define LOG_ADD_TO_ROOT 12u
#define LOG_ADD_TO_BLOCK 14u

/* --- indexes -------------------------------------------------------------------------------- */

/* Undoes the update sequence. Returns how much of the block is of one time. */
static gsize fix_up(guint8 *block, gsize length, const char *magic)
{
    EkSpan span = {block, length};
    gsize sequence = ek_span_le16(span, 4);
    gsize steps = (gsize)ek_span_le16(span, 6) - 1;
    guint8 first[2];
    if (!ek_span_equals(span, 0, magic, 4) || steps != length / EK_STEP || sequence < 0x28 ||
        !ek_span_has(span, sequence, (steps + 1) * 2) || (sequence + (steps + 1) * 2) > EK_STEP - 2)
        return 0;
    memcpy(first, block + sequence, sizeof first);
    for (gsize i = 0; i < steps; i++) {
        guint8 *last = block + (i + 1) * EK_STEP - 2;
        if (memcmp(last, first, sizeof first) != 0)
            return i * EK_STEP;
        memcpy(last, block + sequence + (i + 1) * 2, 2);
    }
    return length;
}

/* Decodes the entry at `at`. FALSE when none can be there; *step: how long it is. */
static gboolean read_entry(EkSpan span, gsize at, gsize *step, EkNtfsEntry *entry)
{
    gsize length = ek_span_le16(span, at + 8);
    gsize name = ek_span_le16(span, at + 10);
    *step = length;
    if (length < ENTRY_HEADER || length % 8 != 0 || !ek_span_has(span, at, length) ||
        name < NAME_HEADER + 2 || name > length - ENTRY_HEADER)
        return FALSE;
    EkSpan content = ek_span_part(span, at + ENTRY_HEADER, name);
    entry->file = ek_span_le64(span, at);
    return ek_ntfs_name_read(content, &entry->named) &&
           NAME_HEADER + entry->named.units.length == name &&
           ek_span_u8(content, NAME_HEADER - 1) < NAMESPACES;
}

/* What stands behind the last entry is older: it counts where all of it is likely. */
static gboolean pass_older(EkSpan span, gsize from, EkNtfsEntrySink sink, void *data)
{
    for (gsize at = (from + 7) / 8 * 8; at + ENTRY_HEADER + NAME_HEADER < span.length;) {
        EkNtfsEntry entry = {.is_deleted = TRUE};
        gsize step = 0;
        if (!read_entry(span, at, &step, &entry) || !entry.named.created.is_set ||
            !entry.named.modified.is_set) {
            at += 8;
            continue;
        }
        if (!sink(data, &entry))
            return FALSE;
        at += step;
    }
    return TRUE;
}

/* `span` begins with the header of the index. */
static gboolean pass_entries(EkSpan span, EkNtfsEntrySink sink, void *data)
{
    gsize at = ek_span_le32(span, 0);
    gsize used = MIN(ek_span_le32(span, 4), span.length);
    while (at + ENTRY_HEADER <= used) {
        EkNtfsEntry entry = {.is_deleted = FALSE};
        gsize step = 0;
        gboolean is_last = (ek_span_le16(span, at + 12) & ENTRY_END) != 0;
        gboolean is_one = read_entry(span, at, &step, &entry);
        if (is_one && !is_last && !sink(data, &entry))
            return FALSE;
        if (is_last || step < ENTRY_HEADER)
            break;
        at += step;
    }
    return pass_older(span, MAX(at, used), sink, data);
}

gboolean ek_ntfs_index_block(guint8 *block, gsize length, EkNtfsEntrySink sink, void *data)
{
    gsize known = fix_up(block, length, "INDX");
    return known <= BLOCK_HEADER ||
           pass_entries(ek_span_part((EkSpan){block, known}, BLOCK_HEADER, known - BLOCK_HEADER),
                        sink, data);
}

gboolean ek_ntfs_index_root(EkSpan root, EkNtfsEntrySink sink, void *data)
{
    return root.length <= ROOT_HEADER ||
           pass_entries(ek_span_part(root, ROOT_HEADER, root.length - ROOT_HEADER), sink, data);
}

/* --- changes -------------------------------------------------------------------------------- */

static gboolean read_change(EkSpan record, EkNtfsEntry *entry)
{
    gsize bytes = ek_span_le16(record, 56);
    gsize place = ek_span_le16(record, 58);
    guint32 reason = ek_span_le32(record, 40);
    if (ek_span_le16(record, 4) != 2 || bytes == 0 || bytes % 2 != 0 || place < CHANGE_HEADER ||
        !ek_span_has(record, place, bytes) || (reason & CHANGE_OLD_NAME) != 0)
        return FALSE;
    *entry = (EkNtfsEntry){
        .file = ek_span_le64(record, 8),
        .named = {.parent = ek_span_le64(record, 16),
                  .modified = ek_timestamp_filetime(ek_span_le64(record, 32)),
                  .attributes =
                      (ek_span_le32(record, 52) & FOLDER_OF_CHANGE) != 0 ? EK_NTFS_IS_FOLDER : 0,
                  .units = ek_span_part(record, place, bytes)},
        .is_deleted = (reason & CHANGE_DELETED) != 0,
    };
    return entry->named.modified.is_set;
}

gboolean ek_ntfs_changes_page(EkSpan page, EkNtfsEntrySink sink, void *data)
{
    for (gsize at = 0; at + CHANGE_HEADER <= page.length;) {
        gsize length = ek_span_le32(page, at);
        EkNtfsEntry entry;
        if (length < CHANGE_HEADER || length % CHANGES_STEP != 0 ||
            !ek_span_has(page, at, length)) {
            at += CHANGES_STEP;
            continue;
        }
        if (read_change(ek_span_part(page, at, length), &entry) && !sink(data, &entry))
            return FALSE;
        at += length;
    }
    return TRUE;
}

/* --- the log -------------------------------------------------------------------------------- */

/* Does an operation begin there? The lowest bits of its sequence number are its place in the file.
 */
static gboolean begins_operation(EkSpan page, gsize at)
{
    guint64 sequence = ek_span_le64(page, at);
    guint32 length = ek_span_le32(page, at + 24);
    return sequence != 0 && (sequence * 8) % EK_NTFS_PAGE == at &&
           ek_span_le32(page, at + 32) == 1 && length >= LOG_OPERATION && length % 8 == 0;
}

/* A record as it was made, which is not in its sectors yet. */
static gboolean pass_record(EkSpan record, guint64 sequence, EkNtfsEntrySink sink, void *data)
{
    EkNtfsRecord header;
    gsize at = 0;
    EkNtfsAttribute attribute;
    if (!ek_ntfs_record_read(record, &header) || !header.is_in_use ||
        header.number == G_MAXUINT32 || (header.base & EK_NTFS_NUMBER) != 0)
        return TRUE;
    while (ek_ntfs_attribute_next(record, &at, &attribute)) {
        EkNtfsEntry entry = {.file = header.number | (guint64)header.generation << 48,
                             .logged = sequence};
        if (attribute.type == EK_NTFS_NAME && attribute.is_resident &&
            ek_ntfs_name_read(attribute.content, &entry.named) && !sink(data, &entry))
            return FALSE;
    }
    return TRUE;
}

/* What is done, or what would undo it: that has the same form, and what it adds was taken out. */
static gboolean pass_operation(EkSpan page, gsize at, gboolean is_undo, EkNtfsEntrySink sink,
                               void *data)
{
    EkSpan all = ek_span_part(page, at + LOG_HEADER, ek_span_le32(page, at + 24));
    gsize of = is_undo ? 2 : 0;
    guint operation = ek_span_le16(all, of);
    gsize first = ek_span_le16(all, 4 + 2 * of);
    gsize length = ek_span_le16(all, 6 + 2 * of);
    EkNtfsEntry entry = {.is_deleted = is_undo, .logged = ek_span_le64(page, at)};
    gsize step = 0;
    if (first < LOG_OPERATION || !ek_span_has(all, first, length))
        return TRUE;
    EkSpan content = ek_span_part(all, first, length);
    if (operation == LOG_MAKE_RECORD && !is_undo)
        return pass_record(content, entry.logged, sink, data);
    if (operation != LOG_ADD_TO_ROOT && operation != LOG_ADD_TO_BLOCK)
        return TRUE;
    return !read_entry(content, 0, &step, &entry) || sink(data, &entry);
}

gboolean ek_ntfs_log_page(guint8 *page, gsize length, EkNtfsEntrySink sink, void *data)
{
    EkSpan span = {page, length == EK_NTFS_PAGE ? fix_up(page, length, "RCRD") : 0};
    for (gsize at = LOG_FIRST; at + LOG_HEADER + LOG_OPERATION <= span.length; at += 8)
        if (begins_operation(span, at) && (!pass_operation(span, at, FALSE, sink, data) ||
                                           !pass_operation(span, at, TRUE, sink, data)))
            return FALSE;
    return TRUE;
}
