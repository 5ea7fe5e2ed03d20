/* SPDX-License-Identifier: MIT */
#include "work/imaging.h"

#include "base/text.h"
#include "case/mapstore.h"
#include "work/guard.h"

struct EkImaging {
    EkView view;
    EkLock *lock;
    EkDevice *device;
    EkImage *image; /* the one that is written to */
    EkCapture *capture;
    gint64 event;
};

gboolean ek_imaging_is_complete(const char *folder, EkKeptState *state, EkByte *bytes,
                                guint32 *sector_size, GError **error)
{
    g_autoptr(EkCase) opened = ek_case_open(folder, FALSE, error);
    if (opened == NULL || !ek_mapstore_state(opened, state, error))
        return FALSE;
    const EkCaseInfo *info = ek_case_info(opened);
    g_autoptr(EkImage) image = ek_image_open(info->image, info->bytes, FALSE, error);
    if (image == NULL)
        return FALSE;
    *bytes = info->bytes;
    *sector_size = info->sector_size;
    return state->totals[EK_STATE_UNTOUCHED] + state->totals[EK_STATE_SET_ASIDE] == 0;
}

/* Is what answers there of the size this case was opened with? What it holds is checked by the
 * capture itself. */
static gboolean check_size(const EkCaseInfo *info, const EkDeviceInfo *device, GError **error)
{
    if (info->bytes == device->bytes && info->sector_size == device->sector_size)
        return TRUE;
    return ek_error_set(error, EK_ERROR_GONE,
                        "%s has %" G_GUINT64_FORMAT " bytes in sectors of %u now, the drive of "
                        "this case has %" G_GUINT64_FORMAT " in sectors of %u. It is another "
                        "drive, or an adapter that shows it otherwise: nothing was read",
                        device->path, device->bytes, device->sector_size, info->bytes,
                        info->sector_size);
}

static gboolean open_source(EkImaging *imaging, EkSystem *system, GError **error)
{
    const EkCaseInfo *info = ek_case_info(imaging->view.opened);
    EkDeviceOptions options = {.sector_size = info->sector_size};
    if (!ek_guard_source(system, info->source, FALSE, error) ||
        !ek_guard_apart(system, info->image, info->path, "the image", error))
        return FALSE;
    imaging->device = ek_device_open(info->source, &options, error);
    return imaging->device != NULL && check_size(info, ek_device_info(imaging->device), error);
}

static gboolean check_space(EkImaging *imaging, GError **error)
{
    const EkCaseInfo *info = ek_case_info(imaging->view.opened);
    EkSector left = ek_read_map_total(imaging->view.map, EK_STATE_UNTOUCHED) +
                    ek_read_map_total(imaging->view.map, EK_STATE_SET_ASIDE);
    return ek_guard_space(info->image, left * info->sector_size, "the rest of the image", error);
}

EkImaging *ek_imaging_new(EkSystem *system, const char *folder, const char *options,
                          gboolean allow_short_space, const gint *cancel, GError **error)
{
    g_autoptr(EkImaging) imaging = g_new0(EkImaging, 1);
    EkKeptState state;
    if (!ek_view_open_locked(&imaging->view, folder, EK_LOCK_IMAGING, &imaging->lock, error) ||
        !ek_mapstore_state(imaging->view.opened, &state, error) ||
        !open_source(imaging, system, error) ||
        (!allow_short_space && !check_space(imaging, error)))
        return NULL;
    const EkCaseInfo *info = ek_case_info(imaging->view.opened);
    imaging->image = ek_image_open(info->image, info->bytes, TRUE, error);
    if (imaging->image == NULL)
        return NULL;
    ek_device_recall(imaging->device,
                     (EkDeviceMemory){state.device_clock, state.device_used});
    imaging->event = ek_event_begin(imaging->view.opened, "image", options, error);
    if (imaging->event == 0)
        return NULL;
    EkCaptureParts parts = {
        .device = imaging->device,
        .image = imaging->image,
        .kept = ek_overlay_is_empty(imaging->view.kept) ? NULL : imaging->view.kept,
        .map = imaging->view.map,
        .event = (guint32)imaging->event,
        .failed_commands = state.failed_commands,
        .sink = ek_mapstore_sink(imaging->view.opened),
        .cancel = cancel,
    };
    imaging->capture = ek_capture_new(&parts);
    return g_steal_pointer(&imaging);
}

void ek_imaging_free(EkImaging *imaging)
{
    g_clear_pointer(&imaging->capture, ek_capture_free);
    g_clear_pointer(&imaging->image, ek_image_close);
    g_clear_pointer(&imaging->device, ek_device_close);
    g_clear_pointer(&imaging->lock, ek_lock_release);
    ek_view_close(&imaging->view);
    g_free(imaging);
}

const EkCaseInfo *ek_imaging_info(EkImaging *imaging)
{
    return ek_case_info(imaging->view.opened);
}

EkCaptureProgress ek_imaging_progress(EkImaging *imaging)
{
    return ek_capture_progress(imaging->capture);
}

EkSector ek_imaging_last_position(EkImaging *imaging)
{
    return ek_capture_last_position(imaging->capture);
}

static const char *outcome_of(EkCaptureEnd end)
{
    switch (end) {
    case EK_CAPTURE_COMPLETE: return "done";
    case EK_CAPTURE_CANCELLED: return "interrupted";
    case EK_CAPTURE_STOPPED: return "the drive stopped reading";
    case EK_CAPTURE_GONE: return "the drive vanished";
    case EK_CAPTURE_STRANGER: return "another drive";
    case EK_CAPTURE_FAILED: break;
    }
    return "failed";
}

EkCaptureEnd ek_imaging_run(EkImaging *imaging, GError **error)
{
    GError *failure = NULL;
    EkCaptureEnd end = ek_capture_run(imaging->capture, &failure);
    EkCaptureProgress now = ek_imaging_progress(imaging);
    g_autofree char *read = ek_text_size(now.read_bytes);
    g_autofree char *detail =
        failure != NULL
            ? g_strdup(failure->message)
            : g_strdup_printf("%s read; %" G_GUINT64_FORMAT " sectors good, %" G_GUINT64_FORMAT
                              " bad, %" G_GUINT64_FORMAT " left",
                              read, now.totals[EK_STATE_GOOD], now.totals[EK_STATE_BAD],
                              now.totals[EK_STATE_UNTOUCHED] + now.totals[EK_STATE_SET_ASIDE]);
    GError *unlogged = NULL;
    if (!ek_event_end(imaging->view.opened, imaging->event, outcome_of(end), detail, &unlogged)) {
        /* The image and its map are kept; only the log lacks a line. */
        if (failure == NULL && end == EK_CAPTURE_COMPLETE)
            end = EK_CAPTURE_FAILED;
        if (failure == NULL && end == EK_CAPTURE_FAILED)
            failure = g_steal_pointer(&unlogged);
        g_clear_error(&unlogged);
    }
    if (failure != NULL)
        g_propagate_error(error, failure);
    return end;
}
