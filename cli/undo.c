/* SPDX-License-Identifier: MIT */
/* undo: restores the bytes that the last apply or clone replaced. */
#include "cli.h"

#include "base/text.h"
#include "target.h"
#include "work/rebuilding.h"

#include <stdio.h>

int ek_command_undo(EkCli *cli)
{
    EkRebuildOrder order = {0};
    EkRebuildResult result;
    g_autofree char *confirmed = NULL;
    int status = EK_EXIT_DONE;
    if (!ek_target_parse(cli, NULL, &confirmed, &status))
        return status;
    order.folder = cli->operands[0];
    order.target = cli->operands[1];
    order.options = cli->options;
    order.confirmed = confirmed;

    GError *error = NULL;
    /* What is begun is finished, or rolled back when the target is next named. */
    (void)ek_cli_watch_signals();
    if (!ek_rebuilding_undo(cli->system, &order, &result, &error))
        return ek_cli_fail(cli, error);
    if (result.recovered > 0)
        ek_cli_print("Rolled back an interrupted operation on %s.\n", order.target);
    if (!result.nothing_to_do) {
        g_autofree char *edits = ek_text_count(result.edits, "edit", "edits");
        ek_cli_print("%s undone on %s and verified.\n", edits, order.target);
    }
    return EK_EXIT_DONE;
}
