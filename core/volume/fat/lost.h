/* SPDX-License-Identifier: MIT */
/* Folders of a FAT volume that nothing leads to, found among its clusters. Only for this folder. */
#ifndef EK_VOLUME_FAT_LOST_H
#define EK_VOLUME_FAT_LOST_H

#include "volume/clusterbitmap.h"
#include "volume/fat/entry.h"

#define EK_FAT_OWNER_UNKNOWN G_MAXUINT32

/* What is searched. */
typedef struct {
    EkReader *reader;
    const EkFatBoot *boot;
    EkByte first_byte; /* of the volume */
    EkLinkTable *links;
    gboolean is_earlier;          /* the FATs are gone: every cluster may be anything */
    const EkClusterBitmap *taken; /* of folders that are known */
    const EkClusterBitmap *files; /* of files */
    /* Called now and then; FALSE ends the search. */
    gboolean (*mark)(void *data);
    void *data;
} EkFatSearch;

/* The folder with its name was not read, or is gone. Its clusters are in use, and no file's; or
 * free, after it was deleted, or its volume was formatted anew as it had been. */
typedef struct {
    guint32 cluster;
    guint32 parent;
    EkByte place;
    gboolean is_free;
    gboolean is_part; /* does not begin a folder; `parent` is the one whose entries they are */
    guint32 follows;  /* of a part: a cluster whose last long name goes on in this one; 0: none */
    guint32 next;     /* the first part of a folder, or the one behind a part of the same folder, as
                         far as it is known to be one; 0: none */
    EkTimestamp modified;
} EkFatLost;

/* What the FAT says of a cluster; where it is gone all of them are free. */
EkLink ek_fat_link_of(const EkFatSearch *search, guint32 cluster, guint32 *next);

/* Which folder entries are of: the first cluster of the one that a folder among them says it is in,
 * 0 for the root. EK_FAT_OWNER_UNKNOWN: none says. */
guint32 ek_fat_owner_of(const EkFatSearch *search, EkSpan span);

/* Entries without a beginning: where all look like some, and several are right in every field. */
gboolean ek_fat_is_part_of_folder(const EkFatSearch *search, EkSpan span);

/* All of them (EkFatLost), by cluster. The caller unrefs. */
GArray *ek_fat_find_lost(const EkFatSearch *search);

/* The one that begins in this cluster; NULL: none does. */
const EkFatLost *ek_fat_lost_at(const GArray *all, guint32 cluster);

#endif
