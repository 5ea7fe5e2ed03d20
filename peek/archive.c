/* SPDX-License-Identifier: MIT */
/* Archives and office files: does everything in them unpack? */
#include "peek.h"

#include <archive.h>
#include <archive_entry.h>
#include <errno.h>
#include <string.h>
#include <zlib.h>

#define ENTRIES_MOST 100000u
#define WORDS_MOST (2u << 20) /* bytes of XML that is read for its words */
#define PAGE_MOST (8u << 20)  /* bytes of the picture of a first page */
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
    GByteArray *page;  /* the picture of the first page; empty: none is wanted, or there is none */
    GByteArray *words; /* XML that has them, likewise */
} Reading;

static void fail(Reading *reading, const char *name)
{
    const char *reason = archive_error_string(reading->archive);
    reading->starved = archive_errno(reading->archive) == ENOMEM;
    g_free(reading->fault);
    reading->fault = g_strdup_printf("%s%s%s", name != NULL ? name : "", name != NULL ? ": " : "",
                                     reason != NULL ? reason : "truncated");
    g_strchomp(reading->fault);
}

/* The small picture of its first page that an office file carries, by its name in the published
 * formats (ECMA-376 part 2, 14; OpenDocument part 3, 3.7). */
static gboolean is_first_page(const char *name)
{
    return g_str_has_prefix(name, "docProps/thumbnail.") ||
           g_str_equal(name, "Thumbnails/thumbnail.png");
}

/* Unpacks one entry, which is what proves it. FALSE ends it. Up to `most` bytes of it are kept. */
static gboolean read_entry(Reading *reading, const char *name, GByteArray *kept, gsize most)
{
    const void *piece;
    size_t length;
    la_int64_t offset;
    int result;
    while ((result = archive_read_data_block(reading->archive, &piece, &length, &offset)) ==
           ARCHIVE_OK) {
        reading->unpacked += length;
        if (kept != NULL && kept->len < most)
            g_byte_array_append(kept, piece, (guint)MIN(length, most - kept->len));
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

/* All but those that take any text for theirs. */
static void support_formats(struct archive *archive)
{
    int (*const formats[])(struct archive *) = {
        archive_read_support_format_7zip,  archive_read_support_format_ar,
        archive_read_support_format_cab,   archive_read_support_format_cpio,
        archive_read_support_format_empty, archive_read_support_format_iso9660,
        archive_read_support_format_lha,   archive_read_support_format_rar,
        archive_read_support_format_rar5,  archive_read_support_format_tar,
        archive_read_support_format_xar,   archive_read_support_format_zip,
        archive_read_support_format_raw,
    };
    for (gsize i = 0; i < G_N_ELEMENTS(formats); i++)
        formats[i](archive);
}

/* The sums of gzip (RFC 1952), which the archive library passes over. FALSE: one of them is wrong,
 * or there is no end. Whoever asks has unpacked it already, within bounds. */
static gboolean gzip_is_right(const Content *content)
{
    static guint8 unpacked[65536];
    z_stream stream;
    gboolean right = FALSE;
    memset(&stream, 0, sizeof stream);
    if (inflateInit2(&stream, 15 + 16) != Z_OK)
        return FALSE;
    stream.next_in = (Bytef *)content->bytes;
    stream.avail_in = (uInt)content->length;
    int result = Z_OK;
    while (result == Z_OK) {
        stream.next_out = unpacked;
        stream.avail_out = sizeof unpacked;
        result = inflate(&stream, Z_NO_FLUSH);
        if (result != Z_STREAM_END)
            continue;
        right = TRUE;
        /* Another one may follow; anything else behind it is none of it. */
        if (stream.avail_in >= 18 && stream.next_in[0] == 0x1f && stream.next_in[1] == 0x8b &&
            stream.next_in[2] == 8) {
            right = FALSE;
            result = inflateReset(&stream);
        }
    }
    inflateEnd(&stream);
    return right;
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
        gboolean is_page = canvas->pixels && is_first_page(name);
        gboolean is_words =
            !canvas->pixels && canvas->lines > 0 && document_has_words(finding->mime, name);
        if (reading->entries < canvas->lines && !canvas->pixels) {
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
        else if (!read_entry(reading, name,
                             is_page    ? reading->page
                             : is_words ? reading->words
                                        : NULL,
                             is_page ? PAGE_MOST : WORDS_MOST))
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
    Reading reading = {
        .archive = archive_read_new(), .page = g_byte_array_new(), .words = g_byte_array_new()};
    archive_read_support_filter_all(reading.archive);
    support_formats(reading.archive);
    if (archive_read_open_memory(reading.archive, content->bytes, content->length) == ARCHIVE_OK)
        read_all(&reading, canvas, finding);
    else
        fail(&reading, NULL);
    finding->look = reading.entries > 0 && !canvas->pixels ? "list" : "none";
    if (reading.page->len > 0)
        picture_show(reading.page->data, reading.page->len, 1, canvas, finding);
    if (reading.words->len > 0)
        document_show(reading.words->data, reading.words->len, canvas, finding);
    g_byte_array_unref(reading.page);
    g_byte_array_unref(reading.words);
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
    else if (!reading.cut && strstr(finding->mime, "gzip") != NULL && !gzip_is_right(content))
        finding_says(finding, "no", "what it unpacks to is wrong: a checksum differs");
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
