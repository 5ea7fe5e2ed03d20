/* SPDX-License-Identifier: MIT */
/* An entry of a FAT folder, decoded here and nowhere else: a short one, which is a file, a folder
 * or the label, or a part of a long name. Offsets as in the "FAT32 File System Specification" 1.03.
 */
#ifndef EK_VOLUME_FAT_ENTRY_H
#define EK_VOLUME_FAT_ENTRY_H

#include "volume/fat/fat.h"

#define EK_FAT_ENTRY_BYTES 32u
#define EK_FAT_NAME_BYTES 11u  /* of a short name */
#define EK_FAT_LONG_UNITS 13u  /* of a long name in one entry */
#define EK_FAT_LONG_MOST 20u   /* entries of a long name */
#define EK_FAT_DELETED 0xe5u   /* the first byte */
#define EK_FAT_IS_FOLDER 0x10u /* attribute */

typedef struct {
    const guint8 *name; /* EK_FAT_NAME_BYTES, in what was decoded */
    guint8 first;       /* byte of it */
    guint8 attributes;
    gboolean is_end; /* no entry ever stood here or behind it */
    gboolean is_deleted;
    gboolean is_long; /* part of a long name */
    gboolean is_label;
    gboolean is_folder;
    /* Of a short one: */
    guint8 case_flags;
    guint32 cluster; /* with its upper half, which FAT12 and FAT16 use otherwise */
    guint32 size;
    guint16 written_date;
    guint16 written_time;
    guint16 created_date;
    guint16 created_time;
    guint16 read_date;
    /* Of a long one: */
    guint order; /* from 1 on; unknown where it is deleted */
    gboolean is_last;
    guint8 sum; /* of the short name that it belongs to */
} EkFatEntry;

/* Decodes the EK_FAT_ENTRY_BYTES at `at`; zeros where there are none. */
EkFatEntry ek_fat_entry_read(EkSpan span, gsize at);

/* The units of a long one's part of the name. */
void ek_fat_entry_units(EkSpan span, gsize at, gunichar2 units[EK_FAT_LONG_UNITS]);

static inline EkTimestamp ek_fat_entry_written(const EkFatEntry *entry)
{
    return ek_timestamp_dos(entry->written_date, entry->written_time);
}

static inline guint32 ek_fat_entry_cluster(const EkFatEntry *entry, EkFatBits bits)
{
    return bits == EK_FAT32 ? entry->cluster : entry->cluster & 0xffff;
}

/* Is it called "." or ".."? */
gboolean ek_fat_entry_is_dot(const EkFatEntry *entry);
gboolean ek_fat_entry_is_dot_dot(const EkFatEntry *entry);

/* Does a folder begin here, with "." and ".."? `span` has two entries at least. */
gboolean ek_fat_begins_folder(EkSpan span, EkFatEntry *self, EkFatEntry *parent);

#endif
