/* SPDX-License-Identifier: MIT */
/* Telling somebody that a long command has ended. */
#ifndef EK_CLI_NOTIFY_H
#define EK_CLI_NOTIFY_H

#include "cli.h"

/* The option of commands that take long. */
#define EK_OPTION_NOTIFY(cli)                                                                      \
    {                                                                                              \
        "notify", 0, 0, G_OPTION_ARG_STRING, &(cli)->notify,                                       \
            "when this ends or needs a decision, run COMMAND in a shell with EKTYPON_CASE, "       \
            "EKTYPON_COMMAND, EKTYPON_STATUS (the exit status) and EKTYPON_OUTCOME (done, "        \
            "stopped, interrupted, refused, failed)",                                              \
            "COMMAND"                                                                              \
    }

/* Runs what was asked for, if anything was, and waits for it. What it prints goes to stderr; that
 * it fails is told, and changes nothing else. */
void ek_notify(const EkCli *cli, int status);

#endif
