/* SPDX-License-Identifier: MIT */
/* FAT12, FAT16 and FAT32 volumes: found by their boot sector (FAT32: or its backup), believed when
 * FAT and root folder are where it says. */
#include "volume/fat/entry.h"
#include "volume/headers.h"

#define ROOT_LOOKED_AT 4096u
#define LINKS_LEAST 32 /* weight of a row of links, each to the next cluster */
#define ROOT_SECTORS 16u
#define CLUSTERS_TRIED 24u
#define SOUND_LEAST 4u

guint ek_fat_recognise(EkSpan span, EkByte at, EkCandidate candidates[EK_CANDIDATES_MOST])
{
    EkFatBoot boot;
    if (!ek_fat_boot_read(span, &boot))
        return 0;
    guint count = 0;
    candidates[count++] = (EkCandidate){at, at, EK_ROLE_PRIMARY};
    EkByte before = (EkByte)boot.backup_sector * boot.sector_size;
    if (before > 0 && before <= at)
        candidates[count++] = (EkCandidate){at - before, at, EK_ROLE_BACKUP};
    return count;
}

/* The first two entries of a FAT hold the media byte and nothing but ones. */
static EkPresence look_at_start(EkReader *reader, const EkFatBoot *boot, EkByte at)
{
    guint8 start[8];
    EkPresence part = ek_presence_read(reader, at, start, sizeof start);
    if (part != EK_PRESENT)
        return part;
    gboolean there = start[0] == boot->media && start[1] == 0xff;
    if (boot->bits == EK_FAT12)
        there = there && start[2] == 0xff;
    else if (boot->bits == EK_FAT16)
        there = there && start[2] >= 0xf8;
    else
        there = there && start[2] == 0xff && (start[3] & 0x0f) == 0x0f && start[4] >= 0xf8 &&
                start[5] == 0xff;
    return there ? EK_PRESENT : EK_ABSENT;
}

/* What stands where the FATs should. */
typedef struct {
    gboolean is_there;  /* one of them begins as it should, or leads to where it should */
    gboolean is_unread; /* none was read */
} Fats;

/* A FAT whose first entries are odd is still one when its links lead where links do. */
static Fats weigh_fats(EkReader *reader, EkVolume *volume, const EkFatBoot *boot)
{
    EkLinkTable links;
    EkLinkPlaces places = ek_fat_links(boot, volume->first_byte);
    Fats fats = {.is_unread = TRUE};
    ek_links_init(&links, reader, &places, EK_FAT_GLANCE);
    for (guint copy = 0; copy < places.copies; copy++) {
        EkSector sector = places.first[copy] / EK_STEP;
        EkPresence start = look_at_start(reader, boot, places.first[copy]);
        int weight = ek_links_weigh(&links, (int)copy);
        gboolean is_first = copy == 0;
        fats.is_unread &= start == EK_UNREAD;
        fats.is_there |= start == EK_PRESENT || weight >= LINKS_LEAST;
        if (start == EK_UNREAD)
            ek_volume_reason(volume, 0,
                             "FAT %u at sector %" G_GUINT64_FORMAT " is unread: not checked",
                             copy + 1, sector);
        else if (start == EK_PRESENT && weight >= 0)
            ek_volume_reason(volume, is_first ? 30 : 10,
                             "FAT %u begins at sector %" G_GUINT64_FORMAT " as recorded", copy + 1,
                             sector);
        else if (start == EK_PRESENT || weight >= LINKS_LEAST)
            ek_volume_reason(volume, is_first ? 15 : 5,
                             "FAT %u is at sector %" G_GUINT64_FORMAT ", but damaged", copy + 1,
                             sector);
        else
            ek_volume_reason(volume, 0, "FAT %u is missing at sector %" G_GUINT64_FORMAT, copy + 1,
                             sector);
    }
    ek_links_clear(&links);
    return fats;
}

/* Formatting dates the label; whatever is written to the root folder later dates itself. */
static void take_timestamps(EkVolume *volume, EkSpan root)
{
    for (gsize at = 0; at + EK_FAT_ENTRY_BYTES <= root.length; at += EK_FAT_ENTRY_BYTES) {
        EkFatEntry entry = ek_fat_entry_read(root, at);
        EkTimestamp written = ek_fat_entry_written(&entry);
        if (entry.is_end)
            return;
        if (entry.is_long)
            continue;
        if (entry.is_label)
            volume->created = written;
        else
            ek_timestamp_advance(&volume->used, written);
    }
}

/* Does the FAT call the root folder's first cluster used, as it must? */
static gboolean is_root_linked(EkReader *reader, const EkVolume *volume, const EkFatBoot *boot)
{
    EkLinkTable links;
    EkLinkPlaces places = ek_fat_links(boot, volume->first_byte);
    guint32 next = 0;
    if (boot->bits != EK_FAT32)
        return TRUE;
    ek_links_init(&links, reader, &places, EK_FAT_GLANCE);
    EkLink link = ek_links_of(&links, EK_LINK_JUDGED, boot->root_cluster, &next);
    ek_links_clear(&links);
    return link != EK_LINK_FREE && link != EK_LINK_BAD;
}

/* *sound: entries of it that are right in every field. */
static EkPresence weigh_root(EkReader *reader, EkVolume *volume, const EkFatBoot *boot,
                             guint *sound)
{
    guint8 start[ROOT_LOOKED_AT];
    EkRange root = ek_fat_root_range(boot, volume->first_byte);
    gsize length = (gsize)MIN(root.bytes, sizeof start);
    EkPresence state = ek_presence_read(reader, root.first, start, length);
    EkSpan span = {start, length};
    guint plausible = 0;
    guint all = ek_fat_count_entries(span, &plausible);
    /* An empty one is nothing but zeros, which stand in many places. */
    gboolean is_folder = all == 0 ? is_root_linked(reader, volume, boot) : plausible * 2 > all;
    if (state == EK_PRESENT && !is_folder)
        state = EK_ABSENT;
    *sound = state == EK_PRESENT ? ek_fat_count_sound(span, boot) : 0;

    EkSector sector = root.first / EK_STEP;
    if (state == EK_PRESENT) {
        ek_volume_reason(volume, plausible < all ? 10 : 20,
                         "the root folder is at sector %" G_GUINT64_FORMAT "%s", sector,
                         plausible < all ? ", but some of its entries are damaged" : "");
        volume->label = ek_fat_label_of(span, NULL);
        take_timestamps(volume, span);
    } else if (state == EK_UNREAD) {
        ek_volume_reason(volume, 0,
                         "the root folder at sector %" G_GUINT64_FORMAT " is unread: not checked",
                         sector);
    } else {
        ek_volume_reason(volume, 0, "the root folder is missing at sector %" G_GUINT64_FORMAT,
                         sector);
    }
    return state;
}

static void weigh_wide(EkReader *reader, EkVolume *volume, const EkFatBoot *boot)
{
    guint8 copy[EK_HEADER_BYTES];
    EkKnown known;
    if (boot->backup_sector != 0) {
        EkByte at = volume->first_byte + (EkByte)boot->backup_sector * boot->sector_size;
        ek_header_reason(volume, ek_header_look(reader, at, volume->header, EK_HEADER_BYTES, copy),
                         "backup boot sector", at, 15);
    }
    EkByte info = volume->first_byte + (EkByte)boot->info_sector * boot->sector_size;
    if (boot->info_sector != 0 && ek_reader_read(reader, info, copy, sizeof copy, &known, NULL) &&
        ek_fat_is_info((EkSpan){copy, sizeof copy}))
        ek_volume_reason(volume, 5, "the FSInfo sector is at sector %" G_GUINT64_FORMAT,
                         info / EK_STEP);
}

/* Where neither FAT nor the beginning of the root folder is left: entries farther on in the root
 * folder, and folders that name the cluster they are in, speak for the layout. */
static gboolean weigh_folders(EkReader *reader, EkVolume *volume, const EkFatBoot *boot)
{
    guint8 sector[EK_STEP];
    EkSpan span = {sector, sizeof sector};
    EkRange root = ek_fat_root_range(boot, volume->first_byte);
    guint sound = 0;
    guint folders = 0;
    for (EkByte at = 0; at < MIN(root.bytes, ROOT_SECTORS * EK_STEP); at += EK_STEP)
        if (ek_presence_read(reader, root.first + at, sector, sizeof sector) == EK_PRESENT)
            sound += ek_fat_count_sound(span, boot);
    for (guint32 i = 0; i < MIN(CLUSTERS_TRIED, boot->clusters); i++) {
        /* Some at the beginning, the others spread. */
        guint32 cluster = i < CLUSTERS_TRIED / 2
                              ? i + 2
                              : (guint32)((guint64)boot->clusters * i / CLUSTERS_TRIED) + 2;
        EkFatEntry self;
        EkFatEntry parent;
        folders += ek_presence_read(reader, ek_fat_cluster_byte(boot, volume->first_byte, cluster),
                                    sector, sizeof sector) == EK_PRESENT &&
                   ek_fat_begins_folder(span, &self, &parent) &&
                   ek_fat_entry_cluster(&self, boot->bits) == cluster;
    }
    if (sound < SOUND_LEAST && folders == 0)
        return FALSE;
    ek_volume_reason(
        volume, 20,
        "its FATs are gone; %u entries of the root folder and %u folders are where the "
        "layout has them",
        sound, folders);
    return TRUE;
}

void ek_fat_weigh(EkReader *reader, EkVolume *volume, const EkFatBoot *boot)
{
    ek_volume_property_number(volume, "bytes per sector", boot->sector_size);
    ek_volume_property_number(volume, "bytes per cluster", boot->cluster_bytes);
    ek_volume_property_number(volume, "clusters", boot->clusters);
    ek_volume_property_number(volume, "reserved sectors", boot->reserved_sectors);
    ek_volume_property_number(volume, "FATs", boot->fats);
    ek_volume_property_number(volume, "sectors per FAT", boot->fat_bytes / boot->sector_size);
    if (boot->bits == EK_FAT32)
        weigh_wide(reader, volume, boot);
    volume->metadata_byte = volume->first_byte + boot->fat_start;
    guint sound = 0;
    Fats fats = weigh_fats(reader, volume, boot);
    EkPresence root = weigh_root(reader, volume, boot, &sound);
    volume->root_is_lost = root == EK_ABSENT;
    if (!volume->composed && boot->hidden_sectors != 0 &&
        (EkByte)boot->hidden_sectors * boot->sector_size == volume->first_byte)
        ek_volume_reason(volume, 5, "its own header gives this start sector");

    /* One of them is enough beside a boot sector, and so is a second one; what was not read
     * contradicts nothing. */
    volume->is_confirmed =
        fats.is_there || sound > 0 || volume->headers > 1 || (fats.is_unread && root != EK_ABSENT);
    if (!volume->is_confirmed && volume->headers > 0)
        volume->is_confirmed = weigh_folders(reader, volume, boot);
    if (!volume->is_confirmed)
        ek_volume_reason(volume, -100,
                         "FAT and root folder not found where the header points: not a volume");
}

EkVolume *ek_fat_measure(EkReader *reader, const EkCandidate *candidate, GError **error)
{
    guint8 other[EK_HEADER_BYTES];
    EkFatBoot boot;
    g_autoptr(EkVolume) volume =
        ek_header_begin("fat32", reader, candidate, other, sizeof other, error);
    if (volume == NULL || !ek_fat_boot_read(ek_volume_header(volume), &boot))
        return g_steal_pointer(&volume);

    volume->filesystem = ek_fat_name(boot.bits);
    volume->bytes = boot.bytes;
    volume->own_sector_size = boot.sector_size;
    if (boot.has_serial)
        volume->uuid = g_strdup_printf("%04X-%04X", boot.serial >> 16, boot.serial & 0xffff);

    ek_header_reason(
        volume,
        ek_header_look(reader, candidate->first_byte, volume->header, EK_HEADER_BYTES, other),
        "boot sector", candidate->first_byte, 20);
    ek_fat_weigh(reader, volume, &boot);
    return g_steal_pointer(&volume);
}

static EkUsage usage_of(EkLinkTable *links, guint32 cluster)
{
    guint32 next = 0;
    EkLink link = ek_links_of(links, EK_LINK_JUDGED, cluster, &next);
    return link == EK_LINK_FREE      ? EK_USAGE_FREE
           : link == EK_LINK_UNKNOWN ? EK_USAGE_UNKNOWN
                                     : EK_USAGE_USED;
}

EkUsage ek_fat_use(EkReader *reader, const EkVolume *volume, EkRange range, EkByte *same)
{
    EkFatBoot boot;
    EkLinkTable links;
    if (!ek_fat_boot_read(ek_volume_header(volume), &boot))
        return EK_USAGE_UNKNOWN;
    EkByte inside = range.first - volume->first_byte;
    if (inside < boot.data_start) {
        *same = boot.data_start - inside;
        return EK_USAGE_USED;
    }
    guint64 cluster = (inside - boot.data_start) / boot.cluster_bytes + 2;
    if (cluster > G_MAXUINT32 || !ek_fat_cluster_exists(&boot, (guint32)cluster))
        return EK_USAGE_FREE;
    EkLinkPlaces places = ek_fat_links(&boot, volume->first_byte);
    ek_links_init(&links, reader, &places, EK_FAT_GLANCE);
    EkUsage usage = usage_of(&links, (guint32)cluster);
    *same = boot.cluster_bytes - (inside - boot.data_start) % boot.cluster_bytes;
    for (guint i = 1; i < EK_FAT_GLANCE / 4 && *same < range.bytes; i++) {
        guint32 further = (guint32)cluster + i;
        if (!ek_fat_cluster_exists(&boot, further) || usage_of(&links, further) != usage)
            break;
        *same += boot.cluster_bytes;
    }
    ek_links_clear(&links);
    return usage;
}

/* The second entry of the FAT has a bit that is cleared while the volume is in use; the boot sector
 * one that is set. */
char *ek_fat_unclean(EkReader *reader, const EkVolume *volume)
{
    EkFatBoot boot;
    guint8 start[8];
    EkSpan span = {start, sizeof start};
    EkSpan header = ek_volume_header(volume);
    if (!ek_fat_boot_read(header, &boot))
        return NULL;
    gboolean is_used = (ek_span_u8(header, boot.bits == EK_FAT32 ? 65 : 37) & 1) != 0;
    EkPresence part =
        ek_presence_read(reader, volume->first_byte + boot.fat_start, start, sizeof start);
    if (part == EK_PRESENT && boot.bits == EK_FAT32)
        is_used |= (ek_span_le32(span, 4) & 0x08000000) == 0;
    if (part == EK_PRESENT && boot.bits == EK_FAT16)
        is_used |= (ek_span_le16(span, 2) & 0x8000) == 0;
    return is_used && !volume->composed ? g_strdup(EK_UNCLEAN_TEXT) : NULL;
}

EkByte ek_fat_backup(const EkVolume *volume)
{
    EkFatBoot boot;
    if (!ek_fat_boot_read(ek_volume_header(volume), &boot) || boot.backup_sector == 0)
        return EK_UNPLACED;
    return volume->first_byte + (EkByte)boot.backup_sector * boot.sector_size;
}
