/* SPDX-License-Identifier: MIT */
/* What edits and clones are written to. */
#ifndef EK_REBUILD_TARGET_H
#define EK_REBUILD_TARGET_H

#include "base/error.h"
#include "base/units.h"

typedef struct EkTarget EkTarget;

/* Opens an existing file or block device for reading and writing; a device exclusively. */
EkTarget *ek_target_open(const char *path, GError **error);

/* Makes a new file of `bytes` bytes, all hole; refuses one that exists. */
EkTarget *ek_target_create(const char *path, EkByte bytes, GError **error);

void ek_target_close(EkTarget *target);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkTarget, ek_target_close)

EkByte ek_target_bytes(const EkTarget *target);
const char *ek_target_path(const EkTarget *target);
gboolean ek_target_is_device(const EkTarget *target);

/* Is this a device that shows itself in sectors of another size? No system would find there what a
 * table says in these. FALSE with *error set when it is. */
gboolean ek_target_has_sectors(const EkTarget *target, guint32 bytes, GError **error);

/* Names the target for good, whatever path leads to it: "file:DEVICE:INODE:BIRTH", "block:SERIAL"
 * or, without one, "block:MAJOR:MINOR". */
const char *ek_target_identity(const EkTarget *target);

gboolean ek_target_read(EkTarget *target, EkByte first, guint8 *buffer, gsize length,
                        GError **error);
gboolean ek_target_write(EkTarget *target, EkByte first, const guint8 *data, gsize length,
                         GError **error);

/* Makes a file's whole content a hole of the same length. */
gboolean ek_target_blank(EkTarget *target, GError **error);

/* Asks the kernel to read a device's partition table again; it may refuse, as when one of the
 * partitions is in use. */
void ek_target_reread(EkTarget *target);

/* To stable storage. What is read after it comes from there where the system lets us ask for it. */
gboolean ek_target_sync(EkTarget *target, GError **error);

#endif
