/* SPDX-License-Identifier: MIT */
/* index: builds the file index of a volume. */
#include "filerow.h"

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
    int status = EK_EXIT_DONE;
    guint64 volume = 0;
    const char *path = NULL;
    const GOptionEntry entries[] = {
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
    if (indexing == NULL) {
        gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
        status = ek_cli_fail(cli, error);
        if (interrupted)
            ek_cli_advise("Progress is saved. To resume: ektypon index %s %s", cli->operands[0],
                          cli->operands[1]);
    } else if (json) {
        status = ek_cli_print_json(totals_json(indexing));
    } else {
        EkInventoryTotals totals = ek_inventory_totals(ek_indexing_inventory(indexing));
        ek_filerow_print_inventory(ek_indexing_volume(indexing)->number, &totals);
        ek_cli_advise("Next: ektypon tree %s %s", cli->operands[0], cli->operands[1]);
    }
    g_clear_pointer(&indexing, ek_indexing_free);
    ek_view_close(&view);
    return status;
}
