/* SPDX-License-Identifier: MIT */
/* Choosing the layout: of the volumes that are believed, those with the most evidence that do not
 * overlap; entries of the old table that contradict none of them stay as they are. */
#include "rebuild/plan.h"

#include "base/digest.h"
#include "base/text.h"

#include <string.h>

#define PRIMARIES 4u
#define GAP_BYTES (1u << 20) /* smaller gaps are alignment, not space */
#define LOOK_BYTES (1u << 20)

typedef struct {
    const EkPlanInput *input;
    EkGate *gate; /* as read */
    EkByte bytes;
    guint32 sector_size;
    EkPlan *plan;
    GPtrArray *chosen; /* const EkPlanVolume* in order of position */
    gboolean has_table;
    gboolean table_unread;
    EkTable old;
} Planner;

static void partition_free(gpointer data)
{
    g_free(data);
}

static void repair_free(gpointer data)
{
    EkPlanRepair *repair = data;
    g_free(repair->what);
    g_free(repair->from);
    g_free(repair);
}

EkPlan *ek_plan_new(void)
{
    EkPlan *plan = g_new0(EkPlan, 1);
    plan->partitions = g_ptr_array_new_with_free_func(partition_free);
    plan->repairs = g_ptr_array_new_with_free_func(repair_free);
    plan->edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    plan->warnings = g_ptr_array_new_with_free_func(g_free);
    return plan;
}

void ek_plan_free(EkPlan *plan)
{
    g_free(plan->scheme);
    g_ptr_array_unref(plan->partitions);
    g_ptr_array_unref(plan->repairs);
    g_ptr_array_unref(plan->edits);
    g_ptr_array_unref(plan->warnings);
    g_free(plan);
}

static void warn(Planner *planner, const char *format, ...) G_GNUC_PRINTF(2, 3);

static void warn(Planner *planner, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_ptr_array_add(planner->plan->warnings, g_strdup_vprintf(format, arguments));
    va_end(arguments);
}

static gint by_evidence(gconstpointer a, gconstpointer b)
{
    const EkVolume *left = (*(const EkPlanVolume *const *)a)->volume;
    const EkVolume *right = (*(const EkPlanVolume *const *)b)->volume;
    if (left->confidence != right->confidence)
        return left->confidence > right->confidence ? -1 : 1;
    if (left->bytes != right->bytes)
        return left->bytes > right->bytes ? -1 : 1;
    return left->first_byte < right->first_byte ? -1 : left->first_byte > right->first_byte;
}

static gint by_position(gconstpointer a, gconstpointer b)
{
    const EkVolume *left = (*(const EkPlanVolume *const *)a)->volume;
    const EkVolume *right = (*(const EkPlanVolume *const *)b)->volume;
    return left->first_byte < right->first_byte ? -1 : left->first_byte > right->first_byte;
}

/* FALSE, with a warning, when this volume cannot stand beside those chosen so far. */
static gboolean can_choose(Planner *planner, const EkPlanVolume *candidate)
{
    const EkVolume *volume = candidate->volume;
    EkRange inside;
    if (g_str_equal(candidate->standing, "nested") || g_str_equal(candidate->standing, "remains")) {
        warn(planner, "volume %u (%s) is left out: %s", candidate->number, volume->filesystem,
             g_str_equal(candidate->standing, "nested") ? "it is a file of another volume"
                                                        : "a newer volume lies on its ground");
        return FALSE;
    }
    if (ek_mbr_type_for(volume->filesystem) == 0 || volume->length_is_least) {
        warn(planner, "volume %u (%s) is left out: %s", candidate->number, volume->filesystem,
             volume->length_is_least ? "nothing tells where it ends"
                                     : "it is not kept in a partition");
        return FALSE;
    }
    if (volume->confidence < EK_CONFIDENT) {
        warn(planner, "volume %u (%s) is left out: confidence %d is below %d", candidate->number,
             volume->filesystem, volume->confidence, EK_CONFIDENT);
        return FALSE;
    }
    if (!ek_range_checked(volume->first_byte, volume->bytes, planner->bytes, &inside)) {
        warn(planner,
             "volume %u (%s) is left out: it ends %" G_GUINT64_FORMAT
             " bytes past the end of this drive. Was the drive larger?",
             candidate->number, volume->filesystem,
             volume->first_byte + volume->bytes - planner->bytes);
        return FALSE;
    }
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkPlanVolume *other = planner->chosen->pdata[i];
        if (ek_ranges_overlap(inside, ek_volume_range(other->volume))) {
            warn(planner,
                 "volume %u (%s) is left out: volume %u (%s), which has more evidence, lies on the "
                 "same ground",
                 candidate->number, volume->filesystem, other->number, other->volume->filesystem);
            return FALSE;
        }
    }
    if (planner->chosen->len == PRIMARIES) {
        warn(planner,
             "volume %u (%s) is left out: an MBR has room for four primary partitions, and logical "
             "ones are not made by this version",
             candidate->number, volume->filesystem);
        return FALSE;
    }
    return TRUE;
}

static void choose_volumes(Planner *planner)
{
    g_autoptr(GPtrArray) candidates = g_ptr_array_new();
    for (gsize i = 0; i < planner->input->volume_count; i++)
        g_ptr_array_add(candidates, (gpointer)&planner->input->volumes[i]);
    g_ptr_array_sort(candidates, by_evidence);
    for (guint i = 0; i < candidates->len; i++)
        if (can_choose(planner, candidates->pdata[i]))
            g_ptr_array_add(planner->chosen, candidates->pdata[i]);
    g_ptr_array_sort(planner->chosen, by_position);
}

/* --- the table ------------------------------------------------------------------------------ */

static const EkTableEntry *old_entry_for(const Planner *planner, EkRange range)
{
    for (guint i = 0; planner->has_table && i < planner->old.count; i++)
        if (ek_ranges_overlap(planner->old.entries[i].range, range) &&
            !planner->old.entries[i].extended)
            return &planner->old.entries[i];
    return NULL;
}

static gboolean slot_is_free(const EkTable *table, guint index)
{
    for (guint i = 0; i < table->count; i++)
        if (table->entries[i].index == index)
            return FALSE;
    return TRUE;
}

/* Old entries that no chosen volume contradicts stay: whatever they hold, we know no better. */
static void keep_old_entries(Planner *planner, EkTable *table)
{
    for (guint i = 0; planner->has_table && i < planner->old.count; i++) {
        const EkTableEntry *entry = &planner->old.entries[i];
        gboolean contradicted = FALSE;
        for (guint k = 0; k < planner->chosen->len; k++) {
            const EkPlanVolume *chosen = planner->chosen->pdata[k];
            contradicted =
                contradicted || ek_ranges_overlap(entry->range, ek_volume_range(chosen->volume));
        }
        if (contradicted && entry->extended)
            warn(planner,
                 "partition %u of the old table holds further tables, which this version does not "
                 "read; a volume was found inside it: it is replaced",
                 entry->index + 1);
        if (contradicted)
            continue;
        table->entries[table->count++] = *entry;
        EkPlanPartition kept = {entry->index, 0, entry->range, entry->type, entry->active};
        g_ptr_array_add(planner->plan->partitions, g_memdup2(&kept, sizeof kept));
    }
}

static EkTableEntry entry_for(const Planner *planner, const EkVolume *volume, EkTable *table)
{
    guint32 size = planner->sector_size;
    EkTableEntry entry = {
        .range = {volume->first_byte, ek_divide_up(volume->bytes, size) * size},
        .type = ek_mbr_type_for(volume->filesystem),
        .index = PRIMARIES,
    };
    const EkTableEntry *old = old_entry_for(planner, entry.range);
    if (old != NULL && slot_is_free(table, old->index)) {
        entry.index = old->index;
        entry.active = old->active;
        if (g_str_has_prefix(ek_mbr_type_name(entry.type), ek_mbr_type_name(old->type)) ||
            g_str_has_prefix(ek_mbr_type_name(old->type), ek_mbr_type_name(entry.type)))
            entry.type = old->type;
        /* A partition may be a little longer than its volume: then the old table knows better. */
        if (old->range.first == entry.range.first && old->range.bytes >= entry.range.bytes &&
            old->range.bytes - entry.range.bytes < GAP_BYTES)
            entry.range = old->range;
    }
    for (guint slot = 0; entry.index == PRIMARIES && slot < PRIMARIES; slot++)
        if (slot_is_free(table, slot))
            entry.index = slot;
    return entry;
}

static void lay_out(Planner *planner, EkTable *table)
{
    *table = (EkTable){.scheme = "mbr", .disk_signature = planner->old.disk_signature};
    keep_old_entries(planner, table);
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkPlanVolume *chosen = planner->chosen->pdata[i];
        EkTableEntry entry = entry_for(planner, chosen->volume, table);
        if (entry.index == PRIMARIES) {
            warn(planner, "volume %u (%s) is left out: the table is full", chosen->number,
                 chosen->volume->filesystem);
            continue;
        }
        table->entries[table->count++] = entry;
        EkPlanPartition partition = {entry.index, chosen->number, entry.range, entry.type,
                                     entry.active};
        g_ptr_array_add(planner->plan->partitions, g_memdup2(&partition, sizeof partition));
    }
}

static guint32 make_signature(const char *case_id)
{
    guint8 sum[EK_SHA256_BYTES];
    g_autofree char *text = g_strconcat("disk signature of ", case_id, NULL);
    ek_sha256_of(text, strlen(text), sum);
    return ek_span_le32((EkSpan){sum, sizeof sum}, 0) | 1; /* never 0, which says none */
}

/* One edit for each field that changes. */
static gboolean edit_table(Planner *planner, EkTable *table, GError **error)
{
    guint8 before[EK_HEADER_MOST];
    guint8 after[EK_HEADER_MOST];
    if (!ek_gate_read(planner->gate, 0, before, sizeof before, NULL, error))
        return FALSE;
    memcpy(after, before, sizeof after);
    if (table->disk_signature == 0 && !planner->has_table)
        table->disk_signature = make_signature(planner->input->case_id);
    if (!ek_table_mbr.compose(table, planner->sector_size, after, error))
        return FALSE;
    g_autoptr(GPtrArray) fields =
        ek_table_mbr.explain((EkSpan){after, sizeof after}, planner->sector_size);
    for (guint i = 0; i < fields->len; i++) {
        const EkField *field = fields->pdata[i];
        gsize at = field->offset;
        if (memcmp(before + at, after + at, field->length) == 0)
            continue;
        g_autofree char *why = g_strdup_printf("%s of the partition table", field->name);
        g_ptr_array_add(planner->plan->edits,
                        ek_edit_new("mbr", at, before + at, after + at, field->length, why));
    }
    return TRUE;
}

/* Another kind of table on the drive; NULL when there is none. An MBR in its place would hide it.
 */
static const char *other_ruler(Planner *planner)
{
    guint8 second[8];
    for (guint i = 0; planner->has_table && i < planner->old.count; i++)
        if (ek_mbr_other_ruler(planner->old.entries[i].type) != NULL)
            return ek_mbr_other_ruler(planner->old.entries[i].type);
    if (ek_gate_read(planner->gate, planner->sector_size, second, sizeof second, NULL, NULL) &&
        memcmp(second, "EFI PART", sizeof second) == 0)
        return "GPT";
    return NULL;
}

static gint by_slot(gconstpointer a, gconstpointer b)
{
    return (gint)(*(const EkPlanPartition *const *)a)->index -
           (gint)(*(const EkPlanPartition *const *)b)->index;
}

static gboolean plan_table(Planner *planner, GError **error)
{
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkPlanVolume *chosen = planner->chosen->pdata[i];
        if (chosen->volume->first_byte == 0) {
            planner->plan->scheme = g_strdup("none");
            warn(planner, "volume %u begins at the start of the drive: it needs no table",
                 chosen->number);
            return TRUE;
        }
    }
    const char *ruler = other_ruler(planner);
    if (ruler != NULL) {
        planner->plan->scheme = g_strdup("none");
        warn(planner,
             "the drive is ruled by a %s, and this version makes MBR tables only: the table stays "
             "as "
             "it is, boot sectors are repaired all the same",
             ruler);
        return TRUE;
    }
    EkTable table;
    planner->plan->scheme = g_strdup("mbr");
    lay_out(planner, &table);
    g_ptr_array_sort(planner->plan->partitions, by_slot);
    if (table.count == 0)
        return TRUE; /* nothing is known: what stands there stays */
    if (planner->table_unread)
        warn(planner, "sector 0 was not read: what the old table said is not known, the boot code "
                      "in front of it cannot be kept");
    return edit_table(planner, &table, error);
}

/* --- repairs -------------------------------------------------------------------------------- */

typedef struct {
    Planner *planner;
    const EkPlanVolume *volume;
    GError *error;
} MendTaker;

static void take_mend(void *data, EkMend *mend)
{
    MendTaker *taker = data;
    Planner *planner = taker->planner;
    g_autofree guint8 *before = NULL;
    if (taker->error == NULL)
        before =
            ek_gate_read_new(planner->gate, mend->first_byte, mend->length, NULL, &taker->error);
    if (before != NULL) {
        EkByte read = ek_gate_known(planner->gate, mend->first_byte, mend->length).good;
        g_autofree char *why = g_strdup_printf(
            "%s of volume %u, from %s%s", mend->what, taker->volume->number, mend->from,
            read < mend->length ? " (what stood here was not read: zeros stand for it)" : "");
        g_ptr_array_add(planner->plan->edits, ek_edit_new(mend->structure, mend->first_byte, before,
                                                          mend->after, mend->length, why));
        EkPlanRepair *repair = g_new0(EkPlanRepair, 1);
        repair->volume = taker->volume->number;
        repair->what = g_strdup(mend->what);
        repair->from = g_strdup(mend->from);
        g_ptr_array_add(planner->plan->repairs, repair);
    }
    ek_mend_free(mend);
}

static gboolean plan_repairs(Planner *planner, GError **error)
{
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkPlanVolume *chosen = planner->chosen->pdata[i];
        MendTaker taker = {planner, chosen, NULL};
        const EkFileSystem *format = chosen->volume->format;
        if (format->mend == NULL)
            continue; /* whether it opens without is told by the check */
        if (!format->mend(planner->gate, chosen->volume, take_mend, &taker, error))
            return FALSE;
        if (taker.error != NULL) {
            g_propagate_error(error, taker.error);
            return FALSE;
        }
    }
    return TRUE;
}

/* --- what is left over ---------------------------------------------------------------------- */

/* The first byte in the range that is not zero; FALSE when there is none. */
static gboolean first_content(EkGate *gate, EkRange range, EkByte *at)
{
    g_autofree guint8 *buffer = g_malloc(LOOK_BYTES);
    EkByte from = range.first;
    EkRange data;
    while (from < ek_range_end(range) && ek_gate_next_data(gate, from, &data)) {
        from = MAX(from, data.first);
        if (from >= ek_range_end(range))
            return FALSE;
        gsize length = (gsize)MIN(LOOK_BYTES, ek_range_end(range) - from);
        if (!ek_gate_read(gate, from, buffer, length, NULL, NULL))
            return FALSE;
        for (gsize i = 0; i < length; i += EK_STEP)
            if (!ek_bytes_are_zero(buffer + i, MIN(EK_STEP, length - i))) {
                *at = from + i;
                return TRUE;
            }
        from += length;
    }
    return FALSE;
}

static void look_at_gap(Planner *planner, EkByte first, EkByte end)
{
    EkByte content = 0;
    guint32 size = planner->sector_size;
    if (end < first + GAP_BYTES)
        return;
    EkRange gap = {first, end - first};
    g_autofree char *text = ek_text_size(gap.bytes);
    if (first_content(planner->gate, gap, &content))
        warn(planner,
             "sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
             " (%s) are unknown space with something in it, from sector %" G_GUINT64_FORMAT
             " on: no volume that this version knows. The table leaves it out",
             first / size, end / size - 1, text, content / size);
    EkKnown known = ek_gate_known(planner->gate, first, gap.bytes);
    if (known.bad + known.unread > 0) {
        g_autofree char *missing = ek_text_size(known.bad + known.unread);
        warn(planner,
             "sectors %" G_GUINT64_FORMAT " to %" G_GUINT64_FORMAT
             ", outside of every volume: %s were not read, and may hold more",
             first / size, end / size - 1, missing);
    }
}

static gint by_start(gconstpointer a, gconstpointer b)
{
    const EkRange *left = a;
    const EkRange *right = b;
    return left->first < right->first ? -1 : left->first > right->first;
}

static void look_at_gaps(Planner *planner)
{
    g_autoptr(GArray) taken = g_array_new(FALSE, FALSE, sizeof(EkRange));
    for (guint i = 0; i < planner->plan->partitions->len; i++)
        g_array_append_val(taken, ((EkPlanPartition *)planner->plan->partitions->pdata[i])->range);
    for (guint i = 0; i < planner->chosen->len; i++) {
        EkRange range = ek_volume_range(((const EkPlanVolume *)planner->chosen->pdata[i])->volume);
        g_array_append_val(taken, range);
    }
    g_array_sort(taken, by_start);
    EkByte at = planner->sector_size; /* sector 0 is the table's */
    for (guint i = 0; i < taken->len; i++) {
        EkRange range = g_array_index(taken, EkRange, i);
        if (range.first > at)
            look_at_gap(planner, at, MIN(range.first, planner->bytes));
        at = MAX(at, ek_range_end(range));
    }
    if (at < planner->bytes)
        look_at_gap(planner, at, planner->bytes);
}

/* --- all of it ------------------------------------------------------------------------------ */

static gint by_edit_position(gconstpointer a, gconstpointer b)
{
    const EkEdit *left = *(const EkEdit *const *)a;
    const EkEdit *right = *(const EkEdit *const *)b;
    return left->first_byte < right->first_byte ? -1 : left->first_byte > right->first_byte;
}

static gboolean opens_through(EkGate *gate, const EkVolume *volume)
{
    EkClaim claim = {volume->first_byte, volume->first_byte + volume->format->header_offset,
                     EK_ROLE_PRIMARY};
    if (volume->format->mend == NULL) {
        /* Not repaired: it opens when it did before, by its own first header. */
        claim.header_byte = volume->header_byte;
        if (volume->by_backup)
            return FALSE;
    }
    g_autoptr(EkVolume) seen = volume->format->measure(gate, &claim, NULL);
    return seen != NULL && seen->stands && g_str_equal(seen->filesystem, volume->filesystem) &&
           seen->bytes == volume->bytes;
}

static void check_plan(Planner *planner)
{
    g_autoptr(EkOverlay) overlay = ek_plan_overlay(planner->plan->edits);
    EkGateParts parts = planner->input->parts;
    parts.repairs = overlay;
    g_autoptr(EkGate) repaired = ek_gate_new(&parts, EK_FACE_AS_REPAIRED);
    planner->plan->opens = TRUE;
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkPlanVolume *chosen = planner->chosen->pdata[i];
        if (opens_through(repaired, chosen->volume))
            continue;
        planner->plan->opens = FALSE;
        warn(planner, "volume %u (%s) does not open through this plan", chosen->number,
             chosen->volume->filesystem);
    }
}

EkPlan *ek_plan_make(const EkPlanInput *input, GError **error)
{
    g_autoptr(EkPlan) plan = ek_plan_new();
    g_autoptr(EkGate) gate = ek_gate_new(&input->parts, EK_FACE_AS_READ);
    g_autoptr(GPtrArray) chosen = g_ptr_array_new();
    Planner planner = {.input = input,
                       .gate = gate,
                       .bytes = ek_gate_bytes(gate),
                       .sector_size = input->parts.sector_size,
                       .plan = plan,
                       .chosen = chosen};
    guint8 start[EK_HEADER_MOST];
    planner.has_table =
        ek_gate_read(gate, 0, start, sizeof start, NULL, NULL) &&
        ek_table_mbr.read((EkSpan){start, sizeof start}, planner.sector_size, &planner.old);
    planner.table_unread = ek_gate_known(gate, 0, EK_STEP).good < EK_STEP;
    choose_volumes(&planner);
    if (!plan_table(&planner, error) || !plan_repairs(&planner, error))
        return NULL;
    g_ptr_array_sort(plan->edits, by_edit_position);
    look_at_gaps(&planner);
    check_plan(&planner);
    return g_steal_pointer(&plan);
}
