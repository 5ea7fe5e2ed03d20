/* SPDX-License-Identifier: MIT */
/* Files and folders of an NTFS volume whose records are gone: folders of which the records are
 * there, blocks of indexes that a hunt saw, the journal of changes and the log name them. */
#include "volume/ntfs/index.h"

#include <string.h>

#define OWN_RECORDS 24u
#define NAMED_MOST (1u << 22) /* kept in mind */
#define BLOCKS_MOST (1u << 20)
#define JOURNAL_MOST ((EkByte)1 << 30) /* of the journal, or the log, that is read */
#define LOG_RECORD 2u

typedef struct {
    const EkNtfsTable *table;
    const EkFileSink *sink;
    gboolean with_deleted;
    GString *text;
    guint8 *record;     /* for others than the one that is looked at */
    guint8 *block;      /* of an index, or a page */
    GHashTable *passed; /* numbers of files to whether they were handed on as there */
    GHashTable *logged; /* numbers (guint64) to when the log last says something of them */
} Naming;

static gboolean pass_file(const Naming *naming, const EkNtfsEntry *entry, guint64 number)
{
    gboolean is_folder = (entry->named.attributes & EK_NTFS_IS_FOLDER) != 0;
    EkFile file = {
        .number = number,
        .type = is_folder ? EK_TYPE_FOLDER : EK_TYPE_FILE,
        .flags = EK_FILE_NAMED | (entry->is_deleted ? EK_FILE_DELETED : 0),
        .size = is_folder ? 0 : MIN(entry->named.size, G_MAXINT64),
        .created = entry->named.created,
        .modified = entry->named.modified,
        .accessed = entry->named.accessed,
        .attributes = entry->named.attributes,
        .generation = (guint32)(entry->file >> 48),
    };
    EkExtent extent = {.bytes = file.size, .first_byte = EK_UNPLACED};
    return naming->sink->file(naming->sink->data, &file) &&
           (file.size == 0 || naming->sink->extent(naming->sink->data, number, &extent));
}

static gboolean pass_name(const Naming *naming, const EkNtfsEntry *entry, guint64 number)
{
    g_string_truncate(naming->text, 0);
    gboolean escaped = ek_name_utf16(naming->text, entry->named.units, FALSE);
    EkFileName name = {
        .file = number,
        .parent = entry->named.parent & EK_NTFS_NUMBER,
        .parent_generation = (guint32)(entry->named.parent >> 48),
        .is_deleted = entry->is_deleted,
        .text = naming->text->str,
        .bytes = escaped ? entry->named.units.data : NULL,
        .length = escaped ? entry->named.units.length : 0,
    };
    return naming->sink->name(naming->sink->data, &name);
}

gboolean ek_ntfs_pass_named(const EkNtfsTable *table, guint64 number, EkSpan record,
                            const EkFileSink *sink)
{
    g_autoptr(GString) text = g_string_new(NULL);
    Naming naming = {.table = table, .sink = sink, .text = text};
    EkNtfsRecord header;
    EkNtfsAttribute attribute;
    gboolean is_first = TRUE;
    ek_ntfs_record_read(record, &header);
    for (gsize at = 0; ek_ntfs_attribute_next(record, &at, &attribute);) {
        EkNtfsEntry entry = {.file = number | (guint64)header.generation << 48,
                             .is_deleted = !header.is_in_use};
        if (attribute.type != EK_NTFS_NAME || !attribute.is_resident ||
            !ek_ntfs_name_read(attribute.content, &entry.named) || entry.named.is_short)
            continue;
        if ((is_first && !pass_file(&naming, &entry, number)) ||
            !pass_name(&naming, &entry, number))
            return FALSE;
        is_first = FALSE;
    }
    return TRUE;
}

/* What is left of its record was handed on already. */
static gboolean has_name_in_part(const Naming *naming, guint64 number)
{
    gboolean is_torn = FALSE;
    if (!ek_ntfs_table_read_part(naming->table, number, naming->record, &is_torn))
        return FALSE;
    EkSpan record = {naming->record, naming->table->boot.record_bytes};
    EkNtfsAttribute name = ek_ntfs_attribute_of(record, EK_NTFS_NAME);
    return ek_ntfs_attribute_exists(&name);
}

/* Only what has no record any more: one that stands under its number has a name of its own. Of
 * several names of one the first counts, and one that is there more than one that was deleted. */
static gboolean take_entry(void *data, const EkNtfsEntry *entry)
{
    Naming *naming = data;
    guint64 number = entry->file & EK_NTFS_NUMBER;
    gboolean is_folder = (entry->named.attributes & EK_NTFS_IS_FOLDER) != 0;
    if (number < OWN_RECORDS || number > G_MAXUINT32 || entry->named.is_short ||
        (entry->named.parent & EK_NTFS_NUMBER) == number ||
        (entry->is_deleted && !naming->with_deleted && !is_folder))
        return TRUE;
    gpointer key = GUINT_TO_POINTER((guint)number);
    gpointer known = NULL;
    if (g_hash_table_lookup_extended(naming->passed, key, NULL, &known) &&
        (known != NULL || entry->is_deleted))
        return TRUE;
    if (g_hash_table_size(naming->passed) >= NAMED_MOST ||
        ek_ntfs_table_read(naming->table, number, naming->record) == EK_NTFS_FOUND ||
        has_name_in_part(naming, number))
        return TRUE;
    g_hash_table_insert(naming->passed, key, GUINT_TO_POINTER(entry->is_deleted ? 0 : 1));
    return pass_file(naming, entry, number) && pass_name(naming, entry, number);
}

/* --- where they stand ----------------------------------------------------------------------- */

static gboolean read_block(const Naming *naming, EkByte place, gsize length)
{
    EkKnown known;
    return ek_reader_read(naming->table->reader, place, naming->block, length, &known, NULL) &&
           known.good == length;
}

static gboolean take_blocks(Naming *naming, const EkNtfsFragment *fragment)
{
    guint32 bytes = naming->table->boot.index_bytes;
    guint32 size = naming->table->boot.cluster_bytes;
    guint64 blocks = MIN(fragment->clusters, BLOCKS_MOST) * size / bytes;
    EkByte place = ek_ntfs_place(naming->table, fragment->first);
    if (fragment->first == EK_NTFS_HOLE || place == EK_UNPLACED)
        return TRUE;
    for (guint64 i = 0; i < blocks; i++)
        if (read_block(naming, place + i * bytes, bytes) &&
            !ek_ntfs_index_block(naming->block, bytes, take_entry, naming))
            return FALSE;
    return TRUE;
}

static gboolean take_allocation(Naming *naming, EkSpan record)
{
    EkNtfsAttribute index = ek_ntfs_attribute_named(record, EK_NTFS_INDEX, "$I30");
    g_autoptr(GArray) fragments = g_array_new(FALSE, FALSE, sizeof(EkNtfsFragment));
    if (!ek_ntfs_attribute_exists(&index) || index.is_resident)
        return TRUE;
    ek_ntfs_add_runs(&index, fragments);
    for (guint i = 0; i < fragments->len; i++)
        if (!take_blocks(naming, &g_array_index(fragments, EkNtfsFragment, i)))
            return FALSE;
    return TRUE;
}

static gboolean take_folder(Naming *naming, guint64 number, EkSpan record)
{
    EkNtfsAttribute root = ek_ntfs_attribute_named(record, EK_NTFS_INDEX_ROOT, "$I30");
    if (ek_ntfs_attribute_exists(&root) && !ek_ntfs_index_root(root.content, take_entry, naming))
        return FALSE;
    if (!take_allocation(naming, record))
        return FALSE;
    g_autoptr(GArray) others =
        ek_ntfs_list_records(naming->table, record, number, EK_NTFS_INDEX, NULL);
    guint32 bytes = naming->table->boot.record_bytes;
    g_autofree guint8 *further = g_malloc(bytes);
    for (guint i = 0; i < others->len; i++) {
        guint64 other = g_array_index(others, guint64, i);
        if (ek_ntfs_table_read(naming->table, other, further) == EK_NTFS_FOUND &&
            !take_allocation(naming, (EkSpan){further, bytes}))
            return FALSE;
    }
    return TRUE;
}

/* Receives a page; FALSE to stop. */
typedef gboolean (*PageSink)(Naming *naming, guint8 *page);

static gboolean take_changes_page(Naming *naming, guint8 *page)
{
    return ek_ntfs_changes_page((EkSpan){page, EK_NTFS_PAGE}, take_entry, naming);
}

/* Hands on the pages of a stream, the last fragment first: the older part of a journal is a hole.
 */
static gboolean take_pages(Naming *naming, const EkNtfsStream *stream, PageSink sink)
{
    guint32 size = naming->table->boot.cluster_bytes;
    EkByte done = 0;
    for (guint i = stream->fragments->len; i > 0 && done < JOURNAL_MOST; i--) {
        const EkNtfsFragment *fragment = &g_array_index(stream->fragments, EkNtfsFragment, i - 1);
        EkByte place = ek_ntfs_place(naming->table, fragment->first);
        if (fragment->first == EK_NTFS_HOLE || place == EK_UNPLACED)
            continue;
        EkByte bytes = MIN(fragment->clusters, JOURNAL_MOST / size) * size;
        for (EkByte at = 0; at + EK_NTFS_PAGE <= bytes; at += EK_NTFS_PAGE)
            /* What was not read is not asked for: there is more that matters. */
            if (ek_reader_known(naming->table->reader, place + at, EK_NTFS_PAGE).good ==
                    EK_NTFS_PAGE &&
                read_block(naming, place + at, EK_NTFS_PAGE) && !sink(naming, naming->block))
                return FALSE;
        done += bytes;
    }
    return TRUE;
}

/* The journal is a stream called $J. */
static gboolean take_streams(Naming *naming, guint64 number, EkSpan record)
{
    static const guint8 name[] = {'$', 0, 'J', 0};
    EkNtfsAttribute first = ek_ntfs_attribute_named(record, EK_NTFS_DATA, "$J");
    EkNtfsAttribute list = ek_ntfs_attribute_of(record, EK_NTFS_LIST);
    if (!ek_ntfs_attribute_exists(&first) && !ek_ntfs_attribute_exists(&list))
        return TRUE;
    g_autoptr(EkNtfsFile) file = ek_ntfs_file_gather(naming->table, number, record);
    for (guint i = 0; file != NULL && i < file->streams->len; i++) {
        const EkNtfsStream *stream = file->streams->pdata[i];
        if (stream->name_bytes == sizeof name && memcmp(stream->name, name, sizeof name) == 0 &&
            !take_pages(naming, stream, take_changes_page))
            return FALSE;
    }
    return TRUE;
}

/* --- the log -------------------------------------------------------------------------------- */

/* The log has several states of one file: the last one counts. */
static gboolean note_logged(void *data, const EkNtfsEntry *entry)
{
    Naming *naming = data;
    guint64 number = entry->file & EK_NTFS_NUMBER;
    guint64 *latest = g_hash_table_lookup(naming->logged, &number);
    if (latest != NULL)
        *latest = MAX(*latest, entry->logged);
    else if (g_hash_table_size(naming->logged) < NAMED_MOST) {
        guint64 *pair = g_new(guint64, 2);
        pair[0] = entry->logged;
        pair[1] = number;
        g_hash_table_insert(naming->logged, pair + 1, pair);
    }
    return TRUE;
}

static gboolean take_logged(void *data, const EkNtfsEntry *entry)
{
    const Naming *naming = data;
    guint64 number = entry->file & EK_NTFS_NUMBER;
    const guint64 *latest = g_hash_table_lookup(naming->logged, &number);
    return latest == NULL || *latest != entry->logged || take_entry(data, entry);
}

static gboolean note_log_page(Naming *naming, guint8 *page)
{
    return ek_ntfs_log_page(page, EK_NTFS_PAGE, note_logged, naming);
}

static gboolean take_log_page(Naming *naming, guint8 *page)
{
    return ek_ntfs_log_page(page, EK_NTFS_PAGE, take_logged, naming);
}

/* It is the last to be asked: what it names may have been renamed since. */
static gboolean take_log(Naming *naming)
{
    guint32 bytes = naming->table->boot.record_bytes;
    g_autofree guint8 *record = g_malloc(bytes);
    if (ek_ntfs_table_read(naming->table, LOG_RECORD, record) != EK_NTFS_FOUND)
        return TRUE;
    g_autoptr(EkNtfsFile) file =
        ek_ntfs_file_gather(naming->table, LOG_RECORD, (EkSpan){record, bytes});
    const EkNtfsStream *stream =
        file != NULL && file->streams->len > 0 ? file->streams->pdata[0] : NULL;
    return stream == NULL || stream->name_bytes != 0 ||
           (take_pages(naming, stream, note_log_page) && take_pages(naming, stream, take_log_page));
}

static gboolean take_record(Naming *naming, guint64 number, EkSpan record)
{
    EkNtfsRecord header;
    if (!ek_ntfs_record_read(record, &header) || (header.base & EK_NTFS_NUMBER) != 0)
        return TRUE;
    return header.is_folder ? take_folder(naming, number, record)
                            : take_streams(naming, number, record);
}

/* Blocks of indexes whose folders may have no record. */
static gboolean take_seen(Naming *naming)
{
    const GArray *seen = naming->table->indexes;
    guint32 bytes = naming->table->boot.index_bytes;
    for (guint i = 0; seen != NULL && i < seen->len; i++)
        if (read_block(naming, g_array_index(seen, EkByte, i), bytes) &&
            !ek_ntfs_index_block(naming->block, bytes, take_entry, naming))
            return FALSE;
    return TRUE;
}

gboolean ek_ntfs_walk_named(const EkNtfsTable *table, gboolean with_deleted, const EkFileSink *sink)
{
    guint32 bytes = table->boot.record_bytes;
    g_autofree guint8 *record = g_malloc(bytes);
    g_autofree guint8 *other = g_malloc(bytes);
    g_autofree guint8 *block = g_malloc(MAX(table->boot.index_bytes, EK_NTFS_PAGE));
    g_autoptr(GString) text = g_string_new(NULL);
    g_autoptr(GHashTable) passed = g_hash_table_new(NULL, NULL);
    /* What is kept of a number is its sequence number, and the number as the key. */
    g_autoptr(GHashTable) logged = g_hash_table_new_full(g_int64_hash, g_int64_equal, NULL, g_free);
    Naming naming = {table, sink, with_deleted, text, other, block, passed, logged};
    const guint64 step = 256;
    if (table->boot.index_bytes < EK_STEP || table->boot.index_bytes % EK_STEP != 0)
        return TRUE;
    for (guint64 at = 0; at < table->records;) {
        at = ek_ntfs_table_next(table, at);
        guint64 end = MIN(at + step, table->records);
        for (; at < end; at++)
            if (ek_ntfs_table_read(table, at, record) == EK_NTFS_FOUND &&
                !take_record(&naming, at, (EkSpan){record, bytes}))
                return FALSE;
        /* What was named already is kept in mind: a walk cannot go on from here. */
        if (!sink->mark(sink->data, 0, table->records + MIN(at, table->records),
                        2 * table->records))
            return FALSE;
    }
    return take_seen(&naming) && take_log(&naming);
}
