/* SPDX-License-Identifier: MIT */
#include "target.h"

#include "work/guard.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

/* The word that is typed on a terminal; NULL for a file, or without a terminal. */
static char *ask(EkCli *cli, const char *target)
{
    g_autofree char *description = NULL;
    g_autofree char *word = ek_guard_target_word(cli->system, target, &description);
    if (word == NULL || isatty(STDIN_FILENO) == 0 || !cli->terminal_err)
        return NULL;
    fprintf(
        stderr,
        "%s\nWhat it holds will be written over. To go on, type the last four characters of its "
        "serial (or of its name where it has none): ",
        description);
    char line[64] = {0};
    if (fgets(line, sizeof line, stdin) == NULL)
        return NULL;
    return g_strdup(g_strstrip(line));
}

gboolean ek_target_parse(EkCli *cli, const GOptionEntry *own, char **meant, int *status)
{
    GOptionEntry entries[EK_TARGET_OPTIONS + 2] = {
        {"i-mean", 0, 0, G_OPTION_ARG_STRING, meant,
         "the last four characters of the target device's serial", "SERIAL"},
    };
    gsize count = 0;
    while (own != NULL && own[count].long_name != NULL)
        count++;
    g_assert(count <= EK_TARGET_OPTIONS);
    if (count > 0)
        memcpy(entries + 1, own, count * sizeof *own);
    *meant = NULL;
    if (!ek_cli_parse(cli, entries, status))
        return FALSE;
    if (*meant == NULL)
        *meant = ask(cli, cli->operands[1]);
    return TRUE;
}
