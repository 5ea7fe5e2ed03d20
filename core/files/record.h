/* SPDX-License-Identifier: MIT */
/* The table of extracted files, in the folder they were extracted to: extracted.csv (RFC 4180). A
 * later extraction into the same folder knows by it what is there already. A text that a
 * spreadsheet would take for a formula, or that begins with an apostrophe, has an apostrophe in
 * front. */
#ifndef EK_FILES_RECORD_H
#define EK_FILES_RECORD_H

#include "files/files.h"

#include <stdio.h>

#define EK_RECORD_NAME "extracted.csv"

typedef struct EkRecordTable EkRecordTable;

/* Opens the table in a folder, or begins one. EK_ERROR_REFUSED where something else has its name: a
 * link, a pipe, a file with a second name, another table. */
EkRecordTable *ek_record_open(const char *folder, GError **error);

/* Writes what is not written yet. FALSE when that failed. */
gboolean ek_record_close(EkRecordTable *table, GError **error);

/* What an earlier extraction noted for a file. */
typedef struct {
    char *name;     /* relative to the folder */
    char *sha256;   /* "": it has no digest */
    char *origin;   /* a digest of where its bytes lay, and of its holes */
    EkByte missing; /* bytes that were not read then */
} EkRecorded;

/* The row of a file of a case; NULL: there is none. It is the table's. */
const EkRecorded *ek_record_find(const EkRecordTable *table, const char *case_id, guint64 volume,
                                 guint64 number);

/* Was what the row tells of taken from these places (EkExtent), with these holes (EkHole; NULL:
 * none)? */
gboolean ek_recorded_is_of(const EkRecorded *recorded, const GArray *extents, const GArray *holes);

/* Were fewer of its bytes read then? */
gboolean ek_recorded_has_less(const EkRecorded *recorded, const EkItem *item);

/* Notes one file, with what ek_recorded_is_of asks for. */
void ek_record_add(EkRecordTable *table, const char *case_id, guint64 volume, const char *path,
                   const EkItem *item, const EkExtracted *result, const GArray *extents,
                   const GArray *holes);

/* Writes a text as a field of a row, with the comma behind it: quoted, and with an apostrophe
 * before what a spreadsheet would take for a formula, or begins with one. */
void ek_record_put_text(FILE *file, const char *text);

#endif
