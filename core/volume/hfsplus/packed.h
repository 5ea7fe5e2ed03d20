/* SPDX-License-Identifier: MIT */
/* Files that the system packed: an attribute called com.apple.decmpfs says how long they are, and
 * holds the content or says that the resource fork does, in chunks of 64 KiB packed with zlib (RFC
 * 1950). As in the published header of the kernel, sys/decmpfs.h. */
#ifndef EK_VOLUME_HFSPLUS_PACKED_H
#define EK_VOLUME_HFSPLUS_PACKED_H

#include "volume/hfsplus/fork.h"

typedef struct {
    guint32 file;
    guint32 type;
    guint64 size;  /* bytes, unpacked */
    EkByte at;     /* in the tree of attributes: what follows the header */
    guint32 bytes; /* of it */
} EkHfsPacked;

/* The packed files of a volume: EkHfsPacked, by file. The caller unrefs. */
GArray *ek_hfs_packed_load(const EkHfsArea *region, const EkHfsFork *attributes);

/* NULL when there is no such file, or none that can be unpacked. */
const EkHfsPacked *ek_hfs_packed_find(const GArray *all, guint32 file);

/* Where it lies: with its content in the attribute, or in the resource fork. */
gboolean ek_hfs_packed_pass(const EkHfsArea *region, const EkHfsFork *attributes,
                            const EkHfsFork *resources, const EkHfsPacked *packed,
                            const EkFileSink *sink);

/* Its content. FALSE when the sink stopped it. */
gboolean ek_hfs_packed_decode(const EkHfsArea *region, const EkHfsFork *attributes,
                              const EkHfsFork *resources, const EkHfsPacked *packed,
                              EkContentSink sink, void *data);

#endif
