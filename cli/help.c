/* SPDX-License-Identifier: MIT */
#include "cli.h"

#include <stdio.h>
#include <string.h>

static void list_commands(void)
{
    ek_cli_print("ektypon: images failing drives, finds lost volumes, rebuilds partition tables,\n"
                 "takes the files out.\n\nUsage: ektypon COMMAND CASE …\n\n");
    for (const EkCommand *command = ek_commands; command->name != NULL; command++)
        ek_cli_print("  %-9s %s\n", command->name, command->summary);
    ek_cli_print(
        "\nThe usual order of work, for a drive detected as /dev/sdb:\n  ektypon drives\n  ektypon "
        "new bench-17 /dev/sdb\n  ektypon image bench-17\n  ektypon hunt bench-17\n  ektypon "
        "volumes bench-17\n  ektypon plan bench-17\nAt any time, ektypon status bench-17 shows the "
        "next step.\n\nA drive that clicks, or that the system does not detect, needs a clean "
        "room, not software:\npower it off.\n\nHelp for one command: ektypon help COMMAND\n");
}

int ek_command_help(EkCli *cli)
{
    int status = EK_EXIT_DONE;
    if (!ek_cli_parse(cli, NULL, &status))
        return status;
    if (cli->operands[0] == NULL) {
        list_commands();
        return EK_EXIT_DONE;
    }
    for (const EkCommand *command = ek_commands; command->name != NULL; command++) {
        if (strcmp(command->name, cli->operands[0]) != 0)
            continue;
        char name[] = "help";
        char help[] = "--help";
        char *arguments[] = {name, help, NULL};
        EkCli asked = *cli;
        asked.command = command;
        asked.argc = 2;
        asked.argv = arguments;
        return command->run(&asked);
    }
    return ek_cli_misused(cli, "there is no command \"%s\"", cli->operands[0]);
}
