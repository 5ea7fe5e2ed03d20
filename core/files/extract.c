/* SPDX-License-Identifier: MIT */
/* Taking files out. Every step below the target folder goes through a descriptor of the folder
 * before, without following symbolic links, so that nothing on the way can lead outside. A file is
 * written under a temporary name and gets its own when it is complete. */
#include "base/digest.h"
#include "base/text.h"
#include "files/record.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define MAX_NAME 255u
#define MAX_DOUBLES 10000u
#define PART_NAME ".ektypon-part"

struct EkExtract {
    char *folder;
    int fd;
    GHashTable *written; /* names, relative to the folder, that this extraction has given */
};

typedef struct {
    EkExtract *extract;
    int fd;
    EkSha256 *digest;
    const gint *cancel;
    EkByte gap; /* bytes of zeros that are not written yet */
    GError *error;
} Writer;

EkExtract *ek_extract_new(const char *folder, GError **error)
{
    if (g_mkdir_with_parents(folder, 0777) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the folder %s", folder);
        return NULL;
    }
    int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open the folder %s", folder);
        return NULL;
    }
    EkExtract *extract = g_new0(EkExtract, 1);
    extract->folder = g_strdup(folder);
    extract->fd = fd;
    extract->written = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    /* The table of what was taken out has its name already: a file called so gets another. */
    g_hash_table_add(extract->written, g_strdup(EK_RECORD_NAME));
    return extract;
}

void ek_extract_free(EkExtract *extract)
{
    close(extract->fd);
    g_hash_table_unref(extract->written);
    g_free(extract->folder);
    g_free(extract);
}

void ek_extracted_clear(EkExtracted *result)
{
    g_clear_pointer(&result->written_as, g_free);
    g_clear_pointer(&result->sha256, g_free);
}

/* A component that the target can hold and that leads nowhere. */
static char *safe_name(const char *name, gboolean *renamed)
{
    GString *safe = g_string_new(NULL);
    if (*name == '\0' || g_str_equal(name, ".") || g_str_equal(name, "..") ||
        g_str_equal(name, PART_NAME)) {
        g_string_append_c(safe, '_');
        *renamed = TRUE;
    }
    g_string_append(safe, name);
    if (safe->len > MAX_NAME) {
        /* Keep the start and the extension, and tell names that begin alike apart. */
        guint8 sum[EK_SHA256_BYTES];
        ek_sha256_of(name, strlen(name), sum);
        g_autofree char *mark = ek_text_hex(sum, 4, '\0');
        const char *dot = strrchr(name, '.');
        if (dot == NULL || strlen(dot) > 16)
            dot = "";
        gsize keep = MAX_NAME - strlen(dot) - strlen(mark) - 1;
        while (keep > 0 && ((guint8)safe->str[keep] & 0xc0) == 0x80)
            keep--;
        g_string_truncate(safe, keep);
        g_string_append_printf(safe, "~%s%s", mark, dot);
        *renamed = TRUE;
    }
    return g_string_free(safe, FALSE);
}

/* Opens the folder at `path`, making what is missing. Returns a descriptor for the caller to close,
 * or -1. The names as used are appended to `written`. */
static int open_folder(EkExtract *extract, const char *path, GString *written, gboolean *renamed,
                       GError **error)
{
    int at = dup(extract->fd);
    g_auto(GStrv) parts = g_strsplit(path, "/", -1);
    for (char **part = parts; at >= 0 && *part != NULL; part++) {
        if (**part == '\0' && parts[1] == NULL)
            break;
        g_autofree char *name = safe_name(*part, renamed);
        if (mkdirat(at, name, 0777) != 0 && errno != EEXIST) {
            ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the folder %s%s",
                                written->str, name);
            close(at);
            return -1;
        }
        int next = openat(at, name, O_RDONLY | O_DIRECTORY | O_NOFOLLOW | O_CLOEXEC);
        int errnum = errno;
        close(at);
        at = next;
        if (at < 0 && (errnum == ELOOP || errnum == ENOTDIR))
            ek_error_set(error, EK_ERROR_REFUSED,
                         "%s%s is no folder but a link or a file: not written through",
                         written->str, name);
        else if (at < 0)
            ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot open the folder %s%s",
                                written->str, name);
        g_string_append_printf(written, "%s/", name);
    }
    return at;
}

static gboolean write_bytes(Writer *writer, const guint8 *data, gsize length)
{
    gsize done = 0;
    while (done < length) {
        ssize_t put = write(writer->fd, data + done, length - done);
        if (put < 0 && errno == EINTR)
            continue;
        if (put < 0)
            return ek_error_from_errno(&writer->error, EK_ERROR_FAILED, errno, "cannot write to %s",
                                       writer->extract->folder);
        done += (gsize)put;
    }
    return TRUE;
}

/* Zeros, and what is not known, become holes of the file. */
static gboolean skip_gap(Writer *writer)
{
    if (writer->gap > 0 && lseek(writer->fd, (off_t)writer->gap, SEEK_CUR) < 0)
        return ek_error_from_errno(&writer->error, EK_ERROR_FAILED, errno, "cannot write to %s",
                                   writer->extract->folder);
    writer->gap = 0;
    return TRUE;
}

static gboolean write_piece(void *data, const guint8 *bytes, gsize length)
{
    static const guint8 zeros[4096];
    Writer *writer = data;
    if (g_atomic_int_get(writer->cancel) != 0)
        return ek_error_set(&writer->error, EK_ERROR_CANCELLED, "interrupted");
    if (bytes != NULL)
        ek_sha256_update(writer->digest, bytes, length);
    else
        for (gsize done = 0; done < length; done += sizeof zeros)
            ek_sha256_update(writer->digest, zeros, MIN(sizeof zeros, length - done));
    if (bytes == NULL || (length >= sizeof zeros && ek_bytes_are_zero(bytes, length))) {
        writer->gap += length;
        return TRUE;
    }
    return skip_gap(writer) && write_bytes(writer, bytes, length);
}

/* A file that ends in a gap is as long all the same. */
static gboolean end_gap(Writer *writer)
{
    off_t at = lseek(writer->fd, 0, SEEK_CUR);
    if (writer->gap > 0 && (at < 0 || ftruncate(writer->fd, at + (off_t)writer->gap) != 0))
        return ek_error_from_errno(&writer->error, EK_ERROR_FAILED, errno, "cannot write to %s",
                                   writer->extract->folder);
    return TRUE;
}

/* "name.txt" as "name (2).txt". */
static char *numbered_name(const char *name, guint number)
{
    if (number < 2)
        return g_strdup(name);
    const char *dot = strrchr(name, '.');
    gsize base = dot != NULL && dot != name ? (gsize)(dot - name) : strlen(name);
    return g_strdup_printf("%.*s (%u)%s", (int)base, name, number, name + base);
}

static int rename_to_new(int folder, const char *from, const char *to)
{
#ifdef RENAME_NOREPLACE
    if (renameat2(folder, from, folder, to, RENAME_NOREPLACE) == 0)
        return 0;
    if (errno != EINVAL && errno != ENOSYS)
        return -1;
#endif
    struct stat st;
    if (fstatat(folder, to, &st, AT_SYMLINK_NOFOLLOW) == 0) {
        errno = EEXIST;
        return -1;
    }
    return renameat(folder, from, folder, to);
}

/* Gives the finished file its name, or the next free one beside it. */
static gboolean give_name(int folder, const char *name, GString *written, gboolean *renamed,
                          GError **error)
{
    for (guint number = 1; number < MAX_DOUBLES; number++) {
        g_autofree char *candidate = numbered_name(name, number);
        if (rename_to_new(folder, PART_NAME, candidate) == 0) {
            g_string_append(written, candidate);
            *renamed = *renamed || number > 1;
            return TRUE;
        }
        if (errno != EEXIST)
            return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot name %s%s",
                                       written->str, candidate);
    }
    return ek_error_set(error, EK_ERROR_FAILED, "%s%s is there %u times already", written->str,
                        name, MAX_DOUBLES);
}

static void set_times(int fd, const EkFile *file)
{
    const EkMoment *moments[2] = {&file->accessed, &file->modified};
    struct timespec times[2] = {{.tv_nsec = UTIME_OMIT}, {.tv_nsec = UTIME_OMIT}};
    for (guint i = 0; i < 2; i++)
        if (moments[i]->is_set)
            times[i] = (struct timespec){.tv_sec = (time_t)ek_moment_to_unix(moments[i]),
                                         .tv_nsec = (long)moments[i]->nanoseconds};
    /* A target without such times holds the file all the same. */
    (void)futimens(fd, times);
}

/* Reads the file through `sink`; FALSE with *error when that stopped it. */
static gboolean read_through(EkFiles *files, const EkExtractOrder *order, Writer *writer,
                             EkContentSink sink, GError **error)
{
    gboolean fine = ek_files_read(files, order->file, order->extents, sink, writer);
    if (writer->error != NULL)
        g_propagate_error(error, g_steal_pointer(&writer->error));
    return fine;
}

static gboolean write_content(EkExtract *extract, int folder, EkFiles *files,
                              const EkExtractOrder *order, const gint *cancel, char **sha256,
                              GError **error)
{
    int fd = openat(folder, PART_NAME, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
    if (fd < 0 && errno == EEXIST) {
        /* Left by a run that was killed: never the user's, by its name. */
        unlinkat(folder, PART_NAME, 0);
        fd = openat(folder, PART_NAME, O_WRONLY | O_CREAT | O_EXCL | O_NOFOLLOW | O_CLOEXEC, 0666);
    }
    if (fd < 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write in %s",
                                   extract->folder);
    g_autoptr(EkSha256) digest = ek_sha256_new();
    Writer writer = {extract, fd, digest, cancel, 0, NULL};
    gboolean fine = read_through(files, order, &writer, write_piece, error);
    if (fine && !end_gap(&writer)) {
        g_propagate_error(error, writer.error);
        fine = FALSE;
    }
    if (fine)
        set_times(fd, order->file);
    if (close(fd) != 0 && fine)
        fine = ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write to %s",
                                   extract->folder);
    *sha256 = ek_sha256_finish_hex(digest);
    return fine;
}

/* --- what is there already ------------------------------------------------------------------ */

static gboolean digest_piece(void *data, const guint8 *bytes, gsize length)
{
    static const guint8 zeros[4096];
    Writer *writer = data;
    if (g_atomic_int_get(writer->cancel) != 0)
        return ek_error_set(&writer->error, EK_ERROR_CANCELLED, "interrupted");
    for (gsize done = 0; done < length; done += sizeof zeros) {
        gsize part = bytes != NULL ? length : MIN(sizeof zeros, length - done);
        ek_sha256_update(writer->digest, bytes != NULL ? bytes : zeros, part);
        if (bytes != NULL)
            break;
    }
    return TRUE;
}

static char *digest_of_target(int folder, const char *name)
{
    int fd = openat(folder, name, O_RDONLY | O_NOFOLLOW | O_CLOEXEC);
    if (fd < 0)
        return NULL;
    g_autoptr(EkSha256) digest = ek_sha256_new();
    g_autofree guint8 *buffer = g_malloc(1u << 20);
    ssize_t got;
    while ((got = read(fd, buffer, 1u << 20)) > 0)
        ek_sha256_update(digest, buffer, (gsize)got);
    close(fd);
    return got == 0 ? ek_sha256_finish_hex(digest) : NULL;
}

static gboolean has_time(const struct stat *st, const EkFile *file)
{
    return !file->modified.is_set || st->st_mtim.tv_sec == ek_moment_to_unix(&file->modified);
}

/* Is this file, of this content, there under this name? FALSE with *error when reading was
 * interrupted. */
static gboolean is_same(EkFiles *files, const EkExtractOrder *order, int folder, const char *name,
                        const struct stat *st, const gint *cancel, char **sha256, GError **error)
{
    if (!S_ISREG(st->st_mode) || (guint64)st->st_size != order->file->size)
        return FALSE;
    if (order->known_sha256 != NULL && has_time(st, order->file)) {
        *sha256 = g_strdup(order->known_sha256);
        return TRUE;
    }
    g_autofree char *there = digest_of_target(folder, name);
    g_autoptr(EkSha256) digest = ek_sha256_new();
    Writer writer = {.digest = digest, .cancel = cancel};
    if (!read_through(files, order, &writer, digest_piece, error))
        return FALSE;
    *sha256 = ek_sha256_finish_hex(digest);
    return g_strcmp0(there, *sha256) == 0;
}

/* Gives the finished file its name, over what has it. */
static gboolean take_name(int folder, const char *name, GString *written, GError **error)
{
    struct stat st;
    if (fstatat(folder, name, &st, AT_SYMLINK_NOFOLLOW) == 0 && S_ISDIR(st.st_mode))
        return ek_error_set(error, EK_ERROR_FAILED, "%s%s is a folder", written->str, name);
    if (renameat(folder, PART_NAME, folder, name) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot name %s%s", written->str,
                                   name);
    g_string_append(written, name);
    return TRUE;
}

/* One file into an open folder. `written` is the folder's name, and becomes the file's. */
static gboolean place_file(EkExtract *extract, EkFiles *files, const EkExtractOrder *order,
                           int folder, const char *name, GString *written, const gint *cancel,
                           EkExtracted *result, GError **error)
{
    g_autofree char *full = g_strconcat(written->str, name, NULL);
    struct stat st;
    gboolean is_ours = g_hash_table_contains(extract->written, full);
    gboolean is_there = !is_ours && order->if_exists != EK_EXISTS_RENAME &&
                        fstatat(folder, name, &st, AT_SYMLINK_NOFOLLOW) == 0;
    GError *failure = NULL;
    if (is_there && is_same(files, order, folder, name, &st, cancel, &result->sha256, &failure)) {
        result->outcome = EK_OUTCOME_SAME;
        g_string_append(written, name);
        return TRUE;
    }
    g_clear_pointer(&result->sha256, g_free);
    if (failure != NULL) {
        g_propagate_error(error, failure);
        return FALSE;
    }
    if (is_there && order->if_exists == EK_EXISTS_KEEP) {
        result->outcome = EK_OUTCOME_KEPT;
        g_string_append(written, name);
        return TRUE;
    }
    return write_content(extract, folder, files, order, cancel, &result->sha256, error) &&
           (is_there ? take_name(folder, name, written, error)
                     : give_name(folder, name, written, &result->renamed, error));
}

gboolean ek_extract_file(EkExtract *extract, EkFiles *files, const EkExtractOrder *order,
                         const gint *cancel, EkExtracted *result, GError **error)
{
    *result = (EkExtracted){0};
    g_autofree char *parent = g_path_get_dirname(order->path);
    g_autofree char *base = g_path_get_basename(order->path);
    g_autofree char *name = safe_name(base, &result->renamed);
    g_autoptr(GString) written = g_string_new(NULL);
    int folder = open_folder(extract, g_str_equal(parent, ".") ? "" : parent, written,
                             &result->renamed, error);
    if (folder < 0)
        return FALSE;
    gboolean fine = place_file(extract, files, order, folder, name, written, cancel, result, error);
    if (!fine)
        unlinkat(folder, PART_NAME, 0);
    else if (result->outcome != EK_OUTCOME_KEPT)
        g_hash_table_add(extract->written, g_strdup(written->str));
    close(folder);
    result->written_as = g_strdup(written->str);
    return fine;
}

gboolean ek_extract_folder(EkExtract *extract, const char *path, GError **error)
{
    gboolean renamed = FALSE;
    g_autoptr(GString) written = g_string_new(NULL);
    int folder = open_folder(extract, path, written, &renamed, error);
    if (folder >= 0)
        close(folder);
    return folder >= 0;
}

gboolean ek_extract_sync(EkExtract *extract, GError **error)
{
    if (syncfs(extract->fd) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno,
                                   "what was extracted to %s does not reach stable storage",
                                   extract->folder);
    return TRUE;
}
