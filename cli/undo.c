/* SPDX-License-Identifier: MIT */
#include "cli.h"

#include "base/text.h"
#include "target.h"
#include "work/rebuilding.h"

#include <stdio.h>

int ek_command_undo(EkCli *cli)
{
    EkRebuildOrder order = {0};
    EkRebuildResult result;
    g_autofree char *meant = NULL;
    int status = EK_EXIT_DONE;
    if (!ek_target_parse(cli, NULL, &meant, &status))
        return status;
    order.folder = cli->operands[0];
    order.target = cli->operands[1];
    order.options = cli->options;
    order.meant = meant;

    GError *error = NULL;
    if (!ek_rebuilding_undo(cli->system, &order, &result, &error))
        return ek_cli_fail(cli, error);
    if (result.recovered > 0)
        printf("What had been cut off on %s was rolled back.\n", order.target);
    if (!result.nothing_to_do) {
        g_autofree char *edits = ek_text_count(result.edits, "edit", "edits");
        printf("%s taken back on %s, flushed and read back.\n", edits, order.target);
    }
    return EK_EXIT_DONE;
}
