/* SPDX-License-Identifier: MIT */
/* index: builds the file index of a volume. */
#include "filerow.h"
#include "peeking.h"
#include "show.h"

#include "base/text.h"

/* --- does it open? --------------------------------------------------------------------------- */

typedef struct {
    const gint *cancel;
    EkJudging *judging;
    GMutex lock;    /* of what follows */
    guint64 judged; /* files */
    guint64 total;
    guint64 counts[EK_OPENS_NO + 1];
    GError *error;
} Checking;

static gboolean check_item(void *data, const char *path, const EkItem *item)
{
    Checking *checking = data;
    g_auto(EkJudgement) judgement = {0};
    (void)path;
    if ((item->file.type != EK_TYPE_FILE && item->file.type != EK_TYPE_STREAM) || item->is_again)
        return g_atomic_int_get(checking->cancel) == 0;
    if (!ek_judging_ask(checking->judging, item, checking->cancel, &judgement, &checking->error))
        return FALSE;
    g_mutex_lock(&checking->lock);
    checking->judged++;
    checking->counts[judgement.opens]++;
    g_mutex_unlock(&checking->lock);
    return g_atomic_int_get(checking->cancel) == 0;
}

static void draw(void *data, GString *lines[EK_PROGRESS_LINES])
{
    Checking *checking = data;
    g_mutex_lock(&checking->lock);
    g_autofree char *share =
        ek_text_share(MIN(checking->judged, checking->total), MAX(checking->total, 1));
    g_string_printf(lines[0],
                    "%s  %" G_GUINT64_FORMAT " of %" G_GUINT64_FORMAT
                    " files looked into, %" G_GUINT64_FORMAT " do not open",
                    share, checking->judged, checking->total, checking->counts[EK_OPENS_NO]);
    g_mutex_unlock(&checking->lock);
}

/* Looks into every file of the volume; what was found out is kept for find and extract. */
static gboolean check_content(const EkCli *cli, EkIndexing *indexing, Checking *checking,
                              GError **error)
{
    static const EkPeekCanvas nothing = {0};
    EkInventory *inventory = ek_indexing_inventory(indexing);
    EkInventoryTotals totals = ek_inventory_totals(inventory);
    guint64 root = 0;
    g_autoptr(EkPeeker) peeker = ek_peeking_new(&nothing);
    g_autoptr(EkJudging) judging = ek_judging_new(indexing, peeker);
    checking->judging = judging;
    checking->total = totals.files;
    EkProgress *progress = ek_progress_begin(cli->terminal_err, draw, checking);
    gboolean fine = ek_inventory_find(inventory, "", &root, error) &&
                    ek_inventory_walk(inventory, root, EK_WITH_BELOW | EK_WITH_DELETED, check_item,
                                      checking, error);
    ek_progress_end(progress);
    if (fine && checking->error == NULL && g_atomic_int_get(checking->cancel) != 0)
        fine = ek_error_set(error, EK_ERROR_CANCELLED, "interrupted");
    if (fine && checking->error != NULL)
        g_propagate_error(error, g_steal_pointer(&checking->error));
    g_clear_error(&checking->error);
    return fine && *error == NULL;
}

static json_t *opens_json(const Checking *checking)
{
    json_t *json = json_object();
    for (guint i = 0; i < G_N_ELEMENTS(checking->counts); i++)
        json_object_set_new(json, ek_opens_name((EkOpens)i), ek_json_u64(checking->counts[i]));
    return json;
}

static void print_opens(const EkCli *cli, const Checking *checking)
{
    const guint64 *counts = checking->counts;
    ek_cli_print("Content  %" G_GUINT64_FORMAT " files open, %" G_GUINT64_FORMAT
                 " do not, %" G_GUINT64_FORMAT " cannot be judged\n",
                 counts[EK_OPENS_YES], counts[EK_OPENS_NO], counts[EK_OPENS_UNCHECKED]);
    if (counts[EK_OPENS_NO] > 0)
        ek_cli_advise("To list those that do not open: ektypon find %s %s --opens no",
                      cli->operands[0], cli->operands[1]);
}

/* --- the command ----------------------------------------------------------------------------- */

static json_t *totals_json(EkIndexing *indexing)
{
    EkInventoryTotals totals = ek_inventory_totals(ek_indexing_inventory(indexing));
    json_t *json =
        json_pack("{s:o,s:o,s:o,s:o,s:o,s:o}", "volume", ek_filerow_volume_json(indexing),
                  "folders", ek_json_u64(totals.folders), "files", ek_json_u64(totals.files),
                  "bytes", ek_json_u64(totals.bytes), "deleted", ek_json_u64(totals.deleted),
                  "hurt_folders", ek_json_u64(totals.hurt_folders));
    for (guint i = 0; i < EK_CONDITIONS; i++)
        json_object_set_new(json, ek_condition_name((EkCondition)i),
                            ek_json_u64(totals.by_condition[i]));
    return json;
}

int ek_command_index(EkCli *cli)
{
    gboolean json = FALSE;
    gboolean check = FALSE;
    Checking checking = {.cancel = ek_cli_watch_signals()};
    int status = EK_EXIT_DONE;
    guint64 volume = 0;
    const char *path = NULL;
    const GOptionEntry entries[] = {
        {"check-content", 0, 0, G_OPTION_ARG_NONE, &check,
         "look into every file: does it open? The answers are kept (find --opens)", NULL},
        EK_OPTIONS_OF_JOURNAL(cli),
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (!ek_cli_parse_place(cli->operands[1], &volume, &path) || *path != '\0')
        return ek_cli_misused(cli, "\"%s\" is not a volume number", cli->operands[1]);
    GError *error = NULL;
    EkView view;
    if (!ek_view_open(&view, cli->operands[0], FALSE, &error))
        return ek_cli_fail(cli, error);
    EkIndexing *indexing = ek_filerow_open(cli, &view, volume, &error);
    if (indexing == NULL || (check && !check_content(cli, indexing, &checking, &error))) {
        gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
        status = ek_cli_fail(cli, error);
        if (interrupted)
            ek_cli_advise("Progress is saved. To resume: ektypon index %s %s", cli->operands[0],
                          cli->operands[1]);
    } else if (json) {
        json_t *totals = totals_json(indexing);
        if (check)
            json_object_set_new(totals, "opens", opens_json(&checking));
        status = ek_cli_print_json(totals);
    } else {
        EkInventoryTotals totals = ek_inventory_totals(ek_indexing_inventory(indexing));
        ek_filerow_print_inventory(ek_indexing_volume(indexing)->number, &totals);
        if (check)
            print_opens(cli, &checking);
        ek_cli_advise("Next: ektypon tree %s %s", cli->operands[0], cli->operands[1]);
    }
    g_clear_pointer(&indexing, ek_indexing_free);
    ek_view_close(&view);
    return status;
}
