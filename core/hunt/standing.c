/* SPDX-License-Identifier: MIT */
/* What each volume is to the current table: listed, lost, displaced; and what other tables that
 * were found say of it. */
#include "hunt/layers.h"

#include "volume/headers.h"

#include <string.h>

#define LISTED_POINTS 5
#define OLDER_POINTS 5
#define NEIGHBOUR_BYTES (64 * EK_STEP)
#define SLACK_BYTES (1u << 20) /* a partition may be so much longer than its volume */

/* --- the current table ---------------------------------------------------------------------- */

static gboolean type_fits(const EkTable *table, const EkTableEntry *entry, const EkVolume *volume)
{
    if (table->scheme != EK_SCHEME_MBR)
        return TRUE; /* what a GPT or a map says of content is too coarse */
    return ek_mbr_type_fits(entry->type, ek_partition_type_for(volume->filesystem)->mbr);
}

static gboolean place_fits(const EkTableEntry *entry, const EkVolume *volume)
{
    if (entry->range.first != volume->first_byte || entry->range.bytes < volume->bytes)
        return FALSE;
    return volume->length_is_least || entry->range.bytes - volume->bytes < SLACK_BYTES;
}

/* The entry's range, had the table been made for sectors of another size. */
static EkTableEntry resized(const EkTable *table, const EkTableEntry *entry, guint32 sector_size)
{
    EkTableEntry other = *entry;
    other.range.first = entry->range.first / table->sector_size * sector_size;
    other.range.bytes = entry->range.bytes / table->sector_size * sector_size;
    return other;
}

/* A table that was made through another adapter counts in other sectors. TRUE when it names the
 * volume then; says so. */
static gboolean is_listed_in_others(EkVolume *volume, const EkTable *table)
{
    static const guint32 sizes[] = {512, 4096};
    for (gsize s = 0; s < G_N_ELEMENTS(sizes); s++)
        for (guint i = 0; sizes[s] != table->sector_size && i < table->count; i++) {
            EkTableEntry entry = resized(table, &table->entries[i], sizes[s]);
            if (entry.extended || !place_fits(&entry, volume))
                continue;
            ek_volume_reason(volume, LISTED_POINTS,
                             "listed as partition %u if the table uses %u-byte sectors: it was "
                             "written through a different adapter",
                             entry.index + 1, sizes[s]);
            return TRUE;
        }
    return FALSE;
}

static EkStanding standing_by_table(EkVolume *volume, const EkTable *table, guint32 sector_size,
                                    EkByte drive)
{
    const EkTableEntry *near = NULL;
    if (volume->first_byte == 0 && g_str_equal(volume->filesystem, "iso9660")) {
        ek_volume_reason(volume, 0,
                         "it begins in sector 0, as on a disc: no partition table is "
                         "needed");
        return EK_STANDING_TABLELESS;
    }
    for (guint i = 0; table != NULL && i < table->count; i++) {
        const EkTableEntry *entry = &table->entries[i];
        if (entry->extended || ek_mbr_other_ruler(entry->type) != NULL ||
            !ek_ranges_overlap(entry->range, ek_volume_range(volume)))
            continue;
        if (place_fits(entry, volume) && type_fits(table, entry, volume)) {
            ek_volume_reason(volume, LISTED_POINTS, "the partition table lists it as partition %u",
                             entry->index + 1);
            if (table->sector_size == sector_size || table->scheme == EK_SCHEME_APM)
                return EK_STANDING_LISTED;
            ek_volume_reason(volume, 0,
                             "the table uses %u-byte sectors, this image %u-byte sectors: with "
                             "this adapter the system cannot see the partition",
                             table->sector_size, sector_size);
            return EK_STANDING_DISPLACED;
        }
        if (near == NULL || entry->range.first == volume->first_byte)
            near = entry;
    }
    if (table != NULL && is_listed_in_others(volume, table))
        return EK_STANDING_DISPLACED;
    if (near != NULL) {
        ek_volume_reason(volume, 0, "the partition table has partition %u here, with another %s",
                         near->index + 1,
                         near->range.first != volume->first_byte ? "start"
                         : !place_fits(near, volume)             ? "length"
                                                                 : "type");
        return EK_STANDING_DISPLACED;
    }
    if (table == NULL && volume->first_byte == 0 && volume->bytes > drive / 10 * 9) {
        ek_volume_reason(volume, 0,
                         "it begins in sector 0 and fills the drive: no partition table is "
                         "needed");
        return EK_STANDING_TABLELESS;
    }
    ek_volume_reason(volume, 0, "%s",
                     table != NULL ? "the partition table does not list it"
                                   : "the drive has no partition table");
    return EK_STANDING_LOST;
}

/* A table that stands elsewhere, or in a copy, and names just this volume. */
static gboolean weigh_history(EkVolume *volume, const EkTable *current, const GPtrArray *tables)
{
    for (guint i = 0; i < tables->len; i++) {
        const EkTable *table = tables->pdata[i];
        if (table->first_byte == 0 || (current != NULL && table->first_byte == current->first_byte))
            continue;
        for (guint k = 0; k < table->count; k++) {
            const EkTableEntry *entry = &table->entries[k];
            if (entry->extended || !place_fits(entry, volume) || !type_fits(table, entry, volume))
                continue;
            ek_volume_reason(volume, OLDER_POINTS,
                             "a partition table (%s) at sector %" G_GUINT64_FORMAT " names it",
                             ek_scheme_name(table->scheme), table->first_byte / EK_STEP);
            return TRUE;
        }
    }
    return FALSE;
}

static void weigh_end(EkReader *reader, EkVolume *volume)
{
    EkByte end = volume->first_byte + volume->bytes;
    EkByte limit = ek_reader_bytes(reader);
    if (end > limit)
        ek_volume_reason(volume, 0,
                         "it extends %" G_GUINT64_FORMAT
                         " 512-byte sectors past the end of this image (sectors %" G_GUINT64_FORMAT
                         " to %" G_GUINT64_FORMAT
                         "): the drive was larger, or the adapter hides its end",
                         (end - limit) / EK_STEP, limit / EK_STEP, end / EK_STEP - 1);
}

/* Is there a reason for a partition to begin where it does? */
static EkAnchor find_anchor(const EkFinding *finding, const EkTable *current, gboolean is_named)
{
    const EkVolume *volume = finding->volume;
    gboolean begins = FALSE;
    for (guint i = 0; current != NULL && i < current->count; i++)
        begins |=
            !current->entries[i].extended && current->entries[i].range.first == volume->first_byte;
    if (finding->standing == EK_STANDING_LISTED || finding->standing == EK_STANDING_TABLELESS ||
        begins)
        return EK_ANCHOR_TABLE;
    return is_named                                ? EK_ANCHOR_NAMED
           : ek_is_usual_start(volume->first_byte) ? EK_ANCHOR_USUAL
                                                   : EK_ANCHOR_NONE;
}

/* A partition often begins where the one before it ends, which a volume may not quite reach. They
 * are in order of place. */
static void anchor_by_neighbours(const GPtrArray *findings)
{
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        EkByte first = finding->volume->first_byte;
        gboolean is_next = FALSE;
        for (guint k = 0; k < i && !is_next; k++) {
            const EkFinding *before = findings->pdata[k];
            EkByte end = before->volume->first_byte + before->volume->bytes;
            is_next = before->anchor != EK_ANCHOR_NONE && !before->volume->composed &&
                      first >= end && first - end <= NEIGHBOUR_BYTES;
        }
        if (is_next && finding->anchor < EK_ANCHOR_NEXT)
            finding->anchor = finding->anchor == EK_ANCHOR_USUAL ? EK_ANCHOR_NEXT : EK_ANCHOR_USUAL;
    }
}

/* One UUID at two places: one is a copy of the other, as a drive's copy in a file has it. */
static void tell_duplicates(const GPtrArray *findings)
{
    g_autoptr(GHashTable) first = g_hash_table_new(g_str_hash, g_str_equal);
    for (guint i = 0; i < findings->len; i++) {
        const EkFinding *finding = findings->pdata[i];
        EkVolume *volume = finding->volume;
        const EkFinding *other =
            volume->uuid != NULL ? g_hash_table_lookup(first, volume->uuid) : NULL;
        if (volume->uuid != NULL && other == NULL)
            g_hash_table_insert(first, volume->uuid, (gpointer)finding);
        if (other == NULL || other->volume->format != volume->format ||
            ek_ranges_overlap(ek_volume_range(volume), ek_volume_range(other->volume)))
            continue;
        ek_volume_reason(volume, 0,
                         "the volume at sector %" G_GUINT64_FORMAT
                         " has the same UUID: one of them is a copy",
                         other->volume->first_byte / EK_STEP);
        ek_volume_reason(other->volume, 0,
                         "the volume at sector %" G_GUINT64_FORMAT
                         " has the same UUID: one of them is a copy",
                         volume->first_byte / EK_STEP);
    }
}

void ek_hunt_stand(EkReader *reader, guint32 sector_size, const EkTable *current,
                   const GPtrArray *tables, GPtrArray *findings)
{
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        finding->standing =
            standing_by_table(finding->volume, current, sector_size, ek_reader_bytes(reader));
        gboolean is_named = weigh_history(finding->volume, current, tables);
        finding->anchor = find_anchor(finding, current, is_named);
        weigh_end(reader, finding->volume);
    }
    anchor_by_neighbours(findings);
    tell_duplicates(findings);
    ek_hunt_layer(reader, findings);
}
