/* SPDX-License-Identifier: MIT */
/* The content of one file, from any byte on. */
#ifndef EK_FILES_ACCESS_H
#define EK_FILES_ACCESS_H

#include "files/files.h"

typedef struct EkAccess EkAccess;

/* Must it be unpacked or decoded, from its beginning on, to be read? Extents: EkExtent. */
gboolean ek_access_is_packed(const EkFile *file, const GArray *extents);

/* Begins to read a file of `volume` that lies in these extents (EkExtent; taken). What a format
 * decodes is decoded by a thread of its own, forwards, as it is read: to go back begins anew.
 * Reader and volume must live as long; `volume` is needed for encoded files only. The caller
 * frees. */
EkAccess *ek_access_new(EkReader *reader, const EkVolume *volume, const EkFile *file,
                        GArray *extents, GError **error);
void ek_access_free(EkAccess *access);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkAccess, ek_access_free)

/* Reads up to `length` bytes from `offset` on; fewer where the file ends or a hole begins. Where a
 * hole begins at `offset` nothing is read, and *hole is set to bytes of it that are known to be
 * missing; else to 0. Returns how many were read. For one thread at a time. */
gsize ek_access_read(EkAccess *access, EkByte offset, guint8 *buffer, gsize length, EkByte *hole);

/* Reads `wanted` bytes, over what comes in parts; fewer where the file ends. With `zeros` holes are
 * zeros; without, FALSE: a hole ended it. *done is how many bytes are in the buffer. */
gboolean ek_access_read_on(EkAccess *access, gboolean zeros, EkByte offset, guint8 *buffer,
                           gsize wanted, gsize *done);

#endif
