/* SPDX-License-Identifier: MIT */
/* Programs and plugins of ours that the program needs at work. */
#ifndef EK_CLI_HELPER_H
#define EK_CLI_HELPER_H

#include "cli.h"

/* Where one is: beside the program, as it is built, or where it is installed, also when all of that
 * was moved. `mode`: what it must let us do there (access(2)). The caller frees. */
char *ek_helper_path(const char *name, int mode);

#endif
