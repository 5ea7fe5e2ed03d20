/* SPDX-License-Identifier: MIT */
/* What copies of the superblock and of the group descriptors of an ext volume count is as old as
 * they are, mostly as old as the volume: it is counted again from the bitmaps and the inodes. As in
 * the Linux kernel's Documentation/filesystems/ext4: group_descr.rst, bitmaps.rst, checksums.rst.
 */
#ifndef EK_VOLUME_EXT_RECOUNT_H
#define EK_VOLUME_EXT_RECOUNT_H

#include "volume/ext/ext.h"

typedef struct {
    EkReader *reader;
    EkByte first_byte; /* of the volume */
    EkExtSuper super;
    guint8 *raw;         /* the superblock, EK_EXT_SUPER_BYTES */
    guint8 *descriptors; /* all of them, as they shall stand */
} EkExtRecount;

/* Counts a group again whose descriptor is an old copy, and sums it. One whose bitmaps were not
 * read keeps what the copy says. */
void ek_ext_recount_group(const EkExtRecount *recount, guint64 group);

/* Sums a group's descriptor as the superblock's features ask for. */
void ek_ext_sum_group(const EkExtRecount *recount, guint64 group);

/* Adds up the descriptors' counts into the superblock, and notes there when the journal was not
 * played back. Its own sum is the caller's. */
void ek_ext_recount_super(const EkExtRecount *recount);

#endif
