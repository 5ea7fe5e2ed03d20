/* SPDX-License-Identifier: MIT */
/* File systems, one folder each. Each ends in one const EkFileSystem, and stands with one line in
 * the list of list.c. */
#ifndef EK_VOLUME_VOLUME_H
#define EK_VOLUME_VOLUME_H

#include "base/bytes.h"
#include "base/error.h"
#include "base/field.h"
#include "base/signature.h"
#include "image/reader.h"
#include "volume/file.h"

#define EK_HEADER_BYTES                                                                            \
    512u                      /* of a header, kept of each volume unless its format asks for more  \
                               */
#define EK_HEADER_MOST 65536u /* what a format may ask for */
#define EK_RECOGNISE_BYTES 4096u /* what a recogniser is given at least, but for the end */
#define EK_MEASURE_READS 64u     /* a claim gets at most */
#define EK_CONFIDENT 50          /* from here on a volume is planned for */

typedef struct EkFileSystem EkFileSystem;

typedef enum { EK_ROLE_PRIMARY, EK_ROLE_BACKUP } EkRole;

/* What one header says when it is taken for the primary, or for the backup, of its volume. */
typedef struct {
    EkByte first_byte;  /* where the volume would begin */
    EkByte header_byte; /* where the header stands */
    EkRole role;
} EkCandidate;

#define EK_CANDIDATES_MOST 2u

typedef struct {
    int points;
    char *text;
} EkEvidence; /* one reason of a confidence */

/* As it was at a time, or when a transaction of its journal was committed. */
typedef enum { EK_AS_IT_IS, EK_AS_OF_TIME, EK_AS_OF_TRANSACTION } EkAsOfKind;

typedef struct {
    EkAsOfKind kind;
    gint64 value; /* Unix time, or the number of the transaction */
} EkAsOf;

typedef struct EkVolume EkVolume;

/* A volume: what traces agree on. */
struct EkVolume {
    const EkFileSystem *format;
    const char *filesystem; /* the name, static: "ntfs", "fat32" … */
    EkByte first_byte;
    EkByte bytes; /* of the partition it needs */
    guint32 own_sector_size;
    char *label; /* UTF-8; NULL when it has none or it is not known */
    char *uuid;  /* serial number or UUID as people write it; NULL when not known */
    EkByte header_byte;
    EkByte
        metadata_byte;     /* where that begins from which it can be composed: file table, FAT, root
                            * folder; where the volume itself begins that may be in a wrapper; else 0 */
    guint8 *header;        /* geometry and all: the header it is opened with */
    gsize header_bytes;    /* EK_HEADER_BYTES unless set otherwise */
    gboolean is_container; /* others lie in it: nothing of theirs contradicts it */
    gboolean composed;     /* no header is left: this one was made from other traces */
    gboolean
        is_earlier; /* another volume was made over it: it is what that one did not write over */
    gboolean by_backup;         /* opened with a copy of its header: the first is not right */
    gboolean length_is_least;   /* it is at least so long: nothing tells where it ends */
    gboolean length_from_table; /* a partition table tells its length, and nothing of its own */
    gboolean without_journal;   /* shall be read as it lies, whatever its journal holds */
    EkAsOf as_of;               /* shall be read as it was */
    gboolean has_earlier;   /* one of its format was before it here, with other clusters: what lies
                             * free is that one's */
    gboolean with_lost;     /* shall tell of files that are known by name only */
    gboolean used_is_exact; /* whatever is written to it moves `used` */
    EkTimestamp created;    /* when it was made, as far as it tells */
    EkTimestamp used;       /* when it was last mounted or written, as far as it tells */
    GPtrArray *properties;  /* EkProperty*: its geometry, in the file system's own terms */
    gboolean is_confirmed;  /* FALSE: measured, and nothing there */
    int confidence;         /* 0 to 100 */
    gboolean root_is_lost;  /* something else is where its root folder should be */
    guint headers;          /* boot sectors that are where they should be, and agree */
    guint contradicted;     /* times something else stands where it says */
    GPtrArray *reasons;     /* EkEvidence* */
    GPtrArray *parts;       /* EkVolume*: those that one container holds; NULL: it is none */
};

/* A transaction that a volume's journal leads back to. */
typedef struct {
    guint64 transaction; /* its number in the journal */
    EkTimestamp time;    /* when it was committed */
    guint64 copies;      /* of blocks, that are left of it */
} EkMoment;

/* The one of these (EkMoment, in order) that is meant: the last one up to a time. NULL: none. */
const EkMoment *ek_moment_of(const GArray *moments, const EkAsOf *as_of);

/* Something that a file system says of itself: "blocks per group", "32768". */
typedef struct {
    char *name;
    char *value;
} EkProperty;

/* `format` may be NULL in a format's own files: ek_volume_measure and ek_volume_infer fill it in.
 */
EkVolume *ek_volume_new(const EkFileSystem *format, const char *filesystem);
/* What another one was made over in the same way: it has its place and its header, and is
 * confirmed. The caller frees. */
EkVolume *ek_volume_new_under(const EkVolume *newer);
void ek_volume_free(EkVolume *volume);

/* Adds a volume that this container holds. Takes `part`. */
void ek_volume_add_part(EkVolume *volume, EkVolume *part);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkVolume, ek_volume_free)

/* Keeps a header of another length than EK_HEADER_BYTES, at most EK_HEADER_MOST: what there is no
 * room for is cut, what is shorter than EK_HEADER_BYTES is filled up with zeros. */
void ek_volume_set_header(EkVolume *volume, EkSpan header);

static inline EkSpan ek_volume_header(const EkVolume *volume)
{
    return (EkSpan){volume->header, volume->header_bytes};
}

/* Adds a reason; its points go into the confidence, which stays within 0 and 100. */
void ek_volume_reason(EkVolume *volume, int points, const char *format, ...) G_GNUC_PRINTF(3, 4);

/* The name of the term that says how many files and folders a volume has, where that is cheap to
 * tell. */
#define EK_PROPERTY_FILES "files and folders"

/* Adds a term of its geometry. */
void ek_volume_property(EkVolume *volume, const char *name, const char *format, ...)
    G_GNUC_PRINTF(3, 4);
void ek_volume_property_number(EkVolume *volume, const char *name, guint64 number);

/* When it was made or last used, whatever is later, in ns since 1970; 0: neither is told. */
gint64 ek_volume_last_use(const EkVolume *volume);

/* Was `a` last used after `b`, as far as both tell? A clock without a zone may be up to a day ahead
 * of UTC, or behind. */
gboolean ek_volume_is_later(const EkVolume *a, const EkVolume *b);

#define EK_PROPERTY_CLUSTER "bytes per cluster"
#define EK_PROPERTY_BLOCK "bytes per block"

/* The term that says how large its clusters or blocks are; "": none does. */
const char *ek_volume_unit(const EkVolume *volume);

/* A label of at most `length` bytes in UTF-8 (what is none is shown as \xNN), up to the first
 * zero. NULL when it is empty. The caller frees. */
char *ek_volume_label(EkSpan span);

/* A UUID as people write it, from its 16 bytes in the order of RFC 4122. NULL when all are zero. */
char *ek_volume_uuid(EkSpan span);

static inline EkRange ek_volume_range(const EkVolume *volume)
{
    return (EkRange){volume->first_byte, volume->bytes};
}

/* Bytes that would make a header right again. */
typedef struct {
    const char *structure; /* key for ek_explain: "ntfs-boot", "fat-boot" */
    EkByte first_byte;
    gsize length;
    guint8 *after;
    char *what; /* "boot sector" */
    char *from; /* where the bytes come from, in words */
} EkRepair;

/* Takes `repair`; the receiver frees it with ek_repair_free. */
typedef void (*EkRepairSink)(void *data, EkRepair *repair);
void ek_repair_free(EkRepair *repair);

typedef enum { EK_USAGE_UNKNOWN, EK_USAGE_FREE, EK_USAGE_USED } EkUsage;

/* A numbered record at one place, as a secondary trace: records of one table lie in runs. */
typedef struct {
    guint64 number;
    guint32 bytes; /* from one to the next */
} EkRecord;

/* A run of such records: what stands at first_byte has the number first_record, and every further
 * one follows `stride` bytes on. Some in between may be missing. */
typedef struct {
    EkByte first_byte;
    guint64 first_record;
    guint64 count; /* from the first to the last one that was seen */
    guint64 stride;
} EkRecordRun;

/* A volume that somebody knows to have been there. */
typedef struct {
    const char *filesystem; /* of which one of the family ("fat32") */
    gboolean has_first;     /* `first_byte` is known */
    EkByte first_byte;
    guint32 unit; /* bytes of a cluster or block; 0: not known */
} EkExpected;

/* What tells of a volume that has no header left. */
typedef struct {
    const GArray *runs;         /* EkRecordRun: those of its format, in order of place */
    const GArray *places;       /* EkRange: partitions that some table names, also an old one */
    guint32 sector_size;        /* of the image */
    const GPtrArray *volumes;   /* EkVolume*: those of any format that are known already */
    const EkExpected *expected; /* of this format: less evidence is enough; NULL: none is */
    gboolean is_deep;           /* little evidence is enough, and more may be read for it */
    const GPtrArray *unsure;    /* EkVolume*: those that are known, but hardly told; NULL: none */
} EkSightings;

/* Is a volume that begins there the one that is expected? */
static inline gboolean ek_is_expected_at(const EkSightings *sightings, EkByte first_byte)
{
    const EkExpected *expected = sightings->expected;
    return expected != NULL && (!expected->has_first || expected->first_byte == first_byte);
}

/* May its clusters or blocks be of this size, as far as that is known? */
static inline gboolean ek_is_expected_unit(const EkSightings *sightings, guint64 bytes)
{
    const EkExpected *expected = sightings->expected;
    return expected == NULL || expected->unit == 0 || expected->unit == bytes;
}

/* Ranges in which something is known to lie: the volumes, then the partitions. */
static inline guint ek_sightings_ranges(const EkSightings *sightings)
{
    return sightings->volumes->len + sightings->places->len;
}
EkRange ek_sightings_range(const EkSightings *sightings, guint index);

/* Adds the reason, and some points, where the volume is the one that is expected. */
void ek_volume_expected(EkVolume *volume, const EkSightings *sightings);

/* Takes `volume`. */
typedef void (*EkVolumeSink)(void *data, EkVolume *volume);

/* What partitions that hold a volume are called in tables. */
typedef struct {
    const char *filesystem; /* of which one of the family ("fat12"); NULL: of all that are left */
    guint8 mbr;             /* 0: none */
    const char *gpt;        /* as the field calls it (ek_gpt_type_named); NULL: none */
    const char *apm;        /* "": none */
} EkPartitionType;

#define EK_PARTITION_TYPES 3u

struct EkFileSystem {
    const char *name; /* of the family: "ntfs", "fat" */
    guint recogniser; /* its version: one more when it recognises more than before */
    const EkSignature *signatures;
    gsize signature_count;
    EkByte header_offset;                      /* of the first header, in a volume */
    EkPartitionType types[EK_PARTITION_TYPES]; /* none: it stands in no partition */

    /* Is what stands at `at` a header of ours? Pure: looks at `span` only, which begins there.
     * Writes what it may mean into `claims`, returns how many. */
    guint (*recognise)(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST]);

    /* Follows a claim into the image: a volume, with its parts where it is a container of several.
     * NULL only when reading failed. Called through ek_volume_measure. */
    EkVolume *(*measure)(EkReader *reader, const EkCandidate *candidate, GError **error);

    /* Secondary traces, for when all headers are gone; NULL where this version knows none. Is what
     * stands at the beginning of `span` a record of ours? Pure. */
    const EkSignature *record_signatures;
    gsize record_signature_count;
    gboolean (*record)(EkSpan span, EkRecord *record);
    /* Volumes that these sightings belong to: each is handed on measured, its header composed.
     * FALSE only when reading failed. */
    gboolean (*infer)(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink, void *data,
                      GError **error);
    /* Volumes that others were made over: what of the sightings is in none that is known. Each is
     * handed on measured, and marked as earlier. NULL where this version finds none. FALSE only
     * when reading failed. */
    gboolean (*infer_earlier)(EkReader *reader, const EkSightings *sightings, EkVolumeSink sink,
                              void *data, GError **error);

    /* Proposes what makes primary and backup header right again. NULL where this version does
     * not. */
    gboolean (*repair)(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error);

    /* The fields of a header: for showing edits. NULL where there are no edits. */
    const char *structure;
    gsize header_bytes; /* of it */
    GPtrArray *(*explain)(EkSpan span);
    /* Where the first copy of the header should stand; EK_UNPLACED: there is none. NULL: no volume
     * of this format has one. */
    EkByte (*backup)(const EkVolume *volume);

    /* Does the volume itself use the first byte of `range`, which lies in it, for a file or for
     * itself? *same: for how many bytes from there on, at least 1, it is known to be so; what comes
     * behind them may be alike. Called through ek_volume_use. NULL where this version cannot tell.
     */
    EkUsage (*use)(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same);

    /* NULL: the volume was cleanly unmounted. Otherwise sentences that say what that means for its
     * files. NULL where the format, or this version, does not tell. The caller frees. */
    char *(*unclean)(EkReader *reader, const EkVolume *volume);

    /* The transactions (EkMoment), in order, to which EkVolume.as_of can lead back. The caller
     * unrefs. NULL: there are none, or the format keeps no older copies. */
    GArray *(*moments)(EkReader *reader, const EkVolume *volume);

    /* Files. NULL where this version does not list them. */
    EkOpened *(*open)(EkReader *reader, const EkVolume *volume, GError **error);
    void (*close)(EkOpened *opened);
    /* Is it not known where all of its table of files lies? Then runs of its records that a hunt
     * saw (EkRecordRun) help; FALSE when they do not help enough. NULL: they never do. */
    gboolean (*lacks)(EkOpened *opened);
    gboolean (*adopt)(EkOpened *opened, const GArray *runs, GError **error);
    /* Folders in region that a volume calls free are among its deleted files: they may be those of
     * one that was there before, under the same layout. */
    gboolean lists_free_folders;
    /* Appends where its own numbered records stand (EkRange): what others lie there are older than
     * they. NULL: the format has none. */
    void (*own_records)(EkOpened *opened, GArray *ranges);
    /* The number of the folder everything is in. */
    guint64 (*root)(EkOpened *opened);
    /* Hands on all files, deleted ones too, from the mark `from` on (0: all). FALSE when the sink
     * stopped it. What cannot be read is handed on as damage. */
    gboolean (*walk)(EkOpened *opened, guint64 from, const EkFileSink *sink);
    /* The content of a file that is EK_FILE_ENCODED. FALSE when the sink stopped it. */
    gboolean (*decode)(EkOpened *opened, const EkFile *file, EkContentSink sink, void *data);
};

/* Follows a claim into the image, with at most EK_MEASURE_READS reads: a claim that wants more does
 * not stand. NULL with *error only when reading failed. The caller frees. */
EkVolume *ek_volume_measure(const EkFileSystem *format, EkReader *reader,
                            const EkCandidate *candidate, GError **error);

/* Cuts what lies in these ranges (EkRange) out of runs (EkRecordRun): whole records only. The
 * caller unrefs. */
GArray *ek_runs_outside(const GArray *runs, const GArray *ranges);

/* Hands on the volumes that these sightings belong to, or, of those with another one made over
 * them, the `earlier` ones. FALSE only when reading failed. */
gboolean ek_volume_infer(const EkFileSystem *format, EkReader *reader, const EkSightings *sightings,
                         gboolean earlier, EkVolumeSink sink, void *data, GError **error);

/* Does the volume use the first byte of `range` for a file or for itself? *same: for how many bytes
 * of the range, at least 1, that holds; what comes behind them may be alike. EK_USAGE_UNKNOWN, for
 * all of it, where the range leaves the volume or its format does not tell. */
EkUsage ek_volume_use(const EkVolume *volume, EkReader *reader, EkRange range, EkByte *same);

/* The same of one byte. */
EkUsage ek_volume_use_at(const EkVolume *volume, EkReader *reader, EkByte at);

/* All file systems, NULL at the end. */
extern const EkFileSystem *const ek_file_systems[];

/* What a partition that holds a `filesystem` ("fat32") is called; all of it none where none does.
 */
const EkPartitionType *ek_partition_type_for(const char *filesystem);

/* The descriptor that reads volumes called `filesystem` ("fat32"); NULL when there is none. */
const EkFileSystem *ek_file_system_for(const char *filesystem);

#endif
