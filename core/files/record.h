/* SPDX-License-Identifier: MIT */
/* The table of extracted files, in the folder they were extracted to: extracted.csv (RFC 4180). A
 * later extraction into the same folder knows by it what is there already. A text that a
 * spreadsheet would take for a formula, or that begins with an apostrophe, has an apostrophe in
 * front. */
#ifndef EK_FILES_RECORD_H
#define EK_FILES_RECORD_H

#include "files/files.h"

#define EK_RECORD_NAME "extracted.csv"

typedef struct EkRecordTable EkRecordTable;

/* Opens the table in a folder, or begins one. EK_ERROR_REFUSED where something else has its name: a
 * link, a pipe, a file with a second name, another table. */
EkRecordTable *ek_record_open(const char *folder, GError **error);

/* Writes what is not written yet. FALSE when that failed. */
gboolean ek_record_close(EkRecordTable *table, GError **error);

/* What an earlier extraction noted for a file. */
typedef struct {
    char *name;   /* relative to the folder */
    char *sha256; /* "": it has no digest */
} EkRecorded;

/* The row of a file; NULL: there is none. It is the table's. */
const EkRecorded *ek_record_find(const EkRecordTable *table, guint64 volume, guint64 number);

/* Notes one file. `holes`: EkHole. */
void ek_record_add(EkRecordTable *table, guint64 volume, const char *path, const EkItem *item,
                   const EkExtracted *result, const GArray *holes);

#endif
