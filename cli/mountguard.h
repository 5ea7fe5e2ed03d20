/* SPDX-License-Identifier: MIT */
/* A process of its own that takes down what was mounted when the program cannot do so itself any
 * more: killed, or crashed. */
#ifndef EK_CLI_MOUNTGUARD_H
#define EK_CLI_MOUNTGUARD_H

#include <glib.h>

#include <sys/types.h>

typedef struct {
    pid_t child;
    int alive; /* our end of the pipe: it closes with us, however we end */
} EkMountGuard;

/* Start it before mounting on `folder`, and with no threads of the program's that matter to it. */
gboolean ek_mountguard_start(EkMountGuard *guard, const char *folder, GError **error);

/* Nothing is mounted any more: the guard ends without touching the folder. */
void ek_mountguard_dismiss(EkMountGuard *guard);

#endif
