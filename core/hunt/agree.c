/* SPDX-License-Identifier: MIT */
/* From traces to volumes: what each boot sector claims is measured, as the primary and as the
 * backup of its volume; claims that speak of one place and one serial number are one volume. */
#include "hunt/hunt.h"

#include <string.h>

#define LISTED_POINTS 5

const char *ek_standing_name(EkStanding standing)
{
    switch (standing) {
    case EK_STANDING_LISTED: return "listed";
    case EK_STANDING_DISPLACED: return "displaced";
    case EK_STANDING_LOST: break;
    }
    return "lost";
}

gboolean ek_hunt_current_table(EkGate *gate, guint32 sector_size, EkTable *table, gboolean *unread)
{
    guint8 start[EK_HEADER_MOST];
    EkKnown known = {0};
    *unread = FALSE;
    if (!ek_gate_read(gate, 0, start, sizeof start, &known, NULL))
        return FALSE;
    *unread = known.good < sizeof start;
    EkClaim claims[EK_CLAIMS_MOST];
    for (gsize i = 0; ek_file_systems[i] != NULL; i++)
        if (ek_file_systems[i]->recognise((EkSpan){start, sizeof start}, 0, claims) > 0)
            return FALSE; /* a volume without a table begins here */
    return ek_table_mbr.read((EkSpan){start, sizeof start}, sector_size, table);
}

static EkStanding standing_of(EkVolume *volume, const EkTable *table)
{
    for (guint i = 0; table != NULL && i < table->count; i++) {
        const EkTableEntry *entry = &table->entries[i];
        if (ek_mbr_other_ruler(entry->type) != NULL) {
            ek_volume_reason(volume, 0,
                             "the drive is ruled by a %s, which this version does not read",
                             ek_mbr_other_ruler(entry->type));
            return EK_STANDING_LOST;
        }
        if (entry->extended || !ek_ranges_overlap(entry->range, ek_volume_range(volume)))
            continue;
        guint8 type = ek_mbr_type_for(volume->filesystem);
        gboolean fits = entry->range.first == volume->first_byte &&
                        entry->range.bytes >= volume->bytes &&
                        entry->range.bytes - volume->bytes < 1u << 20;
        /* Some types have several bytes in use: the family of the name decides. */
        gboolean type_fits =
            entry->type == type ||
            g_str_has_prefix(ek_mbr_type_name(entry->type), ek_mbr_type_name(type)) ||
            g_str_has_prefix(ek_mbr_type_name(type), ek_mbr_type_name(entry->type));
        if (fits && type_fits) {
            ek_volume_reason(volume, LISTED_POINTS, "the partition table lists it as partition %u",
                             entry->index + 1);
            return EK_STANDING_LISTED;
        }
        ek_volume_reason(volume, 0, "the partition table has partition %u here, with another %s",
                         entry->index + 1,
                         entry->range.first != volume->first_byte ? "start"
                         : !fits                                  ? "length"
                                                                  : "type");
        return EK_STANDING_DISPLACED;
    }
    ek_volume_reason(volume, 0, "%s",
                     table != NULL ? "the partition table does not list it"
                                   : "there is no partition table to list it");
    return EK_STANDING_LOST;
}

static gboolean is_same(const EkVolume *a, const EkVolume *b)
{
    return a->format == b->format && a->first_byte == b->first_byte &&
           g_strcmp0(a->uuid, b->uuid) == 0 && g_str_equal(a->filesystem, b->filesystem);
}

static gboolean is_better(const EkVolume *a, const EkVolume *b)
{
    if (a->confidence != b->confidence)
        return a->confidence > b->confidence;
    return a->header_byte < b->header_byte;
}

static void finding_free(gpointer data)
{
    EkFinding *finding = data;
    ek_volume_free(finding->volume);
    g_free(finding);
}

static void take_volume(GPtrArray *findings, EkVolume *volume)
{
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        if (!is_same(finding->volume, volume))
            continue;
        if (is_better(volume, finding->volume)) {
            ek_volume_free(finding->volume);
            finding->volume = volume;
        } else {
            ek_volume_free(volume);
        }
        return;
    }
    EkFinding *finding = g_new0(EkFinding, 1);
    finding->volume = volume;
    g_ptr_array_add(findings, finding);
}

static gint by_place(gconstpointer a, gconstpointer b)
{
    const EkVolume *left = (*(const EkFinding *const *)a)->volume;
    const EkVolume *right = (*(const EkFinding *const *)b)->volume;
    if (left->first_byte != right->first_byte)
        return left->first_byte < right->first_byte ? -1 : 1;
    if (left->confidence != right->confidence)
        return left->confidence > right->confidence ? -1 : 1;
    return g_strcmp0(left->uuid, right->uuid);
}

static gboolean measure_trace(EkGate *gate, const EkTrace *trace, GPtrArray *findings,
                              GError **error)
{
    const EkFileSystem *format = ek_file_system_for(trace->format);
    EkClaim claims[EK_CLAIMS_MOST];
    EkSpan span = {trace->header, trace->header_length};
    guint count = format != NULL ? format->recognise(span, trace->first_byte, claims) : 0;
    for (guint i = 0; i < count; i++) {
        EkVolume *volume = format->measure(gate, &claims[i], error);
        if (volume == NULL)
            return FALSE;
        if (volume->stands)
            take_volume(findings, volume);
        else
            ek_volume_free(volume);
    }
    return TRUE;
}

GPtrArray *ek_hunt_agree(EkGate *gate, guint32 sector_size, const GPtrArray *traces, GError **error)
{
    g_autoptr(GPtrArray) findings = g_ptr_array_new_with_free_func(finding_free);
    EkTable table;
    gboolean unread = FALSE;
    gboolean has_table = ek_hunt_current_table(gate, sector_size, &table, &unread);
    for (guint i = 0; i < traces->len; i++) {
        const EkTrace *trace = traces->pdata[i];
        if (g_str_equal(trace->kind, "boot-sector") && !measure_trace(gate, trace, findings, error))
            return NULL;
    }
    for (guint i = 0; i < findings->len; i++) {
        EkFinding *finding = findings->pdata[i];
        finding->standing = standing_of(finding->volume, has_table ? &table : NULL);
    }
    g_ptr_array_sort(findings, by_place);
    return g_steal_pointer(&findings);
}
