/* SPDX-License-Identifier: MIT */
/* What a test that crashed leaves behind: mounts, loop devices, files. */
#ifndef EK_TESTS_LEFTOVERS_H
#define EK_TESTS_LEFTOVERS_H

#include <glib.h>

/* Unmounts and detaches everything at or below `folder` (absolute). */
void leftovers_release(const char *folder);

/* The same, then removes the folder with all that is in it. */
void leftovers_remove(const char *folder);

#endif
