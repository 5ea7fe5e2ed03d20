/* SPDX-License-Identifier: MIT */
/* The plan as a whole: what is chosen, its table, the repairs of its volumes, and what opens. */
#include "rebuild/planner.h"

#include "base/digest.h"
#include "hunt/hunt.h"

#include <string.h>

const char *ek_plan_opens_name(EkPlanOpens opens)
{
    switch (opens) {
    case EK_PLAN_OPENS: return "opens";
    case EK_PLAN_NOT_OPENED: return "not opened";
    case EK_PLAN_FAILS: break;
    }
    return "does not open";
}

static void partition_free(gpointer data)
{
    EkPlanPartition *partition = data;
    g_free(partition->label);
    g_free(partition->note);
    g_free(partition->now);
    g_free(partition->check);
    g_free(partition);
}

static void repair_free(gpointer data)
{
    EkPlanRepair *repair = data;
    g_free(repair->what);
    g_free(repair->from);
    g_free(repair);
}

static void alternative_free(gpointer data)
{
    EkPlanAlternative *alternative = data;
    g_free(alternative->text);
    g_free(alternative);
}

static void added_free(gpointer data)
{
    EkPlanAdded *added = data;
    g_free(added->filesystem);
    g_free(added);
}

EkPlan *ek_plan_new(void)
{
    EkPlan *plan = g_new0(EkPlan, 1);
    plan->current_scheme = EK_SCHEME_NONE;
    plan->current = g_array_new(FALSE, FALSE, sizeof(EkTableEntry));
    plan->partitions = g_ptr_array_new_with_free_func(partition_free);
    plan->repairs = g_ptr_array_new_with_free_func(repair_free);
    plan->edits = g_ptr_array_new_with_free_func((GDestroyNotify)ek_edit_free);
    plan->alternatives = g_ptr_array_new_with_free_func(alternative_free);
    plan->warnings = g_ptr_array_new_with_free_func(g_free);
    plan->layers = 1;
    return plan;
}

void ek_plan_free(EkPlan *plan)
{
    g_array_unref(plan->current);
    g_ptr_array_unref(plan->partitions);
    g_ptr_array_unref(plan->repairs);
    g_ptr_array_unref(plan->edits);
    g_ptr_array_unref(plan->alternatives);
    g_ptr_array_unref(plan->warnings);
    g_free(plan);
}

EkPlanWishes *ek_plan_wishes_new(void)
{
    EkPlanWishes *wishes = g_new0(EkPlanWishes, 1);
    wishes->keep = g_array_new(FALSE, FALSE, sizeof(guint));
    wishes->drop = g_array_new(FALSE, FALSE, sizeof(guint));
    wishes->added = g_ptr_array_new_with_free_func(added_free);
    wishes->resized = g_array_new(FALSE, FALSE, sizeof(EkPlanResized));
    return wishes;
}

void ek_plan_wishes_free(EkPlanWishes *wishes)
{
    g_array_unref(wishes->keep);
    g_array_unref(wishes->drop);
    g_ptr_array_unref(wishes->added);
    g_array_unref(wishes->resized);
    g_free(wishes);
}

void ek_planner_warn(EkPlanner *planner, const char *format, ...)
{
    va_list arguments;
    va_start(arguments, format);
    g_ptr_array_add(planner->plan->warnings, g_strdup_vprintf(format, arguments));
    va_end(arguments);
}

void ek_planner_make_id(const EkPlanner *planner, const char *what, guint8 *id, gsize length)
{
    guint8 sum[EK_SHA256_BYTES];
    g_autofree char *text = g_strconcat(what, " of ", planner->input->case_id, NULL);
    ek_sha256_of(text, strlen(text), sum);
    memcpy(id, sum, MIN(length, sizeof sum));
}

/* --- edits of a table ----------------------------------------------------------------------- */

/* One edit for what differs from `first` on, in `length` bytes. */
static void add_edit(EkPlanner *planner, const char *structure, EkByte first_byte,
                     const guint8 *before, const guint8 *after, gsize length, const char *why)
{
    g_ptr_array_add(planner->plan->edits,
                    ek_edit_new(structure, first_byte, before, after, length, why));
}

/* The fields of a header hang together by its sum: they are one edit. Entries are one each. */
gboolean ek_planner_take_part(void *data, const char *structure, EkByte first_byte,
                              const guint8 *after, gsize length, const char *what, GError **error)
{
    EkPlanner *planner = data;
    g_autofree guint8 *before =
        ek_reader_read_new(planner->reader, first_byte, length, NULL, error);
    if (before == NULL)
        return FALSE;
    if (memcmp(before, after, length) == 0)
        return TRUE;
    gsize first = length;
    gsize end = 0;
    gboolean is_one = g_str_equal(structure, "gpt");
    g_autoptr(GPtrArray) fields =
        ek_structure_fields(structure, (EkSpan){after, length}, planner->table_size);
    for (guint i = 0; i < fields->len; i++) {
        const EkField *field = fields->pdata[i];
        gsize at = field->offset;
        if (memcmp(before + at, after + at, field->length) == 0)
            continue;
        first = MIN(first, at);
        end = MAX(end, at + field->length);
        if (is_one)
            continue;
        g_autofree char *why = g_str_equal(structure, "gpt-entries")
                                   ? g_strdup_printf("entry %" G_GSIZE_FORMAT " of the %s",
                                                     at / field->length + 1, what)
                                   : g_strdup_printf("%s of the %s", field->name, what);
        add_edit(planner, structure, first_byte + at, before + at, after + at, field->length, why);
    }
    if (is_one && end > first)
        add_edit(planner, structure, first_byte + first, before + first, after + first, end - first,
                 what);
    return TRUE;
}

/* --- repairs -------------------------------------------------------------------------------- */

typedef struct {
    EkPlanner *planner;
    const EkChosen *chosen;
    GError *error;
} RepairTaker;

static void take_repair(void *data, EkRepair *repair)
{
    RepairTaker *taker = data;
    EkPlanner *planner = taker->planner;
    g_autofree guint8 *before = NULL;
    if (taker->error == NULL)
        before = ek_reader_read_new(planner->reader, repair->first_byte, repair->length, NULL,
                                    &taker->error);
    if (before != NULL) {
        EkByte read = ek_reader_known(planner->reader, repair->first_byte, repair->length).good;
        g_autofree char *why = g_strdup_printf(
            "%s of volume %u, from %s%s", repair->what, taker->chosen->number, repair->from,
            read < repair->length ? " (old contents unreadable; shown as zeros)" : "");
        add_edit(planner, repair->structure, repair->first_byte, before, repair->after,
                 repair->length, why);
        EkPlanRepair *planned = g_new0(EkPlanRepair, 1);
        planned->volume = taker->chosen->number;
        planned->what = g_strdup(repair->what);
        planned->from = g_strdup(repair->from);
        g_ptr_array_add(planner->plan->repairs, planned);
    }
    ek_repair_free(repair);
}

static gboolean plan_repairs(EkPlanner *planner, GError **error)
{
    for (guint i = 0; i < planner->chosen->len; i++) {
        const EkChosen *chosen = &g_array_index(planner->chosen, EkChosen, i);
        RepairTaker taker = {planner, chosen, NULL};
        if (chosen->volume == NULL || chosen->volume->format->repair == NULL)
            continue; /* whether it opens without is told by the check */
        /* Where nothing told its length, the user did. */
        EkVolume volume = *chosen->volume;
        if (volume.length_is_least && chosen->is_exact) {
            volume.bytes = chosen->range.bytes;
            volume.length_is_least = FALSE;
        }
        if (!volume.format->repair(planner->reader, &volume, take_repair, &taker, error))
            return FALSE;
        if (taker.error != NULL) {
            g_propagate_error(error, taker.error);
            return FALSE;
        }
    }
    return TRUE;
}

/* --- all of it ------------------------------------------------------------------------------ */

/* The partitions of a table and the headers of volumes never share region; hostile ones might. */
static gboolean edits_are_apart(const EkPlan *plan, GError **error)
{
    for (guint i = 1; i < plan->edits->len; i++) {
        const EkEdit *before = plan->edits->pdata[i - 1];
        const EkEdit *edit = plan->edits->pdata[i];
        if (before->first_byte + before->length > edit->first_byte)
            return ek_error_set(
                error, EK_ERROR_DAMAGED,
                "the %s and the %s would overwrite each other. Remove one from the plan: --drop",
                before->why, edit->why);
    }
    return TRUE;
}

static void note_current(EkPlanner *planner)
{
    EkPlan *plan = planner->plan;
    if (!planner->has_current)
        return;
    plan->current_scheme = planner->current.scheme;
    g_array_append_vals(plan->current, planner->current.entries, planner->current.count);
}

static gboolean fill_plan(EkPlanner *planner, GError **error)
{
    EkReader *reader = planner->reader;
    gboolean unread = FALSE;
    planner->has_current =
        ek_hunt_current_table(reader, planner->sector_size, &planner->current, &unread);
    planner->has_map = ek_apm_gather(reader, &planner->map);
    note_current(planner);
    planner->table_unread = ek_reader_known(reader, 0, EK_STEP).good < EK_STEP;
    if (!ek_planner_choose(planner, error) || !ek_planner_lay_out(planner, error) ||
        !plan_repairs(planner, error))
        return FALSE;
    ek_edits_sort(planner->plan->edits);
    if (!edits_are_apart(planner->plan, error))
        return FALSE;
    ek_planner_look_at_gaps(planner);
    ek_planner_check(planner);
    return TRUE;
}

EkPlan *ek_plan_make(const EkPlanInput *input, GError **error)
{
    g_autoptr(EkPlan) plan = ek_plan_new();
    g_autoptr(EkReader) reader = ek_image_reader_new(&input->parts, EK_FACE_AS_READ);
    g_autoptr(EkPlanWishes) none = ek_plan_wishes_new();
    const EkPlanWishes *wishes = input->wishes != NULL ? input->wishes : none;
    g_autofree EkPlanner *planner = g_new0(EkPlanner, 1);
    g_autoptr(GArray) chosen = g_array_new(FALSE, FALSE, sizeof(EkChosen));
    *planner = (EkPlanner){.input = input,
                           .wishes = wishes,
                           .reader = reader,
                           .bytes = ek_reader_bytes(reader),
                           .sector_size = input->parts.sector_size,
                           .table_size = wishes->table_sectors != 0 ? wishes->table_sectors
                                                                    : input->parts.sector_size,
                           .plan = plan,
                           .chosen = chosen};
    plan->table_sectors = planner->table_size;
    return fill_plan(planner, error) ? g_steal_pointer(&plan) : NULL;
}
