/* SPDX-License-Identifier: MIT */
/* A regular file as a source. Its holes are told to those who ask, so that nobody reads them. */
#include "base/bytes.h"
#include "base/platform.h"
#include "device/device.h"

#include <errno.h>
#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

typedef struct {
    EkDevice device;
    int fd;
} FileDevice;

static EkReadOutcome file_read(EkDevice *device, EkSector first, guint32 count, guint8 *buffer)
{
    FileDevice *file = (FileDevice *)device;
    const EkDeviceInfo *info = &device->info;
    gsize wanted = (gsize)count * info->sector_size;
    EkByte here = ek_device_bytes_of(info, first, count);
    gsize done = 0;

    while (done < here) {
        ssize_t got = pread(file->fd, buffer + done, (gsize)(here - done),
                            (off_t)(first * info->sector_size + done));
        if (got < 0 && errno == EINTR)
            continue;
        if (got <= 0) /* 0: the file was cut short meanwhile */
            return ek_read_failed((guint32)(done / info->sector_size), got < 0 ? errno : EIO);
        done += (gsize)got;
    }
    memset(buffer + done, 0, wanted - done);
    return (EkReadOutcome){.good = count};
}

static gboolean file_next_data(EkDevice *device, EkSector from, EkSector *first, EkSector *count)
{
    FileDevice *file = (FileDevice *)device;
    guint32 size = device->info.sector_size;
    EkSector end = device->info.sectors;

    EkRange data;

    if (!ek_platform_next_data(file->fd, from * size, end * size, &data))
        return FALSE;
    *first = MAX(from, data.first / size);
    EkSector stop = MIN(end, ek_divide_up(ek_range_end(data), size));
    *count = stop > *first ? stop - *first : end - *first;
    return TRUE;
}

static void file_close(EkDevice *device)
{
    FileDevice *file = (FileDevice *)device;
    close(file->fd);
    g_free(file);
}

static const EkDeviceClass file_class = {
    .read = file_read,
    .next_data = file_next_data,
    .close = file_close,
};

EkDevice *ek_file_open(const char *path, guint32 sector_size, GError **error)
{
    if (!ek_is_power_of_two(sector_size) || sector_size < 512 || sector_size > 65536) {
        ek_error_set(error, EK_ERROR_UNSUPPORTED,
                     "a sector size of %u is not a power of two from 512 to 65536", sector_size);
        return NULL;
    }
    int fd = open(path, O_RDONLY | O_CLOEXEC);
    struct stat st;
    if (fd < 0 || fstat(fd, &st) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot open %s", path);
        if (fd >= 0)
            close(fd);
        return NULL;
    }
    posix_fadvise(fd, 0, 0, POSIX_FADV_SEQUENTIAL);

    FileDevice *file = g_new0(FileDevice, 1);
    file->fd = fd;
    file->device.class = &file_class;
    file->device.info = (EkDeviceInfo){
        .kind = EK_DEVICE_FILE,
        .path = g_strdup(path),
        .sector_size = sector_size,
        .physical_sector_size = sector_size,
        .bytes = (EkByte)st.st_size,
        .max_transfer = 4u << 20,
    };
    return &file->device;
}
