/* SPDX-License-Identifier: MIT */
/* The list of commands, the help of one, its man page, and completion. */
#include "complete.h"
#include "helppage.h"
#include "show.h"
#include "wrap.h"

#include <stdio.h>
#include <string.h>

#define SUMMARY_COLUMN 12 /* of the list of commands */

/* A command and its summary, in two columns. */
static void print_row(const EkCommand *command)
{
    g_autofree char *lines =
        ek_wrap(command->summary, (guint)ek_show_width(), SUMMARY_COLUMN, SUMMARY_COLUMN);
    ek_cli_print("  %-*s%s\n", SUMMARY_COLUMN - 2, command->name, lines);
}

static void list_commands(const EkCli *cli)
{
    ek_cli_print("ektypon: images failing drives, finds lost volumes, rebuilds partition tables, "
                 "extracts files.\n\nUsage: ektypon COMMAND CASE [ARGUMENT…] [OPTION…]\n\n");
    for (const EkCommand *command = cli->commands; command->name != NULL; command++)
        print_row(command);
    ek_cli_print(
        "\nThe usual order of work, for a drive detected as /dev/sdb:\n  ektypon drives\n  ektypon "
        "new bench-17 /dev/sdb\n  ektypon image bench-17\n  ektypon hunt bench-17\n  ektypon "
        "volumes bench-17\n  ektypon plan bench-17\nAt any time, ektypon status bench-17 shows the "
        "next step.\n\nA drive that clicks, or that the system does not detect, needs a clean "
        "room, not software: power it off.\n\nHelp for one command: ektypon help COMMAND\n");
}

/* Runs a command such that it only hands on its options. */
static int describe(EkCli *cli, const EkCommand *command,
                    int (*with)(EkCli *cli, const GOptionEntry *entries))
{
    EkCli asked = *cli;
    asked.command = command;
    asked.describe = with;
    return command->run(&asked);
}

int ek_command_help(EkCli *cli)
{
    int status = EK_EXIT_DONE;
    gboolean man = FALSE;
    gboolean complete = FALSE;
    const GOptionEntry entries[] = {
        {"man", 0, 0, G_OPTION_ARG_NONE, &man, "print the man page instead (man(7) macros)", NULL},
        {"complete", 0, G_OPTION_FLAG_HIDDEN, G_OPTION_ARG_NONE, &complete, NULL, NULL},
        G_OPTION_ENTRY_NULL,
    };
    if (!ek_cli_parse(cli, entries, &status))
        return status;
    if (complete) {
        ek_complete_words(cli, cli->operands);
        return EK_EXIT_DONE;
    }
    const char *name = cli->operands[0];
    if (name == NULL && man) {
        ek_help_man_commands(cli);
        return EK_EXIT_DONE;
    }
    if (name == NULL) {
        list_commands(cli);
        return EK_EXIT_DONE;
    }
    if (cli->operands[1] != NULL)
        return ek_cli_misused(cli, "unexpected argument: %s", cli->operands[1]);
    for (const EkCommand *command = cli->commands; command->name != NULL; command++)
        if (strcmp(command->name, name) == 0)
            return describe(cli, command, man ? ek_help_man : ek_help_page);
    return ek_cli_misused(cli, "there is no command \"%s\"", name);
}
