/* SPDX-License-Identifier: MIT */
/* Volumes that no tool here makes, composed byte by byte from the published formats. Each is empty,
 * and as long as its headers say. */
#ifndef EK_TESTS_VOLUMES_H
#define EK_TESTS_VOLUMES_H

#include "base/units.h"

#include <glib.h>

typedef struct {
    const char *filesystem;
    const char *label; /* NULL: none */
    const char *uuid;
    gsize copy_byte; /* of another header than the first; 0: there is none */
    gsize copy_length;
    gsize first_length; /* of the first header, from first_byte on: what can be wiped */
    gsize first_byte;
    gsize attributes_byte; /* HFS+: of its tree of attributes */
    gsize resources_byte;  /* HFS+: of the resource fork of "packed apart" */
    gsize catalog_byte;    /* HFS+: of the header node of its catalog */
    gsize journal_byte;    /* HFS+: of the journal, with its copy of the header; 0: none */
    gboolean length_is_least;
    gsize length;
    guint8 *data;
} Composed;

/* What an HFS+ volume is made of (hfs.c). Its folder holds files called "file 00000" and so on,
 * each a byte shorter than its blocks, every fifth one in two runs of blocks. */
typedef struct {
    guint32 block_bytes;
    guint32 node_bytes;
    guint files;
    gboolean is_sensitive;
    gboolean has_journal; /* with a copy of the header in it */
    gboolean has_pieces;  /* one more file, "pieces", in ten runs: more than a record holds */
    gboolean has_packed;  /* and four packed ones: see composed_packed */
    gsize rest;           /* bytes behind the blocks */
    guint folders;        /* of its root, "shelf 001" and so on: each has its share of the files */
    guint room;           /* it is laid out as if it had so many files, at least */
    guint32 made;         /* when, in seconds since 1904; 0: some date */
    guint32 first_number; /* of its files; 0: the first that the format gives */
} HfsPlan;

/* The packed files of such a volume: "packed here" and "stored here" in attributes, "packed apart"
 * in its resource fork, the second chunk of which lies in two runs; "packed oddly" in no known way.
 */
#define PACKED_HERE 3000u
#define PACKED_APART 150000u

/* What each holds, as far as it is long. The caller frees. */
guint8 *composed_packed(gsize length);

Composed *composed_hfs(const HfsPlan *plan);
/* Makes one on a drive as quickly as makers do it, and puts its files there: no more is written
 * than what it has in use, or, where that `clears`, also what it sets aside for its trees. */
void composed_hfs_over(guint8 *drive, gsize length, const HfsPlan *plan, gboolean clears);
/* An empty one. */
Composed *composed_hfsplus(gboolean sensitive, gsize rest);
/* In an HFS volume that is wrapped around it; first_byte is that of the HFS+ volume's header. */
Composed *composed_wrapped_hfsplus(void);
Composed *composed_apfs(void);
Composed *composed_refs(void);
Composed *composed_bitlocker(void);
Composed *composed_lvm(void);
Composed *composed_raid(guint minor); /* version 1.minor */
Composed *composed_old_raid(void);    /* version 0.90 */
/* The drive with the container in it, which begins at sector 63. */
Composed *composed_ldm(void);
void composed_free(Composed *composed);
G_DEFINE_AUTOPTR_CLEANUP_FUNC(Composed, composed_free)

#endif
