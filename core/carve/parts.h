/* SPDX-License-Identifier: MIT */
/* Is a file right that lies in another one, as an entry of an archive does? It is followed as each
 * of the types that its content knows of (ek_content_set_types). */
#ifndef EK_CARVE_PARTS_H
#define EK_CARVE_PARTS_H

#include "carve/type.h"

typedef enum {
    EK_VERIFIED_NOT,   /* no type of the list, or one of which nothing can be checked */
    EK_VERIFIED_RIGHT, /* followed to its end, and what can be checked is right */
    EK_VERIFIED_WRONG  /* it begins right, and at `at` it is right no more */
} EkVerified;

typedef struct {
    EkVerified verified;
    const EkCarveType *type; /* NULL: none of the list */
    EkByte at;               /* wrong: where; right: where its structure ends */
    EkFollowed followed;     /* how its type followed it, and what was checked, or is wrong */
} EkVerification;

/* Of all that is laid: the one that is right counts, else the first that says anything. */
EkVerification ek_parts_verify(EkContent *content);

/* The same of a file that lies in another one, from `offset` on; not of what lies too deep. What is
 * missing at the end of `content` is missing in it too. */
EkVerification ek_parts_verify_one(EkContent *content, EkByte offset, EkByte bytes);

/* The whole breaks where this part of it does, which begins at `first`: all that is known of what
 * comes behind that is known of the whole. */
void ek_parts_break(EkFollowed *whole, const EkVerification *part, EkByte first, EkByte least,
                    const char *why);

#endif
