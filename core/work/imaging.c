/* SPDX-License-Identifier: MIT */
/* Imaging as a job on a case. */
#include "work/imaging.h"

#include "base/text.h"
#include "case/mapstore.h"
#include "work/ownimage.h"
#include "work/tending.h"

#include <unistd.h>

#define POLL_NS ((gint64)1000000000)
#define LONGEST_SIMULATED_WAIT_NS (24 * 3600 * (gint64)1000000000)

struct EkImaging {
    EkView view;
    EkSystem *system; /* the caller's */
    EkImagingChoices choices;
    const gint *cancel;
    EkLock *lock;
    EkDevice *device;
    EkCaseSource *source; /* that is read from */
    EkImage *image;       /* the one that is written to */
    EkCapture *capture;
    EkTending *tending; /* while it runs */
    gint64 event;
    EkByte read_before;  /* by captures that were given up */
    gint waiting;        /* atomic: EkWaiting */
    GMutex capture_lock; /* of which capture there is */
};

gboolean ek_imaging_is_complete(const char *folder, EkKeptState *state, EkByte *bytes,
                                guint32 *sector_size, GError **error)
{
    /* Imaging writes to it anyway: a case of an earlier version is brought up to date. */
    g_autoptr(EkCase) opened = ek_case_open(folder, access(folder, W_OK) == 0, error);
    if (opened == NULL || !ek_mapstore_state(opened, state, error))
        return FALSE;
    const EkCaseInfo *info = ek_case_info(opened);
    g_autoptr(EkImage) image = ek_case_open_image(opened, error);
    if (image == NULL)
        return FALSE;
    *bytes = info->bytes;
    *sector_size = info->sector_size;
    return state->totals[EK_STATE_UNTOUCHED] + state->totals[EK_STATE_SET_ASIDE] == 0;
}

/* Is what answers there of the size this case was opened with? What it holds is checked by the
 * capture itself. An adapter may show other sectors: the case goes on counting in its own. */
static gboolean check_size(const EkCaseInfo *info, EkDevice **device, GError **error)
{
    const EkDeviceInfo *there = ek_device_info(*device);
    if (info->bytes == there->bytes && info->sector_size != there->sector_size) {
        *device = ek_resectored_new(*device, info->sector_size);
        return TRUE;
    }
    if (info->bytes == there->bytes)
        return TRUE;
    return ek_error_set(
        error, EK_ERROR_GONE,
        "%s reports %" G_GUINT64_FORMAT " bytes, but this case's drive has %" G_GUINT64_FORMAT
        ". It is a different drive, or the adapter reports a different size. Nothing was read",
        there->path, there->bytes, info->bytes);
}

static const char *source_of(const EkImaging *imaging)
{
    const EkCaseInfo *info = ek_case_info(imaging->view.opened);
    return imaging->choices.source != NULL ? imaging->choices.source : info->source;
}

static gboolean open_source(EkImaging *imaging, GError **error)
{
    const EkCaseInfo *info = ek_case_info(imaging->view.opened);
    EkDeviceOptions options = {.sector_size = info->sector_size, .cancel = imaging->cancel};
    if (!ek_guard_source(imaging->system, source_of(imaging), FALSE, error))
        return FALSE;
    g_autoptr(EkDevice) device = ek_device_open(source_of(imaging), &options, error);
    if (device == NULL || !check_size(info, &device, error))
        return FALSE;
    ek_device_set_cancel(device, imaging->cancel);
    imaging->device = g_steal_pointer(&device);
    return TRUE;
}

/* The image, for writing: on no source that the case knows, nor on the one it reads from now. */
static gboolean open_image(EkImaging *imaging, GError **error)
{
    const EkDeviceInfo *info = ek_device_info(imaging->device);
    g_clear_pointer(&imaging->source, ek_case_source_free);
    imaging->source = ek_guard_describe_source(imaging->system, source_of(imaging),
                                               ek_device_kind_name(info->kind), info->bytes);
    EkGuard guard = {imaging->system, &imaging->view, imaging->source, imaging->cancel};
    imaging->image = ek_ownimage_open(&guard, imaging->choices.confirmed, error);
    return imaging->image != NULL;
}

static EkByte space_needed(const EkImaging *imaging)
{
    EkSector left = ek_read_map_total(imaging->view.map, EK_STATE_UNTOUCHED) +
                    ek_read_map_total(imaging->view.map, EK_STATE_SET_ASIDE);
    return left * ek_case_info(imaging->view.opened)->sector_size;
}

static gboolean check_space(EkImaging *imaging, GError **error)
{
    const EkCaseInfo *info = ek_case_info(imaging->view.opened);
    return ek_guard_image_space(info->image, space_needed(imaging), error);
}

/* Gives a bad region another chance: to the scheduler it is as if nobody had been there. */
static gboolean reopen_region(EkImaging *imaging, EkKeptState *state, GError **error)
{
    const EkReopening *reopening = &imaging->choices.reopening;
    EkReadMap *map = imaging->view.map;
    EkStretch stretch;
    guint states = EK_STATE_BIT(EK_STATE_BAD) | EK_STATE_BIT(EK_STATE_SET_ASIDE);
    if (!reopening->wanted)
        return TRUE;
    for (EkSector at = 0; ek_read_map_next(map, at, states, &stretch);
         at = stretch.first + stretch.count) {
        if ((reopening->reason != EK_REASON_NONE && stretch.mark.reason != reopening->reason) ||
            (reopening->event != 0 && stretch.mark.event != reopening->event))
            continue;
        ek_read_map_set(map, stretch.first, stretch.count, (EkMark){0});
    }
    for (int i = 0; i < EK_STATES; i++) {
        state->totals[i] = ek_read_map_total(map, (EkState)i);
        state->stretches[i] = ek_read_map_stretches(map, (EkState)i);
    }
    g_autoptr(GPtrArray) changes = ek_read_map_take_changes(map);
    EkImageWriterSink sink = ek_mapstore_sink(imaging->view.opened);
    return sink.commit(sink.data, changes, NULL, 0, state, error);
}

static void on_rest(void *data, gboolean rests)
{
    EkImaging *imaging = data;
    g_atomic_int_set(&imaging->waiting, rests ? EK_WAITING_TO_COOL : EK_WAITING_NOT);
}

static void on_told(void *data, const char *text)
{
    const EkImaging *imaging = data;
    if (imaging->choices.told != NULL)
        imaging->choices.told(imaging->choices.told_data, text);
}

static gboolean look_after(void *data)
{
    EkImaging *imaging = data;
    return ek_tending_look(imaging->tending);
}

static void begin_tending(EkImaging *imaging)
{
    EkTendingParts parts = {
        .opened = imaging->view.opened,
        .event = imaging->event,
        .max_temperature = imaging->choices.max_temperature,
        .cancel = imaging->cancel,
        .rests = on_rest,
        .told = on_told,
        .data = imaging,
    };
    imaging->tending = ek_tending_new(&parts, imaging->device);
}

static void begin_capture(EkImaging *imaging, const EkKeptState *state)
{
    EkCaptureParts parts = {
        .device = imaging->device,
        .image = imaging->image,
        .kept = ek_overlay_is_empty(imaging->view.kept) ? NULL : imaging->view.kept,
        .map = imaging->view.map,
        .event = (guint32)imaging->event,
        .state = *state,
        .sink = ek_mapstore_sink(imaging->view.opened),
        .cancel = imaging->cancel,
        .choices = imaging->choices.capture,
        .prefix = imaging->choices.prefix,
        .data = imaging->choices.data,
        .report = imaging->choices.report,
        .pause_data = imaging,
        .pause = look_after,
    };
    g_mutex_lock(&imaging->capture_lock);
    g_clear_pointer(&imaging->capture, ek_capture_free);
    imaging->capture = ek_capture_new(&parts);
    g_mutex_unlock(&imaging->capture_lock);
}

EkImaging *ek_imaging_new(EkSystem *system, const char *folder, const char *options,
                          const EkImagingChoices *choices, const gint *cancel, GError **error)
{
    g_autoptr(EkImaging) imaging = g_new0(EkImaging, 1);
    EkKeptState state;
    imaging->system = system;
    imaging->choices = *choices;
    imaging->cancel = cancel;
    g_mutex_init(&imaging->capture_lock);
    if (!ek_view_open_locked(&imaging->view, folder, EK_LOCK_IMAGING, &imaging->lock, error) ||
        !ek_mapstore_state(imaging->view.opened, &state, error) || !open_source(imaging, error) ||
        (!choices->allow_short_space && !ek_case_allows_short_space(imaging->view.opened) &&
         !check_space(imaging, error)))
        return NULL;
    if (!open_image(imaging, error))
        return NULL;
    EkDeviceMemory memory = {state.device_clock, state.device_used, state.failed_commands};
    ek_device_recall(imaging->device, memory);
    imaging->event = ek_event_begin(imaging->view.opened, "image", options, error);
    if (imaging->event == 0 || !reopen_region(imaging, &state, error))
        return NULL;
    begin_capture(imaging, &state);
    return g_steal_pointer(&imaging);
}

void ek_imaging_free(EkImaging *imaging)
{
    g_clear_pointer(&imaging->tending, ek_tending_free);
    g_clear_pointer(&imaging->capture, ek_capture_free);
    g_clear_pointer(&imaging->image, ek_image_close);
    g_clear_pointer(&imaging->device, ek_device_close);
    g_clear_pointer(&imaging->source, ek_case_source_free);
    g_clear_pointer(&imaging->lock, ek_lock_release);
    ek_view_close(&imaging->view);
    g_mutex_clear(&imaging->capture_lock);
    g_free(imaging);
}

const EkCaseInfo *ek_imaging_info(EkImaging *imaging)
{
    return ek_case_info(imaging->view.opened);
}

EkCaptureProgress ek_imaging_progress(EkImaging *imaging)
{
    g_mutex_lock(&imaging->capture_lock);
    EkCaptureProgress progress = ek_capture_progress(imaging->capture);
    progress.read_bytes += imaging->read_before;
    g_mutex_unlock(&imaging->capture_lock);
    return progress;
}

void ek_imaging_look(EkImaging *imaging, EkCaptureView *view)
{
    g_mutex_lock(&imaging->capture_lock);
    ek_capture_look(imaging->capture, view);
    g_mutex_unlock(&imaging->capture_lock);
}

EkWaiting ek_imaging_waits(EkImaging *imaging)
{
    return (EkWaiting)g_atomic_int_get(&imaging->waiting);
}

double ek_imaging_estimate(EkImaging *imaging)
{
    return ek_capture_estimate(imaging->capture);
}

EkComparison ek_imaging_comparison(EkImaging *imaging)
{
    return ek_capture_comparison(imaging->capture);
}

EkSector ek_imaging_last_position(EkImaging *imaging)
{
    return ek_capture_last_position(imaging->capture);
}

static const char *outcome_of(EkCaptureEnd end)
{
    switch (end) {
    case EK_CAPTURE_COMPLETE: return "done";
    case EK_CAPTURE_DECISION: return "stopped to ask";
    case EK_CAPTURE_LIMIT: return "limit reached";
    case EK_CAPTURE_CANCELLED: return "interrupted";
    case EK_CAPTURE_STOPPED: return "the drive stopped reading";
    case EK_CAPTURE_GONE: return "the drive vanished";
    case EK_CAPTURE_STRANGER: return "another drive";
    case EK_CAPTURE_FAILED: break;
    }
    return "failed";
}

/* --- waiting --- */

static gboolean is_cancelled(const EkImaging *imaging)
{
    return g_atomic_int_get(imaging->cancel) != 0;
}

/* The user's command: it may cut the power and give it back. What it ends with is its own affair.
 */
static void run_on_gone(const EkImaging *imaging)
{
    const char *command = imaging->choices.on_gone;
    if (command == NULL)
        return;
    g_auto(GStrv) environment = g_get_environ();
    environment =
        g_environ_setenv(environment, "EKTYPON_CASE", ek_case_folder(imaging->view.opened), TRUE);
    environment = g_environ_setenv(environment, "EKTYPON_SOURCE", source_of(imaging), TRUE);
    char *arguments[] = {(char *)"/bin/sh", (char *)"-c", (char *)command, NULL};
    g_spawn_sync(NULL, arguments, environment, G_SPAWN_STDOUT_TO_DEV_NULL, NULL, NULL, NULL, NULL,
                 NULL, NULL);
}

/* Opens the source anew; what it went through goes along. */
static gboolean open_again(EkImaging *imaging)
{
    EkDeviceMemory memory = ek_device_remember(imaging->device);
    EkDevice *old = g_steal_pointer(&imaging->device);
    ek_device_release(old);
    if (!open_source(imaging, NULL)) {
        imaging->device = old;
        return FALSE;
    }
    ek_device_recall(imaging->device, memory);
    ek_capture_set_device(imaging->capture, imaging->device);
    ek_tending_set_device(imaging->tending, imaging->device);
    ek_device_close(old);
    return TRUE;
}

/* Waits until the drive is back. FALSE when it is called off, or there is no use in waiting. */
static gboolean wait_for_drive(EkImaging *imaging)
{
    gboolean simulated = ek_device_info(imaging->device)->kind == EK_DEVICE_SIMULATED;
    gint64 began = ek_device_clock(imaging->device);
    gboolean back = FALSE;
    run_on_gone(imaging);
    g_atomic_int_set(&imaging->waiting, EK_WAITING_FOR_DRIVE);
    while (!back && !is_cancelled(imaging)) {
        ek_device_wait(imaging->device, POLL_NS);
        back = simulated ? ek_device_is_back(imaging->device) : open_again(imaging);
        if (simulated && ek_device_clock(imaging->device) - began > LONGEST_SIMULATED_WAIT_NS)
            break;
    }
    g_atomic_int_set(&imaging->waiting, EK_WAITING_NOT);
    return back;
}

/* Waits until there is room, and begins again from what the store holds. */
static gboolean wait_for_space(EkImaging *imaging)
{
    EkKeptState state;
    gboolean room = FALSE;
    g_atomic_int_set(&imaging->waiting, EK_WAITING_FOR_SPACE);
    while (!room && !is_cancelled(imaging)) {
        g_usleep(POLL_NS / 1000);
        room = check_space(imaging, NULL);
    }
    g_atomic_int_set(&imaging->waiting, EK_WAITING_NOT);
    if (!room)
        return FALSE;
    EkReadMap *map = ek_mapstore_load(imaging->view.opened, NULL);
    if (map == NULL || !ek_mapstore_state(imaging->view.opened, &state, NULL)) {
        g_clear_pointer(&map, ek_read_map_free);
        return FALSE;
    }
    imaging->read_before = ek_imaging_progress(imaging).read_bytes;
    g_clear_pointer(&imaging->view.map, ek_read_map_free);
    imaging->view.map = map;
    begin_capture(imaging, &state);
    return TRUE;
}

/* TRUE when what stopped the capture has passed. */
static gboolean may_go_on(EkImaging *imaging, EkCaptureEnd end, GError **failure)
{
    gboolean wait = imaging->choices.wait;
    if (end == EK_CAPTURE_GONE && !wait)
        run_on_gone(imaging);
    gboolean again = FALSE;
    if (end == EK_CAPTURE_GONE && wait)
        again = wait_for_drive(imaging);
    else if (end == EK_CAPTURE_FAILED && wait &&
             g_error_matches(*failure, EK_ERROR, EK_ERROR_NO_SPACE))
        again = wait_for_space(imaging);
    if (again)
        g_clear_error(failure);
    return again;
}

EkCaptureEnd ek_imaging_run(EkImaging *imaging, GError **error)
{
    GError *failure = NULL;
    EkCaptureEnd end = EK_CAPTURE_COMPLETE;
    begin_tending(imaging);
    do
        end = ek_capture_run(imaging->capture, &failure);
    while (may_go_on(imaging, end, &failure));
    /* One that is gone would be asked in vain. */
    if (end != EK_CAPTURE_GONE && end != EK_CAPTURE_STRANGER)
        ek_tending_end(imaging->tending);
    if (end == EK_CAPTURE_GONE && is_cancelled(imaging))
        end = EK_CAPTURE_CANCELLED;
    /* What turned out to be another drive is none of this case's. */
    if (end != EK_CAPTURE_STRANGER &&
        !ek_case_add_source(imaging->view.opened, imaging->source, &failure))
        end = EK_CAPTURE_FAILED;
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
