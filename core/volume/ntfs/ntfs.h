/* SPDX-License-Identifier: MIT */
#ifndef EK_VOLUME_NTFS_NTFS_H
#define EK_VOLUME_NTFS_NTFS_H

#include "volume/volume.h"

/* What a boot sector says. */
typedef struct {
    guint32 sector_size;
    guint32 cluster_bytes;
    guint64 sectors; /* without the backup boot sector that follows them */
    guint64 mft_cluster;
    guint64 mirror_cluster;
    guint32 record_bytes;
    guint32 hidden_sectors;
    guint64 serial;
} EkNtfsBoot;

/* Decodes a boot sector; FALSE when it is none, or says what cannot be. */
gboolean ek_ntfs_boot_read(EkSpan span, EkNtfsBoot *boot);

/* The bytes of the partition the volume needs: its backup boot sector included. */
static inline EkByte ek_ntfs_boot_bytes(const EkNtfsBoot *boot)
{
    return (boot->sectors + 1) * boot->sector_size;
}

GPtrArray *ek_ntfs_boot_explain(EkSpan span);

/* A file record in `data` (record_bytes long): checks it and undoes its update sequence in place.
 * FALSE when it is no whole file record. */
gboolean ek_ntfs_record_mend(guint8 *data, gsize length, guint32 sector_size);

/* The number a record gives itself; G_MAXUINT32 where the format's version has none. */
guint32 ek_ntfs_record_number(EkSpan record);

/* The first attribute of a type in a record that ek_ntfs_record_mend accepted; empty when absent.
 */
EkSpan ek_ntfs_record_attribute(EkSpan record, guint32 type);

/* The content of a resident attribute; empty when it is not resident. */
EkSpan ek_ntfs_resident(EkSpan attribute);

#endif
