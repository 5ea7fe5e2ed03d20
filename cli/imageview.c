/* SPDX-License-Identifier: MIT */
/* What a running imaging shows. */
#include "imageview.h"

#include "base/text.h"
#include "profile.h"

#include <string.h>

#define RATE_WINDOW_NS (10 * (gint64)1000000000)
#define SAMPLES 64u
#define HANGS_AFTER_US (3 * G_USEC_PER_SEC)
#define MARGIN 2

typedef struct {
    gint64 clock; /* ns of device time */
    guint64 bytes;
} Sample;

struct EkImageView {
    EkImaging *imaging;
    EkImageHunt *hunt;
    EkProgress *progress;
    gboolean color;
    gboolean terminal;
    int width;
    gint64 started; /* device time */
    Sample samples[SAMPLES];
    guint sample_count;
    guint64 turn;
};

/* Bytes a second of device time, lately: what the drive gives, however fast the clock runs. */
static double recent_rate(EkImageView *view, const EkCaptureProgress *now)
{
    Sample latest = {now->device_clock, now->read_bytes};
    if (view->sample_count == SAMPLES)
        memmove(view->samples, view->samples + 1, (--view->sample_count) * sizeof(Sample));
    view->samples[view->sample_count++] = latest;
    guint from = 0;
    while (from + 2 < view->sample_count &&
           latest.clock - view->samples[from + 1].clock >= RATE_WINDOW_NS)
        from++;
    gint64 passed = latest.clock - view->samples[from].clock;
    if (passed <= 0)
        return 0;
    return (double)(latest.bytes - view->samples[from].bytes) / ((double)passed / 1e9);
}

static double mean_rate(const EkImageView *view, const EkCaptureProgress *now)
{
    gint64 passed = now->device_clock - view->started;
    return passed > 0 ? (double)now->read_bytes / ((double)passed / 1e9) : 0;
}

static const char *doing(EkRound round)
{
    switch (round) {
    case EK_ROUND_SKIM: return "skim: large reads, skipping problem areas";
    case EK_ROUND_NARROW: return "narrow: finding the edges of problem areas";
    case EK_ROUND_SINGLE: return "single: retrying failed reads sector by sector";
    case EK_ROUND_AGAIN: return "again: retrying bad sectors";
    case EK_ROUND_NONE: break;
    }
    return "starting";
}

/* In the skim the rest reads about as fast as what was read; later nobody can say so. */
static char *time_left(const EkCaptureProgress *now, double rate)
{
    EkSector left = now->totals[EK_STATE_UNTOUCHED] + now->totals[EK_STATE_SET_ASIDE];
    if (left == 0)
        return g_strdup("0 s");
    if (now->round <= EK_ROUND_SKIM)
        return ek_show_time_left(left * now->sector_size, rate);
    double worst = (double)left * now->failure_seconds;
    g_autofree char *most = ek_text_duration(worst);
    return g_strdup_printf("at most %s", most);
}

static void draw_profile(EkImageView *view, GString *line)
{
    guint columns = (guint)CLAMP(view->width - MARGIN, 10, 240);
    EkSector(*tally)[EK_STATES] = g_malloc_n(columns, sizeof *tally);
    EkCaptureView look = {.cells = columns, .tally = tally};
    ek_imaging_look(view->imaging, &look);
    ek_profile_draw(line, tally, columns, 1, view->color, FALSE);
    g_free(tally);
}

static void draw_largest(EkImageView *view, GString *line, const EkCaptureProgress *now)
{
    EkCaptureView look = {0};
    ek_imaging_look(view->imaging, &look);
    g_autofree char *left = ek_text_count(now->stretches_left, "stretch", "stretches");
    g_string_append_printf(line, "%s left", left);
    for (int i = 0; i < EK_LARGEST_LEFT && look.largest[i].count > 0; i++) {
        g_autofree char *size = ek_text_size(look.largest[i].count * now->sector_size);
        g_string_append_printf(line, "%s %s at %" G_GUINT64_FORMAT, i == 0 ? ", largest" : ",",
                               size, look.largest[i].first);
    }
}

static void draw_doing(EkImageView *view, GString *line, const EkCaptureProgress *now)
{
    gint64 hangs = now->reading_since != 0 ? g_get_monotonic_time() - now->reading_since : 0;
    switch (ek_imaging_waits(view->imaging)) {
    case EK_WAITING_FOR_DRIVE:
        g_string_append_printf(line,
                               "drive disconnected at sector %" G_GUINT64_FORMAT
                               "; waiting for it to return (Ctrl-C to stop)",
                               now->position);
        return;
    case EK_WAITING_FOR_SPACE:
        g_string_append(line, "disk full; waiting for free space (Ctrl-C to stop)");
        return;
    case EK_WAITING_TO_COOL:
        g_string_append(line, "paused: the drive is cooling down (Ctrl-C to stop)");
        return;
    case EK_WAITING_NOT: break;
    }
    if (hangs > HANGS_AFTER_US) {
        g_autofree char *time = ek_text_duration((double)hangs / G_USEC_PER_SEC);
        g_string_append_printf(
            line, "%sthe read at sector %" G_GUINT64_FORMAT " has been hanging for %s%s",
            ek_show_on(view->color, EK_COLOR_WARN), now->position, time, ek_show_off(view->color));
        return;
    }
    g_string_append_printf(line, "%s, at sector %" G_GUINT64_FORMAT, doing(now->round),
                           now->position);
}

static void draw_counts(EkImageView *view, GString *line, const EkCaptureProgress *now)
{
    EkSector bad = now->totals[EK_STATE_BAD];
    g_string_append_printf(line,
                           "bad sectors %s%" G_GUINT64_FORMAT "%s  failed reads %" G_GUINT64_FORMAT,
                           ek_show_on(view->color && bad > 0, EK_COLOR_BAD), bad,
                           ek_show_off(view->color), now->failed_commands);
    if (view->hunt != NULL)
        g_string_append_printf(line, "  volumes found %u", ek_image_hunt_count(view->hunt));
    if (now->repeats_every > 0)
        g_string_append_printf(line, "  %sdata repeats every %" G_GUINT64_FORMAT " sectors%s",
                               ek_show_on(view->color, EK_COLOR_BAD), now->repeats_every,
                               ek_show_off(view->color));
}

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    EkImageView *view = data;
    EkCaptureProgress now = ek_imaging_progress(view->imaging);
    EkSector left = now.totals[EK_STATE_UNTOUCHED] + now.totals[EK_STATE_SET_ASIDE];
    EkSector done = now.sectors - left;
    double rate = recent_rate(view, &now);
    g_autofree char *share = ek_text_share(done, now.sectors);
    g_autofree char *so_far = ek_text_size(done * now.sector_size);
    g_autofree char *total = ek_text_size(now.sectors * now.sector_size);
    g_autofree char *speed = ek_text_size((guint64)rate);
    g_autofree char *mean = ek_text_size((guint64)mean_rate(view, &now));
    g_autofree char *remaining = time_left(&now, rate);
    g_string_printf(lines[0], "%s  %s of %s  now %s/s, mean %s/s  time left %s", share, so_far,
                    total, speed, mean, remaining);
    if (!view->terminal) {
        g_string_append(lines[0], "  ");
        draw_doing(view, lines[0], &now);
        g_string_append(lines[0], "  ");
        draw_counts(view, lines[0], &now);
        return;
    }
    draw_profile(view, lines[1]);
    draw_doing(view, lines[2], &now);
    draw_counts(view, lines[3], &now);
    draw_largest(view, lines[4], &now);
}

EkImageView *ek_image_view_open(const EkCli *cli, EkImaging *imaging, EkImageHunt *hunt)
{
    EkImageView *view = g_new0(EkImageView, 1);
    view->imaging = imaging;
    view->hunt = hunt;
    view->color = cli->color_err;
    view->terminal = cli->terminal_err;
    view->width = cli->width;
    view->started = ek_imaging_progress(imaging).device_clock;
    view->progress = ek_progress_begin(cli->terminal_err, draw, view);
    if (hunt != NULL)
        ek_image_hunt_tell(hunt, view->progress);
    return view;
}

void ek_image_view_close(EkImageView *view)
{
    if (view->hunt != NULL)
        ek_image_hunt_tell(view->hunt, NULL);
    ek_progress_end(view->progress);
    g_free(view);
}

void ek_image_view_note(EkImageView *view, const char *text)
{
    ek_progress_note(view->progress, text);
}

void ek_image_view_json(void *data, const EkCaptureProgress *now)
{
    EkImageJson *json = data;
    double seconds = (double)(now->device_clock - json->clock) / 1e9;
    double rate =
        seconds > 0 && json->clock > 0 ? (double)(now->read_bytes - json->bytes) / seconds : 0;
    char number[G_ASCII_DTOSTR_BUF_SIZE];
    char speed[G_ASCII_DTOSTR_BUF_SIZE];
    json->clock = now->device_clock;
    json->bytes = now->read_bytes;
    g_ascii_formatd(number, sizeof number, "%.3f", (double)now->device_clock / 1e9);
    g_ascii_formatd(speed, sizeof speed, "%.0f", rate);
    fprintf(stderr,
            "{\"device_seconds\": %s, \"failed_commands\": %" G_GUINT64_FORMAT ", \"totals\": {",
            number, now->failed_commands);
    for (int state = 0; state < EK_STATES; state++)
        fprintf(stderr, "%s\"%s\": %" G_GUINT64_FORMAT, state > 0 ? ", " : "",
                ek_state_name((EkState)state), now->totals[state]);
    fprintf(stderr, "}, \"position\": %" G_GUINT64_FORMAT ", \"round\": \"%s\", \"rate\": %s",
            now->position, ek_round_name(now->round), speed);
    if (json->hunt != NULL)
        fprintf(stderr, ", \"volumes\": %u", ek_image_hunt_count(json->hunt));
    fputs("}\n", stderr);
}
