/* SPDX-License-Identifier: MIT */
#include "filerow.h"

#include "base/text.h"

static void print_totals(EkIndexing *indexing)
{
    EkInventoryTotals totals = ek_inventory_totals(ek_indexing_inventory(indexing));
    g_autofree char *folders = ek_text_count(totals.folders, "folder", "folders");
    g_autofree char *files = ek_text_count(totals.files, "file", "files");
    g_autofree char *size = ek_text_size(totals.bytes);
    printf("Volume %u: %s, %s, %s: %" G_GUINT64_FORMAT " whole",
           ek_indexing_volume(indexing)->number, folders, files, size,
           totals.by_condition[EK_CONDITION_WHOLE]);
    for (guint i = EK_CONDITION_HOLED; i < EK_CONDITIONS; i++)
        if (totals.by_condition[i] > 0)
            printf(", %" G_GUINT64_FORMAT " %s", totals.by_condition[i],
                   ek_condition_name((EkCondition)i));
    if (totals.deleted > 0)
        printf("; %" G_GUINT64_FORMAT " more were deleted", totals.deleted);
    puts("");
    if (totals.hurt_folders > 0)
        printf("%" G_GUINT64_FORMAT " folders have holes: names may be missing\n",
               totals.hurt_folders);
}

static json_t *totals_json(EkIndexing *indexing)
{
    EkInventoryTotals totals = ek_inventory_totals(ek_indexing_inventory(indexing));
    json_t *json = json_pack(
        "{s:o,s:o,s:o,s:o,s:o,s:o}", "volume", ek_json_u64(ek_indexing_volume(indexing)->number),
        "folders", ek_json_u64(totals.folders), "files", ek_json_u64(totals.files), "bytes",
        ek_json_u64(totals.bytes), "deleted", ek_json_u64(totals.deleted), "hurt_folders",
        ek_json_u64(totals.hurt_folders));
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
    if (!ek_cli_parse_json(cli, &json, &status))
        return status;
    if (!ek_cli_parse_place(cli->operands[1], &volume, &path) || *path != '\0')
        return ek_cli_misused(cli, "\"%s\" is not the number of a volume", cli->operands[1]);
    GError *error = NULL;
    EkView view;
    if (!ek_view_open(&view, cli->operands[0], FALSE, &error))
        return ek_cli_fail(cli, error);
    EkIndexing *indexing = ek_filerow_open(cli, &view, volume, &error);
    if (indexing == NULL) {
        gboolean interrupted = g_error_matches(error, EK_ERROR, EK_ERROR_CANCELLED);
        status = ek_cli_fail(cli, error);
        if (interrupted)
            ek_cli_advise("What can be gone on from is kept. To go on: ektypon index %s %s",
                          cli->operands[0], cli->operands[1]);
    } else if (json) {
        status = ek_cli_print_json(totals_json(indexing));
    } else {
        print_totals(indexing);
        ek_cli_advise("Next: ektypon tree %s %s", cli->operands[0], cli->operands[1]);
    }
    g_clear_pointer(&indexing, ek_indexing_free);
    ek_view_close(&view);
    return status;
}
