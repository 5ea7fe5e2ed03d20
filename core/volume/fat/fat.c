/* SPDX-License-Identifier: MIT */
/* FAT12, FAT16 and FAT32 volumes: found by their boot sector (FAT32: or its backup), believed when
 * FAT and root folder are where it says. */
#include "volume/fat/fat.h"
#include "volume/formats.h"
#include "volume/headers.h"

#define ENTRY_BYTES 32u
#define ATTRIBUTE_LABEL 0x08u

static const EkSignature signatures[] = {
    {.offset = 510, .length = 2, .bytes = {0x55, 0xaa}},
};

static const EkSignature record_signatures[] = {
    {.offset = 0, .length = 8, .bytes = {'.', ' ', ' ', ' ', ' ', ' ', ' ', ' '}},
    {.offset = 0, .length = 3, .bytes = {0xf8, 0xff, 0xff}},
};

static guint recognise(EkSpan span, EkByte at, EkClaim claims[EK_CLAIMS_MOST])
{
    EkFatBoot boot;
    if (!ek_fat_boot_read(span, &boot))
        return 0;
    guint count = 0;
    claims[count++] = (EkClaim){at, at, EK_ROLE_PRIMARY};
    EkByte before = (EkByte)boot.backup_sector * boot.sector_size;
    if (before > 0 && before <= at)
        claims[count++] = (EkClaim){at - before, at, EK_ROLE_BACKUP};
    return count;
}

/* The first two entries of a FAT hold the media byte and nothing but ones. */
static EkPart look_at_fat(EkGate *gate, const EkFatBoot *boot, EkByte at)
{
    guint8 start[8];
    EkPart part = ek_part_read(gate, at, start, sizeof start);
    if (part != EK_PART_THERE)
        return part;
    gboolean there = start[0] == boot->media && start[1] == 0xff;
    if (boot->bits == EK_FAT12)
        there = there && start[2] == 0xff;
    else if (boot->bits == EK_FAT16)
        there = there && start[2] >= 0xf8;
    else
        there = there && start[2] == 0xff && (start[3] & 0x0f) == 0x0f && start[4] >= 0xf8 &&
                start[5] == 0xff;
    return there ? EK_PART_THERE : EK_PART_ABSENT;
}

static EkPart weigh_fats(EkGate *gate, EkVolume *volume, const EkFatBoot *boot)
{
    EkPart best = EK_PART_ABSENT;
    for (guint32 copy = 0; copy < MIN(boot->fats, 2); copy++) {
        EkByte at = volume->first_byte + boot->fat_start + copy * boot->fat_bytes;
        EkPart state = look_at_fat(gate, boot, at);
        EkSector sector = at / EK_STEP;
        if (state == EK_PART_THERE)
            ek_volume_reason(volume, copy == 0 ? 30 : 10,
                             "FAT %u begins at sector %" G_GUINT64_FORMAT " as it says", copy + 1,
                             sector);
        else
            ek_volume_reason(volume, 0, "FAT %u %s at sector %" G_GUINT64_FORMAT "%s", copy + 1,
                             state == EK_PART_UNREAD ? "could not be checked" : "is not", sector,
                             state == EK_PART_UNREAD ? ": not read" : "");
        if (state == EK_PART_THERE || (state == EK_PART_UNREAD && best != EK_PART_THERE))
            best = state;
    }
    return best;
}

/* Formatting dates the label; whatever is written to the root folder later dates itself. */
static void take_moments(EkVolume *volume, EkSpan root)
{
    for (gsize at = 0; at + ENTRY_BYTES <= root.length && ek_span_u8(root, at) != 0;
         at += ENTRY_BYTES) {
        guint8 attributes = ek_span_u8(root, at + 11);
        if ((attributes & 0x3f) == 0x0f)
            continue;
        EkMoment written = ek_moment_dos(ek_span_le16(root, at + 24), ek_span_le16(root, at + 22));
        if ((attributes & ATTRIBUTE_LABEL) != 0)
            volume->created = written;
        else
            ek_moment_advance(&volume->used, written);
    }
}

static EkPart weigh_root(EkGate *gate, EkVolume *volume, const EkFatBoot *boot)
{
    EkByte at = volume->first_byte + boot->root_start;
    gsize length = (gsize)MIN(boot->root_bytes, 4096);
    EkPart state = EK_PART_THERE;
    if (boot->bits == EK_FAT32) {
        EkFatTable table;
        guint32 next = 0;
        ek_fat_table_init(&table, gate, boot, volume->first_byte, EK_FAT_GLANCE);
        EkFatLink link = ek_fat_table_link(&table, boot->root_cluster, &next);
        ek_fat_table_clear(&table);
        /* Where the boot sector is gone the first FAT often is, too. */
        if ((link == EK_LINK_FREE || link == EK_LINK_BAD) && !volume->composed)
            state = EK_PART_ABSENT;
        at = ek_fat_cluster_byte(boot, volume->first_byte, boot->root_cluster);
        length = MIN(boot->cluster_bytes, 4096);
    }
    guint8 start[4096];
    EkPart part = ek_part_read(gate, at, start, length);
    if (part == EK_PART_ABSENT)
        state = EK_PART_ABSENT;
    else if (part == EK_PART_UNREAD && state == EK_PART_THERE)
        state = EK_PART_UNREAD;
    else if (!ek_fat_is_folder((EkSpan){start, length}))
        state = EK_PART_ABSENT;

    EkSector sector = at / EK_STEP;
    if (state == EK_PART_THERE) {
        ek_volume_reason(volume, 20, "the root folder is at sector %" G_GUINT64_FORMAT, sector);
        volume->label = ek_fat_label_of((EkSpan){start, length});
        take_moments(volume, (EkSpan){start, length});
    } else {
        ek_volume_reason(volume, 0, "the root folder %s at sector %" G_GUINT64_FORMAT "%s",
                         state == EK_PART_UNREAD ? "could not be checked" : "is not", sector,
                         state == EK_PART_UNREAD ? ": not read" : "");
    }
    return state;
}

static void weigh_wide(EkGate *gate, EkVolume *volume, const EkFatBoot *boot)
{
    guint8 copy[EK_HEADER_MOST];
    EkKnown known;
    if (boot->backup_sector != 0) {
        EkByte at = volume->first_byte + (EkByte)boot->backup_sector * boot->sector_size;
        ek_header_reason(volume, ek_header_look(gate, at, volume->header, EK_HEADER_MOST, copy),
                         "backup boot sector", at, 15);
    }
    EkByte info = volume->first_byte + (EkByte)boot->info_sector * boot->sector_size;
    if (boot->info_sector != 0 && ek_gate_read(gate, info, copy, sizeof copy, &known, NULL) &&
        ek_fat_is_info((EkSpan){copy, sizeof copy}))
        ek_volume_reason(volume, 5, "the information sector is at sector %" G_GUINT64_FORMAT,
                         info / EK_STEP);
}

void ek_fat_weigh(EkGate *gate, EkVolume *volume, const EkFatBoot *boot)
{
    ek_volume_term_number(volume, "bytes a sector", boot->sector_size);
    ek_volume_term_number(volume, "bytes a cluster", boot->cluster_bytes);
    ek_volume_term_number(volume, "clusters", boot->clusters);
    ek_volume_term_number(volume, "reserved sectors", boot->reserved_sectors);
    ek_volume_term_number(volume, "FATs", boot->fats);
    ek_volume_term_number(volume, "sectors a FAT", boot->fat_bytes / boot->sector_size);
    if (boot->bits == EK_FAT32)
        weigh_wide(gate, volume, boot);
    volume->core_byte = volume->first_byte + boot->fat_start;
    EkPart fat = weigh_fats(gate, volume, boot);
    EkPart root = weigh_root(gate, volume, boot);
    if (!volume->composed && boot->hidden_sectors != 0 &&
        (EkByte)boot->hidden_sectors * boot->sector_size == volume->first_byte)
        ek_volume_reason(volume, 5, "it says itself that it begins at this sector");

    volume->stands = fat != EK_PART_ABSENT && root != EK_PART_ABSENT;
    if (!volume->stands)
        ek_volume_reason(volume, -100, "FAT and root folder are not where it says: no volume");
}

static EkVolume *measure(EkGate *gate, const EkClaim *claim, GError **error)
{
    guint8 other[EK_HEADER_MOST];
    EkFatBoot boot;
    g_autoptr(EkVolume) volume =
        ek_header_begin(&ek_fs_fat, "fat32", gate, claim, other, sizeof other, error);
    if (volume == NULL || !ek_fat_boot_read((EkSpan){volume->header, EK_HEADER_MOST}, &boot))
        return g_steal_pointer(&volume);

    volume->filesystem = ek_fat_name(boot.bits);
    volume->bytes = boot.bytes;
    volume->own_sector_size = boot.sector_size;
    if (boot.has_serial)
        volume->uuid = g_strdup_printf("%04X-%04X", boot.serial >> 16, boot.serial & 0xffff);

    ek_header_reason(volume,
                     ek_header_look(gate, claim->first_byte, volume->header, EK_HEADER_MOST, other),
                     "boot sector", claim->first_byte, 20);
    ek_fat_weigh(gate, volume, &boot);
    return g_steal_pointer(&volume);
}

static EkUsage use(EkGate *gate, const EkVolume *volume, EkByte at)
{
    EkFatBoot boot;
    EkFatTable table;
    guint32 next = 0;
    if (!ek_fat_boot_read((EkSpan){volume->header, EK_HEADER_MOST}, &boot))
        return EK_USAGE_UNKNOWN;
    EkByte inside = at - volume->first_byte;
    if (inside < boot.data_start)
        return EK_USAGE_USED;
    guint64 cluster = (inside - boot.data_start) / boot.cluster_bytes + 2;
    if (cluster > G_MAXUINT32 || !ek_fat_cluster_exists(&boot, (guint32)cluster))
        return EK_USAGE_FREE;
    ek_fat_table_init(&table, gate, &boot, volume->first_byte, EK_FAT_GLANCE);
    EkFatLink link = ek_fat_table_link(&table, (guint32)cluster, &next);
    ek_fat_table_clear(&table);
    return link == EK_LINK_FREE      ? EK_USAGE_FREE
           : link == EK_LINK_UNKNOWN ? EK_USAGE_UNKNOWN
                                     : EK_USAGE_USED;
}

/* FAT32: the information sector, a copy of which stands behind the backup boot sector. */
static void mend_info(EkGate *gate, const EkVolume *volume, const EkFatBoot *boot, EkMendSink sink,
                      void *data)
{
    guint8 there[EK_STEP];
    guint8 copy[EK_STEP];
    guint16 sector = ek_span_le16((EkSpan){volume->header, EK_HEADER_MOST}, 48);
    EkByte at = volume->first_byte + (EkByte)sector * boot->sector_size;
    EkByte backup = at + (EkByte)boot->backup_sector * boot->sector_size;
    if (sector == 0 || sector >= boot->backup_sector ||
        (ek_part_read(gate, at, there, sizeof there) == EK_PART_THERE &&
         ek_fat_is_info((EkSpan){there, sizeof there})) ||
        ek_part_read(gate, backup, copy, sizeof copy) != EK_PART_THERE ||
        !ek_fat_is_info((EkSpan){copy, sizeof copy}))
        return;
    g_autofree char *from =
        g_strdup_printf("the copy at sector %" G_GUINT64_FORMAT, backup / EK_STEP);
    ek_header_mend_range(gate, "fat-info", at, copy, sizeof copy, "information sector", from, sink,
                         data);
}

static gboolean mend(EkGate *gate, const EkVolume *volume, EkMendSink sink, void *data,
                     GError **error)
{
    EkFatBoot boot;
    guint8 copy[EK_HEADER_MOST];
    if (!ek_fat_boot_read((EkSpan){volume->header, EK_HEADER_MOST}, &boot))
        return ek_error_set(error, EK_ERROR_DAMAGED, "the kept boot sector is none");
    if (ek_header_look(gate, volume->first_byte, volume->header, EK_HEADER_MOST, copy) !=
        EK_HEADER_AGREES)
        ek_header_mend(volume, volume->first_byte, "boot sector", sink, data);
    EkByte backup = volume->first_byte + (EkByte)boot.backup_sector * boot.sector_size;
    if (boot.backup_sector == 0)
        return TRUE;
    EkHeaderState state = ek_header_look(gate, backup, volume->header, EK_HEADER_MOST, copy);
    if (state == EK_HEADER_UNREAD || state == EK_HEADER_DIFFERS)
        ek_header_mend(volume, backup, "backup boot sector", sink, data);
    mend_info(gate, volume, &boot, sink, data);
    return TRUE;
}

static EkByte backup(const EkVolume *volume)
{
    EkFatBoot boot;
    if (!ek_fat_boot_read((EkSpan){volume->header, EK_HEADER_MOST}, &boot) ||
        boot.backup_sector == 0)
        return EK_UNPLACED;
    return volume->first_byte + (EkByte)boot.backup_sector * boot.sector_size;
}

const EkFileSystem ek_fs_fat = {
    .name = "fat",
    .signatures = signatures,
    .signature_count = G_N_ELEMENTS(signatures),
    .recognise = recognise,
    .measure = measure,
    .record_signatures = record_signatures,
    .record_signature_count = G_N_ELEMENTS(record_signatures),
    .record = ek_fat_record_seen,
    .infer = ek_fat_infer,
    .mend = mend,
    .use = use,
    .structure = "fat-boot",
    .header_bytes = EK_HEADER_MOST,
    .explain = ek_fat_boot_explain,
    .backup = backup,
    .open = ek_fat_open,
    .close = ek_fat_close,
    .root = ek_fat_root,
    .walk = ek_fat_walk,
};
