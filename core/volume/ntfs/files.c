/* SPDX-License-Identifier: MIT */
/* Files of an NTFS volume: one pass over the file table. Names, dates and the places of content all
 * stand in a file's records; the folders' own indices are not needed. Records that are no longer in
 * use tell of deleted files. What it distrusts: runs, which may lead outside or leave gaps, lists
 * of attributes, which may name anything, sizes. Where a packed unit is damaged it is lost as a
 * whole. */
#include "volume/ntfs/index.h"
#include "volume/ntfs/lznt.h"

#include <string.h>

#define WINDOW_BYTES (256u << 10)
#define ROOT 5u
#define EXTEND 11u
#define OWN_RECORDS 24u /* kept by the format for itself */
#define TAG_LINK 0xa000000cu
#define TAG_MOUNT 0xa0000003u
#define TAG_UNIX_LINK 0xa000001du
#define TAG_SYSTEM_PACKED 0x80000017u
#define TAG_DEDUPLICATED 0x80000013u

struct EkOpened {
    EkNtfsTable table;
    gboolean with_lost; /* what is known by name only is asked for */
};

EkOpened *ek_ntfs_open(EkReader *reader, const EkVolume *volume, GError **error)
{
    EkOpened *opened = g_new0(EkOpened, 1);
    opened->with_lost = volume->with_lost;
    if (ek_ntfs_table_open(&opened->table, reader, volume))
        return opened;
    g_free(opened);
    ek_error_set(error, EK_ERROR_DAMAGED, "the saved boot sector is invalid");
    return NULL;
}

void ek_ntfs_close(EkOpened *opened)
{
    ek_ntfs_table_close(&opened->table);
    g_free(opened);
}

gboolean ek_ntfs_lacks(EkOpened *opened)
{
    return ek_ntfs_table_lacks(&opened->table);
}

gboolean ek_ntfs_adopt(EkOpened *opened, const GArray *runs, GError **error)
{
    ek_ntfs_table_adopt(&opened->table, runs);
    return opened->table.fragments->len > 0 ||
           ek_error_set(
               error, EK_ERROR_DAMAGED,
               "cannot locate the $MFT: neither $MFT, $MFTMirr nor any file record is readable");
}

void ek_ntfs_own_records(EkOpened *opened, GArray *ranges)
{
    ek_ntfs_table_ranges(&opened->table, ranges);
}

guint64 ek_ntfs_root(EkOpened *opened)
{
    (void)opened;
    return ROOT;
}

/* --- content -------------------------------------------------------------------------------- */

typedef struct {
    const EkNtfsTable *table;
    const EkNtfsStream *stream;
    const EkFileSink *sink;
    guint64 file;
    EkByte limit; /* bytes of the stream that are not zeros by decree */
} Placing;

static gboolean pass(const Placing *placing, EkByte offset, EkByte bytes, EkByte place,
                     EkByte stored, gboolean is_packed)
{
    EkExtent extent = {offset, bytes, place, stored, is_packed, placing->stream->resident != NULL,
                       0};
    return placing->sink->extent(placing->sink->data, placing->file, &extent);
}

/* A stretch of clusters, cut to what the stream has of it. */
static gboolean pass_plain(const Placing *placing, guint64 at, guint64 clusters, guint64 first)
{
    guint32 size = placing->table->boot.cluster_bytes;
    EkByte offset = at * size;
    if (offset >= placing->limit || first == EK_NTFS_HOLE)
        return TRUE;
    EkByte bytes = MIN(clusters * size, placing->limit - offset);
    EkByte place = ek_ntfs_place(placing->table, first);
    return pass(placing, offset, bytes, place, place != EK_UNPLACED ? bytes : 0, FALSE);
}

/* What no fragment tells of is lost, up to where the content ends. */
static gboolean pass_gap(const Placing *placing, guint64 from, guint64 to)
{
    guint32 size = placing->table->boot.cluster_bytes;
    EkByte offset = from * size;
    EkByte end = MIN(to * size, placing->limit);
    return offset >= end || pass(placing, offset, end - offset, EK_UNPLACED, 0, FALSE);
}

/* The parts of the fragments that fall into a packed unit: how many clusters really hold something.
 */
static guint64 count_stored(const GArray *fragments, guint from, guint64 unit, guint clusters)
{
    guint64 stored = 0;
    for (guint i = from; i < fragments->len; i++) {
        const EkNtfsFragment *fragment = &g_array_index(fragments, EkNtfsFragment, i);
        if (fragment->at >= unit + clusters)
            break;
        guint64 begin = MAX(fragment->at, unit);
        guint64 end = MIN(fragment->at + fragment->clusters, unit + clusters);
        stored += fragment->first != EK_NTFS_HOLE && end > begin ? end - begin : 0;
    }
    return stored;
}

static gboolean pass_packed(const Placing *placing)
{
    const GArray *fragments = placing->stream->fragments;
    guint32 size = placing->table->boot.cluster_bytes;
    guint clusters = placing->stream->unit;
    guint64 volume = ek_ntfs_boot_bytes(&placing->table->boot) / size;
    for (guint i = 0; i < fragments->len; i++) {
        const EkNtfsFragment *fragment = &g_array_index(fragments, EkNtfsFragment, i);
        guint64 end = fragment->at + fragment->clusters;
        /* What cannot be there is not gone through unit by unit. */
        if (fragment->first != EK_NTFS_HOLE && fragment->clusters > volume) {
            if (!pass_gap(placing, fragment->at, end))
                return FALSE;
            continue;
        }
        for (guint64 at = fragment->at;
             at < end && at * size < placing->limit && fragment->first != EK_NTFS_HOLE;) {
            guint64 unit = at / clusters * clusters;
            guint64 part = MIN(end, unit + clusters) - at;
            guint from = i;
            while (from > 0 && g_array_index(fragments, EkNtfsFragment, from - 1).at +
                                       g_array_index(fragments, EkNtfsFragment, from - 1).clusters >
                                   unit)
                from--;
            gboolean fine;
            if (count_stored(fragments, from, unit, clusters) >= clusters) {
                fine = pass_plain(placing, at, part, fragment->first + (at - fragment->at));
            } else {
                EkByte place = ek_ntfs_place(placing->table, fragment->first + (at - fragment->at));
                EkByte bytes = MIN((EkByte)clusters * size, placing->limit - unit * size);
                fine = pass(placing, unit * size, bytes, place,
                            place != EK_UNPLACED ? part * size : 0, TRUE);
            }
            if (!fine)
                return FALSE;
            at += part;
        }
    }
    return TRUE;
}

static gboolean pass_extents(const Placing *placing)
{
    const EkNtfsStream *stream = placing->stream;
    if (stream->resident != NULL)
        return pass(placing, 0, stream->size, stream->place,
                    stream->place != EK_UNPLACED ? stream->size : 0, FALSE);
    guint64 next = 0;
    for (guint i = 0; i < stream->fragments->len; i++) {
        const EkNtfsFragment *fragment = &g_array_index(stream->fragments, EkNtfsFragment, i);
        if (fragment->at > next && !pass_gap(placing, next, fragment->at))
            return FALSE;
        if (stream->unit == 0 && fragment->at >= next &&
            !pass_plain(placing, fragment->at, fragment->clusters, fragment->first))
            return FALSE;
        next = MAX(next, fragment->at + fragment->clusters);
    }
    guint64 last = ek_divide_up(placing->limit, placing->table->boot.cluster_bytes);
    return (next >= last || pass_gap(placing, next, last)) &&
           (stream->unit == 0 || pass_packed(placing));
}

static gboolean is_encoded(const EkNtfsStream *stream)
{
    return stream->unit != 0 || (stream->resident != NULL && !stream->is_plain);
}

/* --- the walk ------------------------------------------------------------------------------- */

typedef struct {
    EkOpened *opened;
    const EkFileSink *sink;
    GString *text;
    EkFolderDamage damage; /* of the table */
    gboolean has_gone;     /* records that were there, or may have been */
} Walk;

static gboolean pass_stream(Walk *walk, const EkNtfsStream *stream, const EkFile *file,
                            gboolean is_opaque)
{
    Placing placing = {&walk->opened->table, stream, walk->sink, file->number, stream->valid};
    /* What a program before the file system unpacks is not here. */
    if (is_opaque || (stream->resident == NULL && placing.table->is_unproved))
        return file->size == 0 || pass(&placing, 0, file->size, EK_UNPLACED, 0, FALSE);
    return pass_extents(&placing);
}

static EkFileType type_of(const EkNtfsFile *file)
{
    if (file->reparse_tag == TAG_LINK || file->reparse_tag == TAG_MOUNT ||
        file->reparse_tag == TAG_UNIX_LINK)
        return EK_TYPE_LINK;
    return file->is_folder ? EK_TYPE_FOLDER : EK_TYPE_FILE;
}

static gboolean is_own(const EkNtfsFile *file, guint64 number)
{
    const EkNtfsName *name = file->names->len > 0 ? file->names->pdata[0] : NULL;
    return number != ROOT && (number < OWN_RECORDS || (name != NULL && name->parent == EXTEND));
}

static gboolean pass_names(Walk *walk, const EkNtfsFile *gathered, const EkFile *file)
{
    gboolean has_long = FALSE;
    for (guint i = 0; i < gathered->names->len; i++)
        has_long |= !((const EkNtfsName *)gathered->names->pdata[i])->is_short;
    for (guint i = 0; i < gathered->names->len; i++) {
        const EkNtfsName *own = gathered->names->pdata[i];
        if ((own->is_short && has_long) || own->parent == file->number)
            continue;
        EkSpan units = {own->units, own->bytes};
        g_string_truncate(walk->text, 0);
        gboolean escaped = ek_name_utf16(walk->text, units, FALSE);
        EkFileName name = {
            .file = file->number,
            .parent = own->parent,
            .parent_generation = own->generation,
            .is_deleted = !gathered->is_in_use,
            .text = walk->text->str,
            .bytes = escaped ? units.data : NULL,
            .length = escaped ? units.length : 0,
        };
        if (!walk->sink->name(walk->sink->data, &name))
            return FALSE;
    }
    return TRUE;
}

/* A further stream is called by its file's first name and its own. */
static gboolean pass_further(Walk *walk, const EkNtfsFile *gathered, const EkFile *file,
                             const EkNtfsStream *stream, guint index)
{
    const EkNtfsName *own = gathered->names->len > 0 ? gathered->names->pdata[0] : NULL;
    EkFile further = *file;
    further.number = ek_number_in_tree(index, file->number);
    further.type = EK_TYPE_STREAM;
    further.size = stream->size;
    further.flags &= ~(EK_FILE_ENCODED | EK_FILE_ENCRYPTED | EK_FILE_OPAQUE);
    further.flags |=
        (is_encoded(stream) ? EK_FILE_ENCODED : 0) | (stream->encrypted ? EK_FILE_ENCRYPTED : 0);
    if (!walk->sink->file(walk->sink->data, &further) ||
        !pass_stream(walk, stream, &further, FALSE))
        return FALSE;
    if (own == NULL)
        return TRUE;
    g_string_truncate(walk->text, 0);
    ek_name_utf16(walk->text, (EkSpan){own->units, own->bytes}, FALSE);
    g_string_append_c(walk->text, ':');
    ek_name_utf16(walk->text, (EkSpan){stream->name, stream->name_bytes}, FALSE);
    EkFileName name = {
        .file = further.number,
        .parent = own->parent,
        .parent_generation = own->generation,
        .is_deleted = !gathered->is_in_use,
        .text = walk->text->str,
    };
    return walk->sink->name(walk->sink->data, &name);
}

static gboolean pass_file(Walk *walk, const EkNtfsFile *gathered, guint64 number, guint32 flags)
{
    const EkNtfsStream *content = gathered->streams->len > 0 ? gathered->streams->pdata[0] : NULL;
    gboolean is_opaque =
        gathered->reparse_tag == TAG_SYSTEM_PACKED || gathered->reparse_tag == TAG_DEDUPLICATED;
    if (content != NULL && content->name_bytes > 0)
        content = NULL;
    EkFile file = {
        .number = number,
        .type = type_of(gathered),
        .flags = flags | (gathered->is_in_use ? 0 : EK_FILE_DELETED) |
                 (is_own(gathered, number) ? EK_FILE_OWN : 0) | (is_opaque ? EK_FILE_OPAQUE : 0) |
                 (content != NULL && is_encoded(content) && !is_opaque ? EK_FILE_ENCODED : 0) |
                 (content != NULL && content->encrypted ? EK_FILE_ENCRYPTED : 0),
        .size = content != NULL ? content->size : 0,
        .created = gathered->created,
        .modified = gathered->modified,
        .accessed = gathered->accessed,
        .attributes = gathered->attributes,
        .generation = gathered->generation,
        .place = ek_ntfs_record_place(&walk->opened->table, number),
    };
    if (file.type == EK_TYPE_FOLDER)
        file.size = 0;
    if (!walk->sink->file(walk->sink->data, &file) ||
        (content != NULL && file.type != EK_TYPE_FOLDER &&
         !pass_stream(walk, content, &file, is_opaque)) ||
        !pass_names(walk, gathered, &file))
        return FALSE;
    guint first = content != NULL ? 1 : 0;
    for (guint i = first; i < gathered->streams->len; i++)
        if (!pass_further(walk, gathered, &file, gathered->streams->pdata[i], i - first + 1))
            return FALSE;
    return TRUE;
}

/* A record without its end: what it has of its content it has whole, or its name is all there is.
 */
static gboolean take_part(Walk *walk, guint64 number, guint8 *record)
{
    const EkNtfsTable *table = &walk->opened->table;
    EkSpan span = {record, table->boot.record_bytes};
    gboolean is_torn = FALSE;
    if (!ek_ntfs_table_read_part(table, number, record, &is_torn))
        return TRUE;
    g_autoptr(EkNtfsFile) gathered = ek_ntfs_file_gather(table, number, span);
    const EkNtfsStream *content =
        gathered != NULL && gathered->streams->len > 0 ? gathered->streams->pdata[0] : NULL;
    gboolean has_content = content != NULL && content->name_bytes == 0 && content->is_headed;
    if (gathered == NULL || gathered->names->len == 0 || number < OWN_RECORDS)
        return TRUE;
    if (!has_content && !gathered->is_folder)
        return ek_ntfs_pass_named(table, number, span, walk->sink);
    return pass_file(walk, gathered, number, is_torn ? EK_FILE_GUESSED : 0);
}

static gboolean take_record(Walk *walk, guint64 number, guint8 *record, gboolean was_read,
                            const EkKnown *known)
{
    const EkNtfsTable *table = &walk->opened->table;
    EkNtfsFound found = ek_ntfs_table_take(table, number, record, was_read);
    if (found == EK_NTFS_UNREAD) {
        walk->damage.bad_bytes += known->bad;
        walk->damage.unread_bytes += known->unread;
    }
    /* Those that were ever written are records, in use or not. */
    walk->has_gone |= found == EK_NTFS_UNREAD ||
                      (found != EK_NTFS_FOUND && number >= OWN_RECORDS && number < table->written);
    if (found == EK_NTFS_UNREAD || found == EK_NTFS_BROKEN)
        return take_part(walk, number, record);
    if (found != EK_NTFS_FOUND)
        return TRUE;
    g_autoptr(EkNtfsFile) gathered =
        ek_ntfs_file_gather(table, number, (EkSpan){record, table->boot.record_bytes});
    return gathered == NULL || pass_file(walk, gathered, number, 0);
}

/* Records that are read together; one by one where not all of them were read from the drive. */
static gboolean take_window(Walk *walk, guint64 first, guint64 count, guint8 *window)
{
    const EkNtfsTable *table = &walk->opened->table;
    guint32 bytes = table->boot.record_bytes;
    EkKnown known;
    gboolean whole = ek_ntfs_read_fragments(table, table->fragments, first * bytes, window,
                                            (gsize)(count * bytes), &known) &&
                     known.good == count * bytes;
    for (guint64 i = 0; i < count; i++) {
        guint8 *record = window + i * bytes;
        gboolean was_read = whole;
        EkKnown own = {0};
        if (!whole) {
            memset(record, 0, bytes);
            was_read = ek_ntfs_read_fragments(table, table->fragments, (first + i) * bytes, record,
                                              bytes, &own) &&
                       own.good == bytes;
            if (own.good + own.bad + own.unread == 0)
                own.unread = bytes;
        }
        if (!take_record(walk, first + i, record, was_read, &own))
            return FALSE;
    }
    return TRUE;
}

gboolean ek_ntfs_walk(EkOpened *opened, guint64 from, const EkFileSink *sink)
{
    const EkNtfsTable *table = &opened->table;
    guint64 most = WINDOW_BYTES / table->boot.record_bytes;
    g_autofree guint8 *window = g_malloc(WINDOW_BYTES);
    g_autoptr(GString) text = g_string_new(NULL);
    /* What a walk that goes on has passed is not known any more. */
    Walk walk = {.opened = opened,
                 .sink = sink,
                 .text = text,
                 .has_gone =
                     table->is_guessed || table->is_earlier || opened->with_lost || from > 0};
    /* Names come second, where there are records that are gone. */
    guint64 total = table->records * (walk.has_gone ? 2 : 1);
    EkFolderDamage open_end = {.cut_short = TRUE};
    if (table->is_guessed && from == 0 && !sink->damage(sink->data, ROOT, &open_end))
        return FALSE;
    for (guint64 at = from; at < table->records;) {
        guint64 next = ek_ntfs_table_next(table, at);
        EkFolderDamage gap = {.unread_bytes = (next - at) * table->boot.record_bytes};
        walk.has_gone |= next > at;
        if (next > at && !sink->damage(sink->data, ROOT, &gap))
            return FALSE;
        at = next;
        guint64 count = MIN(most, table->records - at);
        walk.damage = (EkFolderDamage){0};
        if (!take_window(&walk, at, count, window) ||
            (walk.damage.bad_bytes + walk.damage.unread_bytes > 0 &&
             !sink->damage(sink->data, ROOT, &walk.damage)))
            return FALSE;
        at += count;
        if (!sink->mark(sink->data, at, at, total))
            return FALSE;
    }
    return !walk.has_gone || ek_ntfs_walk_named(table, opened->with_lost, sink);
}

/* --- decoding ------------------------------------------------------------------------------- */

typedef struct {
    const EkNtfsTable *table;
    const EkNtfsStream *stream;
    EkContentSink sink;
    void *data;
    guint8 *packed;
    guint8 *unit;
} Decoding;

/* The clusters of a unit that hold something, one after the other. FALSE when one was not read. */
static gboolean read_unit(const Decoding *decoding, guint64 unit, gsize *length)
{
    const GArray *fragments = decoding->stream->fragments;
    guint32 size = decoding->table->boot.cluster_bytes;
    guint clusters = decoding->stream->unit;
    guint64 covered = 0;
    *length = 0;
    for (guint i = 0; i < fragments->len; i++) {
        const EkNtfsFragment *fragment = &g_array_index(fragments, EkNtfsFragment, i);
        guint64 begin = MAX(fragment->at, unit);
        guint64 end = MIN(fragment->at + fragment->clusters, unit + clusters);
        EkKnown known;
        if (end <= begin)
            continue;
        gsize part = (gsize)((end - begin) * size);
        covered += end - begin;
        if (fragment->first == EK_NTFS_HOLE)
            continue;
        EkByte place = ek_ntfs_place(decoding->table, fragment->first + (begin - fragment->at));
        if (place == EK_UNPLACED || *length + part > (gsize)clusters * size ||
            !ek_reader_read(decoding->table->reader, place, decoding->packed + *length, part,
                            &known, NULL) ||
            known.good < part)
            return FALSE;
        *length += part;
    }
    return covered >= clusters;
}

/* Clusters that are kept as they are: only what was not read of them is missing. */
static gboolean decode_plain(const Decoding *decoding, EkByte place, EkByte bytes)
{
    EkReader *reader = decoding->table->reader;
    EkRange inside;
    if (place == EK_UNPLACED || !ek_range_checked(place, bytes, ek_reader_bytes(reader), &inside))
        return decoding->sink(decoding->data, NULL, (gsize)bytes);
    for (EkByte at = place; at < ek_range_end(inside);) {
        EkRange hole = {ek_range_end(inside), 0};
        gboolean bad = FALSE;
        ek_reader_next_hole(reader, at, ek_range_end(inside), &hole, &bad);
        gsize known = (gsize)(hole.first - at);
        if (known > 0 && (!ek_reader_read(reader, at, decoding->packed, known, NULL, NULL) ||
                          !decoding->sink(decoding->data, decoding->packed, known)))
            return FALSE;
        if (hole.bytes > 0 && !decoding->sink(decoding->data, NULL, (gsize)hole.bytes))
            return FALSE;
        at = ek_range_end(hole);
    }
    return TRUE;
}

static gboolean decode_plain_unit(const Decoding *decoding, guint64 unit, gsize wanted)
{
    const GArray *fragments = decoding->stream->fragments;
    guint32 size = decoding->table->boot.cluster_bytes;
    for (guint i = 0; i < fragments->len && wanted > 0; i++) {
        const EkNtfsFragment *fragment = &g_array_index(fragments, EkNtfsFragment, i);
        guint64 begin = MAX(fragment->at, unit);
        guint64 end = MIN(fragment->at + fragment->clusters, unit + decoding->stream->unit);
        if (end <= begin)
            continue;
        gsize bytes = (gsize)MIN((end - begin) * size, wanted);
        if (!decode_plain(decoding,
                          ek_ntfs_place(decoding->table, fragment->first + (begin - fragment->at)),
                          bytes))
            return FALSE;
        wanted -= bytes;
    }
    return TRUE;
}

static gboolean decode_unit(const Decoding *decoding, guint64 unit, gsize wanted)
{
    gsize whole = (gsize)decoding->stream->unit * decoding->table->boot.cluster_bytes;
    gsize length = 0;
    if (count_stored(decoding->stream->fragments, 0, unit, decoding->stream->unit) ==
        decoding->stream->unit)
        return decode_plain_unit(decoding, unit, wanted);
    if (!read_unit(decoding, unit, &length))
        return decoding->sink(decoding->data, NULL, wanted);
    if (length > 0 && !ek_lznt_expand((EkSpan){decoding->packed, length}, decoding->unit, whole))
        return decoding->sink(decoding->data, NULL, wanted);
    if (length == 0)
        memset(decoding->unit, 0, whole);
    return decoding->sink(decoding->data, decoding->unit, wanted);
}

static gboolean decode_packed(const Decoding *decoding)
{
    const EkNtfsStream *stream = decoding->stream;
    gsize whole = (gsize)stream->unit * decoding->table->boot.cluster_bytes;
    for (EkByte at = 0; at < stream->valid; at += whole)
        if (!decode_unit(decoding, at / decoding->table->boot.cluster_bytes,
                         (gsize)MIN(whole, stream->valid - at)))
            return FALSE;
    memset(decoding->unit, 0, whole);
    for (EkByte left = stream->size - stream->valid; left > 0;) {
        gsize part = (gsize)MIN(left, whole);
        if (!decoding->sink(decoding->data, decoding->unit, part))
            return FALSE;
        left -= part;
    }
    return TRUE;
}

gboolean ek_ntfs_decode(EkOpened *opened, const EkFile *file, EkContentSink sink, void *data)
{
    const EkNtfsTable *table = &opened->table;
    guint64 number = ek_number_inside(file->number);
    guint index = ek_number_tree(file->number);
    g_autofree guint8 *record = g_malloc(table->boot.record_bytes);
    g_autoptr(EkNtfsFile) gathered = NULL;
    gboolean is_torn = FALSE;
    if (ek_ntfs_table_read(table, number, record) == EK_NTFS_FOUND ||
        ek_ntfs_table_read_part(table, number, record, &is_torn))
        gathered = ek_ntfs_file_gather(table, number, (EkSpan){record, table->boot.record_bytes});
    const GPtrArray *streams = gathered != NULL ? gathered->streams : NULL;
    guint first = streams != NULL && streams->len > 0 &&
                          ((const EkNtfsStream *)streams->pdata[0])->name_bytes == 0
                      ? 0
                      : 1;
    guint place = index == 0 ? 0 : index - first;
    const EkNtfsStream *stream =
        streams != NULL && place < streams->len && (index > 0 || first == 0) ? streams->pdata[place]
                                                                             : NULL;
    if (stream == NULL || stream->size != file->size)
        return sink(data, NULL, (gsize)file->size);
    if (stream->resident != NULL)
        return sink(data, stream->resident, (gsize)stream->size);
    if (stream->unit == 0)
        return sink(data, NULL, (gsize)file->size);
    gsize whole = (gsize)stream->unit * table->boot.cluster_bytes;
    g_autofree guint8 *packed = g_malloc(whole);
    g_autofree guint8 *unit = g_malloc(whole);
    Decoding decoding = {table, stream, sink, data, packed, unit};
    return decode_packed(&decoding);
}
