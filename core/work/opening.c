/* SPDX-License-Identifier: MIT */
#include "work/opening.h"

#include "device/device.h"
#include "image/image.h"
#include "work/guard.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <string.h>
#include <unistd.h>

/* The source with an absolute path, so that the case works from any folder. */
static char *absolute_source(const char *source)
{
    gboolean simulated = g_str_has_prefix(source, "sim:");
    if (!simulated && strstr(source, "://") != NULL)
        return g_strdup(source);
    g_autofree char *path =
        g_canonicalize_filename(simulated ? source + strlen("sim:") : source, NULL);
    return g_strconcat(simulated ? "sim:" : "", path, NULL);
}

/* Takes away what a failed opening has made. */
static void clean_up(const EkOpening *opening, const char *image, gboolean made_image)
{
    static const char *const names[] = {"case.db", "case.db-wal", "case.db-shm",
                                        "map.db",  "map.db-wal",  "map.db-shm"};
    if (made_image)
        unlink(image);
    for (gsize i = 0; i < G_N_ELEMENTS(names); i++) {
        g_autofree char *path = g_build_filename(opening->folder, names[i], NULL);
        unlink(path);
    }
    rmdir(opening->folder);
}

static EkCase *make_case(const EkOpening *opening, const EkDeviceInfo *device, const char *source,
                         const char *image, GError **error)
{
    EkCaseInfo info = {
        .source = (char *)source,
        .kind = (char *)ek_device_kind_name(device->kind),
        .path = (char *)(g_str_has_prefix(source, "sim:") ? source + strlen("sim:") : source),
        .model = device->model,
        .serial = device->serial,
        .image = (char *)image,
        .verified = TRUE,
        .sector_size = device->sector_size,
        .physical_sector_size = device->physical_sector_size,
        .bytes = device->bytes,
        .sectors = device->sectors,
    };
    if (g_mkdir_with_parents(opening->folder, 0777) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the folder %s",
                            opening->folder);
        return NULL;
    }
    gboolean made_image = ek_image_create(image, device->bytes, error);
    EkCase *made = made_image ? ek_case_create(opening->folder, &info, error) : NULL;
    if (made == NULL)
        clean_up(opening, image, made_image);
    return made;
}

EkCase *ek_opening_make(EkSystem *system, const EkOpening *opening, GError **error)
{
    EkDeviceOptions options = {.sector_size = opening->sector_size};
    g_autofree char *source = absolute_source(opening->source);
    if (!ek_case_check_absent(opening->folder, error) ||
        !ek_guard_source(system, source, !opening->allow_partition, error))
        return NULL;
    g_autofree char *image = opening->image != NULL
                                 ? g_canonicalize_filename(opening->image, NULL)
                                 : g_build_filename(opening->folder, "image.raw", NULL);
    if (!ek_guard_apart(system, opening->folder, source, "the case", error) ||
        !ek_guard_apart(system, image, source, "the image", error))
        return NULL;
    if (g_file_test(image, G_FILE_TEST_EXISTS)) {
        ek_error_set(error, EK_ERROR_REFUSED, "the image %s exists. Name a file that does not",
                     image);
        return NULL;
    }
    g_autoptr(EkDevice) device = ek_device_open(source, &options, error);
    if (device == NULL)
        return NULL;
    const EkDeviceInfo *info = ek_device_info(device);
    if (!opening->allow_short_space && !ek_guard_space(image, info->bytes, "the image", error))
        return NULL;
    return make_case(opening, info, source, image, error);
}
