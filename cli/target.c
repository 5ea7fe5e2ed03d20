/* SPDX-License-Identifier: MIT */
/* What the commands that write to a target share. */
#include "target.h"

#include "device/device.h"
#include "work/guard.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

char *ek_target_ask(EkCli *cli, const char *target)
{
    if (!ek_device_is_at(target) || isatty(STDIN_FILENO) == 0 || !cli->terminal_err)
        return NULL;
    g_autofree char *description = NULL;
    g_autofree char *word = ek_guard_word(cli->system, target, &description);
    if (word == NULL)
        return NULL;
    g_autofree char *text = g_strdup_printf(
        "%s. ALL DATA ON THIS DEVICE MAY BE OVERWRITTEN. To continue, type the last four "
        "characters of its serial number (or of its device name if it has none):",
        description);
    ek_cli_advise("%s", text);
    char line[64] = {0};
    if (fgets(line, sizeof line, stdin) == NULL)
        return NULL;
    return g_strdup(g_strstrip(line));
}

gboolean ek_target_parse(EkCli *cli, const GOptionEntry *own, char **confirmed, int *status)
{
    GOptionEntry entries[EK_TARGET_OPTIONS + 2] = {
        {"confirm", 0, 0, G_OPTION_ARG_STRING, confirmed,
         "confirm the target: a device by the last four characters of its serial, a file by its "
         "name",
         "WORD"},
    };
    gsize count = 0;
    while (own != NULL && own[count].long_name != NULL)
        count++;
    g_assert(count <= EK_TARGET_OPTIONS);
    if (count > 0)
        memcpy(entries + 1, own, count * sizeof *own);
    *confirmed = NULL;
    if (!ek_cli_parse(cli, entries, status))
        return FALSE;
    if (*confirmed == NULL)
        *confirmed = ek_target_ask(cli, cli->operands[1]);
    return TRUE;
}
