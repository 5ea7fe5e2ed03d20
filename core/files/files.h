/* SPDX-License-Identifier: MIT */
/* Files of a volume: what the read map says of them, their content, taking them out. */
#ifndef EK_FILES_FILES_H
#define EK_FILES_FILES_H

#include "image/reader.h"
#include "volume/volume.h"

/* A volume with its files within reach. */
typedef struct {
    EkReader *reader;
    const EkFileSystem *format;
    EkOpened *opened;
} EkFiles;

/* Opens a volume. EK_ERROR_UNSUPPORTED where this version does not list its files. */
gboolean ek_files_open(EkFiles *files, EkReader *reader, const EkVolume *volume, GError **error);
void ek_files_close(EkFiles *files);

/* Where several fit, overwritten counts first, then doubtful, unplaced, holed. */
typedef enum {
    EK_CONDITION_WHOLE,
    EK_CONDITION_HOLED,       /* some of its bytes are bad or unread */
    EK_CONDITION_OVERWRITTEN, /* some of its space belongs to another file now */
    EK_CONDITION_UNPLACED,    /* where some of its content lies is not known */
    EK_CONDITION_DOUBTFUL, /* its place is a guess, or another's too; it may have holes besides */
    EK_CONDITION_CUT,      /* of contents: it begins right and ends early */
    EK_CONDITIONS
} EkCondition;

const char *ek_condition_name(EkCondition condition);

/* What is wrong with a file, in bytes of it. */
typedef struct {
    EkCondition condition;
    EkByte bad_bytes;
    EkByte unread_bytes;
    EkByte unplaced_bytes;
    EkByte overwritten_bytes;
} EkDamage;

/* The condition that the figures amount to. */
EkCondition ek_damage_condition(const EkDamage *damage);

/* A file of an inventory, with a name that leads to it. */
typedef struct {
    EkFile file;
    guint64 parent;
    const char *name;         /* UTF-8; other bytes as \xNN */
    const guint8 *name_bytes; /* as on the drive, where `name` does not say them; else NULL */
    gsize name_length;        /* of them */
    gboolean is_again;        /* a further name of a folder, which is walked under its first one */
    gboolean is_lost; /* nothing is left that leads to it: its path is made up at its start */
    EkDamage damage;
} EkItem;

/* Part of a file that is not there. */
typedef struct {
    EkByte offset;
    EkByte bytes;
} EkHole;

/* The holes of a file that lies in these extents (EkExtent): EkHole, in order, joined. The caller
 * unrefs. */
GArray *ek_files_holes(EkReader *reader, const GArray *extents);

/* What is known of a file of `size` bytes that lies in these extents, in `count` equal parts: bytes
 * of each that are bad or unread. What has no place counts as unread; what is sparse as neither. */
void ek_files_measure(EkReader *reader, const GArray *extents, guint64 size, EkKnown *parts,
                      guint count);

/* --- content -------------------------------------------------------------------------------- */

/* Hands on all content of a file that lies in these extents, in order; what is not known, as holes.
 * FALSE when the sink stopped it. */
gboolean ek_files_read(EkFiles *files, const EkFile *file, const GArray *extents,
                       EkContentSink sink, void *data);

/* --- times ---------------------------------------------------------------------------------- */

/* Unix time of a moment; one without a zone is taken for this machine's. */
gint64 ek_timestamp_to_unix(const EkTimestamp *timestamp);

/* ISO 8601, with Z where the zone is known; NULL when not set. The caller frees. */
char *ek_timestamp_text(const EkTimestamp *timestamp);

/* --- taking out ----------------------------------------------------------------------------- */

typedef struct EkExtract EkExtract;

/* Begins to write below `folder`, which is made when absent; EK_ERROR_REFUSED while another
 * extraction does. `portable`: names are made such that every common file system takes them
 * (ek_name_for_target); without it only where the target does not take the file's own name. */
EkExtract *ek_extract_new(const char *folder, gboolean portable, GError **error);
void ek_extract_free(EkExtract *extract);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkExtract, ek_extract_free)

/* What to do where another file has the file's name already. What the same extraction wrote, or
 * found to be the file itself, is never replaced: of two files with one name the second gets
 * another. What an earlier extraction wrote of the file, when less of it was read, is replaced
 * unless it has been changed since. */
typedef enum { EK_EXISTS_KEEP, EK_EXISTS_REPLACE, EK_EXISTS_RENAME } EkIfExists;

typedef enum {
    EK_OUTCOME_WRITTEN,
    EK_OUTCOME_SAME, /* it was there already */
    EK_OUTCOME_KEPT  /* something else is there, and stays */
} EkOutcome;

typedef struct {
    EkOutcome outcome;
    char *written_as; /* relative to the folder */
    char *sha256; /* of its content, 64 hex digits; NULL where something else was kept, and for a
                     file that is nearly all hole */
    gboolean renamed; /* the target holds it under another name */
} EkExtracted;

void ek_extracted_clear(EkExtracted *result);

/* One file to take out. */
typedef struct {
    const char *path; /* below the folder */
    const EkFile *file;
    const GArray *extents; /* EkExtent */
    EkIfExists if_exists;
    const char
        *known_sha256; /* what an earlier extraction noted of it ("": no digest); NULL: nothing */
    gboolean is_known_current; /* and it was taken from the same places, as much of it read */
    gboolean is_known_lesser;  /* or less of it was read */
    const char *known_name; /* what it was called there, relative to the folder; NULL: not known */
} EkExtractOrder;

/* Writes one file below the folder: complete or not at all, never through a symbolic link. Bytes
 * that are not known are zeros. EK_ERROR_NO_SPACE and EK_ERROR_CANCELLED end the work, any other
 * error is this file's alone. */
gboolean ek_extract_file(EkExtract *extract, EkFiles *files, const EkExtractOrder *order,
                         const gint *cancel, EkExtracted *result, GError **error);

/* Makes a folder below the folder. */
gboolean ek_extract_folder(EkExtract *extract, const char *path, GError **error);

/* Brings all that was written to stable storage. */
gboolean ek_extract_sync(EkExtract *extract, GError **error);

#endif
