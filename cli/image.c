/* SPDX-License-Identifier: MIT */
/* Imaging, and what is asked of an image afterwards. */
#include "cli.h"
#include "notify.h"

#include "base/text.h"
#include "imagehunt.h"
#include "imageview.h"
#include "numbers.h"
#include "work/checking.h"
#include "work/wanting.h"

#include <string.h>

#define COOLEST 30 /* a limit below the room's own would pause for ever */
#define HOTTEST 90

typedef struct {
    char **want;
    gboolean only_wanted;
    char *duration;
    char *rate;
    char *block;
    char *first;
    char *last;
    char *patience;
    char *source;
    char *on_gone;
    char *progress;
    char *short_space;
    char *confirmed;
    gint64 failed_reads;
    gint again;
    gint compare;
    gint max_temperature;
    gboolean all_rounds;
    gboolean backwards;
    gboolean wait;
    gboolean no_wait;
    gboolean check;
    gboolean sha256;
    gboolean hunt;
    gboolean reopen;
    char *reopen_what; /* NULL: all */
    GArray *wanted;    /* EkSectorRange */
} Options;

static void options_clear(Options *options)
{
    char **const texts[] = {&options->duration,    &options->rate,        &options->block,
                            &options->first,       &options->last,        &options->patience,
                            &options->source,      &options->on_gone,     &options->progress,
                            &options->short_space, &options->reopen_what, &options->confirmed};
    for (gsize i = 0; i < G_N_ELEMENTS(texts); i++)
        g_free(*texts[i]);
    g_strfreev(options->want);
    if (options->wanted != NULL)
        g_array_unref(options->wanted);
}

static gboolean misused(GError **error, const char *format, ...) G_GNUC_PRINTF(2, 3);

static gboolean misused(GError **error, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_propagate_error(
        error, g_error_new_valist(G_OPTION_ERROR, G_OPTION_ERROR_BAD_VALUE, format, arguments));
    va_end(arguments);
    return FALSE;
}

/* --- what the options mean ------------------------------------------------------------------- */

static gboolean parse_sector(const char *text, const char *option, EkSector *sector, GError **error)
{
    const char *end = NULL;
    if (ek_numbers_whole(text, sector, &end) && *end == '\0' && *sector < G_MAXINT64)
        return TRUE;
    return misused(error, "%s takes a sector, not \"%s\"", option, text);
}

static gboolean parse_limits(const Options *options, EkCaptureChoices *choices, GError **error)
{
    EkSector first = 0;
    EkSector last = G_MAXINT64;
    if (options->first == NULL && options->last == NULL)
        return TRUE;
    if ((options->first != NULL && !parse_sector(options->first, "--first", &first, error)) ||
        (options->last != NULL && !parse_sector(options->last, "--last", &last, error)))
        return FALSE;
    if (last < first)
        return misused(error, "--last %s comes before --first %s", options->last, options->first);
    choices->limits = (EkSectorRange){first, last - first + 1};
    return TRUE;
}

static gboolean parse_reopening(const Options *options, EkReopening *reopening, GError **error)
{
    static const EkReason reasons[] = {EK_REASON_MEDIUM, EK_REASON_TIMEOUT, EK_REASON_TRANSPORT};
    guint64 event = 0;
    const char *what = options->reopen_what;
    reopening->wanted = options->reopen;
    if (what == NULL || g_str_equal(what, "all"))
        return TRUE;
    for (gsize i = 0; i < G_N_ELEMENTS(reasons); i++) {
        if (!g_str_equal(what, ek_reason_name(reasons[i])))
            continue;
        reopening->reason = reasons[i];
        return TRUE;
    }
    if (ek_text_parse_u64(what, &event) && event > 0 && event <= G_MAXUINT32) {
        reopening->event = (guint32)event;
        return TRUE;
    }
    return misused(error,
                   "--reopen takes all, medium, timeout, transport or an event's number, not "
                   "\"%s\"",
                   what);
}

static gboolean parse_numbers(const Options *options, EkCaptureChoices *choices, GError **error)
{
    gint64 seconds = 0;
    char *end = NULL;
    if (options->duration != NULL && !ek_numbers_duration(options->duration, &seconds))
        return misused(error, "--for takes a duration like 90s, 15m or 1h30m, not \"%s\"",
                       options->duration);
    choices->time_limit = seconds * 1000000000;
    if (options->rate != NULL &&
        (!ek_numbers_size(options->rate, &choices->rate_limit) || choices->rate_limit == 0))
        return misused(error, "--rate-limit takes bytes a second like 20M, not \"%s\"",
                       options->rate);
    if (options->block != NULL &&
        (!ek_numbers_size(options->block, &choices->block_bytes) || choices->block_bytes == 0))
        return misused(error, "--block takes a size like 64K, not \"%s\"", options->block);
    if (options->patience != NULL) {
        choices->patience = g_ascii_strtod(options->patience, &end);
        if (end == options->patience || *end != '\0' || !(choices->patience > 1) ||
            choices->patience > 1e6)
            return misused(error, "--patience takes a number above 1, not \"%s\"",
                           options->patience);
    }
    if (options->failed_reads < 0 || options->again < 0 || options->compare < 0)
        return misused(error, "--failed-reads, --again and --compare take a number from 0 up");
    if (options->max_temperature != 0 &&
        (options->max_temperature < COOLEST || options->max_temperature > HOTTEST))
        return misused(error, "--max-temperature takes degrees Celsius from %d to %d", COOLEST,
                       HOTTEST);
    choices->failed_reads_limit = (guint64)options->failed_reads;
    choices->again = (guint)options->again;
    choices->compare = (guint)options->compare;
    return TRUE;
}

/* Each is a file of stretches, or what is in the case: in order of rank. */
static gboolean parse_wanted(Options *options, const EkCli *cli, GError **error)
{
    options->wanted = g_array_new(FALSE, FALSE, sizeof(EkSectorRange));
    for (char **word = options->want; *word != NULL; word++) {
        if (ek_wanting_is_word(*word)) {
            if (!ek_wanting_add(cli->operands[0], *word, ek_cli_watch_signals(), options->wanted,
                                error))
                return FALSE;
            continue;
        }
        g_autoptr(GArray) ranges = ek_numbers_ranges(*word, error);
        if (ranges == NULL)
            return FALSE;
        g_array_append_vals(options->wanted, ranges->data, ranges->len);
    }
    return TRUE;
}

static gboolean parse_choices(Options *options, const EkCli *cli, EkImagingChoices *choices,
                              GError **error)
{
    if (options->short_space != NULL && !g_str_equal(options->short_space, "continue"))
        return misused(error, "--if-short takes continue, not \"%s\"", options->short_space);
    if (options->progress != NULL && !g_str_equal(options->progress, "json"))
        return misused(error, "--progress takes json, not \"%s\"", options->progress);
    if (options->wait && options->no_wait)
        return misused(error, "--wait and --no-wait cannot be combined");
    if (options->only_wanted && options->want == NULL)
        return misused(error, "--only-wanted requires --want");
    if (options->want != NULL && !parse_wanted(options, cli, error))
        return FALSE;
    if (!parse_numbers(options, &choices->capture, error) ||
        !parse_limits(options, &choices->capture, error) ||
        !parse_reopening(options, &choices->reopening, error))
        return FALSE;
    if (options->wanted != NULL) {
        choices->capture.wanted = (const EkSectorRange *)(gconstpointer)options->wanted->data;
        choices->capture.wanted_count = options->wanted->len;
        choices->capture.only_wanted = options->only_wanted;
    }
    choices->capture.backwards = options->backwards;
    choices->capture.all_rounds = options->all_rounds || options->again > 0;
    choices->max_temperature = options->max_temperature;
    choices->source = options->source;
    choices->on_gone = options->on_gone;
    choices->allow_short_space = options->short_space != NULL;
    choices->confirmed = options->confirmed;
    choices->wait = options->wait || (cli->terminal_err && !options->no_wait);
    return TRUE;
}

/* --- how it ended ---------------------------------------------------------------------------- */

static void print_result(const EkCaptureProgress *now)
{
    g_autofree char *good = ek_text_size(now->totals[EK_STATE_GOOD] * now->sector_size);
    g_autofree char *total = ek_text_size(now->sectors * now->sector_size);
    g_autofree char *share = ek_text_share(now->totals[EK_STATE_GOOD], now->sectors);
    g_autofree char *time = ek_text_duration((double)now->device_clock / 1e9);
    ek_cli_print("%s of %s read (%s). Bad sectors: %" G_GUINT64_FORMAT
                 ". Not yet read: %" G_GUINT64_FORMAT ". Drive time: %s\n",
                 good, total, share, now->totals[EK_STATE_BAD],
                 now->totals[EK_STATE_UNTOUCHED] + now->totals[EK_STATE_SET_ASIDE], time);
}

/* What is good only in that the drive answered. */
static void print_doubts(EkImaging *imaging, const EkCaptureProgress *now)
{
    EkComparison comparison = ek_imaging_comparison(imaging);
    EkSector good = now->totals[EK_STATE_GOOD];
    EkSector odd = now->fill[EK_FILL_ONES] + now->fill[EK_FILL_PATTERN];
    if (comparison.compared > 0)
        ek_cli_print(
            "%u places read twice: %u identical, %u different, %u unreadable the second time\n",
            comparison.compared, comparison.compared - comparison.differing - comparison.silent,
            comparison.differing, comparison.silent);
    if (comparison.differing > 0)
        ek_cli_advise("image: the drive returns different data for the same sector. Do not rely on "
                      "this image until the cause is found");
    if (odd > good / 20 && odd > 2048) {
        g_autofree char *share = ek_text_share(odd, good);
        ek_cli_advise("image: %s of the data is a single repeated value or pattern (FF, or eight "
                      "bytes repeated). That is unusual: the drive may be returning false data",
                      share);
    }
    if (now->repeats_every > 0) {
        g_autofree char *size = ek_text_size(now->repeats_every * now->sector_size);
        ek_cli_advise("image: the data repeats every %" G_GUINT64_FORMAT
                      " sectors (%s). The drive's real capacity is smaller than reported, or the "
                      "adapter truncates addresses",
                      now->repeats_every, size);
    }
}

/* The decision in numbers: what is left, and what it would cost. */
static void put_decision(EkImaging *imaging, const EkCaptureProgress *now, const char *folder)
{
    EkSector left = now->totals[EK_STATE_UNTOUCHED] + now->totals[EK_STATE_SET_ASIDE];
    g_autofree char *size = ek_text_size(left * now->sector_size);
    g_autofree char *share = ek_text_share(left, now->sectors);
    g_autofree char *time = ek_text_duration(ek_imaging_estimate(imaging));
    g_autofree char *each = ek_text_duration(now->failure_seconds);
    ek_cli_advise("image: all easily readable sectors are imaged. %" G_GUINT64_FORMAT
                  " sectors remain (%s, %s of the drive) in %" G_GUINT64_FORMAT
                  " stretches, most of them next to failed reads. Reading them one by one takes up "
                  "to %s (about %s per failing sector) and wears the drive",
                  left, size, share, now->stretches_left, time, each);
    ek_cli_advise("Next, see what you already have: ektypon hunt %s\nThen, if the missing sectors "
                  "matter: ektypon image %s --all-rounds",
                  folder, folder);
}

static int explain_failure(EkImaging *imaging, const GError *error, const char *folder)
{
    EkCaptureProgress now = ek_imaging_progress(imaging);
    if (!g_error_matches(error, EK_ERROR, EK_ERROR_NO_SPACE)) {
        ek_cli_advise("image: cannot save the sectors that were read: %s. Everything marked good "
                      "in the map is safe. Fix the problem, then run: ektypon image %s",
                      error->message, folder);
        return EK_EXIT_FAILED;
    }
    EkSector left = now.totals[EK_STATE_UNTOUCHED] + now.totals[EK_STATE_SET_ASIDE];
    g_autofree char *missing = ek_text_size(left * now.sector_size);
    ek_cli_advise("image: disk full: %s. Everything marked good in the map is safe. Up to %s "
                  "(%" G_GUINT64_FORMAT
                  " bytes) more is needed. Free the space, then run: ektypon image %s",
                  error->message, missing, left * now.sector_size, folder);
    return EK_EXIT_FAILED;
}

static int explain_end(EkCli *cli, EkCaptureEnd end, EkImaging *imaging, const Options *options,
                       GError *error)
{
    const char *folder = cli->operands[0];
    const EkCaseInfo *info = ek_imaging_info(imaging);
    EkCaptureProgress now = ek_imaging_progress(imaging);
    g_autofree char *safe = ek_text_share(now.totals[EK_STATE_GOOD], now.sectors);
    switch (end) {
    case EK_CAPTURE_COMPLETE:
        print_result(&now);
        print_doubts(imaging, &now);
        if (!options->hunt)
            ek_cli_advise("Next: ektypon hunt %s", folder);
        return EK_EXIT_DONE;
    case EK_CAPTURE_DECISION:
        print_result(&now);
        print_doubts(imaging, &now);
        put_decision(imaging, &now, folder);
        return EK_EXIT_LEFT;
    case EK_CAPTURE_LIMIT:
        print_result(&now);
        print_doubts(imaging, &now);
        ek_cli_advise("image: %s. All data read so far is saved. To continue: ektypon image %s",
                      options->only_wanted
                          ? "everything requested has been read, as far as it is readable"
                          : "stopped at the requested limit",
                      folder);
        return EK_EXIT_LEFT;
    case EK_CAPTURE_CANCELLED:
        print_result(&now);
        ek_cli_advise(
            "image: interrupted. All data read so far is saved. To continue: ektypon image %s",
            folder);
        return EK_EXIT_INTERRUPTED;
    case EK_CAPTURE_STOPPED:
        ek_cli_advise(
            "image: %s no longer reads anywhere: many reads in a row failed across all remaining "
            "stretches, and %s. No sector was marked bad because of this. %s of the drive is safe "
            "in %s. Let the drive cool down, power-cycle it, then run: ektypon image %s",
            info->source,
            now.totals[EK_STATE_GOOD] > 0 ? "sectors that were readable before now fail"
                                          : "no sector has been readable so far",
            safe, folder, folder);
        return EK_EXIT_FAILED;
    case EK_CAPTURE_GONE:
        ek_cli_advise(
            "image: %s disconnected at sector %" G_GUINT64_FORMAT
            ". %s of the drive is safe in %s. Power-cycle the drive, then run: ektypon image %s",
            info->source, ek_imaging_last_position(imaging), safe, folder, folder);
        return EK_EXIT_FAILED;
    case EK_CAPTURE_STRANGER:
        ek_cli_advise("image: %s. No data was added to the case", error->message);
        return EK_EXIT_FAILED;
    case EK_CAPTURE_FAILED: break;
    }
    return explain_failure(imaging, error, folder);
}

/* --- what is asked of the image afterwards --------------------------------------------------- */

static void name_changed(void *data, EkByte first, EkByte bytes)
{
    guint32 sector_size = *(const guint32 *)data;
    g_autofree char *size = ek_text_size(bytes);
    ek_cli_print("changed: %s at byte %" G_GUINT64_FORMAT ", sectors %" G_GUINT64_FORMAT
                 " to %" G_GUINT64_FORMAT "\n",
                 size, first, first / sector_size, (first + bytes - 1) / sector_size);
}

static int check_image(EkCli *cli, const gint *cancel, guint32 sector_size)
{
    GError *error = NULL;
    EkCheck check;
    EkCheckParts parts = {.cancel = cancel, .data = &sector_size, .changed = name_changed};
    if (!ek_checking_run(cli->operands[0], &parts, &check, &error))
        return ek_cli_fail(cli, error);
    g_autofree char *size = ek_text_size(check.bytes);
    ek_cli_print("%" G_GUINT64_FORMAT " of %" G_GUINT64_FORMAT
                 " blocks (%s) are unchanged since imaging\n",
                 check.blocks - check.changed, check.blocks, size);
    if (check.changed == 0)
        return EK_EXIT_DONE;
    ek_cli_advise(
        "image: these blocks have changed since they were read from the drive: the disk that "
        "stores the image is failing, or something wrote to the image. Do not rely on them");
    return EK_EXIT_FAILED;
}

static int print_digest(EkCli *cli, EkPrefix *prefix, const gint *cancel)
{
    GError *error = NULL;
    EkCheckParts parts = {.cancel = cancel};
    g_autofree char *digest = ek_checking_digest(cli->operands[0], &parts, prefix, &error);
    if (digest == NULL)
        return ek_cli_fail(cli, error);
    ek_cli_print("SHA-256 %s (image as read; unread sectors counted as zeros)\n", digest);
    return EK_EXIT_DONE;
}

/* --- the command ----------------------------------------------------------------------------- */

/* Waits for the hunt beside it to look at the rest, and says what it has found. */
static int end_hunt(EkCli *cli, EkImageHunt *hunt, int status)
{
    GError *error = NULL;
    guint count = ek_image_hunt_end(hunt, &error);
    gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
    if (error != NULL && !interrupted) {
        ek_cli_advise("image: the parallel hunt failed: %s. Imaging was not affected. To search "
                      "the image: ektypon hunt %s",
                      error->message, cli->operands[0]);
        status = status == EK_EXIT_DONE ? EK_EXIT_FAILED : status;
    } else if (!interrupted) {
        ek_cli_print("%u %s found so far\n", count, count == 1 ? "volume" : "volumes");
        ek_cli_advise("Everything read so far has been searched. Next: ektypon volumes %s",
                      cli->operands[0]);
    }
    g_clear_error(&error);
    return status;
}

/* Where what is told of the drive goes meanwhile. */
typedef struct {
    EkImageView *view; /* NULL: lines of JSON are printed, or nothing is shown yet */
    gboolean json;
} Telling;

static void tell(void *data, const char *text)
{
    const Telling *telling = data;
    g_autofree char *line = g_strdup_printf("image: %s", text);
    if (telling->json) {
        json_t *note = json_pack("{s:o}", "note", ek_json_text(text));
        g_autofree char *dumped = json_dumps(note, JSON_COMPACT);
        fprintf(stderr, "%s\n", dumped);
        json_decref(note);
    } else if (telling->view != NULL) {
        ek_image_view_note(telling->view, line);
    } else {
        ek_cli_advise("%s", line);
    }
}

static int run(EkCli *cli, EkImagingChoices *choices, const Options *options, const gint *cancel)
{
    GError *error = NULL;
    EkImageJson lines = {0};
    gboolean json = options->progress != NULL;
    Telling telling = {NULL, json};
    choices->told = tell;
    choices->told_data = &telling;
    if (json) {
        choices->report = ek_image_view_json;
        choices->data = &lines;
    }
    g_autoptr(EkImaging) imaging =
        ek_imaging_new(cli->system, cli->operands[0], cli->options, choices, cancel, &error);
    if (imaging == NULL) {
        if (g_error_matches(error, EK_ERROR, EK_ERROR_NO_SPACE))
            g_prefix_error(&error, "%s", "not started: ");
        return ek_cli_fail(cli, error);
    }
    EkImageHunt *hunt = options->hunt ? ek_image_hunt_begin(cli, json, cancel, &error) : NULL;
    if (error != NULL)
        return ek_cli_fail(cli, error);
    lines.hunt = hunt;
    EkImageView *view = json ? NULL : ek_image_view_open(cli, imaging, hunt);
    telling.view = view;
    EkCaptureEnd end = ek_imaging_run(imaging, &error);
    telling.view = NULL;
    g_clear_pointer(&view, ek_image_view_close);
    int status = explain_end(cli, end, imaging, options, error);
    g_clear_error(&error);
    return hunt != NULL ? end_hunt(cli, hunt, status) : status;
}

static gboolean take_reopen(const char *name, const char *value, void *data, GError **error)
{
    Options *options = data;
    (void)name;
    (void)error;
    options->reopen = TRUE;
    g_free(options->reopen_what);
    options->reopen_what = g_strdup(value);
    return TRUE;
}

static int image(EkCli *cli, Options *options)
{
    GError *error = NULL;
    EkImagingChoices choices = {0};
    EkKeptState state;
    EkByte bytes = 0;
    guint32 sector_size = 0;
    if (!parse_choices(options, cli, &choices, &error)) {
        int status = ek_cli_misused(cli, "%s", error->message);
        g_error_free(error);
        return status;
    }
    gboolean complete =
        ek_imaging_is_complete(cli->operands[0], &state, &bytes, &sector_size, &error);
    if (error != NULL)
        return ek_cli_fail(cli, error);
    const gint *cancel = ek_cli_watch_signals();
    if (options->check)
        return check_image(cli, cancel, sector_size);
    int status = EK_EXIT_DONE;
    EkPrefix prefix = {0};
    choices.prefix = options->sha256 ? &prefix : NULL;
    gboolean more = options->reopen || choices.capture.again > 0 || choices.capture.compare > 0;
    if (!complete || more) {
        status = run(cli, &choices, options, cancel);
    } else if (!options->sha256) {
        g_autofree char *good = ek_text_size(MIN(state.totals[EK_STATE_GOOD] * sector_size, bytes));
        ek_cli_print("Every sector has already been tried: %s good, %" G_GUINT64_FORMAT
                     " bad sectors. The drive was not accessed.\n",
                     good, state.totals[EK_STATE_BAD]);
        ek_cli_advise("Next: ektypon hunt %s", cli->operands[0]);
    }
    if (options->sha256 && status == EK_EXIT_DONE)
        status = print_digest(cli, &prefix, cancel);
    ek_prefix_clear(&prefix);
    return status;
}

int ek_command_image(EkCli *cli)
{
    Options options = {0};
    const GOptionEntry entries[] = {
        {"want", 0, 0, G_OPTION_ARG_FILENAME_ARRAY, &options.want,
         "read this first; may be repeated, most important first. WHAT: structures, used:VOLUME, "
         "free:VOLUME, VOLUME:PATH, or a file of sector ranges (`first count` per line)",
         "WHAT"},
        {"only-wanted", 0, 0, G_OPTION_ARG_NONE, &options.only_wanted,
         "stop when everything requested has been tried", NULL},
        {"all-rounds", 0, 0, G_OPTION_ARG_NONE, &options.all_rounds,
         "run all rounds without stopping to ask", NULL},
        {"again", 0, 0, G_OPTION_ARG_INT, &options.again,
         "retry bad sectors N times at the end, alternating direction", "N"},
        {"for", 0, 0, G_OPTION_ARG_STRING, &options.duration,
         "stop after this much drive time (90s, 15m, 1h30m)", "DURATION"},
        {"failed-reads", 0, 0, G_OPTION_ARG_INT64, &options.failed_reads,
         "stop after N failed reads", "N"},
        {"rate-limit", 0, 0, G_OPTION_ARG_STRING, &options.rate,
         "limit the read rate, per second (20M)", "SIZE"},
        {"max-temperature", 0, 0, G_OPTION_ARG_INT, &options.max_temperature,
         "pause while the drive is hotter than this, until it is 5 °C below (30 to 90)", "DEGREES"},
        {"first", 0, 0, G_OPTION_ARG_STRING, &options.first, "first sector to read", "SECTOR"},
        {"last", 0, 0, G_OPTION_ARG_STRING, &options.last, "last sector to read", "SECTOR"},
        {"backwards", 0, 0, G_OPTION_ARG_NONE, &options.backwards,
         "skim from the end of the drive to the start", NULL},
        {"block", 0, 0, G_OPTION_ARG_STRING, &options.block,
         "read size in the skim round (default: automatic)", "SIZE"},
        {"patience", 0, 0, G_OPTION_ARG_STRING, &options.patience,
         "treat a read as slow when it takes N times the usual time (default 6)", "TIMES"},
        {"compare", 0, 0, G_OPTION_ARG_INT, &options.compare,
         "re-read N places at the end and compare", "N"},
        {"source", 0, 0, G_OPTION_ARG_FILENAME, &options.source,
         "resume with the same drive at another path or adapter", "SOURCE"},
        {"reopen", 0, G_OPTION_FLAG_OPTIONAL_ARG, G_OPTION_ARG_CALLBACK,
         G_GNUC_EXTENSION(gpointer) take_reopen,
         "retry bad and skipped sectors in large reads: all, or by reason or log event",
         "all|medium|timeout|transport|EVENT"},
        {"wait", 0, 0, G_OPTION_ARG_NONE, &options.wait,
         "wait if the drive disconnects or the disk is full (default on a terminal)", NULL},
        {"no-wait", 0, 0, G_OPTION_ARG_NONE, &options.no_wait, "stop instead", NULL},
        {"on-gone", 0, 0, G_OPTION_ARG_STRING, &options.on_gone,
         "run COMMAND when the drive disconnects, e.g. to power-cycle it", "COMMAND"},
        {"hunt", 0, 0, G_OPTION_ARG_NONE, &options.hunt, "search for volumes while imaging", NULL},
        {"check", 0, 0, G_OPTION_ARG_NONE, &options.check,
         "verify the image against its checksums and list changed blocks", NULL},
        {"sha256", 0, 0, G_OPTION_ARG_NONE, &options.sha256,
         "print the SHA-256 of the finished image", NULL},
        EK_OPTION_NOTIFY(cli),
        {"progress", 0, 0, G_OPTION_ARG_STRING, &options.progress,
         "progress as lines of JSON on stderr", "json"},
        {"confirm", 0, 0, G_OPTION_ARG_STRING, &options.confirmed,
         "the name of an image outside the case folder, when the case came from elsewhere", "NAME"},
        {"if-short", 0, 0, G_OPTION_ARG_STRING, &options.short_space,
         "continue: start even if the image may not fit", "continue"},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    cli->option_data = &options;
    if (ek_cli_parse(cli, entries, &status))
        status = image(cli, &options);
    options_clear(&options);
    return status;
}
