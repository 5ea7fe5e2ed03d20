/* SPDX-License-Identifier: MIT */
/* The boot regions of an exFAT volume: the main one and its backup, each with a sum over its first
 * eleven sectors in the twelfth. The better one gives the other; where neither is whole they are
 * composed from what the volume was found by. */
#include "volume/exfat/exfat.h"
#include "volume/headers.h"

#include <string.h>

#define SUMMED_SECTORS 11u
#define EXTENDED_SECTORS 8u
#define SHARE_IN_USE 112u /* of neither's sum */
#define SHARE_NOT_KNOWN 0xffu
#define EXTENDED_MARK 0xaa550000u

typedef struct {
    guint8 *data;
    gsize length;
    gboolean is_whole;
} Region;

static void read_region(EkGate *gate, const EkExfatBoot *boot, EkByte at, Region *region)
{
    gsize summed = (gsize)SUMMED_SECTORS * boot->sector_size;
    EkExfatBoot own;
    region->length = (gsize)EK_EXFAT_REGION_SECTORS * boot->sector_size;
    region->data = g_malloc0(region->length);
    EkSpan span = {region->data, region->length};
    region->is_whole =
        ek_part_read(gate, at, region->data, region->length) == EK_PART_THERE &&
        ek_exfat_boot_read(span, &own) && own.sectors == boot->sectors &&
        own.heap_sector == boot->heap_sector && own.serial == boot->serial &&
        ek_span_le32(span, summed) == ek_exfat_sum(ek_span_part(span, 0, summed), TRUE);
}

/* No boot code, no parameters of a maker. */
static void compose(const EkVolume *volume, const EkExfatBoot *boot, Region *region)
{
    gsize size = boot->sector_size;
    memset(region->data, 0, region->length);
    memcpy(region->data, volume->header, EK_HEADER_MOST);
    for (gsize i = 1; i <= EXTENDED_SECTORS; i++)
        ek_put_le32(region->data + (i + 1) * size - 4, EXTENDED_MARK);
    EkSpan summed = {region->data, SUMMED_SECTORS * size};
    guint32 sum = ek_exfat_sum(summed, TRUE);
    for (gsize at = SUMMED_SECTORS * size; at < region->length; at += 4)
        ek_put_le32(region->data + at, sum);
}

gboolean ek_exfat_mend(EkGate *gate, const EkVolume *volume, EkMendSink sink, void *data,
                       GError **error)
{
    EkExfatBoot boot;
    Region first;
    Region second;
    if (!ek_exfat_boot_read((EkSpan){volume->header, EK_HEADER_MOST}, &boot))
        return ek_error_set(error, EK_ERROR_DAMAGED, "the kept boot sector is none");
    EkByte backup = volume->first_byte + (EkByte)EK_EXFAT_REGION_SECTORS * boot.sector_size;
    read_region(gate, &boot, volume->first_byte, &first);
    read_region(gate, &boot, backup, &second);
    g_autofree char *from =
        first.is_whole ? g_strdup("the main one")
        : second.is_whole
            ? g_strdup_printf("the copy at sector %" G_GUINT64_FORMAT, backup / EK_STEP)
            : g_strdup("what its other traces tell");
    /* Each of them keeps a state and a share in use of its own: a whole one is right as it is. */
    Region *good = first.is_whole ? &first : &second;
    if (!good->is_whole)
        compose(volume, &boot, good);
    if (!first.is_whole) {
        good->data[SHARE_IN_USE] = SHARE_NOT_KNOWN;
        ek_header_mend_range(gate, "exfat-boot", volume->first_byte, good->data, good->length,
                             "main boot region", from, sink, data);
    }
    if (!second.is_whole)
        ek_header_mend_range(gate, "exfat-boot", backup, good->data, good->length,
                             "backup boot region", from, sink, data);
    g_free(first.data);
    g_free(second.data);
    return TRUE;
}

GPtrArray *ek_exfat_boot_explain(EkSpan span)
{
    static const EkFieldRule rules[] = {
        {0, 3, "jump", EK_FIELD_BYTES, NULL},
        {3, 8, "made by", EK_FIELD_BYTES, NULL},
        {11, 53, "zeros", EK_FIELD_BYTES, NULL},
        {64, 8, "sectors before the volume", EK_FIELD_LE64, NULL},
        {72, 8, "sectors in the volume", EK_FIELD_LE64, NULL},
        {80, 4, "FAT begins at", EK_FIELD_LE32, "(sector)"},
        {84, 4, "sectors in the FAT", EK_FIELD_LE32, NULL},
        {88, 4, "clusters begin at", EK_FIELD_LE32, "(sector)"},
        {92, 4, "clusters", EK_FIELD_LE32, NULL},
        {96, 4, "root folder begins at", EK_FIELD_LE32, "(cluster)"},
        {100, 4, "serial number", EK_FIELD_BYTES, NULL},
        {104, 2, "revision", EK_FIELD_BYTES, NULL},
        {106, 2, "state of the volume", EK_FIELD_BYTES, NULL},
        {108, 1, "bytes a sector, as a power of two", EK_FIELD_U8, NULL},
        {109, 1, "sectors a cluster, as a power of two", EK_FIELD_U8, NULL},
        {110, 1, "FATs", EK_FIELD_U8, NULL},
        {111, 1, "BIOS drive", EK_FIELD_BYTES, NULL},
        {112, 1, "per cent in use", EK_FIELD_U8, NULL},
        {113, 397, "boot code", EK_FIELD_BYTES, NULL},
        {510, 2, "end mark", EK_FIELD_BYTES, NULL},
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
