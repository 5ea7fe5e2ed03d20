/* SPDX-License-Identifier: MIT */
/* What the parts of the search by content share: the files found so far hold their ground. */
#ifndef EK_CARVE_CARVING_H
#define EK_CARVE_CARVING_H

#include "carve/carve.h"
#include "carve/claims.h"

/* A file that does not hold its ground. */
typedef struct {
    EkRange range;
    const EkCarveType *type;
    EkHides hides;
} EkLoose;

struct EkCarve {
    EkCarveOrder order;
    EkCarveSink sink;
    const gint *cancel;
    GArray *held; /* EkRange: ground that is held, in order, apart */
    EkScan *scan;
    EkClaims *claims;
    GArray *loose;      /* EkLoose, as they were found */
    EkByte begun;       /* up to here chunks are looked at, or were */
    EkContent *content; /* of the thread that carves */
    EkLists *lists;
};

/* Does a file hold this byte? */
gboolean ek_carving_is_held(const EkCarve *carve, EkByte at);

/* The ground from `first` on that nothing holds: EkRange, in order, up to `most` ranges. The caller
 * unrefs. */
GArray *ek_carving_free_ground(const EkCarve *carve, EkByte first, guint most);

/* The last `most` ranges of it before `end`, in order too. */
GArray *ek_carving_free_ground_before(const EkCarve *carve, EkByte end, guint most);

/* Follows a file of this type; NULL where there is none. `is_told`: where its pieces lie was read.
 * The caller frees. */
EkFound *ek_carving_follow(EkContent *content, const EkCarveType *type, gboolean is_told);

/* From now on it holds its ground, as far as it is proved to be its own. */
void ek_carving_hold(EkCarve *carve, const EkFound *found);

#endif
