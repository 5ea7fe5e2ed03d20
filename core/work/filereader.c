/* SPDX-License-Identifier: MIT */
/* A file as a reader: through its extents, or, where it is packed, unpacked at once. */
#include "work/filereader.h"

#include "files/access.h"

#include <string.h>

#define UNPACKED_MOST (64u << 20) /* bytes */

typedef struct {
    EkReader reader;
    EkAccess *access;
    EkByte bytes;
    guint8 *all; /* NULL: it is read as it is asked for */
} FileReader;

static EkByte file_bytes(const EkReader *reader)
{
    return ((const FileReader *)reader)->bytes;
}

/* What turns out to be missing all the same is zeros, as everywhere. */
static void read_through(FileReader *file, EkByte first, guint8 *buffer, gsize length)
{
    gsize done = 0;
    (void)ek_access_read_on(file->access, TRUE, first, buffer, length, &done);
    memset(buffer + done, 0, length - done);
}

static gboolean file_read(EkReader *reader, EkByte first, guint8 *buffer, gsize length,
                          GError **error)
{
    FileReader *file = (FileReader *)reader;
    (void)error;
    if (file->all != NULL)
        memcpy(buffer, file->all + first, length);
    else
        read_through(file, first, buffer, length);
    return TRUE;
}

static EkKnown file_known(const EkReader *reader, EkByte first, EkByte length)
{
    (void)reader;
    (void)first;
    return (EkKnown){.good = length};
}

static gboolean file_next_hole(const EkReader *reader, EkByte from, EkByte limit, EkRange *hole,
                               gboolean *bad)
{
    (void)reader;
    (void)from;
    (void)limit;
    (void)hole;
    (void)bad;
    return FALSE;
}

static gboolean file_next_data(EkReader *reader, EkByte from, EkRange *data)
{
    *data = (EkRange){from, file_bytes(reader) - MIN(from, file_bytes(reader))};
    return data->bytes > 0;
}

static void file_free(EkReader *reader)
{
    FileReader *file = (FileReader *)reader;
    ek_access_free(file->access);
    g_free(file->all);
    g_free(file);
}

static const EkReaderKind kind = {file_bytes,     file_read,      file_known,
                                  file_next_hole, file_next_data, file_free};

EkReader *ek_filereader_new(EkIndexing *indexing, const EkFile *file)
{
    const EkFiles *files = ek_indexing_files(indexing);
    GArray *extents = ek_inventory_extents(ek_indexing_inventory(indexing), file->number, NULL);
    if (extents == NULL)
        return NULL;
    gboolean packed = ek_access_is_packed(file, extents);
    EkAccess *access = packed && file->size > UNPACKED_MOST
                           ? NULL
                           : ek_access_new(files->reader, ek_indexing_volume(indexing)->volume,
                                           file, g_array_ref(extents), NULL);
    g_array_unref(extents);
    if (access == NULL)
        return NULL;
    FileReader *made = g_new0(FileReader, 1);
    made->reader.kind = &kind;
    made->access = access;
    made->bytes = file->size;
    if (packed) {
        made->all = g_malloc(MAX((gsize)file->size, 1));
        read_through(made, 0, made->all, (gsize)file->size);
    }
    return &made->reader;
}
