/* SPDX-License-Identifier: MIT */
#include "filerow.h"

#include "base/text.h"

typedef struct {
    EkCli *cli;
    EkIndexing *indexing;
    gboolean json;
    EkFileList list;
    EkFileTotals totals;
} Listing;

static gboolean list_entry(void *data, const char *path, const EkItem *item)
{
    Listing *listing = data;
    ek_filerow_count(&listing->totals, item);
    if (listing->json)
        ek_filerow_add_to_list(&listing->list, ek_filerow_json(listing->indexing, path, item));
    else
        ek_filerow_print(listing->cli, item->name, item);
    return TRUE;
}

static int list_place(EkCli *cli, EkIndexing *indexing, const char *path, guint with, gboolean json)
{
    Listing listing = {.cli = cli, .indexing = indexing, .json = json};
    EkInventory *inventory = ek_indexing_inventory(indexing);
    GError *error = NULL;
    guint64 number = 0;
    if (!ek_inventory_find(inventory, path, &number, &error))
        return ek_cli_fail(cli, error);
    ek_filerow_count_start(&listing.totals, inventory, number);
    if (json)
        ek_filerow_begin_list(&listing.list);
    if (!ek_inventory_walk(inventory, number, with, list_entry, &listing, &error))
        return ek_cli_fail(cli, error);
    if (json)
        ek_filerow_end_list(ek_filerow_totals_json(&listing.totals));
    else
        ek_filerow_print_totals(cli, &listing.totals);
    if (!json && listing.totals.unread_bytes > 0) {
        g_autofree char *size = ek_text_size(listing.totals.unread_bytes);
        ek_cli_advise("%s of it was not read yet. To read that first: ektypon image %s --want "
                      "\"%u:%s\" --only-wanted",
                      size, cli->operands[0], ek_indexing_volume(indexing)->number, path);
    }
    return EK_EXIT_DONE;
}

int ek_command_ls(EkCli *cli)
{
    gboolean json = FALSE;
    gboolean deleted = FALSE;
    gboolean own = FALSE;
    gboolean streams = FALSE;
    const GOptionEntry entries[] = {
        {"deleted", 0, 0, G_OPTION_ARG_NONE, &deleted, "also what was deleted", NULL},
        {"own", 0, 0, G_OPTION_ARG_NONE, &own, "also the file system's own files", NULL},
        {"streams", 0, 0, G_OPTION_ARG_NONE, &streams, "also further streams of files", NULL},
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    guint64 number = 0;
    const char *path = NULL;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    status = ek_cli_take_place(cli, cli->operands[1], &number, &path);
    if (status != EK_EXIT_DONE)
        return status;
    GError *error = NULL;
    EkView view;
    if (!ek_view_open(&view, cli->operands[0], FALSE, &error))
        return ek_cli_fail(cli, error);
    guint with =
        (deleted ? EK_WITH_DELETED : 0) | (own ? EK_WITH_OWN : 0) | (streams ? EK_WITH_STREAMS : 0);
    EkIndexing *indexing = ek_filerow_open(cli, &view, number, &error);
    status =
        indexing != NULL ? list_place(cli, indexing, path, with, json) : ek_cli_fail(cli, error);
    g_clear_pointer(&indexing, ek_indexing_free);
    ek_view_close(&view);
    return status;
}
