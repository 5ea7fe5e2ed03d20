/* SPDX-License-Identifier: MIT */
/* carve: searches for files by their content. */
#include "cli.h"
#include "notify.h"

#include "base/text.h"
#include "carve/types.h"
#include "extract.h"
#include "nearest.h"
#include "numbers.h"
#include "show.h"
#include "work/contents.h"

#define LINE_EVERY (10 * G_USEC_PER_SEC)
#define WRITE_EVERY (20 * G_USEC_PER_SEC)

typedef struct {
    EkCli *cli;
    EkSearch *search;
    EkProgress *progress; /* NULL: progress is lines of JSON */
    gint64 started;
    guint64 percent; /* that the last line told, + 1 */
    gint64 told_at;
    const char *to; /* what is whole is written there; NULL: nothing is */
    gint64 written_at;
    gboolean is_new; /* something whole was found since then */
} Show;

/* --- while it runs --------------------------------------------------------------------------- */

typedef struct {
    guint64 files;
    guint64 whole;
    EkByte bytes;
} Sum;

/* What there is by now, a kind at a time. */
static Sum sum_up(EkSearch *search, Sum kinds[EK_KINDS])
{
    Sum all = {0};
    for (guint i = 0; i < EK_KINDS; i++)
        kinds[i] = all;
    for (guint i = 0; ek_carve_types[i] != NULL; i++) {
        EkSearchCount count = ek_search_count(search, i);
        Sum *kind = &kinds[ek_carve_types[i]->kind];
        for (guint k = 0; k < EK_CONTENT_STATES; k++) {
            kind->files += count.count[k];
            all.files += count.count[k];
        }
        kind->whole += count.count[EK_CONTENT_WHOLE];
        all.whole += count.count[EK_CONTENT_WHOLE];
        kind->bytes += count.bytes;
        all.bytes += count.bytes;
    }
    return all;
}

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    Show *show = data;
    Sum kinds[EK_KINDS];
    Sum all = sum_up(show->search, kinds);
    EkSearchProgress now = ek_search_progress(show->search);
    double seconds = (double)(g_get_monotonic_time() - show->started) / 1e6;
    double rate = seconds > 0 ? (double)now.done / seconds : 0;
    if (now.total == 0) {
        g_string_assign(lines[0], "listing the files of the volumes: their space is not searched");
        return;
    }
    if (now.is_joining) {
        g_string_printf(lines[0], "joining pieces of files that end early: %u tried", now.joins);
    } else {
        g_autofree char *bar = ek_show_bar(now.done, now.total, 24);
        g_autofree char *share = ek_text_share(now.done, now.total);
        g_autofree char *done = ek_text_size(now.done);
        g_autofree char *total = ek_text_size(now.total);
        g_autofree char *speed = ek_text_size((guint64)rate);
        g_autofree char *remaining = ek_show_time_left(now.total - now.done, rate);
        g_string_printf(lines[0], "%s%s%s %s  %s of %s  %s/s  left %s",
                        ek_show_on(show->cli->color_err, EK_COLOR_GOOD), bar,
                        ek_show_off(show->cli->color_err), share, done, total, speed, remaining);
    }
    g_autofree char *size = ek_text_size(all.bytes);
    g_string_printf(lines[1], "found %" G_GUINT64_FORMAT " (%s, %" G_GUINT64_FORMAT " whole)",
                    all.files, size, all.whole);
    for (guint i = 0; i < EK_KINDS; i++)
        if (kinds[i].files > 0)
            g_string_append_printf(lines[1], "  %s %" G_GUINT64_FORMAT, ek_kind_name((EkKind)i),
                                   kinds[i].files);
}

static void print_line(Show *show)
{
    Sum kinds[EK_KINDS];
    Sum all = sum_up(show->search, kinds);
    EkSearchProgress now = ek_search_progress(show->search);
    fprintf(stderr,
            "{\"done\": %" G_GUINT64_FORMAT ", \"total\": %" G_GUINT64_FORMAT
            ", \"position\": %" G_GUINT64_FORMAT ", \"joined\": %u, \"files\": %" G_GUINT64_FORMAT
            ", \"bytes\": %" G_GUINT64_FORMAT ", \"whole\": %" G_GUINT64_FORMAT ", \"by_kind\": {",
            now.done, now.total, now.position, now.joins, all.files, all.bytes, all.whole);
    const char *separator = "";
    for (guint i = 0; i < EK_KINDS; i++) {
        if (kinds[i].files == 0)
            continue;
        fprintf(stderr, "%s\"%s\": %" G_GUINT64_FORMAT, separator, ek_kind_name((EkKind)i),
                kinds[i].files);
        separator = ", ";
    }
    fputs("}}\n", stderr);
}

static void step(void *data)
{
    Show *show = data;
    EkSearchProgress now = ek_search_progress(show->search);
    guint64 percent = now.total > 0 ? now.done / MAX(now.total / 100, 1) : 0;
    gint64 time = g_get_monotonic_time();
    if (show->progress != NULL ||
        (percent + 1 == show->percent && time - show->told_at < LINE_EVERY))
        return;
    show->percent = percent + 1;
    show->told_at = time;
    print_line(show);
}

/* --- at the end ------------------------------------------------------------------------------ */

static void print_table(EkSearch *search)
{
    const EkColumn columns[] = {{.header = "TYPE"},
                                {.header = "WHOLE", .right = TRUE},
                                {.header = "CUT", .right = TRUE},
                                {.header = "DOUBTFUL", .right = TRUE},
                                {.header = "SIZE", .right = TRUE}};
    EkShowTable *table = ek_show_table_new(columns, G_N_ELEMENTS(columns));
    for (guint i = 0; ek_carve_types[i] != NULL; i++) {
        EkSearchCount count = ek_search_count(search, i);
        char cells[EK_CONTENT_STATES][24];
        guint64 total = 0;
        for (guint k = 0; k < EK_CONTENT_STATES; k++) {
            g_snprintf(cells[k], sizeof cells[k], "%" G_GUINT64_FORMAT, count.count[k]);
            total += count.count[k];
        }
        g_autofree char *size = ek_text_size(count.bytes);
        if (total == 0)
            continue;
        const char *const row[] = {ek_carve_types[i]->name, cells[EK_CONTENT_WHOLE],
                                   cells[EK_CONTENT_CUT], cells[EK_CONTENT_DOUBTFUL], size};
        ek_show_table_row(table, row);
    }
    ek_show_table_print(table, ek_show_width());
}

static json_t *types_json(EkSearch *search)
{
    json_t *types = json_array();
    for (guint i = 0; ek_carve_types[i] != NULL; i++) {
        EkSearchCount count = ek_search_count(search, i);
        json_t *row = json_pack("{s:s}", "type", ek_carve_types[i]->name);
        guint64 total = 0;
        for (guint k = 0; k < EK_CONTENT_STATES; k++) {
            json_object_set_new(row, ek_content_state_name((EkContentState)k),
                                ek_json_u64(count.count[k]));
            total += count.count[k];
        }
        json_object_set_new(row, "bytes", ek_json_u64(count.bytes));
        if (total > 0)
            json_array_append_new(types, row);
        else
            json_decref(row);
    }
    return types;
}

/* `sum` NULL: nothing was to be written. */
static void print_json(EkSearch *search, gboolean is_over, const EkExtractSum *sum)
{
    Sum kinds[EK_KINDS];
    Sum all = sum_up(search, kinds);
    EkKnown known = ek_search_known(search);
    json_t *json = json_pack("{s:o,s:o,s:o,s:o,s:o,s:o,s:o,s:b}", "types", types_json(search),
                             "files", ek_json_u64(all.files), "bytes", ek_json_u64(all.bytes),
                             "bad", ek_json_u64(known.bad), "unread", ek_json_u64(known.unread),
                             "copies", ek_json_u64(ek_search_copies(search)), "crowded",
                             ek_json_u64(ek_search_crowded(search)), "complete", is_over);
    json_object_set_new(json, "written",
                        sum == NULL
                            ? json_null()
                            : json_pack("{s:o,s:o,s:o}", "files", ek_json_u64(sum->files), "bytes",
                                        ek_json_u64(sum->bytes), "same", ek_json_u64(sum->same)));
    ek_cli_print_json(json);
}

static void print_result(EkCli *cli, EkSearch *search, gboolean is_over, gboolean is_written)
{
    Sum kinds[EK_KINDS];
    Sum all = sum_up(search, kinds);
    EkKnown known = ek_search_known(search);
    g_autofree char *files = ek_text_count(all.files, "file", "files");
    g_autofree char *size = ek_text_size(all.bytes);
    if (all.files > 0)
        print_table(search);
    ek_cli_print("%s, %s by content: %" G_GUINT64_FORMAT " whole\n", files, size, all.whole);
    guint64 copies = ek_search_copies(search);
    if (copies > 0)
        ek_cli_print("Identical to files of a volume, not listed: %" G_GUINT64_FORMAT
                     " (--nested lists them)\n",
                     copies);
    guint64 crowded = ek_search_crowded(search);
    if (crowded > 0)
        ek_cli_print(
            "Beginnings so dense that each runs into the next, not listed: %" G_GUINT64_FORMAT
            " (--nested lists them)\n",
            crowded);
    if (known.bad + known.unread > 0)
        ek_cli_print_unsearched(cli, known.bad, known.unread);
    if (!is_over)
        ek_cli_advise("The time is up. To go on: ektypon carve %s", cli->options);
    else if (all.files > 0 && !is_written)
        ek_cli_advise("Next: ektypon tree %s carved", cli->operands[0]);
    else if (all.files > all.whole)
        ek_cli_advise(
            "Cut and doubtful files were not written. To list them: ektypon tree %s carved",
            cli->operands[0]);
}

/* --- the types ------------------------------------------------------------------------------- */

static int print_types(gboolean json)
{
    if (json) {
        json_t *types = json_array();
        for (guint i = 0; ek_carve_types[i] != NULL; i++) {
            const EkCarveType *type = ek_carve_types[i];
            json_t *row = json_pack("{s:s,s:s,s:s,s:s,s:b}", "type", type->name, "ending",
                                    type->ending, "kind", ek_kind_name(type->kind), "checks",
                                    type->checks, "joins", type->joins || type->by_landmark);
            json_object_set_new(row, "names",
                                type->names != NULL ? json_string(type->names) : json_null());
            json_array_append_new(types, row);
        }
        return ek_cli_print_json(json_pack("{s:o}", "types", types));
    }
    const EkColumn columns[] = {{.header = "TYPE"},
                                {.header = "KIND"},
                                {.header = "WHAT IS CHECKED", .cut = TRUE},
                                {.header = "NAMED BY", .cut = TRUE}};
    EkShowTable *table = ek_show_table_new(columns, G_N_ELEMENTS(columns));
    for (guint i = 0; ek_carve_types[i] != NULL; i++) {
        const EkCarveType *type = ek_carve_types[i];
        const char *const row[] = {type->name, ek_kind_name(type->kind), type->checks,
                                   type->names != NULL ? type->names : "its place"};
        ek_show_table_row(table, row);
    }
    ek_show_table_print(table, ek_show_width());
    return EK_EXIT_DONE;
}

/* --- the command ----------------------------------------------------------------------------- */

typedef struct {
    char *to;
    char *in;
    char *kinds;
    char *types;
    char *duration;
    char *progress;
    gint64 first;
    gint64 last;
    gint threads;
    gboolean nested;
    gboolean json;
    gboolean list;
} Options;

/* Marks the types of these kinds or names. */
static gboolean take_types(EkCli *cli, const Options *options, guint8 *wanted, int *status)
{
    g_auto(GStrv) kinds = g_strsplit(options->kinds != NULL ? options->kinds : "", ",", -1);
    g_auto(GStrv) types = g_strsplit(options->types != NULL ? options->types : "", ",", -1);
    for (char **word = kinds; *word != NULL; word++) {
        EkKind kind;
        if (!ek_kind_from_name(*word, &kind)) {
            *status = ek_cli_misused(cli,
                                     "--kind: no such kind: %s (pictures, video, audio, "
                                     "documents, mail, databases, archives, programs, other)",
                                     *word);
            return FALSE;
        }
        for (guint i = 0; ek_carve_types[i] != NULL; i++)
            wanted[i] = wanted[i] || ek_carve_types[i]->kind == kind;
    }
    for (char **word = types; *word != NULL; word++) {
        const EkCarveType *type = ek_carve_type_named(*word);
        if (type == NULL) {
            *status = ek_cli_misused(cli,
                                     "--type: no such type: %s. To list them: ektypon carve "
                                     "--types",
                                     *word);
            return FALSE;
        }
        for (guint i = 0; ek_carve_types[i] != NULL; i++)
            wanted[i] = wanted[i] || ek_carve_types[i] == type;
    }
    return TRUE;
}

static gboolean take_ground(EkCli *cli, const Options *options, EkSearchOrder *order, int *status)
{
    const char *in = options->in != NULL ? options->in : "unclaimed";
    if (g_str_equal(in, "unclaimed"))
        order->ground = EK_SEARCH_UNCLAIMED;
    else if (g_str_equal(in, "all"))
        order->ground = EK_SEARCH_ALL;
    else if (g_str_has_prefix(in, "free:") && ek_text_parse_u64(in + 5, &order->volume))
        order->ground = EK_SEARCH_FREE;
    else
        *status = ek_cli_misused(cli, "--in takes unclaimed, free:VOLUME or all, not \"%s\"", in);
    return *status == EK_EXIT_DONE;
}

static gboolean take_order(EkCli *cli, const Options *options, EkSearchOrder *order, int *status)
{
    gint64 seconds = 0;
    GError *error = NULL;
    if (!take_ground(cli, options, order, status))
        return FALSE;
    if (options->duration != NULL && !ek_numbers_duration(options->duration, &seconds)) {
        *status = ek_cli_misused(cli, "--for \"%s\": give a time such as 90s, 15m or 1h30m",
                                 options->duration);
        return FALSE;
    }
    if (options->threads < 0 || options->threads > 1024) {
        *status = ek_cli_misused(cli, "--threads %d: must be between 1 and 1024", options->threads);
        return FALSE;
    }
    if (options->progress != NULL && !g_str_equal(options->progress, "json")) {
        *status = ek_cli_misused(cli, "--progress takes json, not \"%s\"", options->progress);
        return FALSE;
    }
    g_autoptr(EkCase) opened = ek_case_open(cli->operands[0], FALSE, &error);
    if (opened == NULL) {
        *status = ek_cli_fail(cli, error);
        return FALSE;
    }
    const EkCaseInfo *info = ek_case_info(opened);
    guint64 sectors = ek_divide_up(info->bytes, info->sector_size);
    if (options->first < 0 || options->last < -1 || (guint64)options->first >= MAX(sectors, 1) ||
        (options->last >= 0 && options->last < options->first)) {
        *status = ek_cli_misused(
            cli, "--first and --last: sectors of the drive, 0 to %" G_GUINT64_FORMAT, sectors - 1);
        return FALSE;
    }
    order->seconds = (guint64)seconds;
    order->threads = (guint)options->threads;
    order->nested = options->nested;
    order->first = (guint64)options->first * info->sector_size;
    order->end = options->last >= 0 && (guint64)options->last < sectors
                     ? ((guint64)options->last + 1) * info->sector_size
                     : 0;
    return TRUE;
}

static void found(void *data, const EkFound *found)
{
    Show *show = data;
    gint64 time = g_get_monotonic_time();
    step(data);
    show->is_new = show->is_new || found->state == EK_CONTENT_WHOLE;
    if (show->to == NULL || !show->is_new || time - show->written_at < WRITE_EVERY)
        return;
    /* What cannot be written now is told once, at the end. */
    int status = ek_extract_contents(show->cli, show->to, EK_TELL_NOTHING, NULL);
    if (status != EK_EXIT_DONE && status != EK_EXIT_LEFT)
        show->to = NULL;
    show->is_new = FALSE;
    show->written_at = g_get_monotonic_time();
}

/* Of what the whole search found, with what was written of it. */
static int end(EkCli *cli, EkSearch *search, gboolean is_over, const Options *options)
{
    EkExtractSum sum = {0};
    int status = EK_EXIT_DONE;
    if (!options->json)
        print_result(cli, search, is_over, options->to != NULL);
    if (options->to != NULL)
        status = ek_extract_contents(cli, options->to, options->json ? EK_TELL_ERRORS : EK_TELL_ALL,
                                     &sum);
    if (options->json)
        print_json(search, is_over, options->to != NULL ? &sum : NULL);
    if (status != EK_EXIT_DONE)
        return status;
    return is_over ? EK_EXIT_DONE : EK_EXIT_LEFT;
}

static int run(EkCli *cli, const EkSearchOrder *order, const Options *options)
{
    GError *error = NULL;
    gboolean is_over = FALSE;
    g_autoptr(EkSearch) search =
        ek_search_new(cli->operands[0], cli->options, order, ek_cli_watch_signals(), &error);
    if (search == NULL)
        return ek_cli_fail(cli, error);
    Show show = {.cli = cli, .search = search, .started = g_get_monotonic_time()};
    /* A target that cannot be is told before the search, not behind it. */
    int status = EK_EXIT_DONE;
    if (options->to != NULL)
        status = ek_extract_contents(cli, options->to, EK_TELL_ERRORS, NULL);
    if (status != EK_EXIT_DONE && status != EK_EXIT_LEFT)
        return status;
    show.to = options->to;
    show.written_at = show.started;
    ek_search_watch(search, found, &show);
    if (options->progress == NULL)
        show.progress = ek_progress_begin(cli->terminal_err, draw, &show);
    gboolean done = ek_search_run(search, &is_over, &error);
    if (show.progress != NULL)
        ek_progress_end(show.progress);
    else
        print_line(&show);
    if (done)
        return end(cli, search, is_over, options);
    gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
    status = ek_cli_fail(cli, error);
    if (interrupted)
        ek_cli_advise("All results so far are kept. To resume: ektypon carve %s", cli->options);
    return status;
}

int ek_command_carve(EkCli *cli)
{
    Options options = {.last = -1};
    guint8 wanted[EK_MATCHES_MOST] = {0};
    const GOptionEntry entries[] = {
        {"to", 0, 0, G_OPTION_ARG_FILENAME, &options.to,
         "write the whole files to this folder during the search (created if needed)", "DIR"},
        {"in", 0, 0, G_OPTION_ARG_STRING, &options.in,
         "where to look: what no healthy file holds (default), the free space of a volume, or "
         "everything",
         "unclaimed|free:VOLUME|all"},
        {"kind", 0, 0, G_OPTION_ARG_STRING, &options.kinds,
         "only these kinds, separated by commas (pictures, video, audio, documents, mail, "
         "databases, archives, programs, other)",
         "KIND,…"},
        {"type", 0, 0, G_OPTION_ARG_STRING, &options.types, "only these types (--types lists them)",
         "TYPE,…"},
        {"types", 0, 0, G_OPTION_ARG_NONE, &options.list,
         "list all types, with the checks and the source of the file names", NULL},
        {"first", 0, 0, G_OPTION_ARG_INT64, &options.first, "first sector to search", "SECTOR"},
        {"last", 0, 0, G_OPTION_ARG_INT64, &options.last, "last sector to search", "SECTOR"},
        {"nested", 0, 0, G_OPTION_ARG_NONE, &options.nested,
         "also list parts of other files, such as thumbnails and pictures in documents", NULL},
        {"for", 0, 0, G_OPTION_ARG_STRING, &options.duration,
         "stop after this time (90s, 15m, 1h30m)", "DURATION"},
        EK_OPTION_NOTIFY(cli),
        {"progress", 0, 0, G_OPTION_ARG_STRING, &options.progress,
         "progress as lines of JSON on stderr", "json"},
        {"threads", 0, 0, G_OPTION_ARG_INT, &options.threads,
         "number of threads (default: one per processor)", "N"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &options.json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    EkSearchOrder order = {0};
    gboolean fine = ek_cli_parse(cli, entries, &status);
    if (fine && options.list) {
        status = print_types(options.json);
    } else if (fine && cli->operands[0] == NULL) {
        status = ek_cli_misused(cli, "specify the CASE");
    } else if (fine && take_types(cli, &options, wanted, &status) &&
               take_order(cli, &options, &order, &status)) {
        order.wanted = options.kinds != NULL || options.types != NULL ? wanted : NULL;
        status = run(cli, &order, &options);
    }
    char *texts[] = {options.to,    options.in,       options.kinds,
                     options.types, options.duration, options.progress};
    for (gsize i = 0; i < G_N_ELEMENTS(texts); i++)
        g_free(texts[i]);
    return status;
}
