/* SPDX-License-Identifier: MIT */
/* What the attributes of a file say, gathered from its record and the further ones it names. */
#ifndef EK_VOLUME_NTFS_STREAMS_H
#define EK_VOLUME_NTFS_STREAMS_H

#include "volume/ntfs/table.h"

/* Content: that of the file itself, or a named stream. */
typedef struct {
    guint8 *name; /* UTF-16LE; empty for the file itself */
    gsize name_bytes;
    guint64 size;
    guint64 valid; /* bytes that were ever written: zeros behind them */
    guint unit;    /* clusters that are packed together; 0: not packed */
    gboolean encrypted;
    gboolean is_headed; /* its first fragment was there: the sizes are known */
    GArray *fragments;  /* EkNtfsFragment; empty when it is kept in a record */
    guint8 *resident;   /* its bytes; NULL: it lies in clusters */
    EkByte place;       /* of them in the image */
    gboolean is_plain;  /* they lie there as they are */
} EkNtfsStream;

typedef struct {
    guint64 parent;
    guint16 generation;
    gboolean is_short; /* a second name for old programs */
    guint8 *units;     /* UTF-16LE */
    gsize bytes;
} EkNtfsName;

typedef struct {
    guint16 generation;
    gboolean is_in_use;
    gboolean is_folder;
    gboolean has_standard;
    EkTimestamp created;
    EkTimestamp modified;
    EkTimestamp accessed;
    guint32 attributes;
    guint32 reparse_tag;          /* 0: none */
    GPtrArray *names;             /* EkNtfsName* */
    GPtrArray *streams;           /* EkNtfsStream*: the file itself first, where it has content */
    gboolean is_short_of_records; /* one that it names was not to be had */
} EkNtfsFile;

/* Gathers file `number` from its own record, which was taken already. The caller frees. NULL when
 * it is no file's first record, or holds nothing. */
EkNtfsFile *ek_ntfs_file_gather(const EkNtfsTable *table, guint64 number, EkSpan record);
void ek_ntfs_file_free(EkNtfsFile *file);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkNtfsFile, ek_ntfs_file_free)

#endif
