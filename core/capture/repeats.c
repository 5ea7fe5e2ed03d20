/* SPDX-License-Identifier: MIT */
/* Does the drive answer the same at addresses a fixed distance apart? Drives of faked capacity,
 * and adapters that drop the upper part of an address, do. */
#include "capture/repeats.h"

#include "base/digest.h"

#define MOST_SAMPLES 65536u
#define LEAST_STEP_BYTES (1u << 20)
#define ENOUGH 16u /* samples in a row that are the same at one distance */

struct EkRepeats {
    guint32 sector_size;
    EkSector step;      /* sectors between samples, a power of two */
    GHashTable *latest; /* fingerprint to the latest sample with it, both guint64* */
    EkSector distance;
    guint in_row;
    EkSector found;
};

EkRepeats *ek_repeats_new(EkSector sectors, guint32 sector_size)
{
    EkRepeats *repeats = g_new0(EkRepeats, 1);
    repeats->sector_size = sector_size;
    repeats->step = MAX(LEAST_STEP_BYTES / sector_size, 1);
    while (sectors / repeats->step > MOST_SAMPLES)
        repeats->step *= 2;
    repeats->latest = g_hash_table_new_full(g_int64_hash, g_int64_equal, g_free, g_free);
    return repeats;
}

void ek_repeats_free(EkRepeats *repeats)
{
    g_hash_table_unref(repeats->latest);
    g_free(repeats);
}

static void sample(EkRepeats *repeats, EkSector sector, const guint8 *data)
{
    if (ek_fill_of(data, repeats->sector_size) != EK_FILL_NONE)
        return; /* says nothing: much of a drive can look like that */
    guint64 print = ek_block_sum(0, repeats->sector_size, data, repeats->sector_size);
    EkSector *before = g_hash_table_lookup(repeats->latest, &print);
    EkSector distance = before != NULL && *before < sector ? sector - *before : 0;
    if (distance != 0 && distance == repeats->distance) {
        repeats->in_row++;
    } else if (distance != 0) {
        repeats->distance = distance;
        repeats->in_row = 1;
    } else if (sector >= repeats->distance) {
        repeats->in_row = 0;
    }
    if (repeats->in_row >= ENOUGH)
        repeats->found = repeats->distance;
    if (before != NULL)
        *before = sector;
    else
        g_hash_table_insert(repeats->latest, g_memdup2(&print, sizeof print),
                            g_memdup2(&sector, sizeof sector));
}

void ek_repeats_note(EkRepeats *repeats, EkSector first, EkSector count, const guint8 *data)
{
    EkSector at = (first + repeats->step - 1) / repeats->step * repeats->step;
    for (; at < first + count; at += repeats->step)
        sample(repeats, at, data + (at - first) * repeats->sector_size);
}

EkSector ek_repeats_every(const EkRepeats *repeats)
{
    return repeats->found;
}
