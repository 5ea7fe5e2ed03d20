/* SPDX-License-Identifier: MIT */
/* What each volume is to the current table and to the others: listed, lost, displaced; the remains
 * of an older layout; or nothing but a file of another volume. */
#include "hunt/hunt.h"

#include <string.h>

#define LISTED_POINTS 5
#define OLDER_POINTS 5
#define SLACK_BYTES (1u << 20) /* a partition may be so much longer than its volume */

const char *ek_standing_name(EkStanding standing)
{
    switch (standing) {
    case EK_STANDING_LISTED: return "listed";
    case EK_STANDING_DISPLACED: return "displaced";
    case EK_STANDING_REMAINS: return "remains";
    case EK_STANDING_NESTED: return "nested";
    case EK_STANDING_LOST: break;
    }
    return "lost";
}

/* --- the current table ---------------------------------------------------------------------- */

static gboolean type_fits(const EkTable *table, const EkTableEntry *entry, const EkVolume *volume)
{
    if (!g_str_equal(table->scheme, "mbr"))
        return TRUE; /* what a GPT or a map says of content is too coarse */
    guint8 type = ek_mbr_type_for(volume->filesystem);
    /* Some types have several bytes in use: the family of the name decides. */
    return type == 0 || entry->type == type ||
           g_str_has_prefix(ek_mbr_type_name(entry->type), ek_mbr_type_name(type)) ||
           g_str_has_prefix(ek_mbr_type_name(type), ek_mbr_type_name(entry->type));
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
            ek_volume_reason(
                volume, LISTED_POINTS,
                "the partition table lists it as partition %u, if it counts in sectors "
                "of %u bytes: it was written through another adapter than this image",
                entry.index + 1, sizes[s]);
            return TRUE;
        }
    return FALSE;
}

static EkStanding standing_by_table(EkVolume *volume, const EkTable *table, guint32 sector_size)
{
    const EkTableEntry *near = NULL;
    for (guint i = 0; table != NULL && i < table->count; i++) {
        const EkTableEntry *entry = &table->entries[i];
        if (entry->extended || ek_mbr_other_ruler(entry->type) != NULL ||
            !ek_ranges_overlap(entry->range, ek_volume_range(volume)))
            continue;
        if (place_fits(entry, volume) && type_fits(table, entry, volume)) {
            ek_volume_reason(volume, LISTED_POINTS, "the partition table lists it as partition %u",
                             entry->index + 1);
            if (table->sector_size == sector_size || g_str_equal(table->scheme, "apm"))
                return EK_STANDING_LISTED;
            ek_volume_reason(volume, 0,
                             "the table counts in sectors of %u bytes, this image in %u: through "
                             "this adapter a system does not see it",
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
    ek_volume_reason(volume, 0, "%s",
                     table != NULL ? "the partition table does not list it"
                                   : "there is no partition table to list it");
    return EK_STANDING_LOST;
}

/* A table that stands elsewhere, or in a copy, and names just this volume. */
static void weigh_history(EkVolume *volume, const EkTable *current, const GPtrArray *tables)
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
                             table->scheme, table->first_byte / EK_STEP);
            return;
        }
    }
}

static void weigh_end(EkGate *gate, EkVolume *volume)
{
    EkByte end = volume->first_byte + volume->bytes;
    EkByte limit = ek_gate_bytes(gate);
    if (end > limit)
        ek_volume_reason(volume, 0,
                         "it ends %" G_GUINT64_FORMAT
                         " sectors of 512 past the end of this image (sectors %" G_GUINT64_FORMAT
                         " to %" G_GUINT64_FORMAT
                         " are missing): the drive was larger, or its adapter hides the tail",
                         (end - limit) / EK_STEP, limit / EK_STEP, end / EK_STEP - 1);
}

/* --- what lies on what ---------------------------------------------------------------------- */

static gint64 latest(const EkVolume *volume)
{
    gint64 created = volume->created.is_set ? volume->created.seconds : 0;
    gint64 used = volume->used.is_set ? volume->used.seconds : 0;
    return MAX(created, used);
}

static gboolean covers(const EkVolume *volume, EkByte at)
{
    return at >= volume->first_byte && at - volume->first_byte < volume->bytes;
}

/* Which of two that lie on the same ground is the newer one: above 0 the first. */
static int compare_age(const EkFinding *a, const EkFinding *b, const char **why)
{
    const EkVolume *left = a->volume;
    const EkVolume *right = b->volume;
    *why = "the partition table lists it";
    if ((a->standing == EK_STANDING_LISTED) != (b->standing == EK_STANDING_LISTED))
        return a->standing == EK_STANDING_LISTED ? 1 : -1;
    /* Whose first header is gone where the other one begins was overwritten by it. */
    *why = "it stands where the other's first header was";
    if (left->by_backup && !right->by_backup && covers(right, left->first_byte))
        return -1;
    if (right->by_backup && !left->by_backup && covers(left, right->first_byte))
        return 1;
    *why = "it was used later";
    if (latest(left) != latest(right) && latest(left) > 0 && latest(right) > 0)
        return latest(left) > latest(right) ? 1 : -1;
    *why = "more of it stands";
    return left->confidence - right->confidence;
}

static gboolean is_inside(const EkVolume *inner, const EkVolume *outer)
{
    return inner->first_byte > outer->first_byte &&
           inner->first_byte + inner->bytes <= outer->first_byte + outer->bytes;
}

/* Two that do not contradict each other: a container and what is in it, or two formats that share
 * one volume on purpose. */
static gboolean are_together(const EkVolume *a, const EkVolume *b)
{
    gboolean discs = (g_str_equal(a->filesystem, "iso9660") && g_str_equal(b->filesystem, "udf")) ||
                     (g_str_equal(b->filesystem, "iso9660") && g_str_equal(a->filesystem, "udf"));
    return a->is_container || b->is_container || (discs && a->first_byte == b->first_byte);
}

static void set_remains(EkFinding *older, const EkFinding *newer, const char *why)
{
    if (older->standing == EK_STANDING_REMAINS || older->standing == EK_STANDING_LISTED)
        return;
    older->standing = EK_STANDING_REMAINS;
    older->host = newer;
    ek_volume_reason(older->volume, 0,
                     "a newer volume (%s at sector %" G_GUINT64_FORMAT ") lies on its ground: %s",
                     newer->volume->filesystem, newer->volume->first_byte / EK_STEP, why);
}

/* Where an older volume lay that the newer one does not use yet: it may be whole. */
static void set_remains_in_free(EkFinding *older, const EkFinding *newer)
{
    set_remains(older, newer, "where it begins is free there, so that it may be whole");
    older->in_free = older->standing == EK_STANDING_REMAINS;
}

static void weigh_pair(EkFinding *a, EkFinding *b)
{
    const char *why = NULL;
    if (!ek_ranges_overlap(ek_volume_range(a->volume), ek_volume_range(b->volume)) ||
        are_together(a->volume, b->volume) || is_inside(a->volume, b->volume) ||
        is_inside(b->volume, a->volume))
        return;
    int age = compare_age(a, b, &why);
    if (age > 0)
        set_remains(b, a, why);
    else if (age < 0)
        set_remains(a, b, why);
}

static void set_nested(EkFinding *inner, const EkFinding *host, EkUsage use)
{
    inner->standing = EK_STANDING_NESTED;
    inner->host = host;
    ek_volume_reason(inner->volume, 0,
                     "it lies inside the %s volume at sector %" G_GUINT64_FORMAT
                     ", %s: a file of it",
                     host->volume->filesystem, host->volume->first_byte / EK_STEP,
                     use == EK_USAGE_USED ? "which uses this ground" : "whose extent covers it");
}

/* One that begins inside another: a file of it, what was there before it, or what came after. */
static void weigh_inner(EkGate *gate, EkFinding *inner, EkFinding *outer)
{
    const char *why = NULL;
    if (!is_inside(inner->volume, outer->volume) || are_together(inner->volume, outer->volume) ||
        outer->standing == EK_STANDING_REMAINS || inner->standing == EK_STANDING_NESTED)
        return;
    EkUsage use = outer->volume->format->use != NULL
                      ? outer->volume->format->use(gate, outer->volume, inner->volume->first_byte)
                      : EK_USAGE_UNKNOWN;
    gboolean listed = inner->standing == EK_STANDING_LISTED;
    gboolean outer_listed = outer->standing == EK_STANDING_LISTED;
    if (listed && !outer_listed)
        set_remains(outer, inner, "the partition table lists it");
    else if (use == EK_USAGE_USED)
        set_nested(inner, outer, use);
    else if (use == EK_USAGE_FREE && (outer_listed || compare_age(outer, inner, &why) >= 0))
        set_remains_in_free(inner, outer);
    else if (!outer_listed && compare_age(inner, outer, &why) > 0 && outer->volume->by_backup)
        set_remains(outer, inner, why);
    else
        set_nested(inner, outer, use);
}

static gint by_first(gconstpointer a, gconstpointer b)
{
    const EkRange *left = a;
    const EkRange *right = b;
    return left->first < right->first ? -1 : left->first > right->first;
}

/* How much of it newer volumes lie on, told in the reasons. */
static void count_overwritten(EkFinding *finding, const GPtrArray *findings)
{
    EkRange own = ek_volume_range(finding->volume);
    g_autoptr(GArray) taken = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < findings->len; i++) {
        const EkFinding *other = findings->pdata[i];
        EkRange range = ek_volume_range(other->volume);
        if (other == finding->host && finding->in_free)
            continue;
        if (other != finding && other->standing != EK_STANDING_REMAINS &&
            other->standing != EK_STANDING_NESTED && ek_ranges_overlap(own, range) &&
            !are_together(finding->volume, other->volume))
            g_array_append_val(taken, range);
    }
    g_array_sort(taken, by_first);
    EkByte at = own.first;
    finding->overwritten = 0;
    for (guint i = 0; i < taken->len; i++) {
        EkRange range = g_array_index(taken, EkRange, i);
        EkByte from = MAX(range.first, at);
        EkByte end = MIN(ek_range_end(range), ek_range_end(own));
        if (end > from)
            finding->overwritten += end - from;
        at = MAX(at, end);
    }
    ek_volume_reason(finding->volume, 0, "newer volumes lie on %.1f %% of it",
                     own.bytes > 0 ? (double)finding->overwritten * 100 / (double)own.bytes : 0.0);
}

void ek_hunt_stand(EkGate *gate, guint32 sector_size, const EkTable *current,
                   const GPtrArray *tables, GPtrArray *findings)
{
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        finding->standing = standing_by_table(finding->volume, current, sector_size);
        weigh_history(finding->volume, current, tables);
        weigh_end(gate, finding->volume);
    }
    for (guint i = 0; i < findings->len; i++)
        for (guint k = i + 1; k < findings->len; k++)
            weigh_pair(findings->pdata[i], findings->pdata[k]);
    for (guint i = 0; i < findings->len; i++)
        for (guint k = 0; k < findings->len; k++)
            weigh_inner(gate, findings->pdata[i], findings->pdata[k]);
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        if (finding->standing == EK_STANDING_REMAINS)
            count_overwritten(finding, findings);
    }
}
