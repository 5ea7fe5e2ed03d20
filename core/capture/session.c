/* SPDX-License-Identifier: MIT */
/* One run of a capture: a single read, and whether the run shall end. */
#include "capture/capturing.h"

void ek_capturing_end(EkCapture *capture, EkCaptureEnd end)
{
    if (!capture->ended)
        capture->end = end;
    capture->ended = TRUE;
}

guint32 ek_capturing_unit(const EkCapture *capture)
{
    return MAX(1u, capture->info->physical_sector_size / capture->info->sector_size);
}

EkReadOutcome ek_capturing_read(EkCapture *capture, EkSector first, guint32 count, guint32 block,
                                guint8 *buffer)
{
    g_mutex_lock(&capture->lock);
    capture->position = capture->progress.position = first;
    capture->progress.reading_since = g_get_monotonic_time();
    g_mutex_unlock(&capture->lock);
    EkReadOutcome outcome =
        ek_device_read_in_blocks(capture->parts.device, first, count, block, buffer);
    g_mutex_lock(&capture->lock);
    capture->progress.reading_since = 0;
    g_mutex_unlock(&capture->lock);
    if (outcome.reason != EK_REASON_NONE && !outcome.abandoned)
        capture->failed_commands += MAX(outcome.failures, 1);
    if (outcome.gone) {
        capture->gone_at = first + 1;
        ek_capturing_end(capture, EK_CAPTURE_GONE);
    }
    if (outcome.abandoned)
        ek_capturing_end(capture, EK_CAPTURE_CANCELLED);
    return outcome;
}

static gboolean is_over_limit(EkCapture *capture)
{
    const EkCaptureChoices *choices = &capture->parts.choices;
    gint64 passed = ek_device_clock(capture->parts.device) - capture->began;
    guint64 failed = capture->failed_commands - capture->failed_before;
    return (choices->time_limit > 0 && passed >= choices->time_limit) ||
           (choices->failed_reads_limit > 0 && failed >= choices->failed_reads_limit);
}

gboolean ek_capturing_shall_end(EkCapture *capture)
{
    if (g_atomic_int_get(capture->parts.cancel) != 0)
        ek_capturing_end(capture, EK_CAPTURE_CANCELLED);
    else if (ek_image_writer_has_failed(capture->writer))
        ek_capturing_end(capture, EK_CAPTURE_FAILED);
    else if (is_over_limit(capture))
        ek_capturing_end(capture, EK_CAPTURE_LIMIT);
    return capture->ended;
}
