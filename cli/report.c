/* SPDX-License-Identifier: MIT */
/* report: the case as a page to hand over, as JSON, and as a list of files. */
#include "reporthtml.h"
#include "reportpdf.h"

#include "base/text.h"
#include "filerow.h"
#include "files/record.h"
#include "output.h"
#include "signs.h"
#include "tallyshow.h"
#include "volume/standing.h"
#include "work/guard.h"

#include <stdio.h>

#define PICTURES 24
#define PICTURES_MOST 400

typedef struct {
    EkCli *cli;
    EkView *view;
    FILE *list;           /* of files; NULL: none is written */
    EkShowcase *showcase; /* NULL: no pictures are wanted */
} Reporting;

/* --- gathering ------------------------------------------------------------------------------- */

static EkIndexing *open_volume(void *data, guint64 number, GError **error)
{
    Reporting *reporting = data;
    return ek_filerow_open(reporting->cli, reporting->view, number, error);
}

static void put_date(FILE *list, const EkTimestamp *timestamp)
{
    g_autofree char *text = ek_timestamp_text(timestamp);
    fprintf(list, "%s,", text != NULL ? text : "");
}

static gboolean list_file(void *data, EkIndexing *indexing, const char *path, const EkItem *item)
{
    Reporting *reporting = data;
    const EkCaseVolume *entry = ek_indexing_volume(indexing);
    if (reporting->showcase != NULL)
        ek_showcase_add(reporting->showcase, entry->number, path, item,
                        entry->standing == EK_STANDING_REMAINS);
    if (reporting->list == NULL)
        return TRUE;
    g_autofree char *volume = ek_cli_place_word(entry->number);
    ek_record_put_text(reporting->list, volume);
    g_autofree char *safe = ek_text_printable(path, FALSE);
    ek_record_put_text(reporting->list, safe);
    fprintf(reporting->list, "%" G_GUINT64_FORMAT ",", item->file.size);
    put_date(reporting->list, &item->file.modified);
    fprintf(reporting->list, "%s,%s,%s,%" G_GUINT64_FORMAT ",%" G_GUINT64_FORMAT "\r\n",
            ek_kind_name(ek_kind_of(item->name)),
            (item->file.flags & EK_FILE_DELETED) != 0 ? "yes" : "no",
            ek_condition_name(item->damage.condition), item->damage.bad_bytes,
            item->damage.unread_bytes);
    return ferror(reporting->list) == 0;
}

/* --- JSON ------------------------------------------------------------------------------------ */

static json_t *volume_json(const EkReportVolume *volume)
{
    const EkVolume *found = volume->entry != NULL ? volume->entry->volume : NULL;
    json_t *row = json_object();
    json_t *conditions = json_object();
    for (guint i = 0; i < EK_CONDITIONS; i++)
        json_object_set_new(conditions, ek_condition_name((EkCondition)i),
                            ek_json_u64(volume->by_condition[i]));
    json_object_set_new(row, "volume",
                        found != NULL ? json_integer(volume->entry->number)
                                      : ek_json_text("carved"));
    json_object_set_new(row, "filesystem", ek_json_text(found != NULL ? found->filesystem : NULL));
    json_object_set_new(row, "label", ek_json_text(found != NULL ? found->label : NULL));
    json_object_set_new(
        row, "standing",
        ek_json_text(found != NULL ? ek_standing_name(volume->entry->standing) : NULL));
    json_object_set_new(row, "listed", json_boolean(volume->is_listed));
    json_object_set_new(row, "why_not", ek_json_text(volume->why_not));
    json_object_set_new(row, "counted", json_boolean(volume->is_counted));
    json_object_set_new(row, "present", ek_tallyshow_count_json(&volume->present->all));
    json_object_set_new(row, "deleted", ek_tallyshow_count_json(&volume->deleted));
    json_object_set_new(row, "kinds", ek_tallyshow_kinds_json(volume->present));
    json_object_set_new(row, "conditions", conditions);
    json_object_set_new(row, "folders", ek_tallyshow_folders_json(volume->present, "name"));
    return row;
}

static json_t *file_json(const EkReportFile *file)
{
    g_autofree char *gap = ek_report_gap(file);
    return json_pack("{s:I,s:o,s:o,s:o,s:o,s:o,s:o}", "volume", (json_int_t)file->volume, "path",
                     ek_json_text(file->path), "size", ek_json_u64(file->size), "condition",
                     ek_json_text(ek_condition_name(file->damage.condition)), "bad_bytes",
                     ek_json_u64(file->damage.bad_bytes), "unread_bytes",
                     ek_json_u64(file->damage.unread_bytes), "missing", ek_json_text(gap));
}

static json_t *drive_json(const EkReport *report)
{
    const EkCaseInfo *info = ek_case_info(report->view->opened);
    const EkSector *totals = report->summary.state.totals;
    EkByte sector = info->sector_size;
    json_t *drive =
        json_pack("{s:o,s:o,s:o,s:o,s:b}", "model", ek_json_text(info->model), "serial",
                  ek_json_text(info->serial), "bytes", ek_json_u64(info->bytes), "sector_size",
                  ek_json_u64(info->sector_size), "verified", info->verified);
    json_object_set_new(drive, "health", ek_signs_list_json(report->summary.health));
    json_object_set_new(drive, "good_bytes", ek_json_u64(totals[EK_STATE_GOOD] * sector));
    json_object_set_new(drive, "bad_bytes", ek_json_u64(totals[EK_STATE_BAD] * sector));
    json_object_set_new(drive, "unread_bytes", ek_json_u64(report->summary.left * sector));
    return drive;
}

static int print_json(const EkReport *report)
{
    g_autofree char *answer = ek_report_answer(report);
    json_t *root = json_object();
    json_t *volumes = json_array();
    json_t *incomplete = json_array();
    json_t *steps = json_array();
    for (guint i = 0; i < report->volumes->len; i++)
        json_array_append_new(volumes, volume_json(report->volumes->pdata[i]));
    for (guint i = 0; i < report->incomplete->len; i++)
        json_array_append_new(incomplete, file_json(report->incomplete->pdata[i]));
    for (guint i = 0; i < report->events->len; i++) {
        const EkEvent *event = report->events->pdata[i];
        g_autofree char *step = ek_report_step(event);
        json_array_append_new(steps, json_pack("{s:I,s:o}", "began", (json_int_t)event->began,
                                               "step", ek_json_text(step)));
    }
    json_object_set_new(root, "answer", ek_json_text(answer));
    for (guint i = 0; i < EK_NOTES; i++)
        json_object_set_new(root, ek_note_name((EkNote)i), ek_json_text(report->notes[i]));
    json_object_set_new(root, "made", json_integer(report->made));
    json_object_set_new(root, "drive", drive_json(report));
    json_object_set_new(root, "present", ek_tallyshow_count_json(&report->all));
    json_object_set_new(root, "volumes", volumes);
    json_object_set_new(root, "incomplete", incomplete);
    json_object_set_new(root, "incomplete_total", ek_json_u64(report->incomplete_count));
    json_object_set_new(root, "partitions_planned",
                        report->plan != NULL ? json_integer(report->plan->partitions->len)
                                             : json_null());
    json_object_set_new(root, "edits_planned",
                        report->plan != NULL ? json_integer(report->plan->edits->len)
                                             : json_null());
    json_object_set_new(root, "steps", steps);
    json_object_set_new(root, "version", ek_json_text(EKTYPON_VERSION));
    return ek_cli_print_json(root);
}

/* --- writing --------------------------------------------------------------------------------- */

static gboolean check_target(const EkCli *cli, EkView *view, const char *path, const char *what,
                             GError **error)
{
    EkGuard guard = {cli->system, view, NULL, ek_cli_watch_signals()};
    return path == NULL || ek_guard_output(&guard, path, what, error);
}

/* Writes a report that was made; takes `page`, NULL where that failed. */
static gboolean write_page(const char *path, GByteArray *page, GError **error)
{
    g_autoptr(GByteArray) bytes = page;
    return bytes != NULL && ek_output_write(path, "the report", bytes, error);
}

static gboolean begin_list(EkOutput *list, Reporting *reporting, const char *path, GError **error)
{
    if (path == NULL)
        return TRUE;
    if (!ek_output_begin(list, path, "the list of files", error))
        return FALSE;
    reporting->list = list->file;
    fputs("volume,path,size,modified,kind,deleted,condition,bad_bytes,unread_bytes\r\n",
          list->file);
    return TRUE;
}

typedef struct {
    char *to;
    char *pdf;
    char *files;
    char *for_word;
    gint pictures;
    gboolean json;
    EkReportDepth depth;
} Options;

/* Without the helper that decodes them the report has no pictures: said, and written. */
static GPtrArray *draw_sheet(Reporting *reporting, guint most, GError **error)
{
    GError *failure = NULL;
    GPtrArray *sheet = ek_contact_sheet(reporting->showcase, most, open_volume, reporting,
                                        ek_cli_watch_signals(), &failure);
    if (g_error_matches(failure, EK_ERROR, EK_ERROR_CANCELLED))
        g_propagate_error(error, g_steal_pointer(&failure));
    else if (failure != NULL)
        ek_cli_advise("report: no small pictures: %s", failure->message);
    g_clear_error(&failure);
    return sheet;
}

static int run(EkCli *cli, const Options *options, EkView *view)
{
    GError *error = NULL;
    g_auto(EkReport) report = {0};
    g_autoptr(EkShowcase) showcase = ek_showcase_new();
    g_autoptr(GPtrArray) sheet = NULL;
    gboolean has_sheet = options->pictures > 0 && !options->json;
    Reporting reporting = {cli, view, NULL, has_sheet ? showcase : NULL};
    EkOutput list = {0};
    EkReportOrder order = {open_volume, list_file, &reporting, ek_cli_watch_signals()};
    g_autofree char *own = g_build_filename(ek_case_folder(view->opened), "report.html", NULL);
    const char *page = options->to != NULL ? options->to : own;
    gboolean fine = (options->json || check_target(cli, view, page, "the report", &error)) &&
                    check_target(cli, view, options->pdf, "the report", &error) &&
                    check_target(cli, view, options->files, "the list of files", &error) &&
                    begin_list(&list, &reporting, options->files, &error);
    gboolean gathered = fine && ek_report_gather(view, cli->operands[0], &order, &report, &error);
    fine = ek_output_end(&list, gathered, &error);
    if (fine && has_sheet)
        sheet = draw_sheet(&reporting, (guint)options->pictures, &error);
    fine = fine && error == NULL;
    EkReportPage content = {&report, options->depth, sheet};
    fine = fine && (options->json || write_page(page, ek_report_html(&content, &error), &error));
    fine = fine && (options->pdf == NULL ||
                    write_page(options->pdf, ek_report_pdf(&content, &error), &error));
    if (!fine)
        return ek_cli_fail(cli, error);
    if (options->json)
        return print_json(&report);
    g_autofree char *answer = ek_report_answer(&report);
    ek_cli_print("%s\nReport: %s\n", answer, page);
    if (options->pdf != NULL)
        ek_cli_print("PDF:    %s\n", options->pdf);
    if (options->files != NULL)
        ek_cli_print("Files:  %s\n", options->files);
    if (report.notes[EK_NOTE_CLIENT] == NULL)
        ek_cli_advise("To name the client in it: ektypon note %s --client NAME --reference NUMBER",
                      cli->operands[0]);
    return EK_EXIT_DONE;
}

static gboolean take_depth(Options *options)
{
    static const char *const words[] = {"client", "bench", "record"};
    options->depth = EK_REPORT_BENCH;
    for (guint i = 0; options->for_word != NULL && i < G_N_ELEMENTS(words); i++) {
        options->depth = (EkReportDepth)i;
        if (g_str_equal(words[i], options->for_word))
            return TRUE;
    }
    return options->for_word == NULL;
}

int ek_command_report(EkCli *cli)
{
    Options options = {.pictures = PICTURES};
    EkView view;
    GError *error = NULL;
    int status = EK_EXIT_DONE;
    const GOptionEntry entries[] = {
        {"for", 0, 0, G_OPTION_ARG_STRING, &options.for_word, "how deep it goes (default: bench)",
         "client|bench|record"},
        {"to", 0, 0, G_OPTION_ARG_FILENAME, &options.to,
         "the page to write (default: report.html in the case)", "FILE"},
        {"pdf", 0, 0, G_OPTION_ARG_FILENAME, &options.pdf, "also write it as PDF", "FILE"},
        {"files", 0, 0, G_OPTION_ARG_FILENAME, &options.files,
         "also write a list of all files, as CSV", "FILE"},
        {"contact-sheet", 0, 0, G_OPTION_ARG_INT, &options.pictures,
         "how many small pictures of files it shows (default 24; 0: none)", "N"},
        EK_OPTIONS_OF_JOURNAL(cli),
        {"json", 0, 0, G_OPTION_ARG_NONE, &options.json, "print JSON instead (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    if (ek_cli_parse(cli, entries, &status)) {
        if (!take_depth(&options))
            status = ek_cli_misused(cli, "--for %s: client, bench or record", options.for_word);
        else if (options.pictures < 0 || options.pictures > PICTURES_MOST)
            status =
                ek_cli_misused(cli, "--contact-sheet takes a number from 0 to %d", PICTURES_MOST);
        else if (!ek_view_open(&view, cli->operands[0], FALSE, &error))
            status = ek_cli_fail(cli, error);
        else {
            status = run(cli, &options, &view);
            ek_view_close(&view);
        }
    }
    g_free(options.to);
    g_free(options.pdf);
    g_free(options.files);
    g_free(options.for_word);
    return status;
}
