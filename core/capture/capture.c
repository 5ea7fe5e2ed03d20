/* SPDX-License-Identifier: MIT */
/* The loop that reads: the scheduler says what, the image writer makes it last. A sector is called
 * bad in the store only while the drive still reads elsewhere: until something reads well, what
 * failed waits there as set aside. */
#include "capture/capturing.h"

#include "base/bytes.h"

#include <math.h>
#include <string.h>

#define MOST_BYTES (4u << 20) /* in one read */
#define FAILURES_TO_ASK 64u   /* in a row, before it is asked whether the drive lives */
#define MOST_FAILURES_TO_ASK 4096u
#define RECHECK_TRIES 4u
#define WAIT_NS (100 * (gint64)1000000) /* at a time */
#define REPORT_EVERY_NS (10 * (gint64)1000000000)

/* --- where it stands --- */

static EkKeptState state_now(EkCapture *capture)
{
    EkDeviceMemory memory = ek_device_remember(capture->parts.device);
    EkKeptState state = {
        .device_clock = memory.clock,
        .device_used = memory.used,
        .failed_commands = capture->failed_commands,
        .round = (guint)capture->round,
        .gone_at = capture->gone_at,
        .repeats_every = ek_repeats_every(capture->repeats),
        .costs = ek_scheduler_costs(capture->scheduler),
    };
    if (state.repeats_every == 0)
        state.repeats_every = capture->parts.state.repeats_every;
    memcpy(state.fill, capture->fill, sizeof state.fill);
    return state;
}

static void report(EkCapture *capture, const EkCaptureProgress *now)
{
    const EkCaptureProgress *last = &capture->reported;
    EkSector good = now->totals[EK_STATE_GOOD];
    EkSector step = MAX(now->sectors / 100, 1);
    if (capture->parts.report == NULL ||
        (last->sectors != 0 && good / step == last->totals[EK_STATE_GOOD] / step &&
         now->round == last->round && now->device_clock - last->device_clock < REPORT_EVERY_NS))
        return;
    capture->reported = *now;
    capture->parts.report(capture->parts.data, now);
}

static void tell_progress(EkCapture *capture)
{
    EkCaptureProgress now = {
        .sectors = capture->info->sectors,
        .sector_size = capture->info->sector_size,
        .position = capture->position,
        .round = capture->round,
        .device_clock = ek_device_clock(capture->parts.device),
        .failed_commands = capture->failed_commands,
        .read_bytes = capture->read_bytes,
        .failure_seconds = ek_scheduler_costs(capture->scheduler).failure,
        .repeats_every = ek_repeats_every(capture->repeats),
    };
    memcpy(now.fill, capture->fill, sizeof now.fill);
    g_mutex_lock(&capture->lock);
    for (int state = 0; state < EK_STATES; state++)
        now.totals[state] = ek_read_map_total(capture->map, (EkState)state);
    now.stretches_left = ek_read_map_stretches(capture->map, EK_STATE_UNTOUCHED) +
                         ek_read_map_stretches(capture->map, EK_STATE_SET_ASIDE);
    capture->progress = now;
    g_mutex_unlock(&capture->lock);
    report(capture, &now);
}

EkCaptureProgress ek_capture_progress(EkCapture *capture)
{
    g_mutex_lock(&capture->lock);
    EkCaptureProgress progress = capture->progress;
    g_mutex_unlock(&capture->lock);
    return progress;
}

static void note_largest(EkCaptureView *view, const EkStretch *stretch)
{
    guint at = EK_LARGEST_LEFT;
    while (at > 0 && view->largest[at - 1].count < stretch->count)
        at--;
    for (guint i = EK_LARGEST_LEFT - 1; i > at; i--)
        view->largest[i] = view->largest[i - 1];
    if (at < EK_LARGEST_LEFT)
        view->largest[at] = *stretch;
}

void ek_capture_look(EkCapture *capture, EkCaptureView *view)
{
    guint states = EK_STATE_BIT(EK_STATE_UNTOUCHED) | EK_STATE_BIT(EK_STATE_SET_ASIDE);
    EkSector sectors = ek_read_map_sectors(capture->map);
    EkStretch stretch;
    memset(view->largest, 0, sizeof view->largest);
    g_mutex_lock(&capture->lock);
    for (guint i = 0; i < view->cells; i++) {
        EkSector first = (EkSector)((double)sectors / view->cells * i);
        EkSector end = (EkSector)((double)sectors / view->cells * (i + 1));
        ek_read_map_tally(capture->map, MIN(first, sectors - 1), MAX(end - first, 1),
                          view->tally[i]);
    }
    for (EkSector at = 0; ek_read_map_next(capture->map, at, states, &stretch);
         at = stretch.first + stretch.count)
        note_largest(view, &stretch);
    g_mutex_unlock(&capture->lock);
}

EkSector ek_capture_last_position(const EkCapture *capture)
{
    return capture->position;
}

double ek_capture_estimate(EkCapture *capture)
{
    return ek_scheduler_estimate(capture->scheduler);
}

EkComparison ek_capture_comparison(const EkCapture *capture)
{
    return capture->comparison;
}

/* --- marks --- */

static void set_map(EkCapture *capture, EkSector first, EkSector count, EkMark mark)
{
    g_mutex_lock(&capture->lock);
    ek_read_map_set(capture->map, first, count, mark);
    g_mutex_unlock(&capture->lock);
}

/* A mark from the scheduler. Bad is what the scheduler goes by at once; the store gets it when the
 * drive has read well elsewhere. */
static void take_mark(void *data, EkSector first, EkSector count, EkState state, EkReason reason,
                      guint32 attempts)
{
    EkCapture *capture = data;
    if (state == EK_STATE_GOOD)
        return; /* what was read has been kept already */
    EkMark mark = {state, reason, attempts, capture->parts.event};
    EkKeptState now = state_now(capture);
    set_map(capture, first, count, mark);
    if (state == EK_STATE_BAD) {
        EkPending wait = {first, count, mark};
        g_array_append_val(capture->pending, wait);
        mark.state = EK_STATE_SET_ASIDE;
    }
    ek_image_writer_mark(capture->writer, first, count, mark, &now);
}

/* The drive has read something well: those that failed meanwhile failed for their own sake. */
static void confirm_pending(EkCapture *capture)
{
    EkKeptState now = state_now(capture);
    for (guint i = 0; i < capture->pending->len; i++) {
        const EkPending *wait = &g_array_index(capture->pending, EkPending, i);
        ek_image_writer_mark(capture->writer, wait->first, wait->count, wait->mark, &now);
    }
    g_array_set_size(capture->pending, 0);
    capture->failures_in_row = 0;
}

/* It did not: nothing is called bad for it. */
static void take_back_pending(EkCapture *capture)
{
    for (guint i = 0; i < capture->pending->len; i++) {
        EkPending *wait = &g_array_index(capture->pending, EkPending, i);
        wait->mark.state = EK_STATE_SET_ASIDE;
        set_map(capture, wait->first, wait->count, wait->mark);
    }
    g_array_set_size(capture->pending, 0);
}

/* --- one read --- */

static void keep(EkCapture *capture, EkSector first, EkReadOutcome outcome, guint8 *buffer)
{
    EkMark good = {EK_STATE_GOOD, EK_REASON_NONE, 0, capture->parts.event};
    EkByte bytes = ek_device_bytes_of(capture->info, first, outcome.good);
    EkKeptState now = state_now(capture);
    set_map(capture, first, outcome.good, good);
    if (outcome.zeros) {
        ek_image_writer_return_buffer(capture->writer, buffer);
        ek_image_writer_hole(capture->writer, first, outcome.good, bytes, good, &now);
    } else {
        ek_repeats_note(capture->repeats, first, outcome.good, buffer);
        ek_image_writer_write(capture->writer, first, outcome.good, buffer, (gsize)bytes, good,
                              &now);
    }
    ek_image_writer_count_fill(capture->writer, capture->fill);
    capture->read_bytes += bytes;
    confirm_pending(capture);
}

/* What came back behind the first failure, in a buffer of its own; NULL: nothing did. */
static guint8 *copy_also(EkCapture *capture, const EkRead *read, const guint8 *buffer)
{
    const GArray *also = ek_device_also(capture->parts.device);
    if (also == NULL || also->len == 0)
        return NULL;
    return g_memdup2(buffer, (gsize)read->count * capture->info->sector_size);
}

/* It is read: nobody asks for it again. */
static void keep_also(EkCapture *capture, const EkRead *read, const GArray *also,
                      const guint8 *copy)
{
    gsize size = capture->info->sector_size;
    for (guint i = 0; i < also->len; i++) {
        EkSectorRun run = g_array_index(also, EkSectorRun, i);
        guint8 *buffer = ek_image_writer_take_buffer(capture->writer);
        memcpy(buffer, copy + (gsize)(run.first - read->first) * size, run.count * size);
        keep(capture, run.first, (EkReadOutcome){.good = run.count}, buffer);
    }
}

static void read_and_keep(EkCapture *capture, const EkRead *read)
{
    guint8 *buffer = ek_image_writer_take_buffer(capture->writer);
    gint64 began = ek_device_clock(capture->parts.device);
    EkReadOutcome outcome =
        ek_capturing_read(capture, read->first, read->count, read->block, buffer);
    double seconds = (double)(ek_device_clock(capture->parts.device) - began) / 1e9;
    g_autofree guint8 *copy = copy_also(capture, read, buffer);
    if (outcome.good > 0)
        keep(capture, read->first, outcome, buffer);
    else
        ek_image_writer_return_buffer(capture->writer, buffer);
    if (outcome.abandoned)
        return;
    if (outcome.reason != EK_REASON_NONE)
        capture->failures_in_row++;
    ek_scheduler_observe(capture->scheduler, read, &outcome, seconds);
    if (copy != NULL)
        keep_also(capture, read, ek_device_also(capture->parts.device), copy);
}

/* --- when to stop --- */

/* After many failures in a row: only where a good sector still reads does the work go on. */
static void ask_if_alive(EkCapture *capture)
{
    ek_image_writer_drain(capture->writer);
    for (guint i = 0; i < RECHECK_TRIES && !capture->ended; i++) {
        if (ek_recheck_ask(capture) == EK_RECHECK_AGREES) {
            confirm_pending(capture);
            capture->ask_at = MIN(capture->ask_at * 2, MOST_FAILURES_TO_ASK);
            return;
        }
    }
    if (!capture->ended)
        take_back_pending(capture);
    ek_capturing_end(capture, EK_CAPTURE_STOPPED);
}

/* What only a person can decide: whether the rest is worth what it costs. */
static gboolean wants_decision(EkCapture *capture, EkRound round)
{
    if (round < EK_ROUND_SINGLE || capture->parts.choices.all_rounds || capture->decided)
        return FALSE;
    capture->decided = TRUE;
    return ek_scheduler_estimate(capture->scheduler) > EK_DECISION_SECONDS;
}

/* Waits a little at a time: whoever asks it to end does not wait for the rest. */
static void hold_rate(EkCapture *capture)
{
    EkByte limit = capture->parts.choices.rate_limit;
    double due = limit > 0 ? (double)capture->read_bytes / (double)limit * 1e9 : 0;
    while (due > 0 && !ek_capturing_shall_end(capture)) {
        double passed = (double)(ek_device_clock(capture->parts.device) - capture->began);
        if (due <= passed)
            return;
        ek_device_wait(capture->parts.device, MIN((gint64)(due - passed) + 1, WAIT_NS));
    }
}

static void read_all(EkCapture *capture)
{
    EkRead read;
    gboolean recognised = FALSE;
    while (!ek_capturing_shall_end(capture)) {
        if (!ek_scheduler_next(capture->scheduler, &read))
            return;
        if (wants_decision(capture, read.round)) {
            ek_capturing_end(capture, EK_CAPTURE_DECISION);
            return;
        }
        /* Not before something is to be read at all. */
        if (!recognised && ek_recheck_recognise(capture))
            confirm_pending(capture);
        recognised = TRUE;
        if (capture->ended)
            return;
        capture->round = read.round;
        read_and_keep(capture, &read);
        tell_progress(capture);
        if (!capture->ended && capture->failures_in_row >= capture->ask_at)
            ask_if_alive(capture);
        hold_rate(capture);
        if (!capture->ended && capture->parts.pause != NULL &&
            !capture->parts.pause(capture->parts.pause_data))
            ek_capturing_end(capture, EK_CAPTURE_LIMIT);
    }
}

static gboolean is_all_tried(const EkCapture *capture)
{
    return ek_read_map_total(capture->map, EK_STATE_UNTOUCHED) +
               ek_read_map_total(capture->map, EK_STATE_SET_ASIDE) ==
           0;
}

EkCaptureEnd ek_capture_run(EkCapture *capture, GError **error)
{
    EkImageWriterParts writer = {
        .image = capture->parts.image,
        .kept = capture->parts.kept,
        .map = capture->map,
        .sector_size = capture->info->sector_size,
        .buffer_bytes = MAX(MOST_BYTES, capture->info->physical_sector_size),
        .sink = capture->parts.sink,
        .prefix = capture->parts.prefix,
    };
    capture->ended = FALSE;
    capture->end = EK_CAPTURE_COMPLETE;
    capture->failures_in_row = 0;
    capture->ask_at = FAILURES_TO_ASK;
    capture->writer = ek_image_writer_new(&writer);
    read_all(capture);
    /* What failed to the last must not wait for a success that cannot come. */
    if (!capture->ended && capture->pending->len > 0)
        ask_if_alive(capture);
    if (!capture->ended && capture->parts.choices.compare > 0)
        ek_recheck_compare(capture);
    if (!capture->ended && !is_all_tried(capture))
        ek_capturing_end(capture, EK_CAPTURE_LIMIT);
    /* After a return it will be seen whether the drive reads elsewhere. */
    if (capture->end != EK_CAPTURE_GONE)
        take_back_pending(capture);
    EkKeptState now = state_now(capture);
    if (!ek_image_writer_finish(g_steal_pointer(&capture->writer), &now, error)) {
        g_clear_error(&capture->error);
        capture->end = EK_CAPTURE_FAILED;
    } else if (capture->error != NULL) {
        g_propagate_error(error, g_steal_pointer(&capture->error));
    }
    tell_progress(capture);
    return capture->end;
}

/* --- making one --- */

static guint32 command_sectors(const EkDeviceInfo *info)
{
    guint32 unit = MAX(1u, info->physical_sector_size / info->sector_size);
    guint32 sectors = MIN(info->max_transfer, MOST_BYTES) / info->sector_size;
    return MAX(sectors - sectors % unit, unit);
}

static guint32 most_sectors(const EkDeviceInfo *info)
{
    guint32 command = command_sectors(info);
    guint32 most = MOST_BYTES / info->sector_size;
    return info->many_commands ? MAX(most - most % command, command) : command;
}

EkCapture *ek_capture_new(const EkCaptureParts *parts)
{
    EkCapture *capture = g_new0(EkCapture, 1);
    const EkCaptureChoices *choices = &parts->choices;
    capture->parts = *parts;
    capture->info = ek_device_info(parts->device);
    capture->map = ek_read_map_copy(parts->map);
    capture->failed_commands = capture->failed_before = parts->state.failed_commands;
    capture->gone_at = parts->state.gone_at;
    memcpy(capture->fill, parts->state.fill, sizeof capture->fill);
    capture->pending = g_array_new(FALSE, FALSE, sizeof(EkPending));
    capture->repeats = ek_repeats_new(capture->info->sectors, capture->info->sector_size);
    capture->began = ek_device_clock(parts->device);
    EkSchedulerParts scheduler = {
        .map = capture->map,
        .sectors = capture->info->sectors,
        .sector_size = capture->info->sector_size,
        .unit = ek_capturing_unit(capture),
        .command = command_sectors(capture->info),
        .most = most_sectors(capture->info),
        .wanted = choices->wanted,
        .wanted_count = choices->wanted_count,
        .only_wanted = choices->only_wanted,
        .limits = choices->limits,
        .backwards = choices->backwards,
        .patience = choices->patience > 0 ? choices->patience : EK_PATIENCE,
        .again = choices->again,
        .costs = parts->state.costs,
        .data = capture,
        .set = take_mark,
    };
    guint32 block =
        (guint32)MIN(choices->block_bytes / capture->info->sector_size, (EkByte)scheduler.most);
    if (choices->block_bytes > 0)
        scheduler.block = MAX(block - block % scheduler.unit, scheduler.unit);
    capture->scheduler = ek_scheduler_new(&scheduler);
    g_mutex_init(&capture->lock);
    tell_progress(capture);
    return capture;
}

void ek_capture_set_device(EkCapture *capture, EkDevice *device)
{
    capture->parts.device = device;
    capture->info = ek_device_info(device);
    ek_scheduler_resize(capture->scheduler, ek_capturing_unit(capture),
                        command_sectors(capture->info), most_sectors(capture->info));
}

void ek_capture_free(EkCapture *capture)
{
    g_array_unref(capture->pending);
    ek_scheduler_free(capture->scheduler);
    ek_repeats_free(capture->repeats);
    ek_read_map_free(capture->map);
    g_clear_error(&capture->error);
    g_mutex_clear(&capture->lock);
    g_free(capture);
}
