/* SPDX-License-Identifier: MIT */
#include "filerow.h"

#include "base/text.h"
#include "show.h"
#include "work/guard.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

#define PROBLEMS_SHOWN 50u

typedef struct {
    EkCli *cli;
    EkExtract *extract;
    EkIndexing *indexing;
    const gint *cancel;
    gboolean json;
    EkFileList list;
    FILE *sums;
    EkFileTotals totals;
    guint64 failed;
    GPtrArray *problems; /* char*: the first of them, told when the progress is over */
    guint problem_count;
    GError *error; /* what ends the work */
    GMutex lock;   /* of the next three, which the progress shows */
    guint64 done_files;
    guint64 done_bytes;
    guint64 all_bytes;
} Taking;

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    Taking *taking = data;
    g_mutex_lock(&taking->lock);
    g_autofree char *bar = ek_show_bar(taking->done_bytes, taking->all_bytes, 24);
    g_autofree char *done = ek_text_size(taking->done_bytes);
    g_autofree char *all = ek_text_size(taking->all_bytes);
    g_string_printf(lines[0], "%s%s%s  %" G_GUINT64_FORMAT " files, %s of %s",
                    ek_show_on(taking->cli->color_err, EK_COLOR_GOOD), bar,
                    ek_show_off(taking->cli->color_err), taking->done_files, done, all);
    g_mutex_unlock(&taking->lock);
}

static void tell_problem(Taking *taking, const char *path, const char *what)
{
    g_autofree char *safe = ek_text_escape(path);
    if (!taking->json && taking->problem_count++ < PROBLEMS_SHOWN)
        g_ptr_array_add(taking->problems, g_strdup_printf("%s: %s", safe, what));
}

static void tell_json(Taking *taking, const char *path, const EkItem *item,
                      const EkExtracted *result)
{
    json_t *row = json_object();
    json_object_set_new(row, "volume", ek_json_u64(ek_indexing_volume(taking->indexing)->number));
    json_object_set_new(row, "number", ek_json_u64(item->file.number));
    json_object_set_new(row, "path", ek_json_text(path));
    json_object_set_new(row, "written_as", ek_json_text(result->written_as));
    json_object_set_new(row, "size", ek_json_u64(item->file.size));
    json_object_set_new(row, "sha256", ek_json_text(result->sha256));
    json_object_set_new(row, "condition", ek_json_text(ek_condition_name(item->damage.condition)));
    json_object_set_new(row, "bad_bytes", ek_json_u64(item->damage.bad_bytes));
    json_object_set_new(row, "unread_bytes", ek_json_u64(item->damage.unread_bytes));
    json_object_set_new(row, "holes", ek_filerow_holes_json(taking->indexing, item));
    ek_filerow_add_to_list(&taking->list, row);
}

static void tell_result(Taking *taking, const char *path, const EkItem *item,
                        const EkExtracted *result)
{
    ek_filerow_count(&taking->totals, item);
    g_mutex_lock(&taking->lock);
    taking->done_files++;
    taking->done_bytes += item->file.size;
    g_mutex_unlock(&taking->lock);
    if (taking->sums != NULL)
        fprintf(taking->sums, "%s  %s\n", result->sha256, result->written_as);
    if (taking->json)
        tell_json(taking, path, item, result);
    if (item->damage.condition != EK_CONDITION_WHOLE) {
        g_autofree char *condition = ek_filerow_condition(&item->damage);
        tell_problem(taking, path, condition);
    }
    if (result->renamed) {
        g_autofree char *safe = ek_text_escape(result->written_as);
        g_autofree char *what = g_strdup_printf("written as %s", safe);
        tell_problem(taking, path, what);
    }
}

/* TRUE when the work goes on in spite of this error. */
static gboolean is_one_files_error(const GError *error)
{
    return !g_error_matches(error, EK_ERROR, EK_ERROR_NO_SPACE) &&
           !g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
}

static gboolean write_file(Taking *taking, const char *path, const EkItem *item,
                           EkExtracted *result, GError **error)
{
    g_autoptr(GArray) extents =
        ek_inventory_extents(ek_indexing_inventory(taking->indexing), item->file.number, error);
    return extents != NULL &&
           ek_extract_file(taking->extract, ek_indexing_files(taking->indexing), path, &item->file,
                           extents, taking->cancel, result, error);
}

static gboolean take_entry(void *data, const char *path, const EkItem *item)
{
    Taking *taking = data;
    GError *error = NULL;
    EkExtracted result = {0};
    gboolean fine = TRUE;
    if (g_atomic_int_get(taking->cancel) != 0) {
        ek_error_set(&taking->error, EK_ERROR_CANCELLED, "interrupted");
        return FALSE;
    }
    if (item->file.type == EK_TYPE_FOLDER) {
        fine = ek_extract_folder(taking->extract, path, &error);
        ek_filerow_count(&taking->totals, item);
    } else if (item->file.type == EK_TYPE_FILE || item->file.type == EK_TYPE_STREAM) {
        fine = write_file(taking, path, item, &result, &error);
        if (fine)
            tell_result(taking, path, item, &result);
    }
    ek_extracted_clear(&result);
    if (fine)
        return TRUE;
    if (!is_one_files_error(error)) {
        taking->error = error;
        return FALSE;
    }
    taking->failed++;
    tell_problem(taking, path, error->message);
    g_error_free(error);
    return TRUE;
}

static gboolean add_size(void *data, const char *path, const EkItem *item)
{
    guint64 *bytes = data;
    (void)path;
    *bytes += item->file.size;
    return TRUE;
}

static void print_end(Taking *taking, const char *folder)
{
    const EkFileTotals *totals = &taking->totals;
    if (taking->json) {
        json_t *json = ek_filerow_totals_json(totals);
        json_object_set_new(json, "failed", ek_json_u64(taking->failed));
        ek_filerow_end_list(json);
        return;
    }
    for (guint i = 0; i < taking->problems->len; i++)
        ek_show_sentence(stdout, "", 2, taking->problems->pdata[i]);
    if (taking->problem_count > PROBLEMS_SHOWN)
        printf("… and %u more; --json tells all of them\n", taking->problem_count - PROBLEMS_SHOWN);
    g_autofree char *size = ek_text_size(totals->bytes);
    g_autofree char *files = ek_text_count(totals->files, "file", "files");
    g_autofree char *folders = ek_text_count(totals->folders, "folder", "folders");
    printf("%s in %s, %s, to %s: %" G_GUINT64_FORMAT " whole", files, folders, size, folder,
           totals->by_condition[EK_CONDITION_WHOLE]);
    for (guint i = EK_CONDITION_HOLED; i < EK_CONDITIONS; i++)
        if (totals->by_condition[i] > 0)
            printf(", %" G_GUINT64_FORMAT " %s", totals->by_condition[i],
                   ek_condition_name((EkCondition)i));
    if (taking->failed > 0)
        printf(", %" G_GUINT64_FORMAT " could not be written", taking->failed);
    puts("");
    if (totals->hurt_folders > 0)
        ek_cli_advise("extract: %" G_GUINT64_FORMAT
                      " folders have holes: names that stood there may be missing",
                      totals->hurt_folders);
}

typedef struct {
    EkView view;
    const char *to;
    FILE *sums;
    gboolean json;
    gboolean deleted;
    gboolean streams;
} Job;

static gboolean take_place(Taking *taking, Job *job, const char *operand, gboolean counting,
                           GError **error)
{
    const char *path = NULL;
    guint64 volume = 0;
    guint64 number = 0;
    ek_cli_parse_place(operand, &volume, &path);
    g_autoptr(EkIndexing) indexing = ek_filerow_open(taking->cli, &job->view, volume, error);
    if (indexing == NULL)
        return FALSE;
    EkInventory *inventory = ek_indexing_inventory(indexing);
    guint with =
        EK_WITH_BELOW | (job->deleted ? EK_WITH_DELETED : 0) | (job->streams ? EK_WITH_STREAMS : 0);
    taking->indexing = indexing;
    gboolean fine = ek_inventory_find(inventory, path, &number, error) &&
                    ek_inventory_walk(inventory, number, with, counting ? add_size : take_entry,
                                      counting ? (void *)&taking->all_bytes : taking, error);
    taking->indexing = NULL;
    return fine;
}

static int run(EkCli *cli, Job *job, const gint *cancel)
{
    Taking taking = {.cli = cli, .cancel = cancel, .json = job->json, .sums = job->sums};
    GError *error = NULL;
    const EkCaseInfo *info = ek_case_info(job->view.opened);
    g_mutex_init(&taking.lock);
    if (!ek_guard_apart(cli->system, job->to, info->path, "the folder", &error))
        return ek_cli_fail(cli, error);
    for (char **operand = cli->operands + 1; *operand != NULL; operand++)
        if (!take_place(&taking, job, *operand, TRUE, &error))
            return ek_cli_fail(cli, error);
    if (!ek_guard_space(job->to, taking.all_bytes, "what is to be extracted", &error))
        return ek_cli_fail(cli, error);
    g_autoptr(EkExtract) extract = ek_extract_new(job->to, &error);
    if (extract == NULL)
        return ek_cli_fail(cli, error);

    g_autoptr(GPtrArray) problems = g_ptr_array_new_with_free_func(g_free);
    taking.extract = extract;
    taking.problems = problems;
    if (job->json)
        ek_filerow_begin_list(&taking.list);
    EkProgress *progress = ek_progress_begin(cli->terminal_err, draw, &taking);
    for (char **operand = cli->operands + 1; *operand != NULL && error == NULL; operand++) {
        if (take_place(&taking, job, *operand, FALSE, &error) && taking.error != NULL)
            error = g_steal_pointer(&taking.error);
    }
    if (error == NULL)
        ek_extract_sync(extract, &error);
    ek_progress_end(progress);
    print_end(&taking, job->to);
    g_mutex_clear(&taking.lock);
    if (error != NULL)
        return ek_cli_fail(cli, error);
    gboolean losses = taking.failed > 0 || taking.totals.hurt_folders > 0 ||
                      taking.totals.by_condition[EK_CONDITION_WHOLE] < taking.totals.files;
    return losses ? EK_EXIT_LEFT : EK_EXIT_DONE;
}

int ek_command_extract(EkCli *cli)
{
    g_autofree char *to = NULL;
    g_autofree char *sums = NULL;
    Job job = {0};
    const GOptionEntry entries[] = {
        {"to", 0, 0, G_OPTION_ARG_FILENAME, &to, "the folder to write below (made when absent)",
         "DIR"},
        {"deleted", 0, 0, G_OPTION_ARG_NONE, &job.deleted, "also what was deleted", NULL},
        {"streams", 0, 0, G_OPTION_ARG_NONE, &job.streams,
         "also further streams of files, as files called FILE:STREAM", NULL},
        {"sums", 0, 0, G_OPTION_ARG_FILENAME, &sums,
         "write the SHA-256 of each file there, as sha256sum does", "FILE"},
        {"json", 0, 0, G_OPTION_ARG_NONE, &job.json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    guint64 number = 0;
    const char *path = NULL;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (to == NULL)
        return ek_cli_misused(cli, "--to DIR is missing: where to write");
    for (char **operand = cli->operands + 1; *operand != NULL; operand++)
        if (!ek_cli_parse_place(*operand, &number, &path))
            return ek_cli_misused(cli, "\"%s\" is not VOLUME or VOLUME:PATH, as 2:Photos",
                                  *operand);
    GError *error = NULL;
    if (!ek_view_open(&job.view, cli->operands[0], FALSE, &error))
        return ek_cli_fail(cli, error);
    job.to = to;
    job.sums = sums != NULL ? fopen(sums, "wxe") : NULL;
    if (sums != NULL && job.sums == NULL) {
        ek_error_from_errno(&error, EK_ERROR_FAILED, errno, "cannot write %s", sums);
        status = ek_cli_fail(cli, error);
    } else {
        status = run(cli, &job, ek_cli_watch_signals());
    }
    if (job.sums != NULL && fclose(job.sums) != 0 && status == EK_EXIT_DONE)
        status = EK_EXIT_FAILED;
    ek_view_close(&job.view);
    return status;
}
