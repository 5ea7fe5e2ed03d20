/* SPDX-License-Identifier: MIT */
#include "filerow.h"
#include "filters.h"
#include "peeking.h"

#include "base/text.h"

#include <string.h>

typedef struct {
    char *path;
    EkItem item; /* its name is the end of the path */
    gsize name_at;
} Match;

typedef struct {
    EkCli *cli;
    EkIndexing *indexing;
    const EkFilter *filter;
    const gint *cancel;
    gboolean json;
    gboolean numbers;
    gboolean count;
    GArray *sorted; /* Match; NULL: as they come */
    EkFileList list;
    EkFileTotals totals;
    EkPeeker *peeker; /* NULL: content is not asked */
    GError *error;
    guint64 unknown; /* that something was asked of which they do not tell */
} Search;

static void show(Search *search, const char *path, const EkItem *item)
{
    guint volume = ek_indexing_volume(search->indexing)->number;
    if (search->json) {
        ek_filerow_add_to_list(&search->list, ek_filerow_json(search->indexing, path, item));
    } else if (search->numbers) {
        printf("%u:@%" G_GUINT64_FORMAT "\n", volume, item->file.number);
    } else {
        g_autofree char *place = g_strdup_printf("%u:%s", volume, path);
        ek_filerow_print(search->cli, place, item);
    }
}

static gboolean take_item(void *data, const char *path, const EkItem *item)
{
    Search *search = data;
    EkVerdict verdict = ek_filter_judge(search->filter, path, item);
    if (g_atomic_int_get(search->cancel) == 0 &&
        !ek_peeking_judge(search->peeker, search->indexing, item, search->filter->kinds,
                          search->cancel, &verdict, &search->error))
        return FALSE;
    search->unknown += verdict == EK_VERDICT_UNKNOWN;
    if (verdict != EK_VERDICT_YES)
        return g_atomic_int_get(search->cancel) == 0;
    ek_filerow_count(&search->totals, item);
    if (search->sorted != NULL) {
        Match match = {g_strdup(path), *item, strlen(path) - strlen(item->name)};
        match.item.name_bytes = NULL;
        g_array_append_val(search->sorted, match);
    } else if (!search->count) {
        show(search, path, item);
    }
    return g_atomic_int_get(search->cancel) == 0;
}

/* --- sorting -------------------------------------------------------------------------------- */

static gint by_size(gconstpointer a, gconstpointer b)
{
    guint64 left = ((const Match *)a)->item.file.size;
    guint64 right = ((const Match *)b)->item.file.size;
    return left > right ? -1 : left < right;
}

static gint by_date(gconstpointer a, gconstpointer b)
{
    const EkMoment *left = &((const Match *)a)->item.file.modified;
    const EkMoment *right = &((const Match *)b)->item.file.modified;
    if (left->is_set != right->is_set)
        return left->is_set ? -1 : 1;
    return left->seconds > right->seconds ? -1 : left->seconds < right->seconds;
}

static gint by_name(gconstpointer a, gconstpointer b)
{
    const Match *left = a;
    const Match *right = b;
    g_autofree char *x = g_utf8_casefold(left->path + left->name_at, -1);
    g_autofree char *y = g_utf8_casefold(right->path + right->name_at, -1);
    return strcmp(x, y);
}

static const struct {
    const char *name;
    GCompareFunc compare;
} orders[] = {{"size", by_size}, {"date", by_date}, {"name", by_name}};

static void show_sorted(Search *search, GCompareFunc compare)
{
    g_array_sort(search->sorted, compare);
    for (guint i = 0; i < search->sorted->len; i++) {
        Match *match = &g_array_index(search->sorted, Match, i);
        match->item.name = match->path + match->name_at;
        if (!search->count)
            show(search, match->path, &match->item);
        g_free(match->path);
    }
    g_array_set_size(search->sorted, 0);
}

/* --- the command ---------------------------------------------------------------------------- */

static gboolean search_place(Search *search, EkView *view, guint64 volume, const char *path,
                             GCompareFunc compare, GError **error)
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
    fine = fine && ek_inventory_walk(inventory, number, EK_WITH_BELOW | EK_WITH_DELETED, take_item,
                                     search, error);
    if (fine && search->error != NULL) {
        g_propagate_error(error, g_steal_pointer(&search->error));
        fine = FALSE;
    }
    if (fine && search->sorted != NULL)
        show_sorted(search, compare);
    search->indexing = NULL;
    return fine;
}

/* All volumes whose files can be read; the others are named. */
static gboolean search_all(Search *search, EkView *view, GCompareFunc compare, GError **error)
{
    g_autoptr(GPtrArray) volumes = ek_volumestore_list(view->opened, error);
    guint searched = 0;
    for (guint i = 0; volumes != NULL && i < volumes->len; i++) {
        const EkCaseVolume *entry = volumes->pdata[i];
        if (g_str_equal(entry->standing, "withdrawn") || g_str_equal(entry->standing, "nested"))
            continue;
        if (entry->volume->format->open == NULL) {
            ek_cli_advise("find: the files of volume %u (%s) are not listed by this version",
                          entry->number, entry->volume->filesystem);
            continue;
        }
        GError *failure = NULL;
        searched++;
        if (search_place(search, view, entry->number, "", compare, &failure))
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
                            "no volume with files was found yet. Hunt first: ektypon hunt %s",
                            ek_case_folder(view->opened));
    return volumes != NULL;
}

static int run(Search *search, EkView *view, GCompareFunc compare)
{
    EkCli *cli = search->cli;
    GError *error = NULL;
    gboolean fine = TRUE;
    if (search->json)
        ek_filerow_begin_list(&search->list);
    if (cli->operands[1] == NULL)
        fine = search_all(search, view, compare, &error);
    for (char **operand = cli->operands + 1; fine && *operand != NULL; operand++) {
        guint64 volume = 0;
        const char *path = NULL;
        ek_cli_parse_place(*operand, &volume, &path);
        fine = search_place(search, view, volume, path, compare, &error);
    }
    if (search->json)
        ek_filerow_end_list(ek_filerow_totals_json(&search->totals));
    if (!fine)
        return ek_cli_fail(cli, error);
    if (!search->json && !search->numbers)
        ek_filerow_print_totals(cli, &search->totals);
    if (!search->json && search->totals.unread_bytes > 0) {
        g_autofree char *size = ek_text_size(search->totals.unread_bytes);
        ek_cli_advise(
            "%s of them was not read yet. To read a file or a folder first: ektypon image "
            "%s --want VOLUME:PATH --only-wanted",
            size, cli->operands[0]);
    }
    if (search->unknown > 0)
        ek_cli_advise(
            "find: %" G_GUINT64_FORMAT " more would fit, but do not tell %s that was asked for",
            search->unknown, search->peeker != NULL ? "the date or the kind" : "the date");
    return g_atomic_int_get(search->cancel) != 0 ? EK_EXIT_INTERRUPTED : EK_EXIT_DONE;
}

int ek_command_find(EkCli *cli)
{
    EkFilterWords words = {0};
    EkFilter filter;
    Search search = {.cli = cli, .filter = &filter, .cancel = ek_cli_watch_signals()};
    g_autofree char *order = NULL;
    const GOptionEntry entries[] = {
        EK_FILTER_ENTRIES(words),
        {"sort", 0, 0, G_OPTION_ARG_STRING, &order, "size, date (latest first) or name, by volume",
         "ORDER"},
        {"count", 0, 0, G_OPTION_ARG_NONE, &search.count, "only count them", NULL},
        {"numbers", 0, 0, G_OPTION_ARG_NONE, &search.numbers,
         "as VOLUME:@NUMBER, a line each: for extract --from-list", NULL},
        {"json", 0, 0, G_OPTION_ARG_NONE, &search.json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    guint64 volume = 0;
    const char *path = NULL;
    if (!ek_cli_parse(cli, entries, &status) || !ek_filters_take(cli, &words, &filter, &status))
        return status;
    GCompareFunc compare = NULL;
    for (gsize i = 0; order != NULL && i < G_N_ELEMENTS(orders); i++)
        if (g_str_equal(order, orders[i].name))
            compare = orders[i].compare;
    for (char **operand = cli->operands + 1; *operand != NULL; operand++)
        if (ek_cli_take_place(cli, *operand, &volume, &path) != EK_EXIT_DONE)
            status = EK_EXIT_USAGE;
    if (order != NULL && compare == NULL)
        status = ek_cli_misused(cli, "--sort takes size, date or name, not \"%s\"", order);
    GError *error = NULL;
    EkView view;
    if (status == EK_EXIT_DONE && !ek_view_open(&view, cli->operands[0], FALSE, &error)) {
        status = ek_cli_fail(cli, error);
    } else if (status == EK_EXIT_DONE) {
        g_autoptr(GArray) sorted =
            compare != NULL ? g_array_new(FALSE, FALSE, sizeof(Match)) : NULL;
        g_autoptr(EkPeeker) peeker = filter.by_content ? ek_peeking_new(NULL) : NULL;
        search.sorted = sorted;
        search.peeker = peeker;
        status = run(&search, &view, compare);
        ek_view_close(&view);
    }
    ek_filter_clear(&filter);
    return status;
}
