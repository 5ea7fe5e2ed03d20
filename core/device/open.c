/* SPDX-License-Identifier: MIT */
/* Opens a source by what it is. */
#include "device/device.h"

#include <errno.h>
#include <string.h>
#include <sys/stat.h>

EkDevice *ek_device_open(const char *source, const EkDeviceOptions *options, GError **error)
{
    EkDevice *device = NULL;
    struct stat st;

    if (g_str_has_prefix(source, "sim:")) {
        device = ek_simulated_open(source + strlen("sim:"), error);
    } else if (g_str_has_prefix(source, EK_ADOPTED_PREFIX)) {
        ek_error_set(error, EK_ERROR_UNSUPPORTED,
                     "this case uses an image made elsewhere. To read more of the drive, specify "
                     "it with --source");
    } else if (ek_device_is_uri(source)) {
        guint32 sector_size = options != NULL ? options->sector_size : 0;
        device = ek_nbd_open(source, sector_size != 0 ? sector_size : EK_STEP,
                             options != NULL ? options->cancel : NULL, error);
    } else if (strstr(source, "://") != NULL && stat(source, &st) != 0) {
        ek_error_set(error, EK_ERROR_UNSUPPORTED,
                     "%s: of sources over the network only NBD is read: nbd://HOST/EXPORT or "
                     "nbd+unix:///EXPORT?socket=PATH",
                     source);
    } else if (stat(source, &st) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "%s", source);
    } else if (S_ISBLK(st.st_mode)) {
        device = ek_block_open(source, options != NULL && options->look_only, error);
    } else if (S_ISREG(st.st_mode)) {
        guint32 sector_size = options != NULL ? options->sector_size : 0;
        device = ek_file_open(source, sector_size != 0 ? sector_size : EK_STEP, error);
    } else {
        ek_error_set(error, EK_ERROR_UNSUPPORTED,
                     "%s is a %s. Specify a block device, a file, an NBD URI or sim:PATH", source,
                     S_ISDIR(st.st_mode) ? "folder" : "thing that cannot be read by position");
    }
    if (device == NULL)
        return NULL;

    if (device->info.bytes == 0) {
        ek_error_set(
            error, EK_ERROR_GONE,
            "%s reports size 0: no medium, an empty file, or a drive that failed to initialise",
            source);
        ek_device_close(device);
        return NULL;
    }
    if (!ek_device_count_sectors(&device->info, error)) {
        ek_device_close(device);
        return NULL;
    }
    device->opened_at = g_get_monotonic_time();
    return device;
}
