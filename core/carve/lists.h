/* SPDX-License-Identifier: MIT */
/* Blocks of numbers of ext2 and ext3, wherever they lie. They outlive the tables of the volume, and
 * each tells where a part of a file lies, once it is known from where its numbers are counted: from
 * many of them, and from where files begin, that can be told. */
#ifndef EK_CARVE_LISTS_H
#define EK_CARVE_LISTS_H

#include "base/bytes.h"
#include "base/units.h"

#include <glib.h>

/* What may be one, or a part of one. */
typedef struct {
    EkByte place;   /* on the drive, a multiple of EK_STEP */
    guint32 number; /* its first one */
} EkListed;

/* How the blocks of a volume are counted. */
typedef struct {
    EkByte volume; /* where block 0 lies */
    EkByte block;  /* bytes */
} EkBlocks;

#define EK_INDIRECT_DIRECT 12u /* blocks of a file before its first block of numbers */
#define EK_INDIRECT_LEAST 14u  /* a number behind twelve others and what begins a volume */

/* May a block of numbers of a file begin with these bytes: numbers that go up by one, but for a
 * jump here and there, to the end or up to zeros? Pure. */
gboolean ek_lists_is_one(EkSpan span);

/* Appends (EkListed) what may be one in these bytes, which lie at `at`, a multiple of EK_STEP. */
void ek_lists_look(EkSpan span, EkByte at, GArray *found);

typedef struct EkLists EkLists;

EkLists *ek_lists_new(void);
void ek_lists_free(EkLists *lists);

/* A million of them are kept. FALSE: it is not kept. Not once they are settled. */
gboolean ek_lists_add(EkLists *lists, EkListed listed);

/* No more are added. `firsts` (EkByte, in order) are places where files begin, of which some go on
 * where one of these tells. */
void ek_lists_settle(EkLists *lists, const GArray *firsts);

/* The ways in which blocks are counted, that files speak for: the likeliest first. */
const GArray *ek_lists_blocks(const EkLists *lists); /* EkBlocks */

/* The places (EkByte, `most` at most) of those whose first number this is. Returns how many. From
 * any thread, once they are settled. */
guint ek_lists_find(const EkLists *lists, guint32 number, EkByte *places, guint most);

#endif
