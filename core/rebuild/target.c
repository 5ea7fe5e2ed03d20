/* SPDX-License-Identifier: MIT */
/* What edits and clones are written to: is it the right one? */
#include "rebuild/target.h"

#include "base/platform.h"
#include "device/device.h"
#include "device/system.h"

#include <errno.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

struct EkTarget {
    char *path;
    char *identity;
    int fd;
    EkByte bytes;
    gboolean is_device;
};

static char *identity_of(const char *path)
{
    g_autoptr(EkSystem) system = ek_system_new(NULL);
    g_autoptr(EkIdentity) identity = ek_system_identify(system, path);
    return identity != NULL ? g_strdup(identity->name) : g_strdup("");
}

static EkTarget *from_fd(const char *path, int fd, GError **error)
{
    struct stat st;
    off_t end = -1;
    if (fstat(fd, &st) == 0)
        end = lseek(fd, 0, SEEK_END);
    if (end < 0 || !(S_ISREG(st.st_mode) || S_ISBLK(st.st_mode))) {
        ek_error_set(error, EK_ERROR_UNSUPPORTED, "%s is neither a file nor a block device", path);
        close(fd);
        return NULL;
    }
    EkTarget *target = g_new0(EkTarget, 1);
    target->path = g_strdup(path);
    target->fd = fd;
    target->bytes = (EkByte)end;
    target->is_device = S_ISBLK(st.st_mode);
    target->identity = identity_of(path);
    return target;
}

EkTarget *ek_target_open(const char *path, GError **error)
{
    gboolean is_device = ek_device_is_at(path);
    int fd = open(path, O_RDWR | O_CLOEXEC | (is_device ? O_EXCL : 0));
    if (fd < 0 && errno == EBUSY) {
        ek_error_set(error, EK_ERROR_REFUSED, "%s is in use: unmount or release it first", path);
        return NULL;
    }
    if (fd < 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open the target %s", path);
        return NULL;
    }
    if (is_device && ek_platform_is_read_only(fd)) {
        ek_error_set(error, EK_ERROR_REFUSED,
                     "%s is set read-only in the kernel (Ektypon does this to every source). To "
                     "allow writing: blockdev --setrw %s",
                     path, path);
        close(fd);
        return NULL;
    }
    return from_fd(path, fd, error);
}

EkTarget *ek_target_create(const char *path, EkByte bytes, GError **error)
{
    int fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
    if (fd < 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the target %s", path);
        return NULL;
    }
    if (ftruncate(fd, (off_t)bytes) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the target %s", path);
        close(fd);
        unlink(path);
        return NULL;
    }
    return from_fd(path, fd, error);
}

void ek_target_close(EkTarget *target)
{
    close(target->fd);
    g_free(target->path);
    g_free(target->identity);
    g_free(target);
}

EkByte ek_target_bytes(const EkTarget *target)
{
    return target->bytes;
}

const char *ek_target_path(const EkTarget *target)
{
    return target->path;
}

gboolean ek_target_is_device(const EkTarget *target)
{
    return target->is_device;
}

gboolean ek_target_has_sectors(const EkTarget *target, guint32 bytes, GError **error)
{
    guint32 size = 0;
    guint32 physical = 0;
    if (!target->is_device || ek_platform_sector_sizes(target->fd, &size, &physical) != 0 ||
        size == bytes)
        return TRUE;
    return ek_error_set(
        error, EK_ERROR_REFUSED,
        "%s uses %u-byte sectors, but the planned table uses %u-byte sectors: no system would find "
        "its partitions. Make the plan with: plan --table-sectors %u",
        target->path, size, bytes, size);
}

const char *ek_target_identity(const EkTarget *target)
{
    return target->identity;
}

gboolean ek_target_read(EkTarget *target, EkByte first, guint8 *buffer, gsize length,
                        GError **error)
{
    for (gsize done = 0; done < length;) {
        ssize_t got = pread(target->fd, buffer + done, length - done, (off_t)(first + done));
        if (got < 0 && errno == EINTR)
            continue;
        if (got <= 0)
            return ek_error_from_errno(error, EK_ERROR_FAILED, got < 0 ? errno : EIO,
                                       "cannot read %s at byte %" G_GUINT64_FORMAT, target->path,
                                       first + done);
        done += (gsize)got;
    }
    return TRUE;
}

gboolean ek_target_write(EkTarget *target, EkByte first, const guint8 *data, gsize length,
                         GError **error)
{
    for (gsize done = 0; done < length;) {
        ssize_t put = pwrite(target->fd, data + done, length - done, (off_t)(first + done));
        if (put < 0 && errno == EINTR)
            continue;
        if (put < 0)
            return ek_error_from_errno(error, EK_ERROR_FAILED, errno,
                                       "cannot write %s at byte %" G_GUINT64_FORMAT, target->path,
                                       first + done);
        done += (gsize)put;
    }
    return TRUE;
}

gboolean ek_target_blank(EkTarget *target, GError **error)
{
    if (ftruncate(target->fd, 0) != 0 || ftruncate(target->fd, (off_t)target->bytes) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot clear %s", target->path);
    return TRUE;
}

void ek_target_reread(EkTarget *target)
{
    if (target->is_device)
        ek_platform_reread_table(target->fd);
}

gboolean ek_target_sync(EkTarget *target, GError **error)
{
    if (fsync(target->fd) != 0)
        return ek_error_from_errno(error, EK_ERROR_FAILED, errno,
                                   "cannot flush %s to stable storage", target->path);
    /* Only a hint: reading back shall ask the drive, not the cache. */
    (void)posix_fadvise(target->fd, 0, 0, POSIX_FADV_DONTNEED);
    return TRUE;
}
