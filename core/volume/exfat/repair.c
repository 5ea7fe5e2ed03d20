/* SPDX-License-Identifier: MIT */
/* The boot regions of an exFAT volume: the main one and its backup, each with a sum over its first
 * eleven sectors in the twelfth. The better one gives the other; where neither is whole they are
 * composed from what the volume was found by. */
#include "volume/exfat/exfat.h"
#include "volume/headers.h"

#include <string.h>

#define SUMMED_SECTORS 11u
#define EXTENDED_SECTORS 8u
#define STATE 106u
#define SHARE_IN_USE 112u /* of neither's sum */
#define SHARE_NOT_KNOWN 0xffu
#define EXTENDED_MARK 0xaa550000u

typedef struct {
    guint8 *data;
    gsize length;
    gboolean has_boot; /* its boot sector says what the volume's does */
    gboolean is_whole; /* that, and its sum fits */
} Region;

static void read_region(EkReader *reader, const EkExfatBoot *boot, EkByte at, Region *region)
{
    gsize summed = (gsize)SUMMED_SECTORS * boot->sector_size;
    EkExfatBoot own;
    region->length = (gsize)EK_EXFAT_REGION_SECTORS * boot->sector_size;
    region->data = g_malloc0(region->length);
    EkSpan span = {region->data, region->length};
    gboolean was_read = ek_presence_read(reader, at, region->data, region->length) == EK_PRESENT;
    region->has_boot = ek_exfat_boot_read(span, &own) && own.sectors == boot->sectors &&
                       own.heap_sector == boot->heap_sector && own.serial == boot->serial &&
                       own.fat_sector == boot->fat_sector && own.root_cluster == boot->root_cluster;
    region->is_whole =
        was_read && region->has_boot &&
        ek_span_le32(span, summed) == ek_exfat_sum(ek_span_part(span, 0, summed), TRUE);
}

static void set_sum(guint8 *data, gsize size)
{
    guint32 sum = ek_exfat_sum((EkSpan){data, SUMMED_SECTORS * size}, TRUE);
    for (gsize at = SUMMED_SECTORS * size; at < EK_EXFAT_REGION_SECTORS * size; at += 4)
        ek_put_le32(data + at, sum);
}

/* What a region should be: as little else as makes it right. Where the other one is whole it is
 * like that, but for its own state and share in use; else it keeps what no rule contradicts, a
 * maker's parameters among it, under a new sum. The caller frees. */
static guint8 *wanted_for(const Region *own, const Region *other, const EkVolume *volume,
                          gsize size)
{
    static const guint8 own_bytes[] = {STATE, STATE + 1, SHARE_IN_USE};
    guint8 *wanted = g_memdup2(other->is_whole ? other->data : own->data, own->length);
    if (!other->is_whole && !own->has_boot)
        memcpy(wanted, volume->header, EK_HEADER_BYTES);
    if (own->has_boot)
        for (gsize i = 0; i < G_N_ELEMENTS(own_bytes); i++)
            wanted[own_bytes[i]] = own->data[own_bytes[i]];
    else
        wanted[SHARE_IN_USE] = SHARE_NOT_KNOWN;
    for (gsize i = 1; i <= EXTENDED_SECTORS && !other->is_whole; i++) {
        guint8 *mark = wanted + (i + 1) * size - 4;
        if (ek_span_le32((EkSpan){mark, 4}, 0) == EXTENDED_MARK)
            continue;
        memset(wanted + i * size, 0, size);
        ek_put_le32(mark, EXTENDED_MARK);
    }
    set_sum(wanted, size);
    return wanted;
}

gboolean ek_exfat_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                         GError **error)
{
    EkExfatBoot boot;
    Region regions[2];
    if (!ek_exfat_boot_read(ek_volume_header(volume), &boot))
        return ek_error_set(error, EK_ERROR_DAMAGED, "the saved boot sector is invalid");
    EkByte bytes = (EkByte)EK_EXFAT_REGION_SECTORS * boot.sector_size;
    for (guint i = 0; i < 2; i++)
        read_region(reader, &boot, volume->first_byte + i * bytes, &regions[i]);
    for (guint i = 0; i < 2; i++) {
        const Region *other = &regions[1 - i];
        /* Each keeps a state and a share in use of its own: a whole one is right as it is. */
        if (regions[i].is_whole)
            continue;
        g_autofree guint8 *wanted = wanted_for(&regions[i], other, volume, boot.sector_size);
        g_autofree char *from =
            other->is_whole       ? g_strdup_printf("the backup copy at sector %" G_GUINT64_FORMAT,
                                                    (volume->first_byte + (1 - i) * bytes) / EK_STEP)
            : regions[i].has_boot ? g_strdup("its own sectors, under a new checksum")
                                  : g_strdup("other metadata");
        ek_header_repair_range(
            reader, "exfat-boot", volume->first_byte + i * bytes, wanted, regions[i].length,
            i == 0 ? "main boot region" : "backup boot region", from, sink, data);
    }
    g_free(regions[0].data);
    g_free(regions[1].data);
    return TRUE;
}

GPtrArray *ek_exfat_boot_explain(EkSpan span)
{
    static const EkFieldRule rules[] = {
        {0, 3, "jump instruction", EK_FIELD_BYTES, NULL},
        {3, 8, "made by", EK_FIELD_BYTES, NULL},
        {11, 53, "zeros", EK_FIELD_BYTES, NULL},
        {64, 8, "hidden sectors", EK_FIELD_LE64, NULL},
        {72, 8, "total sectors", EK_FIELD_LE64, NULL},
        {80, 4, "FAT begins at", EK_FIELD_LE32, "(sector)"},
        {84, 4, "sectors in the FAT", EK_FIELD_LE32, NULL},
        {88, 4, "clusters begin at", EK_FIELD_LE32, "(sector)"},
        {92, 4, "clusters", EK_FIELD_LE32, NULL},
        {96, 4, "root folder begins at", EK_FIELD_LE32, "(cluster)"},
        {100, 4, "serial number", EK_FIELD_BYTES, NULL},
        {104, 2, "revision", EK_FIELD_BYTES, NULL},
        {106, 2, "volume flags", EK_FIELD_BYTES, NULL},
        {108, 1, "bytes per sector (log2)", EK_FIELD_U8, NULL},
        {109, 1, "sectors per cluster, as a power of two", EK_FIELD_U8, NULL},
        {110, 1, "FATs", EK_FIELD_U8, NULL},
        {111, 1, "BIOS drive", EK_FIELD_BYTES, NULL},
        {112, 1, "percent in use", EK_FIELD_U8, NULL},
        {113, 397, "boot code", EK_FIELD_BYTES, NULL},
        {510, 2, "boot signature", EK_FIELD_BYTES, NULL},
    };
    GPtrArray *fields = ek_fields_new();
    /* The further sectors of a region have no such fields. */
    if (ek_span_equals(span, 3, "EXFAT   ", 8))
        ek_fields_add_rules(fields, span, rules, G_N_ELEMENTS(rules));
    if (fields->len > 0 && span.length > EK_STEP)
        ek_fields_add(fields, EK_STEP, span.length - EK_STEP, "further sectors of the region",
                      NULL);
    return fields;
}
