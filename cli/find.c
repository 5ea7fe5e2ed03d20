/* SPDX-License-Identifier: MIT */
/* find: finds files on all volumes by what is known of them. */
#include "filerow.h"
#include "filters.h"
#include "peeking.h"
#include "tallyshow.h"

#include "base/text.h"

#include <string.h>

typedef enum { ORDER_NONE, ORDER_SIZE, ORDER_DATE, ORDER_NAME } Order;

typedef struct {
    EkCli *cli;
    EkIndexing *indexing;
    const EkFilter *filter;
    const gint *cancel;
    gboolean json;
    gboolean numbers;
    gboolean count;
    Order order;
    EkFileList list;
    EkFileRows rows;
    EkFileTotals totals;
    EkPeeking *peeking; /* NULL: content is not asked */
    EkTally *tally;     /* NULL: they are shown one by one */
    GError *error;
    guint64 unknown; /* that something was asked of which they do not tell */
} Search;

static void show(Search *search, const char *path, const EkItem *item)
{
    g_autofree char *volume = ek_cli_place_word(ek_indexing_volume(search->indexing)->number);
    g_auto(EkJudgement) judgement = {0};
    gboolean is_judged = !search->numbers && ek_peeking_tell(search->peeking, search->indexing,
                                                             item, search->cancel, &judgement);
    if (search->json) {
        json_t *row = ek_filerow_json(search->indexing, path, item);
        if (is_judged) {
            json_object_set_new(row, "opens", ek_json_text(ek_opens_name(judgement.opens)));
            json_object_set_new(row, "opens_why", ek_json_text(judgement.why));
        }
        ek_filerow_add_to_list(&search->list, row);
    } else if (search->numbers) {
        ek_cli_print("%s:@%" G_GUINT64_FORMAT "\n", volume, item->file.number);
    } else {
        g_autofree char *place = g_strdup_printf("%s:%s", volume, path);
        /* Of what opens there is nothing to say. */
        search->rows.remark = is_judged && judgement.opens != EK_OPENS_YES ? judgement.why : NULL;
        ek_filerow_print(&search->rows, search->indexing, place, item);
    }
}

static gboolean goes_on(const Search *search)
{
    return g_atomic_int_get(search->cancel) == 0 && ferror(stdout) == 0;
}

/* Sorting is the store's: what is found may be more than memory holds. */
static gboolean remember(Search *search, const char *path, const EkItem *item)
{
    const EkTimestamp *modified = &item->file.modified;
    g_autofree char *folded = search->order == ORDER_NAME ? g_utf8_casefold(item->name, -1) : NULL;
    EkPick pick = {.item = item, .path = path, .word = folded};
    if (search->order == ORDER_SIZE)
        pick.rank = -(gint64)MIN(item->file.size, (guint64)G_MAXINT64);
    else if (search->order == ORDER_DATE)
        pick.rank = modified->is_set ? -modified->seconds : G_MAXINT64;
    return ek_inventory_pick(ek_indexing_inventory(search->indexing), &pick, &search->error);
}

static gboolean show_item(void *data, const char *path, const EkItem *item)
{
    show(data, path, item);
    return goes_on(data);
}

static gboolean take_item(void *data, const char *path, const EkItem *item)
{
    Search *search = data;
    EkVerdict verdict = ek_filter_judge(search->filter, path, item);
    if (g_atomic_int_get(search->cancel) == 0 &&
        !ek_peeking_judge(search->peeking, search->indexing, item, search->cancel, &verdict,
                          &search->error))
        return FALSE;
    search->unknown += verdict == EK_VERDICT_UNKNOWN;
    if (verdict != EK_VERDICT_YES)
        return goes_on(search);
    if (search->tally != NULL) {
        if (item->file.type != EK_TYPE_FOLDER)
            ek_tallyshow_add(search->tally, search->indexing, path, item);
        return goes_on(search);
    }
    ek_filerow_count(&search->totals, item);
    if (search->order != ORDER_NONE && !search->count)
        return remember(search, path, item) && goes_on(search);
    if (!search->count)
        show(search, path, item);
    return goes_on(search);
}

/* --- the command ---------------------------------------------------------------------------- */

static gboolean search_place(Search *search, EkView *view, guint64 volume, const char *path,
                             GError **error)
{
    g_autoptr(EkIndexing) indexing = ek_filerow_open(search->cli, view, volume, error);
    guint64 number = 0;
    if (indexing == NULL)
        return FALSE;
    EkInventory *inventory = ek_indexing_inventory(indexing);
    search->indexing = indexing;
    gboolean fine = ek_inventory_find(inventory, path, &number, error);
    if (fine)
        ek_filerow_count_start(&search->totals, inventory, number);
    fine = fine && ek_inventory_walk(inventory, number,
                                     EK_WITH_BELOW | EK_WITH_DELETED |
                                         (search->cli->lost_content ? EK_WITH_LOST : 0),
                                     take_item, search, error);
    if (fine && search->error != NULL) {
        g_propagate_error(error, g_steal_pointer(&search->error));
        fine = FALSE;
    }
    fine = fine && ek_inventory_take_picked(inventory, show_item, search, error);
    search->indexing = NULL;
    ek_peeking_leave(search->peeking);
    return fine;
}

/* All volumes whose files can be read; the others are named. */
static gboolean search_all(Search *search, EkView *view, GError **error)
{
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(view->opened, error);
    guint searched = 0;
    for (guint i = 0; volumes != NULL && i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        if (entry->standing == EK_STANDING_NESTED)
            continue;
        if (entry->volume->format->open == NULL) {
            ek_cli_advise("find: volume %u (%s) skipped: this version cannot list its files",
                          entry->number, entry->volume->filesystem);
            continue;
        }
        GError *failure = NULL;
        searched++;
        if (search_place(search, view, entry->number, "", &failure))
            continue;
        if (!g_error_matches(failure, EK_ERROR, EK_ERROR_DAMAGED)) {
            g_propagate_error(error, failure);
            return FALSE;
        }
        ek_cli_advise("find: volume %u: %s", entry->number, failure->message);
        g_error_free(failure);
    }
    if (volumes != NULL && searched == 0)
        return ek_error_set(error, EK_ERROR_ABSENT,
                            "no volume with files is known. What was searched, and what may still "
                            "help: ektypon volumes %s",
                            ek_case_named(view->opened));
    return volumes != NULL;
}

static int run(Search *search, EkView *view)
{
    EkCli *cli = search->cli;
    GError *error = NULL;
    gboolean fine = TRUE;
    gboolean lists = search->tally == NULL;
    if (search->json && lists)
        ek_filerow_begin_list(&search->list);
    if (cli->operands[1] == NULL)
        fine = search_all(search, view, &error);
    for (char **operand = cli->operands + 1; fine && *operand != NULL; operand++) {
        guint64 volume = 0;
        const char *path = NULL;
        ek_cli_parse_place(*operand, &volume, &path);
        fine = search_place(search, view, volume, path, &error);
    }
    if (search->json && lists)
        ek_filerow_end_list(ek_filerow_totals_json(&search->totals));
    if (!fine)
        return ek_cli_fail(cli, error);
    if (search->json && !lists)
        return ek_cli_print_json(ek_tallyshow_json(search->tally));
    if (!lists) {
        ek_tallyshow_print(search->tally, cli);
        return g_atomic_int_get(search->cancel) != 0 ? EK_EXIT_INTERRUPTED : EK_EXIT_DONE;
    }
    gboolean is_empty = search->totals.files + search->totals.folders == 0;
    if (!search->json && !search->numbers && is_empty)
        ek_cli_print("No file or folder matches.\n");
    else if (!search->json && !search->numbers)
        ek_filerow_print_totals(cli, &search->totals, !search->count);
    if (!search->json && search->totals.unread_bytes > 0) {
        g_autofree char *size = ek_text_size(search->totals.unread_bytes);
        ek_cli_advise("%s of these files has not been read yet. To read a file or folder next: "
                      "ektypon image %s --want VOLUME:PATH --only-wanted",
                      size, cli->operands[0]);
    }
    if (search->unknown > 0)
        ek_cli_advise("find: %" G_GUINT64_FORMAT " more files match, but their %s is unknown",
                      search->unknown, search->filter->by_content ? "date or kind" : "date");
    return g_atomic_int_get(search->cancel) != 0 ? EK_EXIT_INTERRUPTED : EK_EXIT_DONE;
}

int ek_command_find(EkCli *cli)
{
    EkFilterWords words = {0};
    EkFilter filter;
    Search search = {
        .cli = cli, .rows = {.cli = cli}, .filter = &filter, .cancel = ek_cli_watch_signals()};
    g_autofree char *order = NULL;
    gboolean totals = FALSE;
    const GOptionEntry entries[] = {
        EK_FILTER_ENTRIES(words),
        {"sort", 0, 0, G_OPTION_ARG_STRING, &order,
         "sort each volume by size, date (newest first) or name", "size|date|name"},
        {"count", 0, 0, G_OPTION_ARG_NONE, &search.count, "print only the number of matches", NULL},
        {"totals", 0, 0, G_OPTION_ARG_NONE, &totals,
         "print totals by kind and by folder instead of the files", NULL},
        {"numbers", 0, 0, G_OPTION_ARG_NONE, &search.numbers,
         "print VOLUME:@NUMBER, one per line (for extract --from-list)", NULL},
        EK_OPTION_LOST_CONTENT(cli),
        EK_OPTIONS_OF_JOURNAL(cli),
        {"json", 0, 0, G_OPTION_ARG_NONE, &search.json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    guint64 volume = 0;
    const char *path = NULL;
    if (!ek_cli_parse(cli, entries, &status) || !ek_filters_take(cli, &words, &filter, &status))
        return status;
    static const char *const orders[] = {
        [ORDER_SIZE] = "size", [ORDER_DATE] = "date", [ORDER_NAME] = "name"};
    for (guint i = ORDER_SIZE; order != NULL && i < G_N_ELEMENTS(orders); i++)
        if (g_str_equal(order, orders[i]))
            search.order = (Order)i;
    for (char **operand = cli->operands + 1; *operand != NULL; operand++)
        if (ek_cli_take_place(cli, *operand, &volume, &path) != EK_EXIT_DONE)
            status = EK_EXIT_USAGE;
    if (order != NULL && search.order == ORDER_NONE)
        status = ek_cli_misused(cli, "--sort takes size, date or name, not \"%s\"", order);
    if (status == EK_EXIT_DONE && totals && (search.numbers || search.count || order != NULL))
        status =
            ek_cli_misused(cli, "--totals lists no files: not with --numbers, --count, --sort");
    GError *error = NULL;
    EkView view;
    if (status == EK_EXIT_DONE && !ek_view_open(&view, cli->operands[0], FALSE, &error)) {
        status = ek_cli_fail(cli, error);
    } else if (status == EK_EXIT_DONE) {
        g_autoptr(EkPeeking) peeking = ek_peeking_for(&filter);
        g_autoptr(EkTally) tally = totals ? ek_tally_new(EK_TALLYSHOW_FOLDERS) : NULL;
        search.peeking = peeking;
        search.tally = tally;
        status = run(&search, &view);
        ek_view_close(&view);
    }
    ek_filter_clear(&filter);
    return status;
}
