/* SPDX-License-Identifier: MIT */
/* The case folder: everything that is known about one job (docs/case-format.md).
 *
 * Readers never lock and never hold up a writer. A writer takes the lock of its subject; only a
 * second writer of the same subject is refused, with the process number of the first. */
#ifndef EK_CASE_CASE_H
#define EK_CASE_CASE_H

#include "base/error.h"
#include "base/units.h"
#include "case/sql.h"
#include "image/image.h"
#include "volume/volume.h"

typedef struct {
    char *id;         /* 32 hex digits, made once */
    char *source;     /* as the user named it, absolute where it is a path */
    char *kind;       /* ek_device_kind_name */
    char *path;       /* of the source, without "sim:" */
    char *model;      /* NULL when not known */
    char *serial;     /* NULL when not known */
    char *image;      /* absolute path */
    char *image_name; /* of an image inside the case folder, relative to it; else NULL */
    gboolean verified;
    guint32 sector_size;
    guint32 physical_sector_size;
    EkByte bytes;
    EkSector sectors;
    gint64 created; /* Unix time */
} EkCaseInfo;

typedef struct EkCase EkCase;

/* Makes the folder and its stores; the image is the caller's to make beforehand. The folder must be
 * absent or empty: EK_ERROR_REFUSED. `info->id`, `created` are filled in by this call and may be
 * NULL and 0. */
EkCase *ek_case_create(const char *folder, const EkCaseInfo *info, const char *machine,
                       GError **error);

/* Is there a case in this folder? It may still not open. */
gboolean ek_case_is_at(const char *folder);

/* Opens a case. With `writable` its folder must let itself be written to. */
EkCase *ek_case_open(const char *folder, gboolean writable, GError **error);
void ek_case_close(EkCase *self);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkCase, ek_case_close)

const EkCaseInfo *ek_case_info(const EkCase *self);
const char *ek_case_folder(const EkCase *self); /* absolute */
const char *ek_case_named(const EkCase *self);  /* the folder as the user named it, for messages */
sqlite3 *ek_case_store(EkCase *self);           /* case.db */
sqlite3 *ek_case_map(EkCase *self);             /* map.db */

/* The image, opened for reading: inside the case beneath its folder. */
EkImage *ek_case_open_image(const EkCase *self, GError **error);

/* What the user noted for the client's papers. */
typedef enum { EK_NOTE_CLIENT, EK_NOTE_REFERENCE, EK_NOTE_TEXT, EK_NOTES } EkNote;

/* "client", "reference", "note". */
const char *ek_note_name(EkNote note);

/* NULL: nothing. The caller frees. `text` NULL or "" takes it away. */
char *ek_case_note(EkCase *self, EkNote note);
gboolean ek_case_set_note(EkCase *self, EkNote note, const char *text, GError **error);

/* May the image be larger than the space there is for it? As the user said once; kept. */
gboolean ek_case_allows_short_space(EkCase *self);
gboolean ek_case_allow_short_space(EkCase *self, GError **error);

/* A volume that somebody knows to have been there. FALSE when the case knows of none. *expected
 * names a file system that is static. */
gboolean ek_case_expected(EkCase *self, EkExpected *expected);

/* Is the case hunted with little evidence enough? FALSE until it is asked for. */
gboolean ek_case_is_deep(EkCase *self);
gboolean ek_case_make_deep(EkCase *self, GError **error);

/* Keeps it; NULL: none is expected any more, and it is hunted as usual. */
gboolean ek_case_expect(EkCase *self, const EkExpected *expected, GError **error);

/* From now on the image of the case is the one at `path`, which the caller has proved to be it. */
gboolean ek_case_set_image(EkCase *self, const char *path, GError **error);

/* Did this case come from elsewhere: from another machine, or from another user? `machine` is this
 * one's name for itself (ek_system_machine). */
gboolean ek_case_is_foreign(EkCase *self, const char *machine);

/* From now on it is at home here. */
gboolean ek_case_settle(EkCase *self, const char *machine, GError **error);

/* Every source that was ever read from in this case. */
typedef struct {
    char *source;   /* as the user named it, absolute where it is a path */
    char *kind;     /* ek_device_kind_name */
    char *path;     /* of the source, without "sim:" */
    char *backing;  /* the file behind a simulated drive; else NULL */
    char *identity; /* EkIdentity's name; "" when not known */
    gboolean is_firm;
    EkByte first_byte; /* on its drive: 0 unless it is a partition */
    EkByte bytes;
} EkCaseSource;

/* All of them, the first one first: EkCaseSource*, the caller unrefs. */
GPtrArray *ek_case_sources(EkCase *self, GError **error);

/* Remembers one, unless it is known already. */
gboolean ek_case_add_source(EkCase *self, const EkCaseSource *source, GError **error);
void ek_case_source_free(EkCaseSource *source);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkCaseSource, ek_case_source_free)

/* Fails with EK_ERROR_REFUSED when the folder at `folder` is something already. */
gboolean ek_case_check_absent(const char *folder, GError **error);

/* Subjects of writing. */
typedef enum { EK_LOCK_IMAGING, EK_LOCK_HUNTING, EK_LOCK_EDITS, EK_LOCK_CONTENTS } EkLockSubject;
typedef struct EkLock EkLock;

/* Takes the lock of a subject, or EK_ERROR_REFUSED with the process number of who holds it. The
 * kernel lets go of it when the process ends, however it ends. */
EkLock *ek_lock_take(EkCase *self, EkLockSubject subject, GError **error);
void ek_lock_release(EkLock *lock);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkLock, ek_lock_release)

/* Likewise, of the inventory of a volume. */
EkLock *ek_lock_take_inventory(EkCase *self, guint volume, GError **error);

/* The process that holds the lock of a subject, 0 when nobody does. */
gint64 ek_lock_holder(EkCase *self, EkLockSubject subject);

/* The event log. */
typedef struct {
    gint64 id;
    char *command;
    char *options;
    gint64 pid;
    gint64 began;  /* Unix time */
    gint64 ended;  /* 0: it did not come to its end, or is running */
    char *outcome; /* "done", "interrupted" …; NULL while it has none */
    char *detail;  /* a sentence; NULL */
} EkEvent;

/* Writes the beginning of an event; returns its id, or 0 with *error. */
gint64 ek_event_begin(EkCase *self, const char *command, const char *options, GError **error);
gboolean ek_event_end(EkCase *self, gint64 id, const char *outcome, const char *detail,
                      GError **error);

/* All events in order: EkEvent*, the caller unrefs. */
GPtrArray *ek_event_list(EkCase *self, GError **error);

#endif
