/* SPDX-License-Identifier: MIT */
/* FAT12, FAT16 and FAT32: what the parts that read them share. Only for this folder. */
#ifndef EK_VOLUME_FAT_FAT_H
#define EK_VOLUME_FAT_FAT_H

#include "volume/links.h"
#include "volume/volume.h"

typedef enum { EK_FAT12 = 12, EK_FAT16 = 16, EK_FAT32 = 32 } EkFatBits;

/* What a boot sector says, places in bytes from the start of the volume. */
typedef struct {
    EkFatBits bits;
    guint32 sector_size;
    guint32 cluster_bytes;
    guint32 reserved_sectors;
    guint32 fats;
    EkByte fat_bytes;      /* of one FAT */
    EkByte fat_start;      /* of the first FAT */
    EkByte root_start;     /* FAT12/16 */
    EkByte root_bytes;     /* FAT12/16 */
    EkByte data_start;     /* of cluster 2 */
    guint32 clusters;      /* valid numbers are 2 to clusters + 1 */
    guint32 root_cluster;  /* FAT32 */
    guint32 backup_sector; /* FAT32; 0 for none */
    guint32 info_sector;   /* FAT32; 0 for none */
    EkByte bytes;
    guint8 media;
    guint32 hidden_sectors;
    guint32 serial;
    gboolean has_serial;
} EkFatBoot;

/* Decodes a boot sector; FALSE when it is none, or contradicts itself. */
gboolean ek_fat_boot_read(EkSpan span, EkFatBoot *boot);
GPtrArray *ek_fat_boot_explain(EkSpan span);

/* Composes the boot sector (512 bytes) that says this, of so many sectors. Of `boot` the sizes
 * count: the places follow from them. It boots nothing. */
void ek_fat_boot_compose(const EkFatBoot *boot, guint64 sectors, EkByte start, guint8 *sector);

/* "fat12", "fat16", "fat32". */
const char *ek_fat_name(EkFatBits bits);

/* The FATs of a volume: at most the first two. EK_FAT_WINDOW bytes are read at a time to follow
 * chains, EK_FAT_GLANCE to look one up. */
#define EK_FAT_WINDOW (192u << 10)
#define EK_FAT_GLANCE 4096u
EkLinkPlaces ek_fat_links(const EkFatBoot *boot, EkByte first_byte);

static inline gboolean ek_fat_cluster_exists(const EkFatBoot *boot, guint32 cluster)
{
    return cluster >= 2 && cluster - 2 < boot->clusters;
}

/* The byte on the drive where a cluster begins. */
static inline EkByte ek_fat_cluster_byte(const EkFatBoot *boot, EkByte first_byte, guint32 cluster)
{
    return first_byte + boot->data_start + (EkByte)(cluster - 2) * boot->cluster_bytes;
}

/* Is this what an entry looks like, rather than noise (entries.c)? */
gboolean ek_fat_is_plausible(EkSpan entry);

/* Does this look like entries of a folder? Three used ones in four must; an empty folder does. */
gboolean ek_fat_is_folder(EkSpan span);

/* How many entries in use there are before the first one that never was, and how many of them look
 * like entries. */
guint ek_fat_count_entries(EkSpan span, guint *plausible);

/* How many short entries in use are as the format wants them in every field. */
guint ek_fat_count_sound(EkSpan span, const EkFatBoot *boot);

/* Is the entry at the beginning of `span` a short one, deleted or not, that is right in every
 * field?
 */
gboolean ek_fat_is_sound(EkSpan span, const EkFatBoot *boot);

/* The label kept in a root folder's first entries; NULL when there is none. The caller frees. `raw`
 * gets its 11 bytes as they are, NULL: not wanted. */
char *ek_fat_label_of(EkSpan span, guint8 *raw);

/* The files (files.c). */
EkOpened *ek_fat_open(EkReader *reader, const EkVolume *volume, GError **error);
void ek_fat_close(EkOpened *opened);
guint64 ek_fat_root(EkOpened *opened);
EkLinkTable *ek_fat_links_of(EkOpened *opened);
gboolean ek_fat_walk(EkOpened *opened, guint64 from, const EkFileSink *sink);

/* Names (names.c). `name` is 11 bytes of a short entry; the caller frees. */
char *ek_fat_short_name(const guint8 *name, guint8 case_flags, gboolean *escaped);
guint8 ek_fat_name_sum(const guint8 *name);

/* Is this the information sector of a FAT32? */
gboolean ek_fat_is_info(EkSpan span);

/* Secondary traces (infer.c). */
gboolean ek_fat_record_seen(EkSpan span, EkRecord *record);
gboolean ek_fat_infer(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink, void *data,
                      GError **error);

/* Volumes that another one was made over (earlier.c). */
gboolean ek_fat_infer_earlier(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                              void *data, GError **error);

/* The distance between records of a run tells what was seen: folders and FATs form none. */
enum { EK_FAT_SEEN_FOLDER = 0, EK_FAT_SEEN_12 = 12, EK_FAT_SEEN_16 = 16, EK_FAT_SEEN_32 = 32 };

/* Where the root folder begins, and how much of it lies there in one piece at least. */
EkRange ek_fat_root_range(const EkFatBoot *boot, EkByte first_byte);

/* What makes boot sectors, FSInfo and FATs right again (repair.c). */
gboolean ek_fat_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error);

/* Measures a volume whose boot sector is in volume->header; it is placed already. */
void ek_fat_weigh(EkReader *reader, EkVolume *volume, const EkFatBoot *boot);

/* As in EkFileSystem. */
guint ek_fat_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST]);
EkVolume *ek_fat_measure(EkReader *reader, const EkCandidate *candidate, GError **error);
EkUsage ek_fat_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same);
char *ek_fat_unclean(EkReader *reader, const EkVolume *volume);
EkByte ek_fat_backup(const EkVolume *volume);

#endif
