/* SPDX-License-Identifier: MIT */
/* Which clusters of a volume belong to folders, or to files, that were taken already: so that
 * circles end, and what nothing leads to is seen. */
#ifndef EK_VOLUME_CLAIMS_H
#define EK_VOLUME_CLAIMS_H

#include <glib.h>

typedef struct {
    guint8 *bits;
    guint64 count;
} EkClaims;

/* For clusters 0 to count - 1. */
static inline EkClaims ek_claims_new(guint64 count)
{
    return (EkClaims){g_malloc0((gsize)(count / 8) + 1), count};
}

static inline void ek_claims_clear(EkClaims *claims)
{
    g_clear_pointer(&claims->bits, g_free);
}

/* FALSE when it was taken already, or there is no such cluster. */
static inline gboolean ek_claims_take(EkClaims *claims, guint64 cluster)
{
    guint8 bit = (guint8)(1u << cluster % 8);
    if (cluster >= claims->count || (claims->bits[cluster / 8] & bit) != 0)
        return FALSE;
    claims->bits[cluster / 8] |= bit;
    return TRUE;
}

static inline gboolean ek_claims_has(const EkClaims *claims, guint64 cluster)
{
    return cluster < claims->count && (claims->bits[cluster / 8] >> cluster % 8 & 1) != 0;
}

/* Takes a run, of which the first cluster is its own already where `has_first`. Returns how many of
 * them are its own then: up to the first that is another's. */
static inline guint64 ek_claims_take_run(EkClaims *claims, guint64 first, guint64 count,
                                         gboolean has_first)
{
    guint64 taken = has_first && count > 0 ? 1 : 0;
    while (taken < count && ek_claims_take(claims, first + taken))
        taken++;
    return taken;
}

#endif
