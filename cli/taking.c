/* SPDX-License-Identifier: MIT */
/* Taking files out: picked by volume, written in order of place, told as they are. */
#include "taking.h"

#include "filerow.h"
#include "peeking.h"
#include "show.h"
#include "tallyshow.h"

#include "base/text.h"
#include "files/names.h"
#include "files/record.h"
#include "work/casetree.h"
#include "work/guard.h"

#include <errno.h>
#include <stdio.h>
#include <string.h>

#define PROBLEMS_SHOWN 50u

typedef struct {
    EkCli *cli;
    const EkTakeOrder *order;
    const gint *cancel;
    EkView view;
    GPtrArray *volumes; /* EkIndexing*: those that something is taken from */
    EkTally *tally;     /* NULL: they are taken, not counted only */
    EkIndexing *indexing;
    EkExtract *extract;
    EkExtract *holed; /* where what is not whole goes; NULL: with the rest */
    EkRecordTable *record;
    EkFileList list;
    FILE *sums;
    EkFileTotals totals;
    guint64 wanted;            /* files */
    EkPeeking *peeking;        /* NULL: content is not asked */
    guint64 by_kind[EK_KINDS]; /* files, by their names */
    guint64 links;             /* which are not made anew */
    guint64 unknown;
    guint64 skipped; /* not whole, and not wanted so */
    guint64 same;
    guint64 kept;
    guint64 failed;
    guint64 impossible;  /* they claim more than their volume holds */
    EkByte stored_bytes; /* of what is wanted, without what is only declared */
    char *flat_prefix;   /* of the paths, with --flat; NULL: each volume gets its folders */
    GPtrArray *problems; /* char*: the first of them, told when the progress is over */
    guint problem_count;
    gboolean stopped; /* at something that is not whole */
    GError *error;    /* what ends the work */
    GMutex lock;      /* of the next three, which the progress shows */
    guint64 done_files;
    guint64 done_bytes;
    guint64 all_bytes;
} Taking;

/* `item` NULL: one that says nothing of the file's content. */
static void tell_problem(Taking *taking, const char *path, const EkItem *item, const char *what)
{
    if (taking->order->json || taking->order->telling != EK_TELL_ALL ||
        taking->problem_count++ >= PROBLEMS_SHOWN)
        return;
    g_autofree char *safe = ek_text_escape(path);
    g_autofree char *strip =
        item != NULL ? ek_filerow_strip(taking->indexing, item, taking->cli->color_out) : NULL;
    g_ptr_array_add(taking->problems, g_strdup_printf("%s%s%s: %s", strip != NULL ? strip : "",
                                                      strip != NULL ? "  " : "", safe, what));
}

/* --- what is wanted ------------------------------------------------------------------------- */

/* Counts what it takes. FALSE for a file that claims more than there is room for in its volume: it
 * is told, and left out by itself. */
static gboolean count_wanted(Taking *taking, const char *path, const EkItem *item)
{
    const EkVolume *volume = ek_indexing_volume(taking->indexing)->volume;
    EkByte stored = ek_inventory_stored(ek_indexing_inventory(taking->indexing), item->file.number);
    gboolean encoded = (item->file.flags & EK_FILE_ENCODED) != 0;
    gboolean claims_more = item->file.size > volume->bytes && item->damage.unplaced_bytes > 0;
    if (claims_more || (!encoded && stored > volume->bytes)) {
        g_autofree char *size = ek_text_size(item->file.size);
        g_autofree char *room = ek_text_size(volume->bytes);
        g_autofree char *what = g_strdup_printf(
            "claims a size of %s, more than its volume has (%s): left out", size, room);
        taking->impossible++;
        tell_problem(taking, path, NULL, what);
        return FALSE;
    }
    EkByte needed = MIN(stored, item->file.size);
    taking->wanted++;
    taking->stored_bytes += needed;
    taking->all_bytes += needed;
    return TRUE;
}

static gboolean pick(void *data, const char *path, const EkItem *item)
{
    Taking *taking = data;
    const EkFile *file = &item->file;
    gboolean is_deleted = (file->flags & EK_FILE_DELETED) != 0;
    gboolean is_folder = file->type == EK_TYPE_FOLDER;
    const EkFilter *filter = &taking->order->filter;
    /* Deleted ones come only when they are asked for. */
    if (is_deleted && filter->deleted != EK_WANTED_ONLY)
        return TRUE;
    if ((file->type != EK_TYPE_FILE && file->type != EK_TYPE_STREAM && !is_folder) ||
        item->is_again) {
        taking->links +=
            (file->type == EK_TYPE_LINK || item->is_again) && !ek_filter_is_set(filter);
        return TRUE;
    }
    if (g_atomic_int_get(taking->cancel) != 0)
        return FALSE;
    EkVerdict verdict = ek_filter_judge(filter, path, item);
    if (!ek_peeking_judge(taking->peeking, taking->indexing, item, taking->cancel, &verdict,
                          &taking->error))
        return FALSE;
    taking->unknown += verdict == EK_VERDICT_UNKNOWN ? 1 : 0;
    /* Folders are made for what is in them, or when all is taken. */
    if (verdict != EK_VERDICT_YES || (is_folder && ek_filter_is_set(filter)))
        return TRUE;
    if (!is_folder && !count_wanted(taking, path, item))
        return TRUE;
    if (taking->tally != NULL) {
        if (!is_folder)
            ek_tallyshow_add(taking->tally, taking->indexing, path, item);
        return TRUE;
    }
    EkPick pick = {.item = item, .path = path, .by_place = TRUE};
    return ek_inventory_pick(ek_indexing_inventory(taking->indexing), &pick, &taking->error);
}

static EkIndexing *volume_of(Taking *taking, guint64 volume, GError **error)
{
    for (guint i = 0; i < taking->volumes->len; i++)
        if (ek_indexing_volume(taking->volumes->pdata[i])->number == volume)
            return taking->volumes->pdata[i];
    EkIndexing *indexing = ek_filerow_open(taking->cli, &taking->view, volume, error);
    if (indexing != NULL)
        g_ptr_array_add(taking->volumes, indexing);
    return indexing;
}

static gboolean pick_place(Taking *taking, const char *operand, GError **error)
{
    const char *path = NULL;
    guint64 volume = 0;
    guint64 number = 0;
    if (!ek_cli_parse_place(operand, &volume, &path))
        return ek_error_set(error, EK_ERROR_FAILED,
                            "\"%s\" is not VOLUME, VOLUME:PATH or VOLUME:@NUMBER", operand);
    taking->indexing = volume_of(taking, volume, error);
    if (taking->indexing == NULL)
        return FALSE;
    EkInventory *inventory = ek_indexing_inventory(taking->indexing);
    guint with = EK_WITH_BELOW | EK_WITH_DELETED | (taking->order->streams ? EK_WITH_STREAMS : 0);
    if (!ek_inventory_find(inventory, path, &number, error))
        return FALSE;
    ek_filerow_count_start(&taking->totals, inventory, number);
    if (!ek_inventory_walk(inventory, number, with, pick, taking, error))
        return FALSE;
    if (taking->error == NULL)
        return TRUE;
    g_propagate_error(error, g_steal_pointer(&taking->error));
    return FALSE;
}

/* The places in a file, one a line. */
static gboolean pick_list(Taking *taking, const char *path, GError **error)
{
    g_autofree char *text = NULL;
    if (!g_file_get_contents(path, &text, NULL, error))
        return FALSE;
    g_auto(GStrv) lines = g_strsplit(text, "\n", -1);
    for (char **line = lines; *line != NULL; line++)
        if (*g_strchomp(*line) != '\0' && !pick_place(taking, *line, error))
            return FALSE;
    return TRUE;
}

/* --- telling -------------------------------------------------------------------------------- */

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    Taking *taking = data;
    g_mutex_lock(&taking->lock);
    g_autofree char *bar = ek_show_bar(taking->done_bytes, taking->all_bytes, 24);
    g_autofree char *done = ek_text_size(taking->done_bytes);
    g_autofree char *all = ek_text_size(taking->all_bytes);
    g_string_printf(
        lines[0], "%s%s%s  %" G_GUINT64_FORMAT " of %" G_GUINT64_FORMAT " files, %s of %s",
        ek_show_on(taking->cli->color_err, EK_COLOR_GOOD), bar, ek_show_off(taking->cli->color_err),
        taking->done_files, taking->wanted, done, all);
    g_mutex_unlock(&taking->lock);
}

static void tell_json(Taking *taking, const char *path, const EkItem *item,
                      const EkExtracted *result)
{
    static const char *const outcomes[] = {
        [EK_OUTCOME_WRITTEN] = "written", [EK_OUTCOME_SAME] = "same", [EK_OUTCOME_KEPT] = "kept"};
    json_t *row = json_object();
    json_object_set_new(row, "volume", ek_filerow_volume_json(taking->indexing));
    json_object_set_new(row, "number", ek_json_u64(item->file.number));
    json_object_set_new(row, "path", ek_json_text(path));
    json_object_set_new(row, "written_as", ek_json_text(result->written_as));
    json_object_set_new(row, "outcome", ek_json_text(outcomes[result->outcome]));
    json_object_set_new(row, "size", ek_json_u64(item->file.size));
    json_object_set_new(row, "sha256", ek_json_text(result->sha256));
    json_object_set_new(row, "condition", ek_json_text(ek_condition_name(item->damage.condition)));
    json_object_set_new(row, "bad_bytes", ek_json_u64(item->damage.bad_bytes));
    json_object_set_new(row, "unread_bytes", ek_json_u64(item->damage.unread_bytes));
    json_object_set_new(row, "holes", ek_filerow_holes_json(taking->indexing, item));
    ek_filerow_add_to_list(&taking->list, row);
}

/* As sha256sum does: a name with a backslash or a line end in it is escaped, and the line says so.
 */
static void put_sum(FILE *sums, const EkExtracted *result)
{
    gboolean escapes = strpbrk(result->written_as, "\\\n\r") != NULL;
    fprintf(sums, "%s%s  ", escapes ? "\\" : "", result->sha256);
    for (const char *p = result->written_as; *p != '\0'; p++) {
        if (*p == '\\')
            fputs("\\\\", sums);
        else if (*p == '\n')
            fputs("\\n", sums);
        else if (*p == '\r')
            fputs("\\r", sums);
        else
            fputc(*p, sums);
    }
    fputc('\n', sums);
}

static void tell_result(Taking *taking, const char *path, const EkItem *item,
                        const EkExtracted *result, const GArray *extents, const GArray *holes)
{
    guint64 volume = ek_indexing_volume(taking->indexing)->number;
    if (result->outcome != EK_OUTCOME_KEPT) {
        ek_filerow_count(&taking->totals, item);
        taking->by_kind[ek_kind_of(item->name)]++;
    }
    taking->same += result->outcome == EK_OUTCOME_SAME ? 1 : 0;
    if (taking->sums != NULL && result->sha256 != NULL)
        put_sum(taking->sums, result);
    if (result->outcome == EK_OUTCOME_WRITTEN)
        ek_record_add(taking->record, ek_case_info(taking->view.opened)->id, volume, path, item,
                      result, extents, holes);
    if (taking->order->json)
        tell_json(taking, path, item, result);
    if (result->outcome == EK_OUTCOME_KEPT) {
        taking->kept++;
        tell_problem(taking, path, NULL,
                     "a different file already exists and was kept (see --if-exists)");
        return;
    }
    if (item->damage.condition != EK_CONDITION_WHOLE) {
        g_autofree char *condition = ek_filerow_condition(item);
        tell_problem(taking, path, item, condition);
    }
    if (result->renamed) {
        g_autofree char *safe = ek_text_escape(result->written_as);
        g_autofree char *what = g_strdup_printf("written as %s", safe);
        tell_problem(taking, path, NULL, what);
    }
}

/* --- taking --------------------------------------------------------------------------------- */

/* TRUE when the work goes on in spite of this error. */
static gboolean is_one_files_error(const GError *error)
{
    return !g_error_matches(error, EK_ERROR, EK_ERROR_NO_SPACE) &&
           !g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
}

/* `place` is below the folder that is written to. */
static gboolean write_file(Taking *taking, const char *path, const char *place, const EkItem *item,
                           GError **error)
{
    guint64 volume = ek_indexing_volume(taking->indexing)->number;
    gboolean is_whole = item->damage.condition == EK_CONDITION_WHOLE;
    g_autoptr(GArray) extents =
        ek_inventory_extents(ek_indexing_inventory(taking->indexing), item->file.number, error);
    if (extents == NULL)
        return FALSE;
    EkExtracted result = {0};
    g_autoptr(GArray) holes =
        is_whole ? NULL : ek_files_holes(ek_indexing_files(taking->indexing)->reader, extents);
    const EkRecorded *known = ek_record_find(taking->record, ek_case_info(taking->view.opened)->id,
                                             volume, item->file.number);
    EkExtractOrder order = {
        .path = place,
        .file = &item->file,
        .extents = extents,
        .if_exists = taking->order->if_exists,
        .known_sha256 = known != NULL ? known->sha256 : NULL,
        .is_known_current = known != NULL && ek_recorded_is_of(known, extents, holes),
        .is_known_lesser = known != NULL && ek_recorded_has_less(known, item),
        .known_name = known != NULL ? known->name : NULL,
    };
    EkExtract *extract = taking->holed != NULL && !is_whole ? taking->holed : taking->extract;
    gboolean fine = ek_extract_file(extract, ek_indexing_files(taking->indexing), &order,
                                    taking->cancel, &result, error);
    if (fine)
        tell_result(taking, path, item, &result, extents, holes);
    ek_extracted_clear(&result);
    return fine;
}

static void count_done(Taking *taking, const EkItem *item)
{
    g_mutex_lock(&taking->lock);
    taking->done_files++;
    taking->done_bytes +=
        MIN(ek_inventory_stored(ek_indexing_inventory(taking->indexing), item->file.number),
            item->file.size);
    g_mutex_unlock(&taking->lock);
}

/* Where an entry goes, below the folder that is written to. */
static char *place_of(const Taking *taking, const char *path, const EkItem *item)
{
    const char *prefix = taking->flat_prefix;
    if (prefix != NULL)
        return g_strdup(g_str_has_prefix(path, prefix) ? path + strlen(prefix) : path);
    EkTreePart part = (item->file.flags & EK_FILE_DELETED) != 0 ? EK_PART_DELETED
                      : item->is_lost                           ? EK_PART_LOST
                                                                : EK_PART_LIVE;
    g_autofree char *folder = ek_case_tree_folder(ek_indexing_volume(taking->indexing), part);
    /* What nothing leads to has a made-up folder at the start of its path. */
    const char *slash = item->is_lost ? strchr(path, '/') : NULL;
    return g_strdup_printf("%s/%s", folder, slash != NULL ? slash + 1 : path);
}

static gboolean take_entry(void *data, const char *path, const EkItem *item)
{
    Taking *taking = data;
    GError *error = NULL;
    gboolean fine = TRUE;
    g_autofree char *place = place_of(taking, path, item);
    if (g_atomic_int_get(taking->cancel) != 0) {
        ek_error_set(&taking->error, EK_ERROR_CANCELLED, "interrupted");
        return FALSE;
    }
    if (item->file.type == EK_TYPE_FOLDER) {
        fine = ek_extract_folder(taking->extract, place, &error);
        ek_filerow_count(&taking->totals, item);
    } else if (item->damage.condition != EK_CONDITION_WHOLE &&
               taking->order->holes != EK_HOLES_ZEROS) {
        g_autofree char *condition = ek_filerow_condition(item);
        g_autofree char *what = g_strdup_printf("%s: left out", condition);
        taking->skipped++;
        taking->stopped = taking->order->holes == EK_HOLES_STOP;
        tell_problem(taking, path, item, taking->stopped ? condition : what);
        return !taking->stopped;
    } else {
        fine = write_file(taking, path, place, item, &error);
        count_done(taking, item);
    }
    if (fine)
        return TRUE;
    if (!is_one_files_error(error)) {
        taking->error = error;
        return FALSE;
    }
    taking->failed++;
    tell_problem(taking, path, NULL, error->message);
    g_error_free(error);
    return TRUE;
}

static void print_counts(const Taking *taking)
{
    const EkFileTotals *totals = &taking->totals;
    const struct {
        guint64 count;
        const char *what;
    } counts[] = {
        {totals->by_condition[EK_CONDITION_WHOLE], "whole"},
        {totals->by_condition[EK_CONDITION_HOLED], "holed"},
        {totals->by_condition[EK_CONDITION_OVERWRITTEN], "overwritten"},
        {totals->by_condition[EK_CONDITION_UNPLACED], "unplaced"},
        {totals->by_condition[EK_CONDITION_DOUBTFUL], "doubtful"},
        {totals->by_condition[EK_CONDITION_CUT], "cut"},
        {taking->same, "there already"},
        {taking->kept, "kept unchanged"},
        {taking->skipped + taking->impossible, "left out"},
        {taking->failed, "could not be written"},
    };
    for (gsize i = 0; i < G_N_ELEMENTS(counts); i++)
        if (i == 0 || counts[i].count > 0)
            ek_cli_print("%s%" G_GUINT64_FORMAT " %s", i == 0 ? " " : ", ", counts[i].count,
                         counts[i].what);
    ek_cli_print("\n");
}

/* "By kind: 12 pictures, 3 documents". */
static void print_kinds(const Taking *taking)
{
    g_autoptr(GString) text = g_string_new(NULL);
    for (guint i = 0; i < EK_KINDS; i++)
        if (taking->by_kind[i] > 0)
            g_string_append_printf(text, "%s%" G_GUINT64_FORMAT " %s", text->len > 0 ? ", " : "",
                                   taking->by_kind[i], ek_kind_name((EkKind)i));
    if (text->len > 0)
        ek_cli_print("By kind: %s.\n", text->str);
}

static void print_summary(const Taking *taking)
{
    const EkFileTotals *totals = &taking->totals;
    for (guint i = 0; i < taking->problems->len; i++)
        ek_show_sentence(stdout, "", 2, taking->problems->pdata[i]);
    if (taking->problem_count > PROBLEMS_SHOWN)
        ek_cli_print("… and %u more; --json lists all of them\n",
                     taking->problem_count - PROBLEMS_SHOWN);
    g_autofree char *size = ek_text_size(totals->bytes);
    g_autofree char *files = ek_text_count(totals->files, "file", "files");
    g_autofree char *folders = ek_text_count(totals->folders, "folder", "folders");
    if (totals->folders > 0)
        ek_cli_print("%s in %s, %s, to %s:", files, folders, size, taking->order->to);
    else
        ek_cli_print("%s, %s, to %s:", files, size, taking->order->to);
    print_counts(taking);
    print_kinds(taking);
    if (taking->holed != NULL && totals->by_condition[EK_CONDITION_WHOLE] < totals->files)
        ek_cli_print("Incomplete files are in %s.\n", taking->order->incomplete_to);
}

static void print_end(const Taking *taking)
{
    const EkFileTotals *totals = &taking->totals;
    if (taking->order->sum != NULL)
        *taking->order->sum = (EkExtractSum){totals->files, totals->bytes, taking->same};
    if (taking->order->telling != EK_TELL_ALL)
        return;
    if (taking->order->json) {
        json_t *json = ek_filerow_totals_json(totals);
        json_object_set_new(json, "same", ek_json_u64(taking->same));
        json_object_set_new(json, "kept", ek_json_u64(taking->kept));
        json_object_set_new(json, "skipped", ek_json_u64(taking->skipped));
        json_object_set_new(json, "failed", ek_json_u64(taking->failed));
        json_object_set_new(json, "impossible", ek_json_u64(taking->impossible));
        ek_filerow_end_list(json);
    } else {
        print_summary(taking);
    }
    if (totals->hurt_folders > 0)
        ek_cli_advise("extract: %" G_GUINT64_FORMAT
                      " folders are damaged; some files may be missing",
                      totals->hurt_folders);
    if (taking->unknown > 0)
        ek_cli_advise("extract: %" G_GUINT64_FORMAT " more files match, but their %s is unknown",
                      taking->unknown, taking->order->filter.by_content ? "date or kind" : "date");
    if (taking->links > 0) {
        g_autofree char *links = ek_text_count(taking->links, "link", "links");
        ek_cli_advise("extract: %s of the volume are not created: they may lead anywhere. "
                      "ls and find list them, peek shows where they lead",
                      links);
    }
    if (taking->stopped)
        ek_cli_advise("extract: stopped at the first incomplete file (--holes stop)");
}

/* With --flat the one place that is named goes straight into the folder. */
static gboolean take_flat(Taking *taking, GError **error)
{
    const char *path = NULL;
    guint64 volume = 0;
    guint64 number = 0;
    ek_cli_parse_place(taking->cli->operands[1], &volume, &path);
    taking->indexing = volume_of(taking, volume, error);
    if (taking->indexing == NULL ||
        !ek_inventory_find(ek_indexing_inventory(taking->indexing), path, &number, error))
        return FALSE;
    EkInventory *inventory = ek_indexing_inventory(taking->indexing);
    g_autofree char *full = ek_inventory_path(inventory, number);
    gboolean is_folder = FALSE;
    if (full == NULL || !ek_inventory_is_folder(inventory, number, &is_folder, error))
        return FALSE;
    g_autofree char *parent = g_path_get_dirname(full);
    const char *above = is_folder ? full : g_str_equal(parent, ".") ? "" : parent;
    taking->flat_prefix = *above != '\0' ? g_strconcat(above, "/", NULL) : g_strdup("");
    return TRUE;
}

/* Asked before anything is looked for, and with the space that is needed before anything is
 * written.
 */
static gboolean check_places(Taking *taking, GError **error)
{
    EkGuard guard = {taking->cli->system, &taking->view, NULL, taking->cancel};
    const char *places[] = {taking->order->to, taking->order->incomplete_to, taking->order->sums};
    const char *const what[] = {"the files", "the incomplete files", "the list of digests"};
    for (gsize i = 0; i < G_N_ELEMENTS(places); i++)
        if (places[i] != NULL && !ek_guard_output(&guard, places[i], what[i], error))
            return FALSE;
    return TRUE;
}

static gboolean pick_all(Taking *taking, GError **error)
{
    EkCli *cli = taking->cli;
    if (!check_places(taking, error) || (taking->order->flat && !take_flat(taking, error)))
        return FALSE;
    for (char **operand = cli->operands + 1; *operand != NULL; operand++)
        if (!pick_place(taking, *operand, error))
            return FALSE;
    if (taking->order->list != NULL && !pick_list(taking, taking->order->list, error))
        return FALSE;
    g_autofree char *size = ek_text_size(taking->stored_bytes);
    g_autofree char *files = ek_text_count(taking->wanted, "file", "files");
    if (!taking->order->json && taking->order->telling == EK_TELL_ALL && taking->tally == NULL)
        ek_cli_advise("To be extracted: %s, %s.", files, size);
    return taking->order->to == NULL ||
           ek_guard_space(taking->order->to, taking->stored_bytes, "the extraction", error);
}

static EkExtract *open_target(const Taking *taking, const char *folder, GError **error)
{
    g_autofree char *filesystem = ek_system_filesystem_of(taking->cli->system, folder);
    gboolean portable = taking->order->portable || ek_name_needs_portable(filesystem);
    return ek_extract_new(folder, portable, error);
}

static gboolean open_targets(Taking *taking, GError **error)
{
    const EkTakeOrder *order = taking->order;
    taking->extract = open_target(taking, order->to, error);
    if (taking->extract != NULL && order->incomplete_to != NULL)
        taking->holed = open_target(taking, order->incomplete_to, error);
    if (taking->extract == NULL || (order->incomplete_to != NULL && taking->holed == NULL))
        return FALSE;
    taking->record = ek_record_open(order->to, error);
    if (taking->record != NULL && order->sums != NULL) {
        taking->sums = fopen(order->sums, "wxe");
        if (taking->sums == NULL)
            return ek_error_from_errno(error, EK_ERROR_FAILED, errno, "cannot write %s",
                                       order->sums);
    }
    return taking->record != NULL;
}

static int fail(const Taking *taking, GError *error)
{
    if (taking->order->telling != EK_TELL_NOTHING)
        return ek_cli_fail(taking->cli, error);
    gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
    g_error_free(error);
    return interrupted ? EK_EXIT_INTERRUPTED : EK_EXIT_FAILED;
}

static int take_all(Taking *taking)
{
    GError *error = NULL;
    if (taking->order->json)
        ek_filerow_begin_list(&taking->list);
    EkProgress *progress = ek_progress_begin(
        taking->cli->terminal_err && taking->order->telling == EK_TELL_ALL, draw, taking);
    for (guint i = 0; i < taking->volumes->len && error == NULL && !taking->stopped; i++) {
        taking->indexing = taking->volumes->pdata[i];
        if (ek_inventory_take_picked(ek_indexing_inventory(taking->indexing), take_entry, taking,
                                     &error) &&
            taking->error != NULL)
            error = g_steal_pointer(&taking->error);
    }
    if (error == NULL && ek_extract_sync(taking->extract, &error) && taking->holed != NULL)
        ek_extract_sync(taking->holed, &error);
    ek_progress_end(progress);
    print_end(taking);
    if (error != NULL) {
        gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
        int status = fail(taking, error);
        if (interrupted && taking->order->telling == EK_TELL_ALL)
            ek_cli_advise(
                "All files written so far are complete. Run the same command again to resume.");
        return status;
    }
    gboolean losses = taking->failed + taking->kept + taking->skipped + taking->impossible > 0 ||
                      taking->totals.hurt_folders > 0 ||
                      taking->totals.by_condition[EK_CONDITION_WHOLE] < taking->totals.files;
    return losses ? EK_EXIT_LEFT : EK_EXIT_DONE;
}

/* What would be written; a file that is named by two places counts twice. */
static int tell_tally(const Taking *taking)
{
    if (taking->order->json)
        return ek_cli_print_json(ek_tallyshow_json(taking->tally));
    for (guint i = 0; i < taking->problems->len; i++)
        ek_show_sentence(stdout, "", 2, taking->problems->pdata[i]);
    ek_tallyshow_print(taking->tally, taking->cli);
    ek_cli_advise("Nothing was written. To write them: the same command without --dry-run");
    return EK_EXIT_DONE;
}

/* How it went, for the log; one that cannot be written to has none. */
static void log_end(const Taking *taking, EkCase *log, gint64 event, int status)
{
    const EkFileTotals *totals = &taking->totals;
    const char *outcome = status == EK_EXIT_INTERRUPTED                      ? "interrupted"
                          : status == EK_EXIT_DONE || status == EK_EXIT_LEFT ? "done"
                                                                             : "failed";
    g_autofree char *files = ek_text_count(totals->files, "file", "files");
    g_autofree char *detail =
        g_strdup_printf("%s to %s, %" G_GUINT64_FORMAT " of them whole", files, taking->order->to,
                        totals->by_condition[EK_CONDITION_WHOLE]);
    ek_event_end(log, event, outcome, detail, NULL);
}

static gboolean close_sums(Taking *taking)
{
    gboolean fine = ferror(taking->sums) == 0;
    fine = fclose(taking->sums) == 0 && fine;
    if (!fine)
        ek_cli_advise("extract: %s could not be written: the list of digests is incomplete",
                      taking->order->sums);
    return fine;
}

int ek_taking_run(EkCli *cli, const EkTakeOrder *order)
{
    g_autoptr(EkCase) log = order->telling != EK_TELL_ALL || order->dry_run
                                ? NULL
                                : ek_case_open(cli->operands[0], TRUE, NULL);
    gint64 event = log != NULL ? ek_event_begin(log, "extract", cli->options, NULL) : 0;
    Taking taking = {.cli = cli, .order = order, .cancel = ek_cli_watch_signals()};
    GError *error = NULL;
    int status;
    if (!ek_view_open(&taking.view, cli->operands[0], FALSE, &error)) {
        status = fail(&taking, error);
        if (event != 0)
            log_end(&taking, log, event, status);
        return status;
    }
    g_mutex_init(&taking.lock);
    taking.peeking = ek_peeking_for(&order->filter);
    taking.volumes = g_ptr_array_new_with_free_func((GDestroyNotify)ek_indexing_free);
    taking.problems = g_ptr_array_new_with_free_func(g_free);
    taking.tally = order->dry_run ? ek_tally_new(EK_TALLYSHOW_FOLDERS) : NULL;
    if (!pick_all(&taking, &error))
        status = fail(&taking, error);
    else if (taking.tally != NULL)
        status = tell_tally(&taking);
    else if (open_targets(&taking, &error))
        status = take_all(&taking);
    else
        status = fail(&taking, error);
    error = NULL;
    if (taking.record != NULL && !ek_record_close(taking.record, &error))
        status = fail(&taking, error);
    if (taking.sums != NULL && !close_sums(&taking))
        status = EK_EXIT_FAILED;
    if (event != 0)
        log_end(&taking, log, event, status);
    g_free(taking.flat_prefix);
    g_clear_pointer(&taking.tally, ek_tally_free);
    g_clear_pointer(&taking.peeking, ek_peeking_free);
    g_clear_pointer(&taking.holed, ek_extract_free);
    g_clear_pointer(&taking.extract, ek_extract_free);
    g_ptr_array_unref(taking.problems);
    g_ptr_array_unref(taking.volumes);
    ek_view_close(&taking.view);
    g_mutex_clear(&taking.lock);
    return status;
}
