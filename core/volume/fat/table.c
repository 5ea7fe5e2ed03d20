/* SPDX-License-Identifier: MIT */
/* The file allocation table, 12, 16 or 32 bits a cluster. Where sectors of its first copy were not
 * read from the drive, those of the next copy serve. */
#include "volume/fat/fat.h"

void ek_fat_table_init(EkFatTable *table, EkGate *gate, const EkFatBoot *boot, EkByte first_byte,
                       gsize window_most)
{
    *table = (EkFatTable){
        .gate = gate, .boot = *boot, .first_byte = first_byte, .window_most = window_most};
    table->window = g_malloc(window_most);
    table->window_known = g_malloc(window_most / EK_STEP);
}

void ek_fat_table_clear(EkFatTable *table)
{
    g_free(table->window);
    g_free(table->window_known);
}

/* Fills in the window's sectors that are not known yet, from one copy of the FAT. TRUE when all
 * are known then. */
static gboolean fill_from_copy(EkFatTable *table, guint32 copy)
{
    guint32 size = table->boot.sector_size;
    EkByte start =
        table->first_byte + table->boot.fat_start + copy * table->boot.fat_bytes + table->window_at;
    gboolean complete = TRUE;
    for (gsize at = 0; at < table->window_bytes; at += size) {
        EkKnown known;
        guint8 *mark = &table->window_known[at / size];
        if (*mark != 0)
            continue;
        *mark = ek_gate_read(table->gate, start + at, table->window + at, size, &known, NULL) &&
                known.good == size;
        complete = complete && *mark != 0;
    }
    return complete;
}

static void load_window(EkFatTable *table, EkByte at)
{
    table->window_at = at - at % table->window_most;
    table->window_bytes = (gsize)MIN(table->window_most, table->boot.fat_bytes - table->window_at);
    gsize sectors = table->window_bytes / table->boot.sector_size;
    EkByte start = table->first_byte + table->boot.fat_start + table->window_at;
    EkKnown known;
    if (ek_gate_read(table->gate, start, table->window, table->window_bytes, &known, NULL) &&
        known.good == table->window_bytes) {
        memset(table->window_known, 1, sectors);
        return;
    }
    memset(table->window_known, 0, sectors);
    for (guint32 copy = 0; copy < table->boot.fats; copy++)
        if (fill_from_copy(table, copy))
            return;
}

/* One byte of the FAT; FALSE when no copy of it was read. */
static gboolean fat_byte(EkFatTable *table, EkByte at, guint8 *byte)
{
    if (at >= table->boot.fat_bytes)
        return FALSE;
    if (table->window_bytes == 0 || at < table->window_at ||
        at - table->window_at >= table->window_bytes)
        load_window(table, at);
    gsize inside = (gsize)(at - table->window_at);
    *byte = table->window[inside];
    return table->window_known[inside / table->boot.sector_size] != 0;
}

EkFatLink ek_fat_table_link(EkFatTable *table, guint32 cluster, guint32 *next)
{
    EkFatBits bits = table->boot.bits;
    EkByte at = (EkByte)cluster * (guint)bits / 8;
    guint8 bytes[4] = {0};
    for (guint i = 0; i < (bits == EK_FAT32 ? 4u : 2u); i++)
        if (!fat_byte(table, at + i, &bytes[i]))
            return EK_LINK_UNKNOWN;
    guint32 value = ek_span_le32((EkSpan){bytes, 4}, 0);
    if (bits == EK_FAT12)
        value = cluster % 2 == 0 ? value & 0xfff : value >> 4 & 0xfff;
    else if (bits == EK_FAT32)
        value &= 0x0fffffff;

    guint32 top = bits == EK_FAT12 ? 0xfff : bits == EK_FAT16 ? 0xffff : 0x0fffffff;
    if (value == 0)
        return EK_LINK_FREE;
    if (value >= top - 7)
        return EK_LINK_END;
    if (value == top - 8)
        return EK_LINK_BAD;
    if (!ek_fat_cluster_exists(&table->boot, value))
        return EK_LINK_BAD;
    *next = value;
    return EK_LINK_NEXT;
}
