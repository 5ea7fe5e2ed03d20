/* SPDX-License-Identifier: MIT */
/* exFAT volumes: as in Microsoft's "exFAT file system specification". Found by the boot sector of
 * the main or the backup boot region, believed when FAT and root folder are where it says. What it
 * distrusts: every number. */
#include "volume/exfat/exfat.h"
#include "volume/headers.h"

#include "base/text.h"

#define REGION_SECTORS EK_EXFAT_REGION_SECTORS
#define SUMMED_SECTORS 11u
#define ROOT_LOOKED_AT 4096u
#define LABEL_CLUSTERS 8u /* of the root folder that are looked into for a label */
#define LABEL_BYTES (16u << 10)
#define STATE 106u
#define STATE_DIRTY 2u

gboolean ek_exfat_boot_read(EkSpan span, EkExfatBoot *boot)
{
    guint8 shift = ek_span_u8(span, 108);
    guint8 per_cluster = ek_span_u8(span, 109);
    if (span.length < EK_HEADER_BYTES || !ek_span_equals(span, 3, "EXFAT   ", 8) ||
        ek_span_le16(span, 510) != 0xaa55 || !ek_bytes_are_zero(span.data + 11, 53) || shift < 9 ||
        shift > 12 || per_cluster > 25 - shift)
        return FALSE;
    *boot = (EkExfatBoot){
        .sector_size = 1u << shift,
        .cluster_bytes = 1u << (shift + per_cluster),
        .sectors = ek_span_le64(span, 72),
        .fat_sector = ek_span_le32(span, 80),
        .fat_sectors = ek_span_le32(span, 84),
        .heap_sector = ek_span_le32(span, 88),
        .clusters = ek_span_le32(span, 92),
        .root_cluster = ek_span_le32(span, 96),
        .serial = ek_span_le32(span, 100),
        .partition_sector = ek_span_le64(span, 64),
        .fats = ek_span_u8(span, 110),
        .active = ek_span_u8(span, 106) & 1,
    };
    guint64 fats = boot->fats == 2 ? 2 : 1;
    boot->active = fats == 2 ? boot->active : 0;
    guint64 heap_sectors = (guint64)boot->clusters << per_cluster;
    return boot->fat_sector >= 2 * REGION_SECTORS && boot->fat_sectors > 0 &&
           boot->sectors < (guint64)G_MAXINT64 >> shift && boot->clusters > 0 &&
           boot->fat_sector + fats * boot->fat_sectors <= boot->heap_sector &&
           boot->heap_sector + heap_sectors <= boot->sectors && boot->root_cluster >= 2 &&
           boot->root_cluster - 2 < boot->clusters;
}

EkLinkPlaces ek_exfat_links(const EkExfatBoot *boot, EkByte first_byte)
{
    EkByte bytes = (EkByte)boot->fat_sectors * boot->sector_size;
    EkByte first = first_byte + (EkByte)boot->fat_sector * boot->sector_size;
    return (EkLinkPlaces){
        .bits = 32,
        .clusters = boot->clusters,
        .sector_size = boot->sector_size,
        .copies = boot->fats == 2 ? 2 : 1,
        .first = {first + boot->active * bytes, first + (1 - boot->active) * bytes},
        .bytes = bytes};
}

guint ek_exfat_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    EkExfatBoot boot;
    if (!ek_exfat_boot_read(span, &boot))
        return 0;
    guint count = 0;
    candidates[count++] = (EkCandidate){at, at, EK_ROLE_PRIMARY};
    EkByte before = (EkByte)REGION_SECTORS * boot.sector_size;
    if (before <= at)
        candidates[count++] = (EkCandidate){at - before, at, EK_ROLE_BACKUP};
    return count;
}

guint32 ek_exfat_sum(EkSpan span, gboolean is_region)
{
    guint32 sum = 0;
    for (gsize i = 0; i < span.length; i++)
        if (!is_region || (i != 106 && i != 107 && i != 112))
            sum = (sum >> 1 | sum << 31) + span.data[i];
    return sum;
}

/* A boot region that agrees with the header and with its own sum. */
static EkPresence look_at_region(EkReader *reader, const EkExfatBoot *boot, const guint8 *header,
                                 EkByte at)
{
    gsize length = (gsize)REGION_SECTORS * boot->sector_size;
    gsize summed = (gsize)SUMMED_SECTORS * boot->sector_size;
    g_autofree guint8 *region = g_malloc(length);
    EkPresence part = ek_presence_read(reader, at, region, length);
    EkSpan span = {region, length};
    if (part == EK_PRESENT &&
        (memcmp(region + 64, header + 64, 40) != 0 || !ek_span_equals(span, 3, "EXFAT   ", 8) ||
         ek_span_le32(span, summed) != ek_exfat_sum(ek_span_part(span, 0, summed), TRUE)))
        part = EK_ABSENT;
    return part;
}

static void take_entries(EkVolume *volume, EkSpan span)
{
    for (gsize i = 0; i + EK_EXFAT_ENTRY_BYTES <= span.length; i += EK_EXFAT_ENTRY_BYTES) {
        guint8 type = ek_span_u8(span, i);
        guint8 units = ek_span_u8(span, i + 1);
        if (type == EK_EXFAT_FILE)
            ek_timestamp_advance(&volume->used, ek_timestamp_dos(ek_span_le16(span, i + 14),
                                                                 ek_span_le16(span, i + 12)));
        if (type == EK_EXFAT_LABEL && units > 0 && units <= 11 && volume->label == NULL)
            volume->label = ek_text_utf16(span.data + i + 2, units * 2u, FALSE);
    }
}

static EkPresence look_at_root(EkReader *reader, EkVolume *volume, const EkExfatBoot *boot,
                               EkByte at)
{
    guint8 entries[ROOT_LOOKED_AT];
    gsize length = MIN(boot->cluster_bytes, ROOT_LOOKED_AT);
    EkPresence part = ek_presence_read(reader, at, entries, length);
    EkSpan span = {entries, length};
    EkExfatRoot root;
    if (part == EK_PRESENT && (!ek_exfat_root_read(span, at, &root) ||
                               root.bitmap_bytes < ek_divide_up(boot->clusters, 8)))
        part = EK_ABSENT;
    if (part == EK_PRESENT)
        take_entries(volume, span);
    return part;
}

/* The label may have come later than the first cluster of the root folder could hold. */
static void find_label(EkReader *reader, EkVolume *volume, const EkExfatBoot *boot)
{
    EkLinkTable links;
    EkLinkPlaces places = ek_exfat_links(boot, volume->first_byte);
    EkLink link = EK_LINK_NEXT;
    guint32 cluster = boot->root_cluster;
    gsize length = MIN(boot->cluster_bytes, ROOT_LOOKED_AT);
    ek_links_init(&links, reader, &places, ROOT_LOOKED_AT);
    for (guint i = 0; i < LABEL_CLUSTERS && volume->label == NULL && link == EK_LINK_NEXT; i++) {
        guint8 entries[ROOT_LOOKED_AT];
        EkByte at = volume->first_byte + (EkByte)boot->heap_sector * boot->sector_size +
                    (EkByte)(cluster - 2) * boot->cluster_bytes;
        for (gsize done = 0; done < MIN(boot->cluster_bytes, LABEL_BYTES); done += length)
            if (ek_presence_read(reader, at + done, entries, length) == EK_PRESENT)
                take_entries(volume, (EkSpan){entries, length});
        link = ek_links_of(&links, EK_LINK_JUDGED, cluster, &cluster);
    }
    ek_links_clear(&links);
}

static EkPresence look_at_fat(EkReader *reader, EkByte at)
{
    static const guint8 first[] = {0xf8, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff};
    guint8 start[sizeof first];
    EkPresence part = ek_presence_read(reader, at, start, sizeof start);
    return part == EK_PRESENT && memcmp(start, first, sizeof first) != 0 ? EK_ABSENT : part;
}

static void take_properties(EkVolume *volume, const EkExfatBoot *boot)
{
    ek_volume_property_number(volume, "bytes per sector", boot->sector_size);
    ek_volume_property_number(volume, "bytes per cluster", boot->cluster_bytes);
    ek_volume_property_number(volume, "clusters", boot->clusters);
    ek_volume_property_number(volume, "FAT begins at sector", boot->fat_sector);
    ek_volume_property_number(volume, "sectors of the FAT", boot->fat_sectors);
    ek_volume_property_number(volume, "clusters begin at sector", boot->heap_sector);
    ek_volume_property_number(volume, "root folder begins at cluster", boot->root_cluster);
}

/* The byte on the drive where a cluster begins. */
static EkByte cluster_byte(const EkExfatBoot *boot, EkByte first_byte, guint32 cluster)
{
    return first_byte + (EkByte)boot->heap_sector * boot->sector_size +
           (EkByte)(cluster - 2) * boot->cluster_bytes;
}

/* What stands where the boot sector says. TRUE when enough of it does. */
static gboolean weigh_places(EkReader *reader, EkVolume *volume, const EkExfatBoot *boot,
                             gboolean by_regions)
{
    EkByte fat = volume->first_byte + (EkByte)boot->fat_sector * boot->sector_size;
    EkByte root = cluster_byte(boot, volume->first_byte, boot->root_cluster);
    volume->metadata_byte = root;
    EkPresence table = look_at_fat(reader, fat);
    EkPresence folder = look_at_root(reader, volume, boot, root);
    volume->root_is_lost = folder == EK_ABSENT;
    ek_presence_reason(volume, table, "the FAT", fat, 25);
    ek_presence_reason(volume, folder, "the root folder", root, 35);
    if (folder == EK_PRESENT && volume->label == NULL)
        find_label(reader, volume, boot);
    gboolean unread = table == EK_UNREAD && folder == EK_UNREAD;
    return table == EK_PRESENT || folder == EK_PRESENT || (unread && by_regions);
}

void ek_exfat_weigh(EkReader *reader, EkVolume *volume, const EkExfatBoot *boot)
{
    take_properties(volume, boot);
    ek_header_end(volume, weigh_places(reader, volume, boot, FALSE));
}

EkVolume *ek_exfat_measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 data[EK_HEADER_BYTES];
    EkExfatBoot boot;
    g_autoptr(EkVolume) volume =
        ek_header_begin("exfat", reader, candidate, data, sizeof data, error);
    if (volume == NULL || !ek_exfat_boot_read((EkSpan){data, sizeof data}, &boot))
        return g_steal_pointer(&volume);
    volume->bytes = boot.sectors * boot.sector_size;
    volume->own_sector_size = boot.sector_size;
    volume->uuid = g_strdup_printf("%04X-%04X", boot.serial >> 16, boot.serial & 0xffff);
    take_properties(volume, &boot);

    EkByte backup = candidate->first_byte + (EkByte)REGION_SECTORS * boot.sector_size;
    EkPresence main_region = look_at_region(reader, &boot, data, candidate->first_byte);
    EkPresence backup_region = look_at_region(reader, &boot, data, backup);
    ek_presence_reason(volume, main_region, "the main boot region, its checksum right,",
                       candidate->first_byte, 20);
    ek_presence_reason(volume, backup_region, "the backup boot region, its checksum right,", backup,
                       15);
    gboolean stands = weigh_places(reader, volume, &boot,
                                   main_region == EK_PRESENT || backup_region == EK_PRESENT);
    if (boot.partition_sector != 0 &&
        boot.partition_sector == volume->first_byte / boot.sector_size)
        ek_volume_reason(volume, 5, "its own header gives this start sector");
    /* Two regions that agree are a volume, even if nothing else of it is left. */
    ek_header_end(volume, stands || (main_region == EK_PRESENT && backup_region == EK_PRESENT));
    return g_steal_pointer(&volume);
}

/* The bitmap has a bit a cluster. It lies in one piece on every volume that was not made to have it
 * otherwise. */
EkUsage ek_exfat_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same)
{
    guint8 entries[ROOT_LOOKED_AT];
    EkExfatBoot boot;
    if (!ek_exfat_boot_read(ek_volume_header(volume), &boot))
        return EK_USAGE_UNKNOWN;
    EkByte heap = (EkByte)boot.heap_sector * boot.sector_size;
    EkByte inside = range.first - volume->first_byte;
    EkByte root = cluster_byte(&boot, volume->first_byte, boot.root_cluster);
    gsize length = MIN(boot.cluster_bytes, ROOT_LOOKED_AT);
    EkSpan span = {entries, length};
    if (inside < heap) {
        *same = heap - inside;
        return EK_USAGE_USED;
    }
    guint64 bit = (inside - heap) / boot.cluster_bytes;
    guint64 bits = 0;
    *same = boot.cluster_bytes - (inside - heap) % boot.cluster_bytes;
    if (ek_presence_read(reader, root, entries, length) != EK_PRESENT)
        return EK_USAGE_UNKNOWN;
    for (gsize i = 0; i < length; i += EK_EXFAT_ENTRY_BYTES) {
        guint32 cluster = ek_span_le32(span, i + 20);
        if (entries[i] == EK_EXFAT_BITMAP && cluster >= 2 && cluster - 2 < boot.clusters &&
            bit / 8 < ek_span_le64(span, i + 24) && bit < boot.clusters) {
            EkUsage usage = ek_usage_bits(reader, cluster_byte(&boot, volume->first_byte, cluster),
                                          bit, boot.clusters - bit, &bits);
            *same += (bits - 1) * boot.cluster_bytes;
            return usage;
        }
    }
    return EK_USAGE_UNKNOWN;
}

char *ek_exfat_unclean(EkReader *reader, const EkVolume *volume)
{
    (void)reader;
    gboolean is_dirty = (ek_span_le16(ek_volume_header(volume), STATE) & STATE_DIRTY) != 0;
    return is_dirty && !volume->composed ? g_strdup(EK_UNCLEAN_TEXT) : NULL;
}
