/* SPDX-License-Identifier: MIT */
/* Opening a case for a drive. */
#include "work/opening.h"

#include "case/mapstore.h"
#include "device/device.h"
#include "image/image.h"
#include "work/ownimage.h"

#include <errno.h>
#include <fcntl.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <stdlib.h>
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

/* --- a folder that is there as a whole or not at all ----------------------------------------- */

/* A folder beside the one that it will be, under a name of its own. NULL with *error. */
static char *make_draft(const char *folder, GError **error)
{
    g_autofree char *full = g_canonicalize_filename(folder, NULL);
    g_autofree char *parent = g_path_get_dirname(full);
    g_autofree char *name = g_path_get_basename(full);
    g_autofree char *draft = g_strdup_printf("%s/.%.200s.ektypon-new-XXXXXX", parent, name);
    if (g_mkdir_with_parents(parent, 0777) == 0 && g_mkdtemp_full(draft, 0777) != NULL)
        return g_steal_pointer(&draft);
    ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot make the folder %s", folder);
    return NULL;
}

static void discard_draft(const char *draft)
{
    g_autoptr(GPtrArray) names = g_ptr_array_new_with_free_func(g_free);
    GDir *inside = g_dir_open(draft, 0, NULL);
    for (const char *name; inside != NULL && (name = g_dir_read_name(inside)) != NULL;)
        g_ptr_array_add(names, g_build_filename(draft, name, NULL));
    if (inside != NULL)
        g_dir_close(inside);
    for (guint i = 0; i < names->len; i++)
        if (unlink(names->pdata[i]) != 0)
            rmdir(names->pdata[i]);
    rmdir(draft);
}

static void sync_folder(const char *folder)
{
    int fd = open(folder, O_RDONLY | O_DIRECTORY | O_CLOEXEC);
    if (fd < 0)
        return;
    (void)fsync(fd);
    close(fd);
}

/* Gives the draft its name. An empty folder of that name is replaced, nothing else is. */
static gboolean name_draft(const char *draft, const char *folder, GError **error)
{
    g_autofree char *full = g_canonicalize_filename(folder, NULL);
    g_autofree char *parent = g_path_get_dirname(full);
    sync_folder(draft);
    if (rename(draft, full) != 0) {
        int errnum = errno;
        if (errnum == ENOTEMPTY || errnum == EEXIST || errnum == ENOTDIR)
            return ek_error_set(
                error, EK_ERROR_REFUSED,
                "%s is something already: another command made it meanwhile. Name a "
                "folder that does not exist yet",
                folder);
        return ek_error_from_errno(error, EK_ERROR_FAILED, errnum, "cannot make the folder %s",
                                   folder);
    }
    sync_folder(parent);
    return TRUE;
}

/* --- making --- */

/* A case whose folder is still a draft. */
typedef struct {
    const EkOpening *opening;
    EkSystem *system;
    const char *source; /* absolute */
    char *draft;
    char *image;         /* where it is made: in the draft, or where the user wants it */
    gboolean made_image; /* outside of the draft */
    gboolean marked;
} Making;

static void making_clear(Making *making, gboolean failed)
{
    if (failed && making->marked)
        ek_ownimage_unmark(making->image);
    if (failed && making->made_image)
        unlink(making->image);
    if (failed && making->draft != NULL)
        discard_draft(making->draft);
    g_free(making->draft);
    g_free(making->image);
}

static gboolean make_image(Making *making, EkByte bytes, GError **error)
{
    const char *wanted = making->opening->image;
    gboolean on_device = wanted != NULL && ek_device_is_at(wanted);
    making->image = wanted != NULL ? g_canonicalize_filename(wanted, NULL)
                                   : g_build_filename(making->draft, "image.raw", NULL);
    if (on_device)
        return ek_image_claim_device(making->image, bytes, error);
    if (!ek_image_create(making->image, bytes, error))
        return FALSE;
    making->made_image = wanted != NULL;
    return TRUE;
}

static gboolean make_stores(Making *making, const EkDeviceInfo *device, GError **error)
{
    EkCaseInfo info = {
        .source = (char *)making->source,
        .kind = (char *)ek_device_kind_name(device->kind),
        .path = (char *)(g_str_has_prefix(making->source, "sim:") ? making->source + strlen("sim:")
                                                                  : making->source),
        .model = device->model,
        .serial = device->serial,
        .image = making->image,
        .verified = TRUE,
        .sector_size = device->sector_size,
        .physical_sector_size = device->physical_sector_size,
        .bytes = device->bytes,
        .sectors = device->sectors,
    };
    g_autofree char *machine = ek_system_machine(making->system);
    g_autoptr(EkCaseSource) source =
        ek_guard_describe_source(making->system, making->source, info.kind, device->bytes);
    g_autoptr(EkCase) made = ek_case_create(making->draft, &info, machine, error);
    if (made == NULL || !ek_case_add_source(made, source, error) ||
        (making->opening->allow_short_space && !ek_case_allow_short_space(made, error)))
        return FALSE;
    if (!making->made_image)
        return TRUE;
    making->marked = ek_ownimage_mark(making->image, ek_case_info(made)->id, error);
    return making->marked;
}

static EkCase *make_case(EkSystem *system, const EkOpening *opening, const EkDeviceInfo *device,
                         const char *source, GError **error)
{
    Making making = {.opening = opening, .system = system, .source = source};
    making.draft = make_draft(opening->folder, error);
    gboolean fine = making.draft != NULL && make_image(&making, device->bytes, error) &&
                    make_stores(&making, device, error) &&
                    name_draft(making.draft, opening->folder, error);
    making_clear(&making, !fine);
    return fine ? ek_case_open(opening->folder, TRUE, error) : NULL;
}

/* Everything that must hold before anything is made. */
static gboolean check_places(EkSystem *system, const EkOpening *opening, const char *image,
                             const char *source, const EkDeviceInfo *device, GError **error)
{
    g_autoptr(EkCaseSource) described =
        ek_guard_describe_source(system, source, ek_device_kind_name(device->kind), device->bytes);
    EkGuard guard = {.system = system, .source = described};
    if (!ek_guard_output(&guard, opening->folder, "the case", error) ||
        !ek_guard_image(&guard, image, error))
        return FALSE;
    if (g_file_test(image, G_FILE_TEST_EXISTS) && !ek_device_is_at(image))
        return ek_error_set(error, EK_ERROR_REFUSED,
                            "the image %s exists. Name a file that does not exist", image);
    return opening->allow_short_space || ek_guard_image_space(image, device->bytes, error);
}

EkCase *ek_opening_make(EkSystem *system, EkOpening *opening, GError **error)
{
    EkDeviceOptions options = {.sector_size = opening->sector_size, .cancel = opening->cancel};
    g_autofree char *source = absolute_source(opening->source);
    if (!ek_case_check_absent(opening->folder, error) ||
        !ek_guard_source(system, source, !opening->allow_partition, error))
        return NULL;
    g_autofree char *image = opening->image != NULL
                                 ? g_canonicalize_filename(opening->image, NULL)
                                 : g_build_filename(opening->folder, "image.raw", NULL);
    g_autoptr(EkDevice) device = ek_device_open(source, &options, error);
    if (device == NULL)
        return NULL;
    const EkDeviceInfo *info = ek_device_info(device);
    if (!check_places(system, opening, image, source, info, error))
        return NULL;
    EkCase *made = make_case(system, opening, info, source, error);
    if (made != NULL && opening->told != NULL)
        *opening->told = info->locked;
    opening->is_drive = ek_device_is_drive(device);
    if (made != NULL && opening->health != NULL)
        ek_device_health(device, opening->health);
    return made;
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
    EkImageWriterSink sink = ek_mapstore_sink(made);
    return sink.commit(sink.data, changes, NULL, 0, &state, error) &&
           ek_sql_do(ek_case_map(made), error, "UPDATE totals SET has_sums=0", "");
}

/* What is adopted, as far as the case can hold it. */
static gboolean look_at_image(const EkAdoption *adoption, const char *image, EkDeviceInfo *device,
                              GError **error)
{
    g_autoptr(EkDevice) file =
        ek_file_open(image, adoption->sector_size != 0 ? adoption->sector_size : EK_STEP, error);
    if (file == NULL)
        return FALSE;
    *device = *ek_device_info(file);
    device->path = (char *)image;
    if (device->bytes == 0)
        return ek_error_set(error, EK_ERROR_ABSENT, "%s is empty: no image", image);
    return ek_device_count_sectors(device, error);
}

static gboolean adopt_into(EkSystem *system, const EkAdoption *adoption, const char *draft,
                           const char *image, GError **error)
{
    EkDeviceInfo device;
    g_autofree char *source = g_strconcat(EK_ADOPTED_PREFIX, image, NULL);
    g_autofree char *machine = ek_system_machine(system);
    if (!look_at_image(adoption, image, &device, error))
        return FALSE;
    EkCaseInfo info = {
        .source = source,
        .kind = (char *)"adopted",
        .path = (char *)image,
        .image = (char *)image,
        .verified = adoption->has_list,
        .sector_size = device.sector_size,
        .physical_sector_size = device.sector_size,
        .bytes = device.bytes,
        .sectors = device.sectors,
    };
    g_autoptr(EkCaseSource) described =
        ek_guard_describe_source(system, image, info.kind, info.bytes);
    g_autoptr(EkCase) made = ek_case_create(draft, &info, machine, error);
    return made != NULL && ek_case_add_source(made, described, error) &&
           store_map(made, adoption, error);
}

EkCase *ek_opening_adopt(EkSystem *system, const EkAdoption *adoption, GError **error)
{
    g_autofree char *image = g_canonicalize_filename(adoption->image, NULL);
    if (!ek_case_check_absent(adoption->folder, error))
        return NULL;
    g_autofree char *draft = make_draft(adoption->folder, error);
    if (draft == NULL)
        return NULL;
    if (adopt_into(system, adoption, draft, image, error) &&
        name_draft(draft, adoption->folder, error))
        return ek_case_open(adoption->folder, TRUE, error);
    discard_draft(draft);
    return NULL;
}
