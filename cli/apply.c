/* SPDX-License-Identifier: MIT */
/* apply: writes the plan's edits to a target. */
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
        {"allow-unopened", 0, 0, G_OPTION_ARG_NONE, &order.allow_unopened,
         "apply even if a planned volume cannot be opened", NULL},
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
        ek_cli_print("First rolled back interrupted apply operations: %u.\n", result.recovered);
    if (result.nothing_to_do) {
        ek_cli_print("%s already contains all edits of the plan. Nothing was written.\n",
                     order.target);
        return EK_EXIT_DONE;
    }
    g_autofree char *edits = ek_text_count(result.edits, "edit", "edits");
    ek_cli_print("%s written to %s and verified%s.\nTo undo: ektypon undo %s %s\n", edits,
                 order.target, result.is_image ? " (the case still has the image as read)" : "",
                 order.folder, order.target);
    return EK_EXIT_DONE;
}
