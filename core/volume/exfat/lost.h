/* SPDX-License-Identifier: MIT */
/* Folders of an exFAT volume that nothing leads to, found among its clusters. Only for this folder.
 */
#ifndef EK_VOLUME_EXFAT_LOST_H
#define EK_VOLUME_EXFAT_LOST_H

#include "volume/clusterbitmap.h"
#include "volume/exfat/set.h"

/* What is searched. */
typedef struct {
    EkReader *reader;
    const EkExfatBoot *boot;
    EkByte first_byte; /* of the volume */
    EkLinkTable *links;
    const GArray *bitmap;         /* EkExtent: where the bitmap of clusters in use lies */
    const EkClusterBitmap *taken; /* of folders that are known */
    const EkClusterBitmap *files; /* of files */
    gboolean is_earlier;          /* its bitmap is gone: every cluster may be anything */
    gboolean seeks_free;          /* only clusters that are free, else only those in use */
    /* Called now and then; FALSE ends the search. */
    gboolean (*mark)(void *data);
    void *data;
    guint8 *page; /* a step of the bitmap, the search's own from here on */
    EkByte page_at;
    gboolean page_is_known;
} EkExfatSearch;

/* What is in a folder tells whether it is this volume's: the folders that it names stand where they
 * must, and files end there. */
typedef enum { EK_EXFAT_PROVED, EK_EXFAT_OPEN, EK_EXFAT_ANOTHERS } EkExfatProof;

/* The entry that led to it was not read, or is gone. */
typedef struct {
    guint32 cluster;
    EkExfatProof proof;
    gboolean is_told; /* the bitmap was read, and says that the cluster is in use */
} EkExfatLost;

static inline EkByte ek_exfat_cluster_byte(const EkExfatBoot *boot, EkByte first_byte,
                                           guint32 cluster)
{
    return first_byte + (EkByte)boot->heap_sector * boot->sector_size +
           (EkByte)(cluster - 2) * boot->cluster_bytes;
}

static inline gboolean ek_exfat_cluster_exists(const EkExfatBoot *boot, guint32 cluster)
{
    return cluster >= 2 && cluster - 2 < boot->clusters;
}

/* All of them (EkExfatLost), by cluster. What folders and further clusters they lead to is added to
 * `led`. The caller unrefs. */
GArray *ek_exfat_find_lost(EkExfatSearch *search, GHashTable *led);

/* The cluster in which a folder goes on behind this one: where the FAT says so, or, where it says
 * nothing, the next one, when entries go on. 0: it ends. */
guint32 ek_exfat_goes_on(EkExfatSearch *search, guint32 cluster);

#endif
