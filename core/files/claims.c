/* SPDX-License-Identifier: MIT */
/* Open addressing; the numbers are taken for well mixed. */
#include "files/claims.h"

#define AT_FIRST 1024u

struct EkClaims {
    guint64 *slots; /* 0: free */
    gsize room;     /* a power of two */
    gsize count;
    gboolean has_zero;
};

EkClaims *ek_claims_new(void)
{
    EkClaims *claims = g_new0(EkClaims, 1);
    claims->room = AT_FIRST;
    claims->slots = g_new0(guint64, claims->room);
    return claims;
}

void ek_claims_free(EkClaims *claims)
{
    g_free(claims->slots);
    g_free(claims);
}

static gsize slot_of(const EkClaims *claims, guint64 number)
{
    gsize slot = (gsize)number & (claims->room - 1);
    while (claims->slots[slot] != 0 && claims->slots[slot] != number)
        slot = (slot + 1) & (claims->room - 1);
    return slot;
}

static void grow(EkClaims *claims)
{
    guint64 *old = claims->slots;
    gsize room = claims->room;
    claims->room *= 2;
    claims->slots = g_new0(guint64, claims->room);
    for (gsize i = 0; i < room; i++)
        if (old[i] != 0)
            claims->slots[slot_of(claims, old[i])] = old[i];
    g_free(old);
}

void ek_claims_add(EkClaims *claims, guint64 number)
{
    if (number == 0) {
        claims->has_zero = TRUE;
        return;
    }
    gsize slot = slot_of(claims, number);
    claims->count += claims->slots[slot] == 0;
    claims->slots[slot] = number;
    if (claims->count * 4 > claims->room * 3)
        grow(claims);
}

gboolean ek_claims_has(const EkClaims *claims, guint64 number)
{
    return number == 0 ? claims->has_zero : claims->slots[slot_of(claims, number)] == number;
}
