/* SPDX-License-Identifier: MIT */
/* Good sectors read once more: the few that tell whether this is the same drive, and alive, and
 * those that were asked to be compared. Nothing else is ever read twice. */
#include "capture/capturing.h"

#include "base/bytes.h"

#include <string.h>

#define RECHECKS 64u
#define RECHECKS_AT_START 8u
#define GOLDEN 0.6180339887498949

/* The i-th of `number` good sectors, each far from the one before it. */
static gboolean find_recheck(const EkCapture *capture, guint number, EkSector *sector)
{
    double place = number * GOLDEN; /* steps of the golden ratio never bunch up */
    place -= (double)(guint64)place;
    EkSector from = (EkSector)(place * (double)capture->info->sectors);
    EkStretch stretch;
    if (!ek_read_map_next(capture->map, from, EK_STATE_BIT(EK_STATE_GOOD), &stretch) &&
        !ek_read_map_next(capture->map, 0, EK_STATE_BIT(EK_STATE_GOOD), &stretch))
        return FALSE;
    *sector = stretch.first;
    return TRUE;
}

static EkRecheck ask(EkCapture *capture, guint number)
{
    guint32 size = capture->info->sector_size;
    EkSector sector = 0;
    if (!find_recheck(capture, number, &sector))
        return EK_RECHECK_NONE;
    guint32 unit = ek_capturing_unit(capture);
    sector -= sector % unit;
    guint32 count = (guint32)MIN(unit, capture->info->sectors - sector);
    gsize bytes = (gsize)ek_device_bytes_of(capture->info, sector, count);
    g_autofree guint8 *image = g_malloc0((gsize)count * size);
    guint8 *buffer = ek_image_writer_take_buffer(capture->writer);
    EkReadOutcome outcome = ek_capturing_read(capture, sector, count, 0, buffer);
    EkRecheck answer = EK_RECHECK_SILENT;
    if (outcome.reason == EK_REASON_NONE) {
        EkSector tally[EK_STATES];
        if (outcome.zeros)
            memset(buffer, 0, bytes);
        ek_read_map_tally(capture->map, sector, count, tally);
        gboolean same = tally[EK_STATE_GOOD] == count &&
                        ek_image_read(capture->parts.image, sector * size, image, bytes, NULL);
        if (same && capture->parts.kept != NULL)
            ek_overlay_lay(capture->parts.kept, sector * size, image, bytes);
        /* A unit that is good only in part, or an image that does not read, proves nothing. */
        answer =
            !same || memcmp(image, buffer, bytes) == 0 ? EK_RECHECK_AGREES : EK_RECHECK_DIFFERS;
    }
    ek_image_writer_return_buffer(capture->writer, buffer);
    return answer;
}

EkRecheck ek_recheck_ask(EkCapture *capture)
{
    return ask(capture, capture->recheck++ % RECHECKS);
}

/* A rechecked sector whose sector is all zero says little: most drives have such regions. */
static gboolean is_blank(const EkCapture *capture, guint number)
{
    guint32 size = capture->info->sector_size;
    EkSector sector = 0;
    if (!find_recheck(capture, number, &sector))
        return TRUE;
    gsize bytes = (gsize)ek_device_bytes_of(capture->info, sector, 1);
    g_autofree guint8 *image = g_malloc(size);
    return ek_image_read(capture->parts.image, sector * size, image, bytes, NULL) &&
           ek_bytes_are_zero(image, bytes);
}

gboolean ek_recheck_recognise(EkCapture *capture)
{
    guint asked = 0;
    guint agree = 0;
    guint differ = 0;
    if (ek_read_map_total(capture->map, EK_STATE_GOOD) == 0)
        return FALSE;
    for (guint i = 0; i < RECHECKS && asked < RECHECKS_AT_START && !ek_capturing_shall_end(capture);
         i++) {
        if (is_blank(capture, i))
            continue;
        asked++;
        EkRecheck answer = ask(capture, i);
        agree += answer == EK_RECHECK_AGREES;
        differ += answer == EK_RECHECK_DIFFERS;
    }
    if (differ > 0 && differ >= agree) {
        ek_error_set(&capture->error, EK_ERROR_GONE,
                     "%s does not match this case's image: %u of %u sectors read earlier are "
                     "different. This is another drive, or it has been written to",
                     capture->info->path, differ, differ + agree);
        ek_capturing_end(capture, EK_CAPTURE_STRANGER);
    }
    return agree > 0 && !capture->ended;
}

void ek_recheck_compare(EkCapture *capture)
{
    ek_image_writer_drain(capture->writer);
    EkComparison *comparison = &capture->comparison;
    for (guint i = 0; i < capture->parts.choices.compare && !ek_capturing_shall_end(capture); i++) {
        EkRecheck answer = ask(capture, i);
        comparison->compared += answer != EK_RECHECK_NONE;
        comparison->differing += answer == EK_RECHECK_DIFFERS;
        comparison->silent += answer == EK_RECHECK_SILENT;
    }
}
