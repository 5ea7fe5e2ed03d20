/* SPDX-License-Identifier: MIT */
#include "work/opening.h"

#include "case/mapstore.h"
#include "device/device.h"
#include "image/image.h"
#include "work/guard.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <string.h>
#include <sys/stat.h>
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

static gboolean is_block_device(const char *path)
{
    struct stat st;
    return stat(path, &st) == 0 && S_ISBLK(st.st_mode);
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
    gboolean on_device = is_block_device(image);
    gboolean has_image = on_device ? ek_image_claim_device(image, device->bytes, error)
                                   : ek_image_create(image, device->bytes, error);
    EkCase *made = has_image ? ek_case_create(opening->folder, &info, error) : NULL;
    if (made == NULL)
        clean_up(opening, image, has_image && !on_device);
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
    if (!ek_guard_free(system, image, error))
        return NULL;
    if (g_file_test(image, G_FILE_TEST_EXISTS) && !is_block_device(image)) {
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

/* --- adopting --- */

/* The map of an image that was made elsewhere. What the list cuts through is not good. */
static EkReadMap *adopted_map(const EkAdoption *adoption, const EkCaseInfo *info)
{
    EkReadMap *map = ek_read_map_new(info->sectors);
    EkMark good = {EK_STATE_GOOD, EK_REASON_NONE, 0, 1};
    EkMark bad = {EK_STATE_BAD, EK_REASON_MEDIUM, 1, 1};
    guint64 size = info->sector_size;
    ek_read_map_set(map, 0, info->sectors, adoption->means_good ? bad : good);
    for (gsize i = 0; i < adoption->count; i++) {
        EkByte from = adoption->list[i].first;
        EkByte to = ek_range_end(adoption->list[i]);
        if (adoption->means_good && to < info->bytes)
            to -= to % size;
        EkSector first = adoption->means_good ? ek_divide_up(from, size) : from / size;
        EkSector end = ek_divide_up(to, size);
        if (end > first)
            ek_read_map_set(map, first, end - first, adoption->means_good ? good : bad);
    }
    return map;
}

static gboolean store_map(EkCase *made, const EkAdoption *adoption, GError **error)
{
    EkKeptState state = {0};
    g_autoptr(EkReadMap) map = adopted_map(adoption, ek_case_info(made));
    for (int i = 0; i < EK_STATES; i++) {
        state.totals[i] = ek_read_map_total(map, (EkState)i);
        state.stretches[i] = ek_read_map_stretches(map, (EkState)i);
    }
    g_autoptr(GPtrArray) changes = ek_read_map_take_changes(map);
    EkKeeperSink sink = ek_mapstore_sink(made);
    return sink.commit(sink.data, changes, NULL, 0, &state, error) &&
           ek_sql_do(ek_case_map(made), error, "UPDATE totals SET has_sums=0", "");
}

EkCase *ek_opening_adopt(EkSystem *system, const EkAdoption *adoption, GError **error)
{
    EkOpening opening = {.folder = adoption->folder};
    g_autofree char *image = g_canonicalize_filename(adoption->image, NULL);
    g_autofree char *source = g_strconcat(EK_ADOPTED_PREFIX, image, NULL);
    (void)system;
    if (!ek_case_check_absent(adoption->folder, error))
        return NULL;
    g_autoptr(EkDevice) file =
        ek_file_open(image, adoption->sector_size != 0 ? adoption->sector_size : EK_STEP, error);
    if (file == NULL)
        return NULL;
    EkDeviceInfo device = *ek_device_info(file);
    if (device.bytes == 0) {
        ek_error_set(error, EK_ERROR_ABSENT, "%s is empty: no image", image);
        return NULL;
    }
    device.sectors = ek_divide_up(device.bytes, device.sector_size);
    EkCaseInfo info = {
        .source = source,
        .kind = (char *)"adopted",
        .path = image,
        .image = image,
        .verified = adoption->has_list,
        .sector_size = device.sector_size,
        .physical_sector_size = device.sector_size,
        .bytes = device.bytes,
        .sectors = device.sectors,
    };
    if (g_mkdir_with_parents(opening.folder, 0777) != 0) {
        ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the folder %s",
                            opening.folder);
        return NULL;
    }
    g_autoptr(EkCase) made = ek_case_create(opening.folder, &info, error);
    if (made == NULL || !store_map(made, adoption, error)) {
        clean_up(&opening, image, FALSE);
        return NULL;
    }
    return g_steal_pointer(&made);
}
