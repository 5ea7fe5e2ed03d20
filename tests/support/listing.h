/* SPDX-License-Identifier: MIT */
/* What a walk hands on, kept for looking at. */
#ifndef EK_TESTS_LISTING_H
#define EK_TESTS_LISTING_H

#include "files/files.h"

typedef struct {
    EkFile file;
    GArray *extents;  /* EkExtent */
    GPtrArray *names; /* Called* */
} Listed;

typedef struct {
    guint64 parent;
    char *text;
    gboolean is_deleted;
} Called;

typedef struct {
    EkFiles *files;
    GPtrArray *listed; /* Listed*, in the order of the walk */
    GHashTable *by_number;
    EkFolderDamage damage; /* all of it together */
    guint folders_damaged;
    guint
        made_names; /* of folders that say which one they were in, and not what they were called */
    guint most;     /* stops after so many files; 0: never */
    guint marks;    /* that came */
    guint cut_at;   /* stops at that one; 0: never */
    guint64 from;   /* where the last one said that a walk may go on */
} Listing;

/* Walks all files. The caller frees. */
Listing *listing_new(EkFiles *files, guint most);
/* Walks up to a mark, and then on from where that said. */
Listing *listing_new_cut(EkFiles *files, guint mark);

/* A line for each file, in order of its number, with all that is known of it. The caller frees. */
char *listing_lines(const Listing *listing);
void listing_free(Listing *listing);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(Listing, listing_free)

/* "a/b 5000\n" for each file there is, folders as "a/ 0\n", in order of path. The caller frees. */
char *listing_tree(const Listing *listing, gboolean deleted);

/* The file at a path; NULL when there is none. */
const Listed *listing_find(const Listing *listing, const char *path);

/* What the read map says of it. The caller unrefs *holes. */
EkDamage listing_damage(const Listing *listing, const Listed *listed, GArray **holes);

#endif
