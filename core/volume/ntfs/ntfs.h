/* SPDX-License-Identifier: MIT */
/* NTFS: what the parts that read it share. Only for this folder. */
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

/* The files (files.c). */
EkOpened *ek_ntfs_open(EkReader *reader, const EkVolume *volume, GError **error);
void ek_ntfs_close(EkOpened *opened);
guint64 ek_ntfs_root(EkOpened *opened);
gboolean ek_ntfs_lacks(EkOpened *opened);
gboolean ek_ntfs_adopt(EkOpened *opened, const GArray *runs, GError **error);
void ek_ntfs_own_records(EkOpened *opened, GArray *ranges);
gboolean ek_ntfs_walk(EkOpened *opened, guint64 from, const EkFileSink *sink);
gboolean ek_ntfs_decode(EkOpened *opened, const EkFile *file, EkContentSink sink, void *data);

/* Secondary traces (infer.c). */
gboolean ek_ntfs_record_seen(EkSpan span, EkRecord *record);
gboolean ek_ntfs_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                       void *data, GError **error);

/* The distance between records of a run tells what was seen: a block of a folder's index, under the
 * number of the folder. */
#define EK_NTFS_SEEN_INDEX 1u

/* The mirror of an earlier volume is taken to stand where its table does; so far behind it where
 * its clusters are not known. */
#define EK_NTFS_UNPROVED_MIRROR 1u

/* Volumes that another one was made over (earlier.c). */
gboolean ek_ntfs_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
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
