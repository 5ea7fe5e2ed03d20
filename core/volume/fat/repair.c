/* SPDX-License-Identifier: MIT */
/* What makes a FAT volume right again: its boot sectors, each where it differs from the better one;
 * the FAT that is damaged, from the other one; FSInfo, with the free clusters counted. What systems
 * take as it is stays as it is. */
#include "volume/fat/fat.h"
#include "volume/headers.h"

#include <string.h>

#define FATS_MOST ((EkByte)64 << 20) /* bytes of FATs that are written */
#define ROOT_LOOKED_AT 4096u
#define NOT_KNOWN G_MAXUINT32
#define INFO_FREE 488u
#define INFO_NEXT 492u

typedef struct {
    EkReader *reader;
    const EkVolume *volume;
    EkFatBoot boot;
    EkRepairSink sink;
    void *data;
    gboolean has_fats; /* some of a FAT is written */
} Repairing;

static void repair_piece(void *data, guint copy, EkByte at, const guint8 *wanted, gsize length)
{
    Repairing *repairing = data;
    g_autofree char *what = g_strdup_printf("FAT %u", copy + 1);
    g_autofree char *from = g_strdup_printf("FAT %u", 2 - copy);
    repairing->has_fats = TRUE;
    ek_header_repair_range(repairing->reader, "fat", at, wanted, length, what, from,
                           repairing->sink, repairing->data);
}

/* All chains are followed first: which FAT is right is what they tell. */
static void repair_fats(Repairing *repairing, EkOpened *opened, EkLinkTable *links)
{
    EkFileSink nobody = ek_file_sink_none();
    if (links->places.copies < 2)
        return;
    ek_fat_walk(opened, 0, &nobody);
    if (links->differs)
        ek_links_repair(links, FATS_MOST, repair_piece, repairing);
}

/* Where FSInfo is none, or what it counts is of a FAT that is written anew. */
static void repair_info(Repairing *repairing, EkLinkTable *links)
{
    const EkFatBoot *boot = &repairing->boot;
    guint8 there[EK_STEP];
    guint8 wanted[EK_STEP] = {0};
    guint32 free = NOT_KNOWN;
    guint32 next = NOT_KNOWN;
    EkByte at = repairing->volume->first_byte + (EkByte)boot->info_sector * boot->sector_size;
    if (boot->bits != EK_FAT32 || boot->info_sector == 0)
        return;
    EkPresence part = ek_presence_read(repairing->reader, at, there, sizeof there);
    gboolean is_info = part == EK_PRESENT && ek_fat_is_info((EkSpan){there, sizeof there});
    if (part == EK_ABSENT || (is_info && !repairing->has_fats))
        return;
    if (!ek_links_count_free(links, &free, &next))
        free = next = NOT_KNOWN;
    memcpy(wanted, "RRaA", 4);
    memcpy(wanted + 484, "rrAa", 4);
    ek_put_le16(wanted + 510, 0xaa55);
    ek_put_le32(wanted + INFO_FREE, free);
    ek_put_le32(wanted + INFO_NEXT, next);
    ek_header_repair_range(repairing->reader, "fat-info", at, wanted, sizeof wanted, "FSInfo",
                           "the free clusters of the FAT, counted", repairing->sink,
                           repairing->data);
}

/* A composed boot sector repeats the label that the root folder has. */
static void take_label(const Repairing *repairing, guint8 *sector)
{
    guint8 start[ROOT_LOOKED_AT];
    guint8 *label = sector + (repairing->boot.bits == EK_FAT32 ? 71 : 43);
    EkRange root = ek_fat_root_range(&repairing->boot, repairing->volume->first_byte);
    gsize length = (gsize)MIN(root.bytes, sizeof start);
    memcpy(label, "NO NAME    ", 11);
    if (ek_presence_read(repairing->reader, root.first, start, length) == EK_PRESENT)
        g_free(ek_fat_label_of((EkSpan){start, length}, label));
    label[-5] = 0x29; /* serial number and label are there */
}

static void repair_boot(Repairing *repairing)
{
    EkVolume header = *repairing->volume;
    const EkFatBoot *boot = &repairing->boot;
    guint8 own[EK_HEADER_BYTES];
    guint8 copy[EK_HEADER_BYTES];
    EkByte first = header.first_byte;
    EkByte backup = first + (EkByte)boot->backup_sector * boot->sector_size;
    memcpy(own, header.header, sizeof own);
    header.header = own;
    if (header.composed)
        take_label(repairing, own);
    if (ek_header_look(repairing->reader, first, repairing->volume->header, EK_HEADER_BYTES,
                       copy) != EK_HEADER_AGREES)
        ek_header_repair(&header, first, "boot sector", repairing->sink, repairing->data);
    if (boot->backup_sector == 0)
        return;
    EkHeaderState state =
        ek_header_look(repairing->reader, backup, repairing->volume->header, EK_HEADER_BYTES, copy);
    EkFatBoot other;
    /* A whole one that says the same place for everything is right enough: only what boots, and
     * what it is called, may differ. */
    gboolean is_whole =
        state == EK_HEADER_DIFFERS && ek_fat_boot_read((EkSpan){copy, sizeof copy}, &other) &&
        other.data_start == boot->data_start && other.bytes == boot->bytes &&
        other.cluster_bytes == boot->cluster_bytes && other.fat_bytes == boot->fat_bytes &&
        other.root_cluster == boot->root_cluster;
    if (state == EK_HEADER_UNREAD || (state == EK_HEADER_DIFFERS && !is_whole))
        ek_header_repair(&header, backup, "backup boot sector", repairing->sink, repairing->data);
}

gboolean ek_fat_repair(EkReader *reader, const EkVolume *volume, EkRepairSink sink, void *data,
                       GError **error)
{
    Repairing repairing = {.reader = reader, .volume = volume, .sink = sink, .data = data};
    if (!ek_fat_boot_read(ek_volume_header(volume), &repairing.boot))
        return ek_error_set(error, EK_ERROR_DAMAGED, "the saved boot sector is invalid");
    EkOpened *opened = ek_fat_open(reader, volume, error);
    if (opened == NULL)
        return FALSE;
    repair_boot(&repairing);
    /* The FATs of an earlier volume are gone: what stands there is not counted. */
    if (!volume->is_earlier) {
        repair_fats(&repairing, opened, ek_fat_links_of(opened));
        repair_info(&repairing, ek_fat_links_of(opened));
    }
    ek_fat_close(opened);
    return TRUE;
}
