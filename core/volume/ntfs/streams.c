/* SPDX-License-Identifier: MIT */
/* What the attributes of a file say, gathered from its record and the further ones it names. */
#include "volume/ntfs/streams.h"

#include <string.h>

#define UNIT_MOST 8u /* the logarithm of clusters */
#define NAMES_MOST 1024u
#define STREAMS_MOST 4096u

static void name_free(gpointer data)
{
    EkNtfsName *name = data;
    g_free(name->units);
    g_free(name);
}

static void stream_free(gpointer data)
{
    EkNtfsStream *stream = data;
    g_free(stream->name);
    g_free(stream->resident);
    g_array_unref(stream->fragments);
    g_free(stream);
}

void ek_ntfs_file_free(EkNtfsFile *file)
{
    g_ptr_array_unref(file->names);
    g_ptr_array_unref(file->streams);
    g_free(file);
}

/* A record while its attributes are gathered. */
typedef struct {
    const EkNtfsTable *table;
    EkNtfsFile *file;
    guint64 number;
    EkSpan record;
} Gathering;

static void take_standard(EkNtfsFile *file, const EkNtfsAttribute *attribute)
{
    EkSpan standard = attribute->content;
    if (standard.length < 36)
        return;
    file->has_standard = TRUE;
    file->created = ek_timestamp_filetime(ek_span_le64(standard, 0));
    file->modified = ek_timestamp_filetime(ek_span_le64(standard, 8));
    file->accessed = ek_timestamp_filetime(ek_span_le64(standard, 24));
    file->attributes = ek_span_le32(standard, 32);
}

static void take_name(EkNtfsFile *file, const EkNtfsAttribute *attribute)
{
    EkNtfsNamed named;
    if (file->names->len >= NAMES_MOST || !ek_ntfs_name_read(attribute->content, &named))
        return;
    EkNtfsName *name = g_new0(EkNtfsName, 1);
    name->parent = named.parent & EK_NTFS_NUMBER;
    name->generation = (guint16)(named.parent >> 48);
    name->is_short = named.is_short;
    name->units = g_memdup2(named.units.data, named.units.length);
    name->bytes = named.units.length;
    g_ptr_array_add(file->names, name);
    /* Dates of the name serve where the record has no others. */
    if (file->has_standard || file->created.is_set)
        return;
    file->created = named.created;
    file->modified = named.modified;
    file->accessed = named.accessed;
}

static EkNtfsStream *stream_of(EkNtfsFile *file, EkSpan name)
{
    for (guint i = 0; i < file->streams->len; i++) {
        EkNtfsStream *stream = file->streams->pdata[i];
        if (stream->name_bytes == name.length &&
            (name.length == 0 || memcmp(stream->name, name.data, name.length) == 0))
            return stream;
    }
    if (file->streams->len >= STREAMS_MOST)
        return NULL;
    EkNtfsStream *stream = g_new0(EkNtfsStream, 1);
    stream->name = g_memdup2(name.data, name.length);
    stream->name_bytes = name.length;
    stream->fragments = g_array_new(FALSE, FALSE, sizeof(EkNtfsFragment));
    g_ptr_array_insert(file->streams, name.length == 0 ? 0 : -1, stream);
    return stream;
}

/* Bytes of a record's content that the update sequence has in its keeping lie elsewhere. */
static gboolean is_untouched(gsize first, gsize length)
{
    gsize last = first + length;
    gsize kept = (first / EK_STEP + 1) * EK_STEP - 2;
    return last <= kept && first % EK_STEP < EK_STEP - 2;
}

static void take_resident(const Gathering *gathering, EkNtfsStream *stream, EkSpan content)
{
    if (stream->resident != NULL || stream->fragments->len > 0)
        return;
    stream->is_headed = TRUE;
    stream->size = stream->valid = content.length;
    if (content.length == 0)
        return;
    gsize offset = (gsize)(content.data - gathering->record.data);
    EkByte record = ek_ntfs_record_place(gathering->table, gathering->number);
    stream->resident = g_memdup2(content.data, content.length);
    stream->place = record != EK_UNPLACED ? record + offset : EK_UNPLACED;
    /* A record may lie in two clusters that are apart. */
    stream->is_plain = is_untouched(offset, content.length) &&
                       gathering->table->boot.cluster_bytes >= gathering->record.length;
}

static void take_data(const Gathering *gathering, const EkNtfsAttribute *attribute)
{
    gsize name_bytes = ek_span_u8(attribute->span, 9) * 2u;
    EkNtfsStream *stream =
        attribute->name.length == name_bytes ? stream_of(gathering->file, attribute->name) : NULL;
    if (stream == NULL)
        return;
    stream->encrypted |= attribute->is_encrypted;
    if (attribute->is_resident) {
        take_resident(gathering, stream, attribute->content);
        return;
    }
    if (attribute->first_cluster == 0) {
        gboolean is_packed =
            attribute->is_packed && attribute->unit > 0 && attribute->unit <= UNIT_MOST;
        stream->is_headed = TRUE;
        stream->size = MIN(attribute->size, G_MAXINT64);
        stream->valid = MIN(attribute->valid, stream->size);
        stream->unit = is_packed ? 1u << attribute->unit : 0;
    }
    ek_ntfs_add_runs(attribute, stream->fragments);
}

static void take_attributes(const Gathering *gathering)
{
    EkNtfsFile *file = gathering->file;
    EkNtfsAttribute attribute;
    for (gsize at = 0; ek_ntfs_attribute_next(gathering->record, &at, &attribute);) {
        switch (attribute.type) {
        case EK_NTFS_STANDARD: take_standard(file, &attribute); break;
        case EK_NTFS_NAME: take_name(file, &attribute); break;
        case EK_NTFS_DATA: take_data(gathering, &attribute); break;
        case EK_NTFS_REPARSE: file->reparse_tag = ek_span_le32(attribute.content, 0); break;
        default: break;
        }
    }
}

/* The further records of a file name it as their own. */
static void take_others(Gathering *gathering)
{
    const EkNtfsTable *table = gathering->table;
    guint32 bytes = table->boot.record_bytes;
    gboolean is_whole = TRUE;
    g_autoptr(GArray) others =
        ek_ntfs_list_records(table, gathering->record, gathering->number, 0, &is_whole);
    guint64 owner = gathering->number | (guint64)gathering->file->generation << 48;
    if (!is_whole)
        ek_ntfs_further_add(table, owner, gathering->file->is_in_use, others);
    g_autofree guint8 *data = g_malloc(bytes);
    guint64 self = gathering->number;
    for (guint i = 0; i < others->len; i++) {
        EkNtfsRecord header;
        Gathering further = *gathering;
        further.number = g_array_index(others, guint64, i);
        further.record = (EkSpan){data, bytes};
        if (ek_ntfs_table_read(table, further.number, data) != EK_NTFS_FOUND ||
            !ek_ntfs_record_read(further.record, &header) ||
            (header.base & EK_NTFS_NUMBER) != self) {
            gathering->file->is_short_of_records = TRUE;
            continue;
        }
        take_attributes(&further);
    }
}

EkNtfsFile *ek_ntfs_file_gather(const EkNtfsTable *table, guint64 number, EkSpan record)
{
    EkNtfsRecord header;
    if (!ek_ntfs_record_read(record, &header) || (header.base & EK_NTFS_NUMBER) != 0)
        return NULL;
    g_autoptr(EkNtfsFile) file = g_new0(EkNtfsFile, 1);
    file->names = g_ptr_array_new_with_free_func(name_free);
    file->streams = g_ptr_array_new_with_free_func(stream_free);
    file->generation = header.generation;
    file->is_in_use = header.is_in_use;
    file->is_folder = header.is_folder;
    Gathering gathering = {table, file, number, record};
    take_attributes(&gathering);
    EkNtfsAttribute list = ek_ntfs_attribute_of(record, EK_NTFS_LIST);
    if (ek_ntfs_attribute_exists(&list))
        take_others(&gathering);
    for (guint i = 0; i < file->streams->len; i++)
        ek_ntfs_sort_fragments(((EkNtfsStream *)file->streams->pdata[i])->fragments);
    gboolean holds = file->has_standard || file->names->len > 0 || file->streams->len > 0;
    return holds ? g_steal_pointer(&file) : NULL;
}
