/* SPDX-License-Identifier: MIT */
/* What the words that made a table say of its rows (SQLite's CREATE TABLE). */
#ifndef EK_CARVE_SQLITEMADE_H
#define EK_CARVE_SQLITEMADE_H

#include <glib.h>

typedef struct {
    guint columns;        /* 0: the words do not tell */
    guint row_column;     /* the one that is the number of the row, counted from 1; 0: none */
    gboolean has_no_rows; /* it is a tree as that of an index */
} EkSqliteMade;

/* Words in capitals. */
EkSqliteMade ek_sqlite_made(const char *words);

#endif
