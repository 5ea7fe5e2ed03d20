/* SPDX-License-Identifier: MIT */
/* The content of one file, to a descriptor or to a digest. */
#include "files/writing.h"

#include "base/digest.h"

#include <errno.h>
#include <fcntl.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define VAST_BYTES ((EkByte)16 << 30)
#define PIECE (1u << 20)

typedef struct {
    int fd; /* -1: only the digest is wanted */
    const char *where;
    EkSha256 *digest; /* NULL: it is not wanted */
    const gint *cancel;
    EkByte gap; /* bytes of zeros that are not written yet */
    GError *error;
} Writer;

static EkByte stored_bytes(const GArray *extents)
{
    EkByte stored = 0;
    for (guint i = 0; i < extents->len; i++)
        stored += g_array_index(extents, EkExtent, i).bytes;
    return stored;
}

gboolean ek_writing_is_vast(const EkFile *file, const GArray *extents)
{
    EkByte stored = stored_bytes(extents);
    return (file->flags & EK_FILE_ENCODED) == 0 && file->size > stored &&
           file->size - stored > VAST_BYTES;
}

static gboolean fail(Writer *writer)
{
    return ek_error_from_errno(&writer->error, EK_ERROR_FAILED, errno, "cannot write to %s",
                               writer->where);
}

static gboolean write_bytes(Writer *writer, const guint8 *data, gsize length)
{
    gsize done = 0;
    while (done < length) {
        ssize_t put = write(writer->fd, data + done, length - done);
        if (put < 0 && errno == EINTR)
            continue;
        if (put < 0)
            return fail(writer);
        done += (gsize)put;
    }
    return TRUE;
}

static void hash(const Writer *writer, const guint8 *bytes, gsize length)
{
    static const guint8 zeros[4096];
    if (writer->digest == NULL)
        return;
    if (bytes != NULL) {
        ek_sha256_update(writer->digest, bytes, length);
        return;
    }
    for (gsize done = 0; done < length; done += sizeof zeros)
        ek_sha256_update(writer->digest, zeros, MIN(sizeof zeros, length - done));
}

/* Zeros, and what is not known, become holes of the file. */
static gboolean skip_gap(Writer *writer)
{
    if (writer->gap > 0 && lseek(writer->fd, (off_t)writer->gap, SEEK_CUR) < 0)
        return fail(writer);
    writer->gap = 0;
    return TRUE;
}

static gboolean take_piece(void *data, const guint8 *bytes, gsize length)
{
    Writer *writer = data;
    if (g_atomic_int_get(writer->cancel) != 0)
        return ek_error_set(&writer->error, EK_ERROR_CANCELLED, "interrupted");
    hash(writer, bytes, length);
    if (writer->fd < 0)
        return TRUE;
    if (bytes == NULL || (length >= 4096 && ek_bytes_are_zero(bytes, length))) {
        writer->gap += length;
        return TRUE;
    }
    return skip_gap(writer) && write_bytes(writer, bytes, length);
}

/* A file that ends in a gap is as long all the same. */
static gboolean end_gap(Writer *writer)
{
    off_t at = lseek(writer->fd, 0, SEEK_CUR);
    return writer->gap == 0 || (at >= 0 && ftruncate(writer->fd, at + (off_t)writer->gap) == 0) ||
           fail(writer);
}

/* Only what is stored, each piece at its place: the rest is hole however long it is. */
static gboolean write_stored(EkFiles *files, const EkFile *file, const GArray *extents,
                             Writer *writer)
{
    EkByte at = 0;
    for (guint i = 0; i < extents->len && at < file->size; i++) {
        EkExtent extent = g_array_index(extents, EkExtent, i);
        if (extent.offset < at || extent.offset >= file->size)
            continue;
        EkFile piece = *file;
        g_autoptr(GArray) one = g_array_new(FALSE, FALSE, sizeof(EkExtent));
        at = extent.offset + MIN(extent.bytes, file->size - extent.offset);
        piece.size = at - extent.offset;
        if (lseek(writer->fd, (off_t)extent.offset, SEEK_SET) < 0)
            return fail(writer);
        extent.offset = 0;
        g_array_append_val(one, extent);
        if (!ek_files_read(files, &piece, one, take_piece, writer) && writer->error != NULL)
            return FALSE;
        writer->gap = 0;
    }
    return ftruncate(writer->fd, (off_t)file->size) == 0 || fail(writer);
}

gboolean ek_writing_content(EkFiles *files, const EkFile *file, const GArray *extents, int fd,
                            const char *where, const gint *cancel, char **sha256, GError **error)
{
    gboolean vast = ek_writing_is_vast(file, extents);
    g_autoptr(EkSha256) digest = vast ? NULL : ek_sha256_new();
    Writer writer = {fd, where, digest, cancel, 0, NULL};
    *sha256 = NULL;
    /* What is longer than the target's files can be is known at once. */
    if (file->size > G_MAXINT64 || lseek(fd, (off_t)file->size, SEEK_SET) < 0 ||
        lseek(fd, 0, SEEK_SET) < 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, EFBIG, "cannot write to %s", where);
    gboolean fine = vast ? write_stored(files, file, extents, &writer)
                         : ek_files_read(files, file, extents, take_piece, &writer);
    fine = fine && (vast || end_gap(&writer));
    if (writer.error != NULL)
        g_propagate_error(error, writer.error);
    else if (!fine)
        ek_error_set(error, EK_ERROR_DAMAGED, "its content cannot be read");
    if (fine && digest != NULL)
        *sha256 = ek_sha256_finish_hex(digest);
    return fine;
}

char *ek_writing_digest(EkFiles *files, const EkFile *file, const GArray *extents,
                        const gint *cancel, GError **error)
{
    g_autoptr(EkSha256) digest = ek_sha256_new();
    Writer writer = {-1, "", digest, cancel, 0, NULL};
    gboolean fine = ek_files_read(files, file, extents, take_piece, &writer);
    if (writer.error != NULL)
        g_propagate_error(error, writer.error);
    return fine ? ek_sha256_finish_hex(digest) : NULL;
}

char *ek_writing_digest_of(int folder, const char *name, const gint *cancel, GError **error)
{
    int fd = openat(folder, name, O_RDONLY | O_NOFOLLOW | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0)
        return NULL;
    g_autoptr(EkSha256) digest = ek_sha256_new();
    g_autofree guint8 *buffer = g_malloc(PIECE);
    ssize_t got;
    while ((got = read(fd, buffer, PIECE)) > 0 && g_atomic_int_get(cancel) == 0)
        ek_sha256_update(digest, buffer, (gsize)got);
    close(fd);
    if (g_atomic_int_get(cancel) != 0)
        ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
    return got == 0 ? ek_sha256_finish_hex(digest) : NULL;
}

void ek_writing_set_times(int fd, const EkFile *file)
{
    const EkTimestamp *timestamps[2] = {&file->accessed, &file->modified};
    struct timespec times[2] = {{.tv_nsec = UTIME_OMIT}, {.tv_nsec = UTIME_OMIT}};
    for (guint i = 0; i < 2; i++)
        if (timestamps[i]->is_set)
            times[i] = (struct timespec){.tv_sec = (time_t)ek_timestamp_to_unix(timestamps[i]),
                                         .tv_nsec = (long)timestamps[i]->nanoseconds};
    /* A target without such times holds the file all the same. */
    (void)futimens(fd, times);
}
