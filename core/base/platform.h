/* SPDX-License-Identifier: MIT */
/* What POSIX does not say, and each system does its own way: block devices, holes of files, names
 * that must be new, children. All calls of Linux but those that list drives (device/system.c) and
 * lock the helper program (peek/lock.c) stand behind this one header; elsewhere it says that it
 * cannot, and the callers do without. Functions that return an int set errno as the system does. */
#ifndef EK_BASE_PLATFORM_H
#define EK_BASE_PLATFORM_H

#include "base/units.h"

/* --- block devices ---------------------------------------------------------------------------- */

/* The size in bytes. -1: it does not answer. */
int ek_platform_device_bytes(int fd, EkByte *bytes);

/* Bytes of a logical and of a physical sector. -1: it does not answer. */
int ek_platform_sector_sizes(int fd, guint32 *logical, guint32 *physical);

/* How many bytes a command may ask for; 0: not known. */
guint32 ek_platform_transfer_most(int fd);

/* Does the kernel refuse to write to it? FALSE where that is not known. */
gboolean ek_platform_is_read_only(int fd);

/* Tells the kernel to refuse, or not to refuse, to write. -1: it does not. */
int ek_platform_set_read_only(int fd, gboolean on);

/* Fills sectors with zeros, whatever way the device does that best. -1: it cannot. */
int ek_platform_zero(int fd, EkByte first, EkByte bytes);

/* Asks the system to read the device's partition table anew. */
void ek_platform_reread_table(int fd);

/* Is this block device, by its number, a node that is given to other files later (loop, NBD)? */
gboolean ek_platform_is_lent(guint64 device_number);

/* --- files ------------------------------------------------------------------------------------ */

/* Opens past the page cache, so that nothing beside what is asked for is read. -1 with EINVAL where
 * that cannot be: the caller decides whether to open as usual. */
int ek_platform_open_direct(const char *path, int flags);

/* The next bytes of a file at or behind `from` that may be anything but zero; `end` is the file's.
 * FALSE when there are none. All of the rest where the system cannot tell. */
gboolean ek_platform_next_data(int fd, EkByte from, EkByte end, EkRange *data);

/* When the file at a path was made, in ns since 1970; 0: its file system, or the C library, does
 * not say. */
gint64 ek_platform_birth(const char *path);

/* Flushes the file system that holds this open folder to stable storage. */
int ek_platform_sync_around(int folder);

/* Opens a name inside a folder: no part of it may be a link, or lead out of the folder. `flags` as
 * for open; files that are made get the mode 0666. -1 with ELOOP or EXDEV where one does. */
int ek_platform_open_beneath(int folder, const char *name, int flags);

/* Opens it so as to look at it only, whatever it is: neither a pipe nor a device is disturbed. */
int ek_platform_look_beneath(int folder, const char *name);

/* A new file in a folder, without a name. -1: the system or the file system has no such files. */
int ek_platform_open_nameless(int folder);

/* Gives a file without a name one. -1 with EEXIST where something has it. */
int ek_platform_name(int fd, int folder, const char *name);

/* Renames within a folder, unless something has the name: -1 with EEXIST. */
int ek_platform_rename_new(int folder, const char *from, const char *to);

/* --- processes -------------------------------------------------------------------------------- */

/* Closes the descriptors from `first` to `last`. */
void ek_platform_close_range(unsigned first, unsigned last);

/* From here on this process is killed when its parent ends. */
void ek_platform_die_with_parent(void);

/* The path of the program that runs; NULL where that is not known. The caller frees. */
char *ek_platform_own_path(void);

#endif
