/* SPDX-License-Identifier: MIT */
/* Open addressing; the numbers are taken for well mixed. */
#include "files/numberset.h"

#define AT_FIRST 1024u

struct EkNumberSet {
    guint64 *slots; /* 0: free */
    gsize room;     /* a power of two */
    gsize count;
    gboolean has_zero;
};

EkNumberSet *ek_number_set_new(void)
{
    EkNumberSet *owners = g_new0(EkNumberSet, 1);
    owners->room = AT_FIRST;
    owners->slots = g_new0(guint64, owners->room);
    return owners;
}

void ek_number_set_free(EkNumberSet *owners)
{
    g_free(owners->slots);
    g_free(owners);
}

static gsize slot_of(const EkNumberSet *owners, guint64 number)
{
    gsize slot = (gsize)number & (owners->room - 1);
    while (owners->slots[slot] != 0 && owners->slots[slot] != number)
        slot = (slot + 1) & (owners->room - 1);
    return slot;
}

static void grow(EkNumberSet *owners)
{
    guint64 *old = owners->slots;
    gsize room = owners->room;
    owners->room *= 2;
    owners->slots = g_new0(guint64, owners->room);
    for (gsize i = 0; i < room; i++)
        if (old[i] != 0)
            owners->slots[slot_of(owners, old[i])] = old[i];
    g_free(old);
}

void ek_number_set_add(EkNumberSet *owners, guint64 number)
{
    if (number == 0) {
        owners->has_zero = TRUE;
        return;
    }
    gsize slot = slot_of(owners, number);
    owners->count += owners->slots[slot] == 0;
    owners->slots[slot] = number;
    if (owners->count * 4 > owners->room * 3)
        grow(owners);
}

gboolean ek_number_set_has(const EkNumberSet *owners, guint64 number)
{
    return number == 0 ? owners->has_zero : owners->slots[slot_of(owners, number)] == number;
}
