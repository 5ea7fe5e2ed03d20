/* SPDX-License-Identifier: MIT */
/* Archives and office files: does everything in them unpack? */
#include "peek.h"

#include <archive.h>
#include <archive_entry.h>
#include <errno.h>
#include <string.h>

#define ENTRIES_MOST 100000u
#define UNPACKED_MOST (1ull << 30)

gboolean archive_prepare(void)
{
    /* What converts names is loaded by converting one. */
    g_autofree char *name = g_convert("a", 1, "UTF-8", "CP437", NULL, NULL, NULL);
    return name != NULL;
}

static gboolean is_archive(const char *mime)
{
    static const char *const known[] = {
        "application/zip",         "application/x-zip",    "application/java-archive",
        "application/vnd.oasis",   "application/epub+zip", "application/vnd.openxmlformats",
        "application/x-tar",       "application/gzip",     "application/x-gzip",
        "application/x-bzip2",     "application/x-xz",     "application/zstd",
        "application/x-7z",        "application/x-rar",    "application/vnd.rar",
        "application/vnd.ms-cab",  "application/x-cpio",   "application/x-lzma",
        "application/vnd.android", "application/x-iso9660"};
    for (gsize i = 0; i < G_N_ELEMENTS(known); i++)
        if (g_str_has_prefix(mime, known[i]))
            return TRUE;
    return FALSE;
}

typedef struct {
    struct archive *archive;
    guint64 entries;
    guint64 unpacked;
    gboolean encrypted;
    gboolean cut;     /* there was more than is looked at */
    gboolean starved; /* memory did not suffice */
    char *fault;
} Reading;

static void fail(Reading *reading, const char *name)
{
    const char *reason = archive_error_string(reading->archive);
    reading->starved = archive_errno(reading->archive) == ENOMEM;
    g_free(reading->fault);
    reading->fault = g_strdup_printf("%s%s%s", name != NULL ? name : "", name != NULL ? ": " : "",
                                     reason != NULL ? reason : "truncated");
}

/* Unpacks one entry, which is what proves it. FALSE ends it. */
static gboolean read_entry(Reading *reading, const char *name)
{
    const void *piece;
    size_t length;
    la_int64_t offset;
    int result;
    while ((result = archive_read_data_block(reading->archive, &piece, &length, &offset)) ==
           ARCHIVE_OK) {
        reading->unpacked += length;
        if (reading->unpacked > UNPACKED_MOST) {
            reading->cut = TRUE;
            return FALSE;
        }
    }
    if (result == ARCHIVE_EOF)
        return TRUE;
    if (reading->fault == NULL)
        fail(reading, name);
    return result != ARCHIVE_FATAL;
}

static void read_all(Reading *reading, const Canvas *canvas, Finding *finding)
{
    struct archive_entry *entry;
    int result;
    while ((result = archive_read_next_header(reading->archive, &entry)) == ARCHIVE_OK ||
           result == ARCHIVE_WARN || result == ARCHIVE_RETRY) {
        if (result == ARCHIVE_RETRY)
            continue;
        const char *name = archive_entry_pathname_utf8(entry);
        if (name == NULL)
            name = archive_entry_pathname(entry);
        if (name == NULL)
            name = "(name not readable)";
        if (reading->entries < canvas->lines) {
            g_autofree char *size =
                g_strdup_printf("%" G_GINT64_FORMAT, (gint64)archive_entry_size(entry));
            g_string_append_printf(finding->shown, "%12s  %s\n",
                                   archive_entry_size_is_set(entry) ? size : "-", name);
        }
        if (++reading->entries > ENTRIES_MOST) {
            reading->cut = TRUE;
            return;
        }
        if (archive_entry_is_data_encrypted(entry) > 0)
            reading->encrypted = TRUE;
        else if (!read_entry(reading, name))
            return;
    }
    if (result != ARCHIVE_EOF && reading->fault == NULL)
        fail(reading, NULL);
}

gboolean archive_judge(const Content *content, const Canvas *canvas, Finding *finding)
{
    if (!is_archive(finding->mime))
        return FALSE;
    if (content->length < content->size) {
        finding_says(finding, "unchecked", "too large to be unpacked here");
        return TRUE;
    }
    Reading reading = {.archive = archive_read_new()};
    archive_read_support_filter_all(reading.archive);
    archive_read_support_format_all(reading.archive);
    archive_read_support_format_raw(reading.archive);
    if (archive_read_open_memory(reading.archive, content->bytes, content->length) == ARCHIVE_OK)
        read_all(&reading, canvas, finding);
    else
        fail(&reading, NULL);
    finding->look = reading.entries > 0 ? "list" : "none";
    const char *noun = reading.entries == 1 ? "entry" : "entries";
    if (reading.starved)
        finding_says(finding, "unchecked", "unpacking it needs too much memory");
    else if (reading.fault != NULL)
        finding_says(finding, "no", "%s (after %" G_GUINT64_FORMAT " %s)", reading.fault,
                     reading.entries, noun);
    else if (reading.entries == 0)
        finding_says(finding, "unchecked", "the archive is empty");
    else if (reading.encrypted)
        finding_says(finding, "unchecked", "it is encrypted");
    else if (reading.cut)
        finding_says(finding, "unchecked",
                     "the first %" G_GUINT64_FORMAT
                     " %s unpack%s correctly; the rest was not checked",
                     reading.entries, noun, reading.entries == 1 ? "s" : "");
    else
        finding_says(finding, "yes", "%" G_GUINT64_FORMAT " %s, all of which unpack",
                     reading.entries, noun);
    g_free(reading.fault);
    archive_read_free(reading.archive);
    return TRUE;
}
