/* SPDX-License-Identifier: MIT */
/* ZIP archives, as office files are. */
#include "zipped.h"

#include <archive.h>
#include <archive_entry.h>

void put_zip(const char *path, const Zipped *entries, gsize count)
{
    struct archive *archive = archive_write_new();
    archive_write_set_format_zip(archive);
    archive_write_open_filename(archive, path);
    for (gsize i = 0; i < count; i++) {
        struct archive_entry *entry = archive_entry_new();
        archive_entry_set_pathname(entry, entries[i].name);
        archive_entry_set_size(entry, (la_int64_t)entries[i].length);
        archive_entry_set_filetype(entry, AE_IFREG);
        archive_entry_set_perm(entry, 0644);
        archive_write_header(archive, entry);
        archive_write_data(archive, entries[i].bytes, entries[i].length);
        archive_entry_free(entry);
    }
    if (archive_write_free(archive) != ARCHIVE_OK)
        g_error("%s cannot be written", path);
}
