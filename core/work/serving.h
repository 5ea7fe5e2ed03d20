/* SPDX-License-Identifier: MIT */
/* The drive of a case as exports: byte ranges that other programs read as drives. */
#ifndef EK_WORK_SERVING_H
#define EK_WORK_SERVING_H

#include "work/view.h"

typedef struct {
    char *name; /* "drive", "volume-3" */
    char *text; /* what it is, for people */
    EkByte first;
    EkByte bytes;
} EkExport;

typedef struct EkServing EkServing;

/* Opens a case in one of its faces; as repaired with the plan that is stored, EK_ERROR_ABSENT when
 * none is. The first export is the whole drive. The caller frees. */
EkServing *ek_serving_new(const char *folder, EkFace face, GError **error);
void ek_serving_free(EkServing *serving);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(EkServing, ek_serving_free)

guint ek_serving_count(const EkServing *serving);
const EkExport *ek_serving_export(const EkServing *serving, guint index);

/* The one of this name ("": the first); NULL: there is none. */
const EkExport *ek_serving_named(const EkServing *serving, const char *name);

/* Edits that lie over the image. */
guint ek_serving_edits(const EkServing *serving);

/* Reads within an export, from its byte `first` on. Bytes that were not read from the drive fail
 * with EK_ERROR_UNREADABLE, or are zeros. From any thread. */
gboolean ek_serving_read(const EkServing *serving, const EkExport *from, EkByte first,
                         guint8 *buffer, gsize length, gboolean zeros, GError **error);

#endif
