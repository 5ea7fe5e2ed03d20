/* SPDX-License-Identifier: MIT */
/* Long names of a FAT folder: the last part comes first, each with the sum of the short name that
 * they belong to. */
#include "volume/fat/longname.h"

#include <string.h>

static void take_there(EkFatLongName *name, EkSpan span, gsize at, const EkFatEntry *entry)
{
    name->erased = 0;
    if (entry->is_last) {
        name->expected = entry->order;
        name->total = entry->order;
        name->sum = entry->sum;
    }
    if (entry->order == 0 || entry->order > EK_FAT_LONG_MOST || entry->order != name->expected ||
        entry->sum != name->sum) {
        name->expected = 0;
        name->total = 0;
        return;
    }
    ek_fat_entry_units(span, at, name->units + (entry->order - 1) * EK_FAT_LONG_UNITS);
    name->expected--;
}

/* Deleted ones have lost their order, but stand in it: the last one first. */
static void take_erased(EkFatLongName *name, EkSpan span, gsize at, const EkFatEntry *entry)
{
    name->total = 0;
    if (name->erased == EK_FAT_LONG_MOST || (name->erased > 0 && name->sum != entry->sum))
        name->erased = 0;
    name->sum = entry->sum;
    memmove(name->units + EK_FAT_LONG_UNITS, name->units,
            sizeof name->units - EK_FAT_LONG_UNITS * sizeof name->units[0]);
    ek_fat_entry_units(span, at, name->units);
    name->erased++;
}

/* The first letter of a deleted short name: the one with which the sum of its long name fits. */
static gboolean find_letter(guint8 *short_name, guint8 sum)
{
    for (guint letter = 1; letter < 0x100; letter++) {
        short_name[0] = (guint8)letter;
        if (ek_fat_name_sum(short_name) == sum)
            return letter > ' ' && letter != EK_FAT_DELETED;
    }
    return FALSE;
}

gboolean ek_fat_long_gather(EkFatLongName *name, guint8 *short_name, gboolean is_deleted,
                            GString *text, EkSpan *raw)
{
    guint entries = is_deleted ? name->erased : name->total;
    gboolean complete = entries > 0 && (is_deleted ? find_letter(short_name, name->sum)
                                                   : name->expected == 0 &&
                                                         name->sum == ek_fat_name_sum(short_name));
    gsize count = 0;
    *raw = (EkSpan){NULL, 0};
    while (complete && count < entries * EK_FAT_LONG_UNITS && name->units[count] != 0)
        count++;
    ek_fat_long_forget(name);
    if (count == 0)
        return FALSE;
    for (gsize i = 0; i < count; i++)
        name->units[i] = GUINT16_TO_LE(name->units[i]);
    EkSpan units = {(const guint8 *)name->units, count * 2};
    if (ek_name_utf16(text, units, FALSE))
        *raw = units;
    return TRUE;
}

void ek_fat_long_take(EkFatLongName *name, EkSpan span, gsize at, const EkFatEntry *entry)
{
    if (entry->is_deleted)
        take_erased(name, span, at, entry);
    else
        take_there(name, span, at, entry);
}

void ek_fat_long_take_all(EkFatLongName *name, EkSpan span)
{
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= span.length; at += EK_FAT_ENTRY_BYTES) {
        EkFatEntry entry = ek_fat_entry_read(span, at);
        if (entry.is_long)
            ek_fat_long_take(name, span, at, &entry);
        else
            ek_fat_long_forget(name);
    }
}

gboolean ek_fat_is_long(EkSpan span, gsize at)
{
    EkFatEntry entry = ek_fat_entry_read(span, at);
    return entry.is_long && entry.case_flags == 0 && (entry.cluster & 0xffff) == 0 &&
           (entry.is_deleted || (entry.order >= 1 && entry.order <= EK_FAT_LONG_MOST));
}
