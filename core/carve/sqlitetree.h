/* SPDX-License-Identifier: MIT */
/* The trees of an SQLite database (the file format of version 3, "B-tree Pages" and "Record
 * Format"). */
#ifndef EK_CARVE_SQLITETREE_H
#define EK_CARVE_SQLITETREE_H

#include "carve/followed.h"

/* Kinds of pages of trees. */
enum {
    EK_SQLITE_INDEX_INNER = 2,
    EK_SQLITE_TABLE_INNER = 5,
    EK_SQLITE_INDEX_LEAF = 10,
    EK_SQLITE_TABLE_LEAF = 13
};

typedef struct {
    EkContent *content;
    guint32 size;   /* of a page, in bytes */
    guint32 usable; /* of each page */
    guint32 pages;
    gboolean has_map;       /* some pages say who points to the others */
    GHashTable *free_pages; /* numbers: what is in them is nobody's */
} EkSqlite;

/* A cell, as far as it lies on its page. */
typedef struct {
    gsize bytes;     /* of it on the page */
    guint32 child;   /* the page below it: of inner pages */
    gint64 row;      /* of tables */
    guint64 payload; /* bytes of its record, all together */
    gsize local_at;  /* where those begin that lie on the page */
    gsize local;     /* how many do; when fewer than all, the number of the next page follows */
} EkSqliteCell;

/* The cell at byte `at` of a page of this kind. */
EkSqliteCell ek_sqlite_cell(EkSpan page, gsize at, guint8 kind, guint32 usable);

/* A page, counted from 1; empty where it has not so many. Holds until the next call. */
EkSpan ek_sqlite_page(EkSqlite *database, guint32 number);

/* The page that holds locks and nothing else. */
guint32 ek_sqlite_lock_page(const EkSqlite *database);

/* Do the trees that its schema names lead to each page once, with their rows in order, and as many
 * entries in an index as there are rows? Its pages were looked at one by one before. FALSE too
 * where a foreign block would not be noticed. */
gboolean ek_sqlite_is_proved(EkSqlite *database);

#endif
