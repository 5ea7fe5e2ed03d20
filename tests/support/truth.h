/* SPDX-License-Identifier: MIT */
/* Files that are put into a volume, by the system's own drivers where there are such, so that many
 * of them lie in pieces; and what each of them was. The files themselves are in the folder truth/,
 * the volume is v.img. */
#ifndef EK_TESTS_TRUTH_H
#define EK_TESTS_TRUTH_H

#include <glib.h>

#define TRUTH_LARGE 1000u /* files: from here on some are large, up to 300 MiB */

typedef struct {
    const char *filesystem; /* of the driver */
    const char *make;
    const char *wipe; /* leaves no header; NULL: another would be left */
    gint64 step;      /* seconds between times it can keep */
    gboolean has_links;
    gboolean takes_any_name;
    gboolean is_packed;    /* its folder is compressed */
    gboolean is_simple;    /* FAT: its tool knows the first 65 536 characters only */
    gboolean is_broken_up; /* what is put in finds room in small pieces only */
    guint wants_depth;     /* ext4: of a tree of extents; NTFS: 1 for lists of attributes */
} Kind;

typedef struct {
    char *path;
    char *sha256;
    guint64 size;
    guint64 number; /* in the inventory */
    gint64 modified;
    gboolean found;
    gboolean is_whole; /* as we call it */
    gboolean is_deleted;
    gboolean found_below; /* under its path without the first folder */
} Put;

typedef struct {
    const Kind *kind;
    guint files; /* as many as were asked for */
    GRand *random;
    GPtrArray *folders; /* char* */
    GPtrArray *put;     /* Put* */
    GHashTable *by_path;
    GHashTable *sums;
} Truth;

/* How long a volume for so many files is. */
guint truth_mib(guint files);

/* Makes that many files. The caller frees. */
Truth *truth_new(const Kind *kind, GRand *random, guint files);
void truth_free(Truth *truth);

/* Puts them into the volume; more than were made, where the kind has links. FALSE when there is no
 * way to. */
gboolean truth_put_in(Truth *truth);

/* Deletes every third of the files, with the driver. FALSE where there is none. */
gboolean truth_delete(Truth *truth);

#endif
