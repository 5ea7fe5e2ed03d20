/* SPDX-License-Identifier: MIT */
/* Files of a volume: walking folders, what the read map says of a file, taking files out. */
#ifndef EK_FILES_FILES_H
#define EK_FILES_FILES_H

#include "image/gate.h"
#include "volume/volume.h"

/* A volume with its files within reach. */
typedef struct {
    EkGate *gate;
    const EkFileSystem *format;
    EkOpened *opened;
} EkFiles;

/* Opens a volume. EK_ERROR_UNSUPPORTED where this version does not list its files. */
gboolean ek_files_open(EkFiles *files, EkGate *gate, const EkVolume *volume, GError **error);
void ek_files_close(EkFiles *files);

typedef enum {
    EK_CONDITION_WHOLE,
    EK_CONDITION_HOLED,   /* some of its bytes are bad or unread */
    EK_CONDITION_UNPLACED /* where some of its content lies is not known */
} EkCondition;

const char *ek_condition_name(EkCondition condition);

/* Part of a file that is not there. */
typedef struct {
    EkByte offset;
    EkByte bytes;
} EkHole;

typedef struct {
    EkCondition condition;
    EkByte bad_bytes;
    EkByte unread_bytes;
    EkByte unplaced_bytes;
    GArray *holes; /* EkHole, in order, joined */
} EkDamage;

void ek_damage_clear(EkDamage *damage);

/* What the read map says of a file, or of a folder's own entries. */
gboolean ek_files_assess(EkFiles *files, const EkEntry *entry, EkDamage *damage, GError **error);

/* Called for each entry with its path within the volume (UTF-8, no leading slash). Returns FALSE to
 * stop. */
typedef gboolean (*EkWalkSink)(void *data, const char *path, const EkEntry *entry);

/* The entries of one folder; with `deep` also of those below it, folder by folder, each before its
 * content. Circles and depths past a limit are cut and counted in *cut. */
gboolean ek_files_walk(EkFiles *files, const char *path, const EkEntry *folder, gboolean deep,
                       EkWalkSink sink, void *data, EkFolderDamage *damage, guint *cut,
                       GError **error);

/* The entry at a path ("a/b", case as written first, any case next), or "@NUMBER"; "" is the root.
 * *full becomes its path; the caller frees both. EK_ERROR_ABSENT when there is none. */
EkEntry *ek_files_find(EkFiles *files, const char *path, char **full, GError **error);

/* Unix time of a moment; one without a zone is taken for this machine's. */
gint64 ek_moment_to_unix(const EkMoment *moment);

/* ISO 8601, with Z where the zone is known; NULL when not set. The caller frees. */
char *ek_moment_text(const EkMoment *moment);

/* --- taking out ---------------------------------------------------------------------------- */

typedef struct EkExtract EkExtract;

/* Begins to write below `folder`, which is made when absent. */
EkExtract *ek_extract_new(const char *folder, GError **error);
void ek_extract_free(EkExtract *extract);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkExtract, ek_extract_free)

typedef struct {
    char *written_as; /* relative to the folder */
    char *sha256;     /* of what was written, 64 hex digits */
    EkDamage damage;
    gboolean renamed; /* the target holds it under another name */
} EkExtracted;

void ek_extracted_clear(EkExtracted *result);

/* Writes one file as `path` below the folder: complete or not at all, never through a symbolic
 * link, never over something that is there. Bytes that are not known are zeros. EK_ERROR_NO_SPACE
 * and EK_ERROR_CANCELLED end the work, any other error is this file's alone. */
gboolean ek_extract_file(EkExtract *extract, EkFiles *files, const char *path, const EkEntry *file,
                         const gint *cancel, EkExtracted *result, GError **error);

/* Makes a folder below the folder. */
gboolean ek_extract_folder(EkExtract *extract, const char *path, GError **error);

/* Brings all that was written to stable storage. */
gboolean ek_extract_sync(EkExtract *extract, GError **error);

#endif
