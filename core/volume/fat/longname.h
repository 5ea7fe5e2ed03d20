/* SPDX-License-Identifier: MIT */
/* A long name of a FAT folder, gathered from the entries before the short one that it belongs to.
 * Only for this folder. */
#ifndef EK_VOLUME_FAT_LONGNAME_H
#define EK_VOLUME_FAT_LONGNAME_H

#include "volume/fat/entry.h"

#define EK_FAT_LOST_LETTER '_' /* for the first letter of a deleted short name */

typedef struct {
    gunichar2 units[EK_FAT_LONG_MOST * EK_FAT_LONG_UNITS];
    guint expected; /* the entry that must come next; 0: the short one */
    guint total;    /* entries of the open name; 0: none is open */
    guint8 sum;     /* of the short name they belong to */
    guint erased;   /* deleted entries in a row */
} EkFatLongName;

/* What comes next belongs to no entry before it. */
static inline void ek_fat_long_forget(EkFatLongName *name)
{
    name->total = name->expected = name->erased = 0;
}

/* Takes the long entry at `at`, which is deleted or not. */
void ek_fat_long_take(EkFatLongName *name, EkSpan span, gsize at, const EkFatEntry *entry);

/* Takes all entries of a cluster: what is left is the name that is open at its end. */
void ek_fat_long_take_all(EkFatLongName *name, EkSpan span);

/* The name of the short entry that comes next, into `text`; FALSE when it has none of its own. Of a
 * deleted one the first letter of the short name is found by the sum of the long one. *raw is set
 * where the text does not say all of the units; it is good until the next entry. */
gboolean ek_fat_long_gather(EkFatLongName *name, guint8 *short_name, gboolean is_deleted,
                            GString *text, EkSpan *raw);

/* Is this an entry that only a long name has: noise, and deleted short ones, are none? */
gboolean ek_fat_is_long(EkSpan span, gsize at);

#endif
