/* SPDX-License-Identifier: MIT */
/* The reading strategy of this version is plain: large reads in order that jump ahead under trouble
 * (skim), then what was jumped over in middling reads (narrow), then sector by sector what failed
 * (single). A sector is called bad only while the drive still reads elsewhere: failures of single
 * reads wait, marked set aside, until something reads well. */
#include "capture/capture.h"

#include "base/bytes.h"

#include <string.h>

#define SKIM_BYTES (4u << 20)
#define NARROW_BYTES (128u << 10)
#define MAX_JUMP_BYTES (64u << 20)
#define HOLE_BYTES ((EkByte)256u << 20) /* taken at once, so that it can be called off */
#define FAILURES_TO_STOP 64u /* in a row, the second half of them spread over what is left */
#define FAILURES_TO_SPREAD 32u
#define TRIES_ALONE 3u /* of a sector that fails for another reason than the medium */
#define WITNESSES 64u  /* good sectors that tell whether this is the same drive, alive */
#define WITNESSES_AT_START 8u
#define WITNESS_TRIES 4u

typedef struct {
    EkSector first;
    EkSector count;
    EkMark mark; /* that it gets once the drive has read well elsewhere */
} Pending;

struct EkCapture {
    EkCaptureParts parts;
    const EkDeviceInfo *info;
    EkReadMap *map; /* ahead of the store by what is on its way to it */
    EkKeeper *keeper;
    EkRound round;
    guint failures_in_row;
    guint64 failed_commands;
    EkSector position;
    EkByte read_bytes;
    EkSector data_first; /* the run of data of the source that was asked for last */
    EkSector data_end;
    GArray *pending; /* Pending */
    guint witness;   /* the next one to ask */
    gboolean ended;
    EkCaptureEnd end;
    GError *error;
    GMutex lock; /* of `progress` */
    EkCaptureProgress progress;
};

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
    };
    for (int state = 0; state < EK_STATES; state++)
        now.totals[state] = ek_read_map_total(capture->map, (EkState)state);
    now.stretches_left = ek_read_map_stretches(capture->map, EK_STATE_UNTOUCHED) +
                         ek_read_map_stretches(capture->map, EK_STATE_SET_ASIDE);
    g_mutex_lock(&capture->lock);
    capture->progress = now;
    g_mutex_unlock(&capture->lock);
}

EkCapture *ek_capture_new(const EkCaptureParts *parts)
{
    EkCapture *capture = g_new0(EkCapture, 1);
    capture->parts = *parts;
    capture->info = ek_device_info(parts->device);
    capture->map = ek_read_map_copy(parts->map);
    capture->failed_commands = parts->failed_commands;
    capture->pending = g_array_new(FALSE, FALSE, sizeof(Pending));
    g_mutex_init(&capture->lock);
    tell_progress(capture);
    return capture;
}

void ek_capture_free(EkCapture *capture)
{
    g_array_unref(capture->pending);
    ek_read_map_free(capture->map);
    g_clear_error(&capture->error);
    g_mutex_clear(&capture->lock);
    g_free(capture);
}

EkCaptureProgress ek_capture_progress(EkCapture *capture)
{
    g_mutex_lock(&capture->lock);
    EkCaptureProgress progress = capture->progress;
    g_mutex_unlock(&capture->lock);
    return progress;
}

EkSector ek_capture_last_position(const EkCapture *capture)
{
    return capture->position;
}

static void end_with(EkCapture *capture, EkCaptureEnd end)
{
    if (!capture->ended)
        capture->end = end;
    capture->ended = TRUE;
}

static EkKeptState state_now(EkCapture *capture)
{
    EkDeviceMemory memory = ek_device_remember(capture->parts.device);
    return (EkKeptState){.device_clock = memory.clock,
                         .device_used = memory.used,
                         .failed_commands = capture->failed_commands,
                         .round = (guint)capture->round};
}

static void mark(EkCapture *capture, EkSector first, EkSector count, EkState state, EkReason reason,
                 guint32 attempts)
{
    EkMark new_mark = {state, reason, attempts, capture->parts.event};
    EkKeptState now = state_now(capture);
    ek_read_map_set(capture->map, first, count, new_mark);
    ek_keeper_mark(capture->keeper, first, count, new_mark, &now);
}

/* Sectors that one command reads or loses together. */
static guint32 unit(const EkCapture *capture)
{
    return MAX(1u, capture->info->physical_sector_size / capture->info->sector_size);
}

static guint32 sectors_in(const EkCapture *capture, gsize bytes)
{
    gsize most = MIN(bytes, capture->info->max_transfer) / capture->info->sector_size;
    return (guint32)MAX(most, unit(capture));
}

/* The drive has read something well: those that failed meanwhile failed for their own sake. */
static void confirm_pending(EkCapture *capture)
{
    for (guint i = 0; i < capture->pending->len; i++) {
        const Pending *wait = &g_array_index(capture->pending, Pending, i);
        mark(capture, wait->first, wait->count, wait->mark.state, wait->mark.reason,
             wait->mark.attempts);
    }
    g_array_set_size(capture->pending, 0);
    capture->failures_in_row = 0;
}

/* One read through the device, its good part kept. */
static EkReadOutcome read_and_keep(EkCapture *capture, EkSector first, guint32 count)
{
    guint8 *buffer = ek_keeper_take_buffer(capture->keeper);
    EkReadOutcome outcome = ek_device_read(capture->parts.device, first, count, buffer);
    capture->position = first;
    if (outcome.good > 0) {
        EkMark good = {EK_STATE_GOOD, EK_REASON_NONE, 0, capture->parts.event};
        EkKeptState now = state_now(capture);
        EkByte bytes = ek_device_bytes_of(capture->info, first, outcome.good);
        ek_read_map_set(capture->map, first, outcome.good, good);
        ek_keeper_write(capture->keeper, first, outcome.good, buffer, bytes, good, &now);
        capture->read_bytes += bytes;
        confirm_pending(capture);
    } else {
        ek_keeper_return_buffer(capture->keeper, buffer);
    }
    if (outcome.reason != EK_REASON_NONE) {
        capture->failed_commands++;
        capture->failures_in_row++;
    }
    if (outcome.gone)
        end_with(capture, EK_CAPTURE_GONE);
    return outcome;
}

static gboolean shall_end(EkCapture *capture)
{
    if (g_atomic_int_get(capture->parts.cancel) != 0)
        end_with(capture, EK_CAPTURE_CANCELLED);
    else if (ek_keeper_has_failed(capture->keeper))
        end_with(capture, EK_CAPTURE_FAILED);
    return capture->ended;
}

/* The i-th witness: a good sector, far from the one before it. */
static gboolean find_witness(const EkCapture *capture, guint number, EkSector *sector)
{
    /* Steps of the golden ratio never bunch up. */
    double place = (double)(number % WITNESSES) * 0.6180339887498949;
    place -= (double)(guint64)place;
    EkSector from = (EkSector)(place * (double)capture->info->sectors);
    EkStretch stretch;
    if (!ek_read_map_next(capture->map, from, EK_STATE_BIT(EK_STATE_GOOD), &stretch) &&
        !ek_read_map_next(capture->map, 0, EK_STATE_BIT(EK_STATE_GOOD), &stretch))
        return FALSE;
    *sector = stretch.first;
    return TRUE;
}

typedef enum { WITNESS_AGREES, WITNESS_DIFFERS, WITNESS_SILENT, WITNESS_NONE } Witness;

/* Reads one good sector again, the only kind of rereading there is, and compares. */
static Witness ask_witness(EkCapture *capture)
{
    guint32 size = capture->info->sector_size;
    EkSector sector = 0;
    if (!find_witness(capture, capture->witness++, &sector))
        return WITNESS_NONE;
    sector -= sector % unit(capture);
    guint32 count = (guint32)MIN(unit(capture), capture->info->sectors - sector);
    gsize bytes = (gsize)ek_device_bytes_of(capture->info, sector, count);
    g_autofree guint8 *image = g_malloc0((gsize)count * size);
    guint8 *buffer = ek_keeper_take_buffer(capture->keeper);
    EkReadOutcome outcome = ek_device_read(capture->parts.device, sector, count, buffer);
    Witness answer = WITNESS_SILENT;
    if (outcome.reason == EK_REASON_NONE) {
        EkSector tally[EK_STATES];
        ek_read_map_tally(capture->map, sector, count, tally);
        gboolean same = tally[EK_STATE_GOOD] == count &&
                        ek_image_read(capture->parts.image, sector * size, image, bytes, NULL);
        if (same && capture->parts.kept != NULL)
            ek_overlay_lay(capture->parts.kept, sector * size, image, bytes);
        /* A unit that is good only in part, or an image that does not read, proves nothing. */
        answer = !same || memcmp(image, buffer, bytes) == 0 ? WITNESS_AGREES : WITNESS_DIFFERS;
    } else {
        capture->failed_commands++;
    }
    if (outcome.gone)
        end_with(capture, EK_CAPTURE_GONE);
    ek_keeper_return_buffer(capture->keeper, buffer);
    return answer;
}

/* A witness whose sector is all zero says little: most drives have such ground. */
static gboolean is_blank_witness(const EkCapture *capture, guint number)
{
    guint32 size = capture->info->sector_size;
    EkSector sector = 0;
    if (!find_witness(capture, number, &sector))
        return TRUE;
    gsize bytes = (gsize)ek_device_bytes_of(capture->info, sector, 1);
    g_autofree guint8 *image = g_malloc(size);
    return ek_image_read(capture->parts.image, sector * size, image, bytes, NULL) &&
           ek_bytes_are_zero(image, bytes);
}

/* Before the first read of a case that holds something already: is this the drive it came from? */
static void recognise_drive(EkCapture *capture)
{
    guint asked = 0;
    guint agree = 0;
    guint differ = 0;
    if (ek_read_map_total(capture->map, EK_STATE_GOOD) == 0)
        return;
    for (guint i = 0; i < WITNESSES && asked < WITNESSES_AT_START && !shall_end(capture); i++) {
        if (is_blank_witness(capture, i))
            continue;
        asked++;
        capture->witness = i;
        Witness answer = ask_witness(capture);
        agree += answer == WITNESS_AGREES;
        differ += answer == WITNESS_DIFFERS;
    }
    if (differ > 0 && differ >= agree) {
        ek_error_set(&capture->error, EK_ERROR_GONE,
                     "%s holds other data than this case's image: %u of %u sectors that were read "
                     "before differ. It is another drive, or it was written to",
                     capture->info->path, differ, differ + agree);
        end_with(capture, EK_CAPTURE_STRANGER);
    }
}

/* After many failures in a row: only where a good sector still reads does the work go on. */
static void brake(EkCapture *capture)
{
    if (capture->failures_in_row < FAILURES_TO_STOP || capture->ended)
        return;
    ek_keeper_drain(capture->keeper);
    for (guint i = 0; i < WITNESS_TRIES && !capture->ended; i++) {
        if (ask_witness(capture) == WITNESS_AGREES) {
            confirm_pending(capture);
            return;
        }
    }
    end_with(capture, EK_CAPTURE_STOPPED);
}

static guint32 attempts_at(const EkCapture *capture, EkSector sector)
{
    return ek_read_map_at(capture->map, sector).mark.attempts;
}

/* The sectors from `first` on, of `count`, that the source says are a hole; at most HOLE_BYTES. */
static EkSector hole_at(EkCapture *capture, EkSector first, EkSector count)
{
    if (first < capture->data_first || first >= capture->data_end) {
        EkSector data = capture->info->sectors;
        EkSector length = 0;
        if (!ek_device_next_data(capture->parts.device, first, &data, &length))
            data = capture->info->sectors;
        capture->data_first = data;
        capture->data_end = data + length;
    }
    EkSector hole = first < capture->data_first ? capture->data_first - first : 0;
    return MIN(MIN(hole, count), HOLE_BYTES / capture->info->sector_size);
}

static void take_hole(EkCapture *capture, EkSector first, EkSector count)
{
    EkMark good = {EK_STATE_GOOD, EK_REASON_NONE, 0, capture->parts.event};
    EkKeptState now = state_now(capture);
    EkByte bytes = ek_device_bytes_of(capture->info, first, count);
    ek_read_map_set(capture->map, first, count, good);
    ek_keeper_hole(capture->keeper, first, count, bytes, good, &now);
    capture->position = first;
    capture->read_bytes += bytes;
}

static void skim(EkCapture *capture)
{
    guint32 block = sectors_in(capture, SKIM_BYTES);
    EkSector most =
        MAX(MIN(MAX_JUMP_BYTES / capture->info->sector_size, capture->info->sectors / 64), block);
    EkSector jump = 0;
    EkSector at = 0;
    EkStretch stretch;
    while (!shall_end(capture) &&
           ek_read_map_next(capture->map, at, EK_STATE_BIT(EK_STATE_UNTOUCHED), &stretch)) {
        EkSector hole = hole_at(capture, stretch.first, stretch.count);
        if (hole > 0) {
            take_hole(capture, stretch.first, hole);
            at = stretch.first + hole;
            tell_progress(capture);
            continue;
        }
        EkSector most_here = MIN(stretch.count, capture->data_end - stretch.first);
        guint32 count = (guint32)MIN(block - stretch.first % unit(capture), most_here);
        EkReadOutcome outcome = read_and_keep(capture, stretch.first, count);
        at = stretch.first + count;
        if (outcome.reason == EK_REASON_NONE) {
            jump = 0;
        } else if (!outcome.gone) {
            mark(capture, stretch.first + outcome.good, count - outcome.good, EK_STATE_SET_ASIDE,
                 outcome.reason, 1);
            EkSector over = MIN(jump, stretch.count - count);
            if (over > 0)
                mark(capture, at, over, EK_STATE_SET_ASIDE, EK_REASON_SKIPPED, 0);
            at += over;
            jump = jump == 0 ? block : MIN(jump * 2, most);
        }
        tell_progress(capture);
        brake(capture);
    }
}

/* The next stretch set aside, from `at` on, that was (or was not) merely skipped. */
static gboolean next_set_aside(const EkCapture *capture, EkSector at, gboolean skipped,
                               EkStretch *stretch)
{
    while (ek_read_map_next(capture->map, at, EK_STATE_BIT(EK_STATE_SET_ASIDE), stretch)) {
        if ((stretch->mark.reason == EK_REASON_SKIPPED) == skipped)
            return TRUE;
        at = stretch->first + stretch->count;
    }
    return FALSE;
}

static void narrow(EkCapture *capture)
{
    guint32 block = sectors_in(capture, NARROW_BYTES);
    EkSector at = 0;
    EkStretch stretch;
    while (!shall_end(capture) && next_set_aside(capture, at, TRUE, &stretch)) {
        guint32 count = (guint32)MIN(block - stretch.first % unit(capture), stretch.count);
        EkReadOutcome outcome = read_and_keep(capture, stretch.first, count);
        at = stretch.first + count;
        if (outcome.reason != EK_REASON_NONE && !outcome.gone)
            mark(capture, stretch.first + outcome.good, count - outcome.good, EK_STATE_SET_ASIDE,
                 outcome.reason, 1);
        tell_progress(capture);
        brake(capture);
    }
}

static gboolean is_pending(const EkCapture *capture, EkSector sector)
{
    for (guint i = 0; i < capture->pending->len; i++) {
        const Pending *wait = &g_array_index(capture->pending, Pending, i);
        if (sector >= wait->first && sector - wait->first < wait->count)
            return TRUE;
    }
    return FALSE;
}

/* Where the next single read goes: on in order, or, while everything fails, spread over what is
 * left. FALSE when this pass is through. */
static gboolean next_single(const EkCapture *capture, EkSector *at, EkStretch *stretch)
{
    if (capture->failures_in_row >= FAILURES_TO_SPREAD) {
        guint step = capture->failures_in_row - FAILURES_TO_SPREAD + 1;
        EkSector from = capture->info->sectors / (FAILURES_TO_SPREAD + 1) * step;
        if (next_set_aside(capture, from, FALSE, stretch) && !is_pending(capture, stretch->first))
            return TRUE;
    }
    while (next_set_aside(capture, *at, FALSE, stretch)) {
        *at = stretch->first + unit(capture) - stretch->first % unit(capture);
        if (!is_pending(capture, stretch->first))
            return TRUE;
    }
    return FALSE;
}

static void read_alone(EkCapture *capture, EkStretch stretch)
{
    EkSector first = stretch.first;
    guint32 count = (guint32)MIN(unit(capture) - first % unit(capture), stretch.count);
    guint32 attempts = attempts_at(capture, first) + 1;
    EkReadOutcome outcome = read_and_keep(capture, first, count);
    first += outcome.good;
    count -= outcome.good;
    if (outcome.reason == EK_REASON_NONE || outcome.gone)
        return;
    mark(capture, first, count, EK_STATE_SET_ASIDE, outcome.reason, attempts);
    if (outcome.reason != EK_REASON_MEDIUM && attempts < TRIES_ALONE)
        return;
    EkMark bad = {EK_STATE_BAD, outcome.reason, attempts, capture->parts.event};
    Pending wait = {first, count, bad};
    g_array_append_val(capture->pending, wait);
}

static void single(EkCapture *capture)
{
    EkStretch stretch;
    while (!shall_end(capture) && next_set_aside(capture, 0, FALSE, &stretch)) {
        EkSector at = 0;
        while (!shall_end(capture) && next_single(capture, &at, &stretch)) {
            read_alone(capture, stretch);
            tell_progress(capture);
            brake(capture);
        }
        /* The end of a pass: what fails to the last must not wait for a success that cannot come.
         */
        if (!capture->ended && capture->pending->len > 0) {
            capture->failures_in_row = FAILURES_TO_STOP;
            brake(capture);
        }
    }
}

EkCaptureEnd ek_capture_run(EkCapture *capture, GError **error)
{
    EkKeeperParts keeper = {
        .image = capture->parts.image,
        .kept = capture->parts.kept,
        .map = capture->map,
        .sector_size = capture->info->sector_size,
        .buffer_bytes = MAX(SKIM_BYTES, capture->info->physical_sector_size),
        .sink = capture->parts.sink,
    };
    static void (*const rounds[])(EkCapture *) = {
        [EK_ROUND_SKIM] = skim, [EK_ROUND_NARROW] = narrow, [EK_ROUND_SINGLE] = single};

    capture->ended = FALSE;
    capture->end = EK_CAPTURE_COMPLETE;
    capture->keeper = ek_keeper_new(&keeper);
    recognise_drive(capture);
    for (guint round = EK_ROUND_SKIM; round <= EK_ROUND_SINGLE && !capture->ended; round++) {
        capture->round = (EkRound)round;
        rounds[round](capture);
    }
    EkKeptState now = state_now(capture);
    if (!ek_keeper_finish(g_steal_pointer(&capture->keeper), &now, error)) {
        g_clear_error(&capture->error);
        capture->end = EK_CAPTURE_FAILED;
    } else if (capture->error != NULL) {
        g_propagate_error(error, g_steal_pointer(&capture->error));
    }
    tell_progress(capture);
    return capture->end;
}
