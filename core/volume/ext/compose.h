/* SPDX-License-Identifier: MIT */
/* A superblock where none is left: the geometry that the volume was found by, and the features that
 * its inodes and groups show. As in the Linux kernel's Documentation/filesystems/ext4: super.rst,
 * inodes.rst, checksums.rst. */
#ifndef EK_VOLUME_EXT_COMPOSE_H
#define EK_VOLUME_EXT_COMPOSE_H

#include "volume/ext/recount.h"

/* Fills recount->raw (EK_EXT_SUPER_BYTES) from the volume's kept header, recount->super and
 * recount->descriptors; counts and its own sum are the caller's. FALSE when not enough was read to
 * tell the features. */
gboolean ek_ext_compose_super(EkExtRecount *recount, const EkVolume *volume);

#endif
