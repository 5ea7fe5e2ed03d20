/* SPDX-License-Identifier: MIT */
/* File records of NTFS, and the headers of the attributes in them: each decoded here and nowhere
 * else. */
#ifndef EK_VOLUME_NTFS_RECORD_H
#define EK_VOLUME_NTFS_RECORD_H

#include "volume/ntfs/ntfs.h"

#define EK_NTFS_NUMBER 0xffffffffffffull /* of a reference to a record; above it the generation */
#define EK_NTFS_RECORD_LEAST 512u        /* bytes of a record */
#define EK_NTFS_RECORD_MOST 4096u

/* A file record in `data` (record_bytes long): checks it and undoes its update sequence in place.
 * FALSE when it is no whole file record. */
gboolean ek_ntfs_record_fix_up(guint8 *data, gsize length, guint32 sector_size);

/* The same of one of which `known` bytes were read, or of which sectors are of another time: what
 * is behind the first that is not right is cleared, and the record ends there. Attributes that go
 * over that end are none of it then. FALSE when not even its first sector is right. */
gboolean ek_ntfs_record_fix_up_part(guint8 *data, gsize length, gsize known, guint32 sector_size);

/* What the header of a record says. */
typedef struct {
    guint16 generation;
    gboolean is_in_use;
    gboolean is_folder;
    guint64 base;   /* the file's first record, a reference; its number is 0 in that one itself */
    guint32 number; /* that it gives itself; G_MAXUINT32 where the format's version has none */
    gsize bytes;    /* that it has room for */
    gsize used;     /* of them */
    gsize sequence; /* where the update sequence stands */
    guint steps;    /* sectors of 512 that the sequence is for */
    gsize first;    /* where its first attribute begins */
} EkNtfsRecord;

/* Decodes the header of what begins with "FILE". FALSE when it does not. */
gboolean ek_ntfs_record_read(EkSpan record, EkNtfsRecord *header);

typedef enum {
    EK_NTFS_STANDARD = 0x10,
    EK_NTFS_LIST = 0x20,
    EK_NTFS_NAME = 0x30,
    EK_NTFS_LABEL = 0x60,
    EK_NTFS_STATE = 0x70,
    EK_NTFS_DATA = 0x80,
    EK_NTFS_INDEX_ROOT = 0x90,
    EK_NTFS_INDEX = 0xa0,
    EK_NTFS_BITMAP = 0xb0,
    EK_NTFS_REPARSE = 0xc0
} EkNtfsType;

/* An attribute. All zero: there is none. */
typedef struct {
    guint32 type; /* EkNtfsType, or another */
    EkSpan span;  /* all of it */
    EkSpan name;  /* UTF-16LE */
    gboolean is_packed;
    gboolean is_encrypted;
    gboolean is_resident;
    EkSpan content; /* of a resident one; empty where its place is none */
    /* Of one that is not resident; those from `held` on are right in its first fragment only. */
    guint64 first_cluster; /* of the attribute, that this fragment begins with */
    guint64 last_cluster;
    guint16 unit;  /* logarithm of the clusters that are packed together */
    guint64 held;  /* bytes of all its clusters */
    guint64 size;  /* bytes */
    guint64 valid; /* bytes that were ever written */
    EkSpan runs;   /* as they are packed */
} EkNtfsAttribute;

/* The attribute behind the one that ends at *at, 0: the first, of a record that was fixed up; moves
 * *at. FALSE behind the last one. */
gboolean ek_ntfs_attribute_next(EkSpan record, gsize *at, EkNtfsAttribute *attribute);

/* The first attribute of a type, whatever its name. */
EkNtfsAttribute ek_ntfs_attribute_of(EkSpan record, EkNtfsType type);

/* The named attribute of a type. `name` is ASCII, "" for one without. */
EkNtfsAttribute ek_ntfs_attribute_named(EkSpan record, EkNtfsType type, const char *name);

static inline gboolean ek_ntfs_attribute_exists(const EkNtfsAttribute *attribute)
{
    return attribute->span.length > 0;
}

/* Where a non-resident attribute's content lies. */
typedef struct {
    guint64 first;    /* cluster of the volume; EK_NTFS_HOLE for a hole */
    guint64 clusters; /* never 0 */
} EkNtfsRun;

#define EK_NTFS_HOLE G_MAXUINT64

/* The first runs of a non-resident attribute, at most `most`; returns how many. Stops at what
 * contradicts itself. */
guint ek_ntfs_runs(const EkNtfsAttribute *attribute, EkNtfsRun *runs, guint most);

#define EK_NTFS_IS_FOLDER 0x10000000u /* attribute of a name */

/* A name, as an attribute of a record or an entry of a folder's index holds it. */
typedef struct {
    guint64 parent; /* a reference */
    EkTimestamp created;
    EkTimestamp modified;
    EkTimestamp accessed;
    guint64 held; /* bytes; of the file, as the name knows them */
    guint64 size;
    guint32 attributes;
    gboolean is_short; /* a second name for old programs */
    EkSpan units;      /* UTF-16LE, never empty */
} EkNtfsNamed;

/* Decodes it. FALSE when it is too short for what it says. */
gboolean ek_ntfs_name_read(EkSpan content, EkNtfsNamed *named);

#endif
