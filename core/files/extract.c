/* SPDX-License-Identifier: MIT */
/* Taking files out. Every step below the target folder goes through a descriptor of the folder
 * before, without following symbolic links, so that nothing on the way can lead outside. A file is
 * written under a temporary name and gets its own when it is complete. */
#include "base/digest.h"
#include "base/text.h"
#include "files/files.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define PIECE (1u << 20)
#define MAX_NAME 255u
#define MAX_DOUBLES 10000u
#define PART_NAME ".ektypon-part"

struct EkExtract {
    char *folder;
    int fd;
};

typedef struct {
    EkExtract *extract;
    EkGate *gate;
    int fd;
    EkSha256 *digest;
    guint8 *buffer;
    const gint *cancel;
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
    return extract;
}

void ek_extract_free(EkExtract *extract)
{
    close(extract->fd);
    g_free(extract->folder);
    g_free(extract);
}

void ek_extracted_clear(EkExtracted *result)
{
    g_clear_pointer(&result->written_as, g_free);
    g_clear_pointer(&result->sha256, g_free);
    ek_damage_clear(&result->damage);
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

static gboolean write_piece(Writer *writer, const guint8 *data, gsize length)
{
    gsize done = 0;
    ek_sha256_update(writer->digest, data, length);
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

static gboolean write_extent(void *data, const EkExtent *extent)
{
    Writer *writer = data;
    for (EkByte done = 0; done < extent->bytes;) {
        gsize length = (gsize)MIN(PIECE, extent->bytes - done);
        if (g_atomic_int_get(writer->cancel) != 0)
            return ek_error_set(&writer->error, EK_ERROR_CANCELLED, "interrupted");
        if (extent->first_byte == EK_UNPLACED ||
            !ek_gate_read(writer->gate, extent->first_byte + done, writer->buffer, length, NULL,
                          NULL))
            memset(writer->buffer, 0, length);
        if (!write_piece(writer, writer->buffer, length))
            return FALSE;
        done += length;
    }
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

static void set_times(int fd, const EkEntry *file)
{
    struct timespec times[2] = {{.tv_nsec = UTIME_OMIT}, {.tv_nsec = UTIME_OMIT}};
    if (file->modified.is_set)
        times[1] = (struct timespec){.tv_sec = (time_t)ek_moment_to_unix(&file->modified)};
    /* A target without such times holds the file all the same. */
    (void)futimens(fd, times);
}

static gboolean write_content(EkExtract *extract, int folder, EkFiles *files, const EkEntry *file,
                              const gint *cancel, char **sha256, GError **error)
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
    g_autofree guint8 *buffer = g_malloc(PIECE);
    Writer writer = {extract, files->gate, fd, digest, buffer, cancel, NULL};
    gboolean fine = files->format->extents(files->opened, file, write_extent, &writer, error) &&
                    writer.error == NULL;
    if (writer.error != NULL)
        g_propagate_error(error, writer.error);
    if (fine)
        set_times(fd, file);
    if (close(fd) != 0 && fine)
        fine = ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write to %s",
                                   extract->folder);
    *sha256 = ek_sha256_finish_hex(digest);
    return fine;
}

gboolean ek_extract_file(EkExtract *extract, EkFiles *files, const char *path, const EkEntry *file,
                         const gint *cancel, EkExtracted *result, GError **error)
{
    *result = (EkExtracted){0};
    if (!ek_files_assess(files, file, &result->damage, error))
        return FALSE;
    g_autofree char *parent = g_path_get_dirname(path);
    g_autofree char *base = g_path_get_basename(path);
    g_autofree char *name = safe_name(base, &result->renamed);
    g_autoptr(GString) written = g_string_new(NULL);
    int folder = open_folder(extract, g_str_equal(parent, ".") ? "" : parent, written,
                             &result->renamed, error);
    if (folder < 0)
        return FALSE;
    gboolean fine = write_content(extract, folder, files, file, cancel, &result->sha256, error) &&
                    give_name(folder, name, written, &result->renamed, error);
    if (!fine)
        unlinkat(folder, PART_NAME, 0);
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
