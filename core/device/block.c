/* SPDX-License-Identifier: MIT */
/* A block device as a source: read-only, exclusive, past the page cache, in which one bad sector
 * would cost its whole page. */
#include "device/device.h"
#include "device/system.h"

#include <errno.h>
#include <fcntl.h>
#include <linux/fs.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#define MAX_TRANSFER (1u << 20)

typedef struct {
    EkDevice device;
    int fd;
} BlockDevice;

static EkReadOutcome block_read(EkDevice *device, EkSector first, guint32 count, guint8 *buffer)
{
    BlockDevice *block = (BlockDevice *)device;
    guint32 size = device->info.sector_size;
    gsize wanted = (gsize)count * size;
    gsize done = 0;

    while (done < wanted) {
        ssize_t got = pread(block->fd, buffer + done, wanted - done, (off_t)(first * size + done));
        if (got < 0 && errno == EINTR)
            continue;
        if (got < 0)
            return ek_read_failed((guint32)(done / size), errno);
        if (got == 0) /* past the end: the device shrank, which a vanished one does */
            return ek_read_failed((guint32)(done / size), ENODEV);
        done += (gsize)got - (gsize)got % size;
        if ((gsize)got < size)
            return ek_read_failed((guint32)(done / size), EIO);
    }
    return (EkReadOutcome){.good = count};
}

static void block_close(EkDevice *device)
{
    BlockDevice *block = (BlockDevice *)device;
    close(block->fd);
    g_free(block);
}

static const EkDeviceClass block_class = {.read = block_read, .close = block_close};

static int open_exclusively(const char *path)
{
    int flags = O_RDONLY | O_EXCL | O_CLOEXEC;
    int fd = open(path, flags | O_DIRECT);
    if (fd < 0 && errno == EINVAL)
        fd = open(path, flags);
    return fd;
}

EkDevice *ek_block_open(const char *path, gboolean look_only, GError **error)
{
    int fd = open_exclusively(path);
    if (fd < 0) {
        int errnum = errno;
        if (errnum == EBUSY)
            ek_error_set(error, EK_ERROR_REFUSED,
                         "%s is in use: something on this machine has it mounted or holds it. "
                         "Release it, then try again",
                         path);
        else if (errnum == ENOMEDIUM || errnum == ENXIO || errnum == ENODEV)
            ek_error_set(error, EK_ERROR_GONE, "%s does not answer: %s", path, g_strerror(errnum));
        else
            ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot open %s", path);
        return NULL;
    }

    int logical = 0;
    unsigned physical = 0;
    guint64 bytes = 0;
    if (ioctl(fd, BLKSSZGET, &logical) != 0 || ioctl(fd, BLKGETSIZE64, &bytes) != 0 ||
        logical <= 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot ask %s for its size", path);
        close(fd);
        return NULL;
    }
    if (ioctl(fd, BLKPBSZGET, &physical) != 0 || physical < (unsigned)logical)
        physical = (unsigned)logical;
    /* A second lock on the door: from here on the kernel itself refuses writes. Not everybody may
     * ask for that, and we write nothing anyway. */
    int read_only = 1;
    if (!look_only)
        (void)ioctl(fd, BLKROSET, &read_only);

    BlockDevice *block = g_new0(BlockDevice, 1);
    block->fd = fd;
    block->device.class = &block_class;
    block->device.info = (EkDeviceInfo){
        .kind = EK_DEVICE_BLOCK,
        .path = g_strdup(path),
        .sector_size = (guint32)logical,
        .physical_sector_size = physical,
        .bytes = bytes,
        .max_transfer = MAX_TRANSFER,
    };
    g_autoptr(EkSystem) system = ek_system_new(NULL);
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, path);
    if (drive != NULL) {
        block->device.info.model = g_strdup(drive->model);
        block->device.info.serial = g_strdup(drive->serial);
    }
    return &block->device;
}
