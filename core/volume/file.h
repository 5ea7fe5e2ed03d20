/* SPDX-License-Identifier: MIT */
/* Files, as file systems hand them on: what has content, the names that lead to it, where it lies.
 */
#ifndef EK_VOLUME_FILE_H
#define EK_VOLUME_FILE_H

#include "base/units.h"
#include "image/reader.h"

/* A moment as a volume keeps it. */
typedef struct {
    gint64 seconds; /* since 1970-01-01 00:00, in the zone below */
    guint32 nanoseconds;
    gboolean is_local; /* in the clock of whoever wrote it: no zone is known */
    gboolean is_set;
} EkTimestamp;

/* A date and a time of day as FAT and exFAT keep them, local; not set when they are none. */
EkTimestamp ek_timestamp_dos(guint16 date, guint16 time);

/* Steps of 100 ns since 1601, in UTC, as NTFS keeps them; not set when it is no likely date. */
EkTimestamp ek_timestamp_filetime(guint64 steps);

/* Seconds since 1970 in UTC; 0 is not set. */
EkTimestamp ek_timestamp_utc(gint64 seconds);

/* "2026-03-01 09:30:00 UTC", or "(local time)" where no zone is known; NULL when it is not set. The
 * caller frees. */
char *ek_timestamp_words(EkTimestamp timestamp);

/* Nanoseconds since 1970, as far as 64 bits reach; 0 when it is not set. */
gint64 ek_timestamp_nanoseconds(EkTimestamp timestamp);

/* Sets *moment to `other` when that is later, or *moment is not set. */
void ek_timestamp_advance(EkTimestamp *timestamp, EkTimestamp other);

/* A file's number names the tree of files that it is numbered in too, above its number there. Most
 * formats have one tree: 0. */
#define EK_TREE_SHIFT 40

static inline guint64 ek_number_in_tree(guint32 tree, guint64 number)
{
    return (guint64)tree << EK_TREE_SHIFT | number;
}

static inline guint32 ek_number_tree(guint64 number)
{
    return (guint32)(number >> EK_TREE_SHIFT);
}

static inline guint64 ek_number_inside(guint64 number)
{
    return number & (((guint64)1 << EK_TREE_SHIFT) - 1);
}

typedef enum {
    EK_TYPE_FILE,
    EK_TYPE_FOLDER,
    EK_TYPE_LINK,    /* symbolic, or a reparse point: never followed */
    EK_TYPE_SPECIAL, /* device node, pipe, socket: has no content */
    EK_TYPE_STREAM   /* a further stream of a file, or its resource fork */
} EkFileType;

#define EK_FILE_DELETED 1u
#define EK_FILE_ENCODED 2u     /* its bytes are not as they lie: ek_FileSystem.decode gives them */
#define EK_FILE_ENCRYPTED 4u   /* what comes out is encrypted */
#define EK_FILE_GUESSED 8u     /* where its content lies is a guess: the chain is gone */
#define EK_FILE_OWN 32u        /* the file system's own: no file of its users */
#define EK_FILE_NAMED 64u      /* others name it: its own record is gone, and where it lay */
#define EK_FILE_CUT 128u       /* a content that begins right and ends early */
#define EK_FILE_UNCHECKED 256u /* a content in which nothing tells whether it is right */
#define EK_FILE_OPAQUE 16u     /* encoded in a way that this version cannot decode */

/* What has content. */
typedef struct {
    guint64 number; /* names it for good within its volume */
    EkFileType type;
    guint flags;  /* EK_FILE_… */
    guint64 size; /* bytes; 0 for folders */
    EkTimestamp created;
    EkTimestamp modified;
    EkTimestamp accessed;
    guint32 attributes; /* the format's own */
    guint32 generation; /* of the number, where numbers are used again; 0: they are not */
    guint64 place;      /* the format's own: how its content is found again */
} EkFile;

/* A name that leads to a file. A file may have several, or none that is left. */
typedef struct {
    guint64 file;
    guint64 parent;
    guint32 parent_generation; /* 0: any */
    gboolean is_deleted;
    gboolean is_made;    /* a folder says which one it was in, and not what it was called: it counts
                            where    no other name is left */
    const char *text;    /* UTF-8; bytes that are no text as \xNN */
    const guint8 *bytes; /* as on the drive, where `text` does not say them; else NULL */
    gsize length;        /* of them */
} EkFileName;

/* Where a piece of a file lies. Together they cover its size, in order; what no extent covers is
 * zeros. */
typedef struct {
    EkByte offset;      /* in the file */
    EkByte bytes;       /* of the file */
    EkByte first_byte;  /* in the image; EK_UNPLACED when not known */
    EkByte stored;      /* bytes there: as many as of the file, unless they are packed */
    gboolean is_packed; /* they cannot be read in part: what is missing costs all of it */
    gboolean in_record; /* they are part of the file's own record, in region of the file system */
    guint32 layer;      /* in which first_byte counts: 0 the one that the volume lies in */
} EkExtent;

#define EK_UNPLACED G_MAXUINT64

/* Where it begins in the layer that the volume lies in: EK_UNPLACED where that is not known, or it
 * lies in a layer that has another reader. */
static inline EkByte ek_extent_place(const EkExtent *extent)
{
    return extent->layer == 0 ? extent->first_byte : EK_UNPLACED;
}

/* What of a folder, or of the table of all files, was not read. */
typedef struct {
    EkByte unread_bytes; /* names or files may be missing */
    EkByte bad_bytes;
    gboolean cut_short; /* its chain is broken, or it leads back to itself */
} EkFolderDamage;

/* Receives a walk over all files. Each returns FALSE to stop it. Names may come before the file
 * they lead to; the extents of a file come right after it. */
typedef struct {
    void *data;
    gboolean (*file)(void *data, const EkFile *file);
    gboolean (*extent)(void *data, guint64 file, const EkExtent *extent);
    gboolean (*name)(void *data, const EkFileName *name);
    gboolean (*damage)(void *data, guint64 folder, const EkFolderDamage *damage);
    /* `done` of `total` is walked. Where `from` is not 0 all that came before is complete: a walk
     * that is given it goes on from there. */
    gboolean (*mark)(void *data, guint64 from, guint64 done, guint64 total);
} EkFileSink;

/* A sink that takes nothing and never stops the walk: to set what is wanted in. */
EkFileSink ek_file_sink_none(void);

/* A sink that takes nothing, and hands marks on to `sink` so that it can stop the walk: for the
 * part of a walk that must be gone again to come to where it goes on. `sink` must live as long. */
EkFileSink ek_file_sink_muted(const EkFileSink *sink);

/* Receives the content of an encoded file, in order: `bytes` NULL is a hole of that length. Returns
 * FALSE to stop. */
typedef gboolean (*EkContentSink)(void *data, const guint8 *bytes, gsize length);

typedef struct EkOpened EkOpened;

/* What a folder without a name is called by, as others are that nothing is known of: "folder 12".
 */
void ek_name_made(GString *out, guint64 number);

/* A name as text: UTF-16 units, or bytes that should be UTF-8, appended to `out`. Separators, zeros
 * and what is no text are written as \xNN. TRUE when there was any: then the bytes tell more. */
gboolean ek_name_utf16(GString *out, EkSpan units, gboolean big_endian);
gboolean ek_name_utf8(GString *out, EkSpan bytes);

#endif
