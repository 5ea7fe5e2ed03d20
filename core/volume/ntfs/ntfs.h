/* SPDX-License-Identifier: MIT */
/* NTFS: what the pieces that read it share. Only for this folder. */
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
    guint32 index_bytes; /* of an index record; 0: not told */
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

/* Composes the boot sector (512 bytes) that says this. It boots nothing. */
void ek_ntfs_boot_compose(const EkNtfsBoot *boot, guint8 *sector);

GPtrArray *ek_ntfs_boot_explain(EkSpan span);

/* A file record in `data` (record_bytes long): checks it and undoes its update sequence in place.
 * FALSE when it is no whole file record. */
gboolean ek_ntfs_record_fix_up(guint8 *data, gsize length, guint32 sector_size);

/* The number a record gives itself; G_MAXUINT32 where the format's version has none. */
guint32 ek_ntfs_record_number(EkSpan record);

/* The first attribute of a type in a record that ek_ntfs_record_fix_up accepted; empty when absent.
 */
EkSpan ek_ntfs_record_attribute(EkSpan record, guint32 type);

/* The content of a resident attribute; empty when it is not resident. */
EkSpan ek_ntfs_resident(EkSpan attribute);

/* Where a non-resident attribute's content lies. */
typedef struct {
    guint64 first;    /* cluster of the volume; EK_NTFS_HOLE for a hole */
    guint64 clusters; /* never 0 */
} EkNtfsRun;

#define EK_NTFS_HOLE G_MAXUINT64

/* The first runs of a non-resident attribute, at most `most`; returns how many. Stops at what
 * contradicts itself. */
guint ek_ntfs_runs(EkSpan attribute, EkNtfsRun *runs, guint most);

/* The named attribute of a type; empty when absent. `name` is ASCII, "" for one without. */
EkSpan ek_ntfs_record_named(EkSpan record, guint32 type, const char *name);

/* The files (files.c). */
EkOpened *ek_ntfs_open(EkReader *reader, const EkVolume *volume, GError **error);
void ek_ntfs_close(EkOpened *opened);
guint64 ek_ntfs_root(EkOpened *opened);
gboolean ek_ntfs_lacks(EkOpened *opened);
gboolean ek_ntfs_adopt(EkOpened *opened, const GArray *runs, GError **error);
gboolean ek_ntfs_walk(EkOpened *opened, guint64 from, const EkFileSink *sink);
gboolean ek_ntfs_decode(EkOpened *opened, const EkFile *file, EkContentSink sink, void *data);

/* Secondary traces (infer.c). */
gboolean ek_ntfs_record_seen(EkSpan span, EkRecord *record);
gboolean ek_ntfs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                       void *data, GError **error);

/* Measures a volume whose boot sector is in volume->header; it is placed already. */
void ek_ntfs_weigh(EkReader *reader, EkVolume *volume, const EkNtfsBoot *boot);

/* As in EkFileSystem. */
guint ek_ntfs_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST]);
EkVolume *ek_ntfs_measure(EkReader *reader, const EkCandidate *candidate, GError **error);
gboolean ek_ntfs_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                        GError **error);
EkUsage ek_ntfs_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same);
char *ek_ntfs_unclean(EkReader *reader, const EkVolume *volume);
EkByte ek_ntfs_backup(const EkVolume *volume);

#endif
