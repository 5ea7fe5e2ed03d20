/* SPDX-License-Identifier: MIT */
/* A block device as a source: read-only, exclusive, past the page cache, in which one bad sector
 * would cost its whole page. */
#include "base/platform.h"
#include "device/childreader.h"
#include "device/device.h"
#include "device/system.h"

#include <errno.h>
#include <fcntl.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#define MAX_TRANSFER (1u << 20)
#define LEAST_TRANSFER (64u << 10)

typedef struct {
    EkDevice device;
    int fd; /* -1: released */
    EkChildReader *reader;
    gboolean shall_unlock; /* the kernel's read-only switch is put back at the end */
    char *drive_node;      /* of the drive that a partition is on; NULL: not known */
    gint64 timeout;        /* µs after which the kernel gives a command up; 0: not known */
} BlockDevice;

/* A drive that dropped off the bus has no size any more. */
static gboolean is_there(const BlockDevice *block)
{
    EkByte bytes = 0;
    return ek_platform_device_bytes(block->fd, &bytes) == 0 && bytes > 0;
}

static EkReadOutcome failed(const BlockDevice *block, guint32 good, int errnum, gint64 took)
{
    EkReadOutcome outcome = ek_read_failed(good, errnum);
    if (!outcome.gone && !is_there(block))
        return ek_read_failed(good, ENODEV);
    /* The kernel says the same of a bad sector and of a command that it gave up; the time tells. */
    if (errnum == EIO && block->timeout > 0 && took >= block->timeout)
        outcome.reason = EK_REASON_TIMEOUT;
    return outcome;
}

static EkReadOutcome block_read(EkDevice *device, EkSector first, guint32 count, guint8 *buffer)
{
    BlockDevice *block = (BlockDevice *)device;
    guint32 size = device->info.sector_size;
    gsize wanted = (gsize)count * size;
    gsize done = 0;

    if (block->fd < 0)
        return ek_read_failed(0, ENODEV);
    while (done < wanted) {
        gsize part = MIN(wanted - done, device->info.max_transfer);
        gint64 began = g_get_monotonic_time();
        EkChildReaderAnswer answer = ek_child_reader_read(block->reader, first * size + done,
                                                          buffer + done, part, device->cancel);
        if (answer.abandoned)
            return (EkReadOutcome){.good = (guint32)(done / size),
                                   .reason = EK_REASON_TIMEOUT,
                                   .abandoned = TRUE,
                                   .errnum = answer.errnum};
        gsize got = answer.got > 0 ? (gsize)answer.got - (gsize)answer.got % size : 0;
        done += got;
        if (got == part)
            continue;
        /* Nothing, and no reason: past the end. The device shrank, which a vanished one does. */
        int errnum = answer.errnum != 0 ? answer.errnum : answer.got > 0 ? EIO : ENODEV;
        return failed(block, (guint32)(done / size), errnum, g_get_monotonic_time() - began);
    }
    return (EkReadOutcome){.good = count};
}

/* Lets go of the node: a drive that comes back is opened anew, which an exclusive opening of ours
 * would stand in the way of. */
static void block_release(EkDevice *device)
{
    BlockDevice *block = (BlockDevice *)device;
    if (block->fd < 0)
        return;
    g_clear_pointer(&block->reader, ek_child_reader_free);
    if (block->shall_unlock)
        (void)ek_platform_set_read_only(block->fd, FALSE);
    close(block->fd);
    block->fd = -1;
}

static void block_health(EkDevice *device, EkHealth *health)
{
    const BlockDevice *block = (const BlockDevice *)device;
    ek_health_ask(block->drive_node != NULL ? block->drive_node : device->info.path, FALSE,
                  device->cancel, health);
}

static void block_close(EkDevice *device)
{
    block_release(device);
    g_free(((BlockDevice *)device)->drive_node);
    g_free(device);
}

static const EkDeviceClass block_class = {
    .read = block_read, .release = block_release, .health = block_health, .close = block_close};

/* From here on the kernel itself refuses writes. Not everybody may ask for that, and we write
 * nothing anyway. Loop and NBD nodes are given to other files later, and get back what they had; a
 * drive stays locked for as long as it is plugged in. */
static gboolean lock_node(int fd, gboolean *shall_unlock)
{
    struct stat st;
    *shall_unlock = FALSE;
    if (fstat(fd, &st) != 0 || ek_platform_is_read_only(fd) ||
        ek_platform_set_read_only(fd, TRUE) != 0)
        return FALSE;
    *shall_unlock = ek_platform_is_lent(st.st_rdev);
    return TRUE;
}

static int open_exclusively(const char *path)
{
    int flags = O_RDONLY | O_EXCL | O_CLOEXEC;
    int fd = ek_platform_open_direct(path, flags);
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
                         "%s is in use (mounted or held by another program). Unmount or release "
                         "it, then try again",
                         path);
        else if (errnum == ENOMEDIUM || errnum == ENXIO || errnum == ENODEV)
            ek_error_set(error, EK_ERROR_GONE, "%s does not answer: %s", path, g_strerror(errnum));
        else if (errnum == EACCES || errnum == EPERM)
            ek_error_set(error, EK_ERROR_FAILED,
                         "cannot open %s: only root may read a drive. Run the command as root, for "
                         "example with sudo",
                         path);
        else
            ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot open %s", path);
        return NULL;
    }

    guint32 logical = 0;
    guint32 physical = 0;
    EkByte bytes = 0;
    if (ek_platform_sector_sizes(fd, &logical, &physical) != 0 ||
        ek_platform_device_bytes(fd, &bytes) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot ask %s for its size", path);
        close(fd);
        return NULL;
    }
    gboolean shall_unlock = FALSE;
    gboolean locked = !look_only && lock_node(fd, &shall_unlock);

    guint32 most = ek_platform_transfer_most(fd);
    guint32 transfer = most > 0 ? CLAMP(most, LEAST_TRANSFER, MAX_TRANSFER) : MAX_TRANSFER;
    transfer = MAX(transfer - transfer % physical, physical);

    EkChildReader *reader = ek_child_reader_new(fd, transfer);
    if (reader == NULL) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot start a reader for %s", path);
        close(fd);
        return NULL;
    }
    BlockDevice *block = g_new0(BlockDevice, 1);
    block->fd = fd;
    block->reader = reader;
    block->device.class = &block_class;
    block->device.info = (EkDeviceInfo){
        .kind = EK_DEVICE_BLOCK,
        .path = g_strdup(path),
        .sector_size = logical,
        .physical_sector_size = physical,
        .bytes = bytes,
        .max_transfer = transfer,
        .locked = locked && !shall_unlock,
    };
    block->shall_unlock = shall_unlock;
    g_autoptr(EkSystem) system = ek_system_new(NULL);
    g_autoptr(EkDrive) drive = ek_system_drive_of_path(system, path);
    if (drive != NULL) {
        block->device.info.model = g_strdup(drive->model);
        block->device.info.serial = g_strdup(drive->serial);
        block->drive_node = g_strdup(drive->path);
        block->timeout = (gint64)drive->timeout_seconds * G_USEC_PER_SEC;
    }
    return &block->device;
}
