/* SPDX-License-Identifier: MIT */
/* A file in pieces that is being joined: what the ways to do it share. */
#ifndef EK_CARVE_JOINING_H
#define EK_CARVE_JOINING_H

#include "carve/carving.h"

#define EK_JOINING_STRETCHES 256u /* of free ground that are looked at behind the file */
#define EK_JOINING_BEFORE 4096u   /* and before */
#define EK_JOINING_BACK 48u       /* blocks before the break where it may have gone wrong */

typedef struct {
    const EkCarve *carve;
    const EkCarveType *type;
    EkContent *content;
    EkByte first; /* where it begins on the drive */
    EkByte grid;  /* blocks, counted from there */
    guint trials; /* since it went on last */
    guint tries;  /* at most */
    guint looks;  /* at blocks that were not tried */
    gboolean has_tried;
    const gint *cancel;
    EkFollowed known;  /* what its beginning told */
    EkTexture texture; /* of the part in which it breaks */
} EkJoining;

/* The size of blocks, in bytes. */
EkByte ek_joining_grid(const EkCarve *carve);

/* The first byte of the drive at or behind `at` that is in step with the file's beginning. */
EkByte ek_joining_on_grid(const EkJoining *joining, EkByte at);

/* Free ground (EkRange) from a place of the drive on, each stretch from the first block that begins
 * in it. The caller unrefs. */
GArray *ek_joining_stretches(const EkJoining *joining, EkByte from);

/* The last of them before the place where the first `offset` bytes of the file end, but for where
 * these lie, and then those behind it; `before` is how many of the former there are. The caller
 * unrefs. */
GArray *ek_joining_stretches_before(const EkJoining *joining, EkByte offset, guint *before);

/* Follows it as it is laid now. */
EkFollowed ek_joining_follow(EkJoining *joining);

/* Does it go on rightly from `offset` on where these stretches begin? It is laid so then. Behind
 * `beyond` it broke. */
gboolean ek_joining_goes_on(EkJoining *joining, EkByte offset, const EkRange *stretches,
                            guint count, EkByte beyond);

/* Did it come to an end that something in it speaks for? */
gboolean ek_joining_is_ended(const EkFollowed *followed);

/* Was all the work done for it that it is worth? */
gboolean ek_joining_is_spent(const EkJoining *joining);

/* From `offset` on it is laid as it was before (EkRange). */
void ek_joining_lay_again(EkContent *content, const GArray *before, EkByte offset);

#endif
