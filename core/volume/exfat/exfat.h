/* SPDX-License-Identifier: MIT */
/* exFAT, as in Microsoft's "exFAT file system specification". Only for this folder. */
#ifndef EK_VOLUME_EXFAT_EXFAT_H
#define EK_VOLUME_EXFAT_EXFAT_H

#include "volume/links.h"
#include "volume/volume.h"

#define EK_EXFAT_REGION_SECTORS 12u /* of a boot region, of which there are two */
#define EK_EXFAT_ENTRY_BYTES 32u
#define EK_EXFAT_BITMAP 0x81u /* types of entries */
#define EK_EXFAT_UPCASE 0x82u
#define EK_EXFAT_LABEL 0x83u
#define EK_EXFAT_FILE 0x85u

/* A boot sector. Its sectors are its own, all counted from the beginning of the volume. */
typedef struct {
    guint32 sector_size;
    guint32 cluster_bytes;
    guint64 sectors;
    guint32 fat_sector;
    guint32 fat_sectors; /* of one FAT */
    guint8 fats;         /* 1, or 2; 0 of a composed one: there is none */
    guint8 active;       /* the FAT that is used: 0, or 1 */
    guint32 heap_sector; /* of cluster 2 */
    guint32 clusters;
    guint32 root_cluster;
    guint32 serial;
    guint64 partition_sector; /* 0: not told */
} EkExfatBoot;

/* FALSE when it is none, or its numbers contradict each other. */
gboolean ek_exfat_boot_read(EkSpan span, EkExfatBoot *boot);

/* Makes a boot sector of EK_HEADER_BYTES; `fats` may be 0: what stood there is gone. */
void ek_exfat_boot_compose(const EkExfatBoot *boot, guint8 *sector);

/* The FATs of a volume; the active one is the first copy. */
EkLinkPlaces ek_exfat_links(const EkExfatBoot *boot, EkByte first_byte);

/* What a root folder says first. */
typedef struct {
    EkByte at;
    guint32 bitmap_cluster;
    EkByte bitmap_bytes;
    guint32 upcase_cluster;
    guint32 upcase_bytes;
    guint32 upcase_sum;
} EkExfatRoot;

/* Does a root folder begin at the beginning of `span`, which is byte `at` of the image? Among its
 * first entries are those of the allocation bitmap and the up-case table. */
gboolean ek_exfat_root_read(EkSpan span, EkByte at, EkExfatRoot *root);

/* The sum that the format keeps of a boot region (without what changes in use) or of any table. */
guint32 ek_exfat_sum(EkSpan span, gboolean is_region);

/* Measures a composed volume whose boot sector is `boot`; it is placed already. */
void ek_exfat_weigh(EkReader *reader, EkVolume *volume, const EkExfatBoot *boot);

/* What makes the boot regions right again, and what a boot sector's fields mean (repair.c). */
gboolean ek_exfat_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                         GError **error);
GPtrArray *ek_exfat_boot_explain(EkSpan span);

/* The files (files.c). */
EkOpened *ek_exfat_open(EkReader *reader, const EkVolume *volume, GError **error);
void ek_exfat_close(EkOpened *opened);
guint64 ek_exfat_root_number(EkOpened *opened);
gboolean ek_exfat_walk(EkOpened *opened, guint64 from, const EkFileSink *sink);

/* The distance between records of a run tells what was seen: none of these form any. */
enum {
    EK_EXFAT_SEEN_ROOT = 1,
    EK_EXFAT_SEEN_FAT = 2,
    EK_EXFAT_SEEN_UPCASE = 3,
    EK_EXFAT_SEEN_FOLDER = 4 /* a step of a folder that begins with a set */
};

/* Secondary traces (infer.c). */
gboolean ek_exfat_record_seen(EkSpan span, EkRecord *record);
gboolean ek_exfat_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                        void *data, GError **error);

/* Volumes that another one was made over (earlier.c). */
gboolean ek_exfat_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                                void *data, GError **error);

/* As in EkFileSystem. */
guint ek_exfat_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST]);
EkVolume *ek_exfat_measure(EkReader *reader, const EkCandidate *candidate, GError **error);
EkUsage ek_exfat_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same);
char *ek_exfat_unclean(EkReader *reader, const EkVolume *volume);

#endif
