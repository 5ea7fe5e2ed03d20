/* SPDX-License-Identifier: MIT */
#include "target.h"

#include "work/guard.h"

#include <stdio.h>
#include <unistd.h>

char *ek_target_ask(EkCli *cli, const char *target, const char *meant)
{
    if (meant != NULL)
        return g_strdup(meant);
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
