/* SPDX-License-Identifier: MIT */
/* The image file. */
#include "image/image.h"

#include "base/bytes.h"
#include "base/platform.h"
#include "base/text.h"

#include <errno.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#define PIECE 4096u /* what a file system keeps as a hole, at best */
#define BLANK_ENDS (1u << 20)
#define BLANK_PLACES 1024u
#define ZEROS_AT_ONCE (1u << 20)
#define PUSH_AFTER (32u << 20) /* bytes after which writing back is set going */

struct EkImage {
    char *path;
    int fd;
    EkByte bytes;
    EkRange unpushed;
    gboolean is_device; /* zeros have to be written: it has no holes */
};

/* A new name is only safe once its folder is. */
static gboolean sync_folder_of(const char *path, GError **error)
{
    g_autofree char *folder = g_path_get_dirname(path);
    int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    gboolean done = fd >= 0 && fsync(fd) == 0;
    int errnum = errno;
    if (fd >= 0)
        close(fd);
    if (!done)
        ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot sync %s", folder);
    return done;
}

/* --- a block device as the image --- */

static gboolean device_bytes(int fd, const char *path, EkByte *bytes, GError **error)
{
    return ek_platform_device_bytes(fd, bytes) == 0 ||
           ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot ask %s for its size", path);
}

static gboolean is_blank_at(int fd, EkByte first, guint8 *buffer, gsize length)
{
    ssize_t got = pread(fd, buffer, length, (off_t)first);
    return got >= 0 && ek_bytes_are_zero(buffer, (gsize)got);
}

/* Looks where something would stand on a drive that is in use: at both ends, and here and there. */
static gboolean is_blank(int fd, EkByte bytes)
{
    g_autofree guint8 *buffer = g_malloc(BLANK_ENDS);
    EkByte end = bytes > BLANK_ENDS ? bytes - BLANK_ENDS : 0;
    if (!is_blank_at(fd, 0, buffer, BLANK_ENDS) || !is_blank_at(fd, end, buffer, BLANK_ENDS))
        return FALSE;
    for (guint i = 0; i < BLANK_PLACES; i++)
        if (!is_blank_at(fd, bytes / BLANK_PLACES * i / PIECE * PIECE, buffer, PIECE))
            return FALSE;
    return TRUE;
}

gboolean ek_image_claim_device(const char *path, EkByte bytes, GError **error)
{
    EkByte there = 0;
    int fd = open(path, O_RDWR | O_EXCL | O_CLOEXEC);
    if (fd < 0)
        return ek_error_from_errno(error, EK_ERROR_REFUSED, errno, "cannot write to %s", path);
    gboolean fine = device_bytes(fd, path, &there, error);
    if (fine && ek_platform_is_read_only(fd)) {
        fine = ek_error_set(error, EK_ERROR_REFUSED,
                            "%s is set read-only in the kernel. If this is the right device, run: "
                            "blockdev --setrw %s",
                            path, path);
    } else if (fine && there < bytes) {
        g_autofree char *size = ek_text_size(there);
        g_autofree char *needed = ek_text_size(bytes);
        fine = ek_error_set(error, EK_ERROR_NO_SPACE, "%s has %s, the image needs %s", path, size,
                            needed);
    } else if (fine && !is_blank(fd, there)) {
        fine = ek_error_set(error, EK_ERROR_REFUSED,
                            "%s is not blank. Choose a blank device or a file for the image", path);
    }
    close(fd);
    return fine;
}

/* --- */

gboolean ek_image_is_blank(EkImage *image)
{
    EkRange data;
    if (!image->is_device && !ek_image_next_data(image, 0, &data))
        return TRUE;
    return is_blank(image->fd, image->bytes);
}

gboolean ek_image_create(const char *path, EkByte bytes, GError **error)
{
    int fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    if (fd < 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the image %s", path);
    if (ftruncate(fd, (off_t)bytes) != 0 || fsync(fd) != 0) {
        int errnum = errno;
        close(fd);
        unlink(path);
        if (errnum == EFBIG || errnum == EINVAL) {
            g_autofree char *size = ek_text_size(bytes);
            return ek_error_set(error, EK_ERROR_NO_SPACE,
                                "the file system of %s cannot hold a file of %s; put the image on "
                                "another one with --image FILE",
                                path, size);
        }
        return ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot make the image %s",
                                   path);
    }
    close(fd);
    return sync_folder_of(path, error);
}

EkImage *ek_image_of(int fd, const char *path, EkByte bytes, GError **error)
{
    struct stat st;
    if (fstat(fd, &st) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open the image %s", path);
        close(fd);
        return NULL;
    }
    if (!S_ISREG(st.st_mode) && !S_ISBLK(st.st_mode)) {
        ek_error_set(error, EK_ERROR_REFUSED,
                     "the image %s is neither a file nor a block device. Nothing was read or "
                     "written",
                     path);
        close(fd);
        return NULL;
    }
    if (S_ISREG(st.st_mode) && (EkByte)st.st_size != bytes) {
        ek_error_set(error, EK_ERROR_DAMAGED,
                     "the image %s has %" G_GINT64_FORMAT " bytes where the drive has "
                     "%" G_GUINT64_FORMAT ". Somebody changed it: put the right file back; nothing "
                     "was read or written",
                     path, (gint64)st.st_size, bytes);
        close(fd);
        return NULL;
    }
    EkByte there = bytes;
    if (S_ISBLK(st.st_mode) && (!device_bytes(fd, path, &there, error) || there < bytes)) {
        if (there < bytes)
            ek_error_set(error, EK_ERROR_DAMAGED,
                         "%s is smaller than the image stored on it. Is this the right device?",
                         path);
        close(fd);
        return NULL;
    }
    EkImage *image = g_new0(EkImage, 1);
    image->is_device = S_ISBLK(st.st_mode);
    image->path = g_strdup(path);
    image->fd = fd;
    image->bytes = bytes;
    return image;
}

EkImage *ek_image_open(const char *path, EkByte bytes, gboolean writable, GError **error)
{
    /* A pipe in its place must not hold us up. */
    int fd = open(path, (writable ? O_RDWR : O_RDONLY) | O_NONBLOCK | O_CLOEXEC);
    if (fd >= 0)
        return ek_image_of(fd, path, bytes, error);
    ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open the image %s", path);
    return NULL;
}

void ek_image_close(EkImage *image)
{
    close(image->fd);
    g_free(image->path);
    g_free(image);
}

EkByte ek_image_bytes(const EkImage *image)
{
    return image->bytes;
}

gboolean ek_image_read(EkImage *image, EkByte first, guint8 *buffer, gsize length, GError **error)
{
    gsize done = 0;
    while (done < length) {
        ssize_t got = pread(image->fd, buffer + done, length - done, (off_t)(first + done));
        if (got < 0 && errno == EINTR)
            continue;
        if (got <= 0)
            return ek_error_from_errno(error, EK_ERROR_FAILED, got < 0 ? errno : EIO,
                                       "cannot read %s at byte %" G_GUINT64_FORMAT, image->path,
                                       first + done);
        done += (gsize)got;
    }
    return TRUE;
}

static gboolean write_fully(EkImage *image, EkByte first, const guint8 *data, gsize length,
                            GError **error)
{
    gsize done = 0;
    while (done < length) {
        ssize_t put = pwrite(image->fd, data + done, length - done, (off_t)(first + done));
        if (put < 0 && errno == EINTR)
            continue;
        if (put < 0)
            return ek_error_from_errno(error, EK_ERROR_FAILED, errno,
                                       "cannot write %s at byte %" G_GUINT64_FORMAT, image->path,
                                       first + done);
        done += (gsize)put;
    }
    return TRUE;
}

/* Starts writing back early, so that a later sync finds little to do. */
static void push(EkImage *image, EkByte first, gsize length)
{
    if (image->unpushed.bytes > 0 && ek_range_end(image->unpushed) == first)
        image->unpushed.bytes += length;
    else
        image->unpushed = (EkRange){first, length};
    if (image->unpushed.bytes < PUSH_AFTER)
        return;
#ifdef SYNC_FILE_RANGE_WRITE
    (void)sync_file_range(image->fd, (off_t)image->unpushed.first, (off_t)image->unpushed.bytes,
                          SYNC_FILE_RANGE_WRITE);
#endif
    image->unpushed.bytes = 0;
}

static gboolean put_zeros(EkImage *image, EkByte first, EkByte bytes, GError **error)
{
    gsize most = (gsize)MIN(ZEROS_AT_ONCE, bytes);
    g_autofree guint8 *zeros = g_malloc0(most);
    for (EkByte done = 0; done < bytes; done += most)
        if (!write_fully(image, first + done, zeros, (gsize)MIN(most, bytes - done), error))
            return FALSE;
    return TRUE;
}

/* Holes read as zeros as they are; what stands between them was never vouched for. */
static gboolean clear(EkImage *image, EkByte first, EkByte bytes, GError **error)
{
    EkByte end = first + bytes;
    EkRange data;
    while (first < end && ek_image_next_data(image, first, &data) && data.first < end) {
        EkByte stop = MIN(ek_range_end(data), end);
        if (!put_zeros(image, data.first, stop - data.first, error))
            return FALSE;
        first = stop;
    }
    return TRUE;
}

gboolean ek_image_zero(EkImage *image, EkByte first, EkByte bytes, GError **error)
{
    if (bytes == 0)
        return TRUE;
    if (!image->is_device)
        return clear(image, first, bytes, error);
    if (first % 512 == 0 && bytes % 512 == 0 && ek_platform_zero(image->fd, first, bytes) == 0)
        return TRUE;
    return put_zeros(image, first, bytes, error);
}

/* Bytes from `first` on that are left as a hole: pieces that are all zeros. */
static gsize zeros_at(const EkImage *image, EkByte first, const guint8 *data, gsize length)
{
    gsize run = 0;
    while (!image->is_device && run < length) {
        gsize piece = (gsize)MIN(PIECE - (first + run) % PIECE, length - run);
        if (!ek_bytes_are_zero(data + run, piece))
            break;
        run += piece;
    }
    return run;
}

gboolean ek_image_write(EkImage *image, EkByte first, const guint8 *data, gsize length,
                        GError **error)
{
    gsize at = 0;
    while (at < length) {
        gsize run = zeros_at(image, first + at, data + at, length - at);
        if (run > 0) {
            if (!clear(image, first + at, run, error))
                return FALSE;
            at += run;
            continue;
        }
        run = (gsize)MIN(PIECE - (first + at) % PIECE, length - at);
        while (at + run < length) {
            gsize more = MIN(PIECE, length - at - run);
            if (!image->is_device && ek_bytes_are_zero(data + at + run, more))
                break;
            run += more;
        }
        if (!write_fully(image, first + at, data + at, run, error))
            return FALSE;
        push(image, first + at, run);
        at += run;
    }
    return TRUE;
}

gboolean ek_image_sync(EkImage *image, GError **error)
{
    image->unpushed.bytes = 0;
    if (fdatasync(image->fd) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno,
                                   "cannot flush %s to stable storage", image->path);
    return TRUE;
}

gboolean ek_image_next_data(EkImage *image, EkByte from, EkRange *data)
{
    return ek_platform_next_data(image->fd, from, image->bytes, data);
}
