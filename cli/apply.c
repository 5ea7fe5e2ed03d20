/* SPDX-License-Identifier: MIT */
#include "cli.h"

#include "base/text.h"
#include "target.h"
#include "work/rebuilding.h"

#include <stdio.h>

int ek_command_apply(EkCli *cli)
{
    EkRebuildOrder order = {0};
    EkRebuildResult result;
    g_autofree char *confirmed = NULL;
    const GOptionEntry entries[] = {
        {"anyway", 0, 0, G_OPTION_ARG_NONE, &order.anyway,
         "also when a planned volume does not open", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_target_parse(cli, entries, &confirmed, &status))
        return status;
    order.folder = cli->operands[0];
    order.target = cli->operands[1];
    order.options = cli->options;
    order.confirmed = confirmed;

    GError *error = NULL;
    /* What is begun is finished, or rolled back when the target is next named. */
    (void)ek_cli_watch_signals();
    if (!ek_rebuilding_apply(cli->system, &order, &result, &error))
        return ek_cli_fail(cli, error);
    if (result.recovered > 0)
        ek_cli_print("%u cut-off applications were rolled back first.\n", result.recovered);
    if (result.nothing_to_do) {
        ek_cli_print("%s holds all of the plan already: nothing was written.\n", order.target);
        return EK_EXIT_DONE;
    }
    g_autofree char *edits = ek_text_count(result.edits, "edit", "edits");
    ek_cli_print(
        "%s written to %s, flushed and read back%s.\nTo take them back: ektypon undo %s %s\n",
        edits, order.target, result.is_image ? " (the case still has the image as read)" : "",
        order.folder, order.target);
    return EK_EXIT_DONE;
}
