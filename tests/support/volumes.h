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
    gsize catalog_byte; /* HFS+: of the header node of its catalog */
    gsize journal_byte; /* HFS+: of the journal, with its copy of the header; 0: none */
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
    gsize rest;           /* bytes behind the blocks */
} HfsPlan;

Composed *composed_hfs(const HfsPlan *plan);
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
