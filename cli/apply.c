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
    g_autofree char *meant = NULL;
    const GOptionEntry entries[] = {
        {"anyway", 0, 0, G_OPTION_ARG_NONE, &order.anyway,
         "also when a planned volume does not open", NULL},
        G_OPTION_ENTRY_NULL,
    };
    int status = EK_EXIT_DONE;
    if (!ek_target_parse(cli, entries, &meant, &status))
        return status;
    order.folder = cli->operands[0];
    order.target = cli->operands[1];
    order.options = cli->options;
    order.meant = meant;

    GError *error = NULL;
    if (!ek_rebuilding_apply(cli->system, &order, &result, &error))
        return ek_cli_fail(cli, error);
    if (result.recovered > 0)
        printf("%u cut-off applications were rolled back first.\n", result.recovered);
    if (result.nothing_to_do) {
        printf("%s holds all of the plan already: nothing was written.\n", order.target);
        return EK_EXIT_DONE;
    }
    g_autofree char *edits = ek_text_count(result.edits, "edit", "edits");
    printf("%s written to %s, flushed and read back%s.\nTo take them back: ektypon undo %s %s\n",
           edits, order.target, result.is_image ? " (the case still has the image as read)" : "",
           order.folder, order.target);
    return EK_EXIT_DONE;
}
