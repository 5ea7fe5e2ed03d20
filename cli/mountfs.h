/* SPDX-License-Identifier: MIT */
/* A case tree as a file system of the kernel's, through FUSE. */
#ifndef EK_CLI_MOUNTFS_H
#define EK_CLI_MOUNTFS_H

#include "work/casetree.h"

typedef struct {
    const char *folder; /* that it is mounted on */
    const char *name;   /* of what is mounted, for the table of mounts */
    gboolean zeros;     /* holes read as zeros, not as errors */
    gboolean for_all;   /* other users may look too */
    EkByte bytes;       /* of the drive: how large the file system says it is */
} EkMountOrder;

/* Mounts it, calls `mounted`, and answers the kernel until it is unmounted or *cancel (atomic) is
 * not 0. Nothing stays mounted, also when the program is killed. */
gboolean ek_mountfs_run(EkCaseTree *tree, const EkMountOrder *order, void (*mounted)(void *data),
                        void *data, const gint *cancel, GError **error);

#endif
