/* SPDX-License-Identifier: MIT */
/* ls: lists a folder of a volume. */
#include "filerow.h"

#include "base/text.h"

#include <stdio.h>

typedef struct {
    EkCli *cli;
    EkIndexing *indexing;
    gboolean json;
    EkFileList list;
    EkFileRows rows;
    EkFileTotals totals;
} Listing;

static gboolean list_entry(void *data, const char *path, const EkItem *item)
{
    Listing *listing = data;
    ek_filerow_count(&listing->totals, item);
    if (listing->json)
        ek_filerow_add_to_list(&listing->list, ek_filerow_json(listing->indexing, path, item));
    else
        ek_filerow_print(&listing->rows, listing->indexing, item->name, item);
    return ferror(stdout) == 0;
}

static int list_place(EkCli *cli, const EkPlace *place, guint with, gboolean json)
{
    Listing listing = {.cli = cli, .indexing = place->indexing, .json = json, .rows = {.cli = cli}};
    EkInventory *inventory = ek_indexing_inventory(place->indexing);
    GError *error = NULL;
    ek_filerow_count_start(&listing.totals, inventory, place->number);
    if (json)
        ek_filerow_begin_list(&listing.list);
    if (!ek_inventory_walk(inventory, place->number, with, list_entry, &listing, &error))
        return ek_cli_fail(cli, error);
    if (json)
        ek_filerow_end_list(ek_filerow_totals_json(&listing.totals));
    else
        ek_filerow_print_totals(cli, &listing.totals, TRUE);
    if (!json && listing.totals.unread_bytes > 0) {
        g_autofree char *size = ek_text_size(listing.totals.unread_bytes);
        ek_cli_advise("%s of this folder has not been read yet. To read it next: ektypon image %s "
                      "--want \"%u:%s\" --only-wanted",
                      size, cli->operands[0], ek_indexing_volume(place->indexing)->number,
                      place->path);
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
        {"deleted", 0, 0, G_OPTION_ARG_NONE, &deleted, "include deleted files", NULL},
        {"own", 0, 0, G_OPTION_ARG_NONE, &own, "include system files (metadata)", NULL},
        {"streams", 0, 0, G_OPTION_ARG_NONE, &streams, "include alternate data streams", NULL},
        EK_OPTION_LOST_CONTENT(cli),
        EK_OPTIONS_OF_JOURNAL(cli),
        {"json", 0, 0, G_OPTION_ARG_NONE, &json, "print JSON (docs/json.md)", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    EkPlace place;
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    guint with = (deleted ? EK_WITH_DELETED : 0) | (cli->lost_content ? EK_WITH_LOST : 0) |
                 (own ? EK_WITH_OWN : 0) | (streams ? EK_WITH_STREAMS : 0);
    status = ek_filerow_open_place(cli, &place);
    if (status != EK_EXIT_DONE)
        return status;
    status = list_place(cli, &place, with, json);
    ek_filerow_close_place(&place);
    return status;
}
