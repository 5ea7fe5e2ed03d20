/* SPDX-License-Identifier: MIT */
#include "cli.h"

#include "base/text.h"
#include "show.h"
#include "work/imaging.h"

#include <string.h>

#define RATE_WINDOW_NS (10 * (gint64)1000000000)
#define SAMPLES 64u

typedef struct {
    gint64 clock; /* ns of device time */
    guint64 bytes;
} Sample;

typedef struct {
    EkImaging *imaging;
    gboolean color;
    gint64 started; /* device time */
    Sample samples[SAMPLES];
    guint sample_count;
} Show;

/* Bytes a second of device time, lately: what the drive gives, however fast the clock runs. */
static double recent_rate(Show *show, const EkCaptureProgress *now)
{
    Sample latest = {now->device_clock, now->read_bytes};
    if (show->sample_count == SAMPLES)
        memmove(show->samples, show->samples + 1, (--show->sample_count) * sizeof(Sample));
    show->samples[show->sample_count++] = latest;
    guint from = 0;
    while (from + 2 < show->sample_count &&
           latest.clock - show->samples[from + 1].clock >= RATE_WINDOW_NS)
        from++;
    gint64 passed = latest.clock - show->samples[from].clock;
    if (passed <= 0)
        return 0;
    return (double)(latest.bytes - show->samples[from].bytes) / ((double)passed / 1e9);
}

static const char *doing(EkRound round)
{
    switch (round) {
    case EK_ROUND_SKIM: return "skim: large reads in order, stepping over trouble";
    case EK_ROUND_NARROW: return "narrow: into what was stepped over";
    case EK_ROUND_SINGLE: return "single: sector by sector what failed";
    case EK_ROUND_AGAIN: return "again: bad sectors once more";
    case EK_ROUND_NONE: break;
    }
    return "starting";
}

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    Show *show = data;
    EkCaptureProgress now = ek_imaging_progress(show->imaging);
    EkSector left = now.totals[EK_STATE_UNTOUCHED] + now.totals[EK_STATE_SET_ASIDE];
    EkSector done = now.sectors - left;
    double rate = recent_rate(show, &now);
    g_autofree char *bar = ek_show_bar(done, now.sectors, 24);
    g_autofree char *share = ek_text_share(done, now.sectors);
    g_autofree char *so_far = ek_text_size(done * now.sector_size);
    g_autofree char *total = ek_text_size(now.sectors * now.sector_size);
    g_autofree char *speed = ek_text_size((guint64)rate);
    g_autofree char *remaining = ek_show_time_left(left * now.sector_size, rate);
    g_string_printf(lines[0], "%s%s%s %s  %s of %s  %s/s  left %s",
                    ek_show_on(show->color, EK_COLOR_GOOD), bar, ek_show_off(show->color), share,
                    so_far, total, speed, remaining);
    g_string_printf(lines[1], "%s, at sector %" G_GUINT64_FORMAT, doing(now.round), now.position);
    g_string_printf(lines[2],
                    "stretches left %" G_GUINT64_FORMAT "  bad sectors %s%" G_GUINT64_FORMAT
                    "%s  failed reads %" G_GUINT64_FORMAT,
                    now.stretches_left,
                    ek_show_on(show->color && now.totals[EK_STATE_BAD] > 0, EK_COLOR_BAD),
                    now.totals[EK_STATE_BAD], ek_show_off(show->color), now.failed_commands);
}

static void print_result(const EkCaptureProgress *now, gint64 device_ns)
{
    g_autofree char *good = ek_text_size(now->totals[EK_STATE_GOOD] * now->sector_size);
    g_autofree char *total = ek_text_size(now->sectors * now->sector_size);
    g_autofree char *share = ek_text_share(now->totals[EK_STATE_GOOD], now->sectors);
    g_autofree char *time = ek_text_duration((double)device_ns / 1e9);
    printf("%s of %s good (%s); %" G_GUINT64_FORMAT " bad sectors, %" G_GUINT64_FORMAT
           " left; %s of the drive's time\n",
           good, total, share, now->totals[EK_STATE_BAD],
           now->totals[EK_STATE_UNTOUCHED] + now->totals[EK_STATE_SET_ASIDE], time);
}

static int explain_end(EkCli *cli, EkCaptureEnd end, EkImaging *imaging, GError *error)
{
    const char *folder = cli->operands[0];
    const EkCaseInfo *info = ek_imaging_info(imaging);
    EkCaptureProgress now = ek_imaging_progress(imaging);
    g_autofree char *safe = ek_text_share(now.totals[EK_STATE_GOOD], now.sectors);
    EkSector at = ek_imaging_last_position(imaging);
    switch (end) {
    case EK_CAPTURE_COMPLETE:
        print_result(&now, now.device_clock);
        ek_cli_advise("Next: ektypon hunt %s", folder);
        return EK_EXIT_DONE;
    case EK_CAPTURE_CANCELLED:
        print_result(&now, now.device_clock);
        ek_cli_advise("image: interrupted; everything read is kept. To go on: ektypon image %s",
                      folder);
        return EK_EXIT_INTERRUPTED;
    case EK_CAPTURE_STOPPED:
        ek_cli_advise(
            "image: %s stopped reading everywhere: many reads in a row failed, spread over what is "
            "left, and %s. Nothing was marked bad for it; %s is safe in %s. Let it cool, "
            "power-cycle it, then run: ektypon image %s",
            info->source,
            now.totals[EK_STATE_GOOD] > 0 ? "ground that read before does not read now"
                                          : "nothing on it has read so far",
            safe, folder, folder);
        return EK_EXIT_FAILED;
    case EK_CAPTURE_GONE:
        ek_cli_advise("image: %s is gone since sector %" G_GUINT64_FORMAT
                      "; %s is safe in %s. Power-cycle "
                      "the drive, then run: ektypon image %s",
                      info->source, at, safe, folder, folder);
        return EK_EXIT_FAILED;
    case EK_CAPTURE_STRANGER:
        ek_cli_advise("image: %s. Nothing was read into the case", error->message);
        return EK_EXIT_FAILED;
    case EK_CAPTURE_FAILED: break;
    }
    if (g_error_matches(error, EK_ERROR, EK_ERROR_NO_SPACE)) {
        g_autofree char *missing = ek_text_size(
            (now.totals[EK_STATE_UNTOUCHED] + now.totals[EK_STATE_SET_ASIDE]) * now.sector_size);
        ek_cli_advise(
            "image: no space left: %s. What the map calls good is safe; up to %s more are "
            "needed. Free them, then run: ektypon image %s",
            error->message, missing, folder);
    } else {
        ek_cli_advise(
            "image: what was read could not be kept: %s. What the map calls good is safe; when "
            "that is mended, run: ektypon image %s",
            error->message, folder);
    }
    return EK_EXIT_FAILED;
}

int ek_command_image(EkCli *cli)
{
    g_autofree char *short_space = NULL;
    const GOptionEntry entries[] = {
        {"short-space", 0, 0, G_OPTION_ARG_STRING, &short_space,
         "what to do when the image may not fit: go-on", "go-on"},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (short_space != NULL && !g_str_equal(short_space, "go-on"))
        return ek_cli_misused(cli, "--short-space takes go-on, not \"%s\"", short_space);

    GError *error = NULL;
    EkKeptState state;
    EkByte bytes = 0;
    guint32 sector_size = 0;
    if (ek_imaging_is_complete(cli->operands[0], &state, &bytes, &sector_size, &error)) {
        g_autofree char *good = ek_text_size(MIN(state.totals[EK_STATE_GOOD] * sector_size, bytes));
        printf("Everything was tried already: %s good, %" G_GUINT64_FORMAT
               " bad sectors. The drive was not touched.\n",
               good, state.totals[EK_STATE_BAD]);
        ek_cli_advise("Next: ektypon hunt %s", cli->operands[0]);
        return EK_EXIT_DONE;
    }
    if (error != NULL)
        return ek_cli_fail(cli, error);
    const gint *cancel = ek_cli_watch_signals();
    g_autoptr(EkImaging) imaging = ek_imaging_new(cli->system, cli->operands[0], cli->options,
                                                  short_space != NULL, cancel, &error);
    if (imaging == NULL) {
        if (g_error_matches(error, EK_ERROR, EK_ERROR_NO_SPACE))
            g_prefix_error(&error, "%s", "not started: ");
        return ek_cli_fail(cli, error);
    }
    Show show = {.imaging = imaging, .color = cli->color_err};
    EkProgress *progress = ek_progress_begin(cli->terminal_err, draw, &show);
    EkCaptureEnd end = ek_imaging_run(imaging, &error);
    ek_progress_end(progress);
    status = explain_end(cli, end, imaging, error);
    g_clear_error(&error);
    return status;
}
