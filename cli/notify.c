/* SPDX-License-Identifier: MIT */
/* Telling somebody that a long command has ended. */
#include "notify.h"

static const char *outcome_of(int status)
{
    switch (status) {
    case EK_EXIT_DONE: return "done";
    case EK_EXIT_LEFT: return "stopped";
    case EK_EXIT_INTERRUPTED: return "interrupted";
    case EK_EXIT_REFUSED: return "refused";
    default: return "failed";
    }
}

void ek_notify(const EkCli *cli, int status)
{
    if (cli->notify == NULL || status == EK_EXIT_USAGE)
        return;
    /* stdout is the command's own. */
    char *argv[] = {(char *)"/bin/sh", (char *)"-c", (char *)"exec 1>&2; eval \"$0\"", cli->notify,
                    NULL};
    g_auto(GStrv) environment = g_get_environ();
    g_autofree char *number = g_strdup_printf("%d", status);
    const char *folder = cli->operands != NULL ? cli->operands[0] : NULL;
    environment = g_environ_setenv(environment, "EKTYPON_CASE", folder != NULL ? folder : "", TRUE);
    environment = g_environ_setenv(environment, "EKTYPON_COMMAND", cli->command->name, TRUE);
    environment = g_environ_setenv(environment, "EKTYPON_STATUS", number, TRUE);
    environment = g_environ_setenv(environment, "EKTYPON_OUTCOME", outcome_of(status), TRUE);
    g_autoptr(GError) error = NULL;
    int ended = 0;
    if (!g_spawn_sync(NULL, argv, environment, G_SPAWN_DEFAULT, NULL, NULL, NULL, NULL, &ended,
                      &error) ||
        !g_spawn_check_wait_status(ended, &error))
        ek_cli_advise("%s: --notify: %s", cli->command->name, error->message);
}
